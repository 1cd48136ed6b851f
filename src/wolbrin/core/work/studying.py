"""A study as a job of one chunk, counted in the project."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from wolbrin.core.jobs import Chunk, Job
from wolbrin.core.rules.mirror import effective_long, effective_short
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.study.forward import Study, study


@dataclass(frozen=True)
class StudyRequest:
    """side: +1 the long entry, -1 the short entry."""

    strategy: Strategy
    market: str
    interval: int
    side: int = 1
    horizon: int = 40
    inside_session: bool = True


def run_study(project: Project, request: StudyRequest) -> Study:
    history = project.prepared(request.market, request.interval)
    side = effective_long(request.strategy) if request.side > 0 else effective_short(request.strategy)
    return study(history, side.entry, request.side, project.settings.of(request.strategy).training, horizon=request.horizon,
                 inside_session=request.inside_session)


def study_job(project: Project, request: StudyRequest, notify: Callable[[Study], None]) -> Job:
    dossiers = Dossiers(project)

    def commit(result: Study) -> None:
        search = dossiers.begin_search("study", f"Study of {request.strategy.name}",
                                       {"market": request.market, "interval": request.interval, "side": request.side,
                                        "strategy": request.strategy.model_dump(mode="json")})
        dossiers.advance_search(search, 0, 0, "done")
        notify(result)

    return Job(f"Study {request.strategy.name}", "studies", [Chunk(request)], lambda r: run_study(project, r), commit)
