"""A study as a job of one chunk, counted in the project."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from wolbrin.core.engine.run import record_of
from wolbrin.core.jobs import Chunk, Job, State
from wolbrin.core.rules.mirror import effective_long, effective_short, mirror_condition
from wolbrin.core.rules.model import Condition, Strategy
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.settings import OwnSpan
from wolbrin.core.study.forward import Study, Unit, study
from wolbrin.core.work.footing import Footing


@dataclass(frozen=True)
class StudyRequest:
    """side: +1 the long entry, -1 the short entry, 0 both. more: conditions studied beside the entry, with their names;
    written for the long side. own: the strategy's own training span."""

    strategy: Strategy
    market: str
    interval: int
    side: int = 1
    horizon: int = 40
    inside_session: bool = True
    unit: Unit = "points"
    overlapping: bool = True
    more: tuple[tuple[str, Condition], ...] = ()
    own: OwnSpan | None = None


def run_study(footing: Footing, request: StudyRequest) -> list[Study]:
    """One study for each condition and side asked for, the entry first."""
    history = footing.histories.prepared(request.market, request.interval)
    span = footing.settings.of(request.own).training
    found = []
    for side in (1, -1) if request.side == 0 else (request.side,):
        own = effective_long(request.strategy) if side > 0 else effective_short(request.strategy)
        asked = [("entry", own.entry)] if own.entry.active or not request.more else []
        asked += [(name, c if side > 0 else mirror_condition(c)) for name, c in request.more]
        found += [study(history, condition, side, span, name=name, horizon=request.horizon, unit=request.unit,
                        inside_session=request.inside_session, overlapping=request.overlapping) for name, condition in asked]
    return found


def study_job(project: Project, request: StudyRequest, notify: Callable[[list[Study]], None],
              footing: Footing | None = None) -> Job:
    """Prepare a study over the training span, as it is now unless a footing is given."""
    searches, footing = Searches(project), footing or Footing.of(project)

    def commit(result: list[Study]) -> None:
        history = footing.histories.prepared(request.market, request.interval)
        record = record_of(history, request.strategy, footing.brief(history.bars.terms, request.own))
        asked = {"market": request.market, "interval": request.interval, "side": request.side,
                 "strategy": request.strategy.model_dump(mode="json")}
        search = searches.begin(now(), "study", f"Study of {request.strategy.name}", asked, record=record,
                                market=request.market, interval=request.interval)
        searches.end(search, State.DONE)
        notify(result)

    return Job(f"Study {request.strategy.name}", "studies", [Chunk(request)], lambda r: run_study(footing, r), commit)
