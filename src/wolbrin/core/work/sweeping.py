"""A sweep as a job: blocks on threads, every block stored as it comes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.jobs import Chunk, Job, State
from wolbrin.core.rules.model import Strategy
from wolbrin.core.search.candidate import Candidate, candidate_of
from wolbrin.core.search.sweep import Axis, Variants, combinations, evaluate, variant
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project

Floats = NDArray[np.float64]
BLOCK = 20


@dataclass(frozen=True)
class SweepRequest:
    """All that a sweep depends on, beside the project's brief."""

    strategy: Strategy
    market: str
    interval: int
    axes: tuple[Axis, ...]

    def as_json(self) -> dict[str, Any]:
        return {"strategy": self.strategy.model_dump(mode="json"), "market": self.market, "interval": self.interval,
                "axes": [{"key": a.key, "title": a.title, "values": list(a.values)} for a in self.axes]}

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> SweepRequest:
        axes = tuple(Axis(a["key"], a["title"], tuple(a["values"])) for a in data["axes"])
        return cls(Strategy.model_validate(data["strategy"]), data["market"], data["interval"], axes)


@dataclass
class SweepResult:
    """Grows block by block. settings: float64[b, axes]; figures: float64[b, len(SUMMARY)]."""

    request: SweepRequest
    settings: list[Floats] = field(default_factory=list)
    figures: list[Floats] = field(default_factory=list)

    def table(self) -> tuple[Floats, Floats]:
        if not self.settings:
            return np.zeros((0, len(self.request.axes))), np.zeros((0, 0))
        return np.concatenate(self.settings), np.concatenate(self.figures)


def sweep_job(project: Project, request: SweepRequest,
              notify: Callable[[SweepResult], None] = lambda result: None) -> tuple[Job, SweepResult]:
    """Prepare a sweep over the training span. Raises UserError before anything runs when it cannot be run.

    notify: called after each block on the job's thread.
    """
    dossiers = Dossiers(project)
    history = project.prepared(request.market, request.interval)
    brief = project.settings.of(request.strategy).brief(history.bars.terms)
    every = combinations(request.axes)
    backtest(history, variant(request.strategy, request.axes, every[0]), brief, detail=False)
    blocks = [every[i:i + BLOCK] for i in range(0, len(every), BLOCK)]
    result = SweepResult(request)
    variants = Variants(request.strategy, request.axes)
    search = dossiers.begin_search("sweep", f"Sweep of {request.strategy.name}", request.as_json())

    def work(block: list[tuple[float, ...]]) -> tuple[Floats, Floats]:
        return np.array(block), evaluate(history, variants, brief, block)

    def commit(outcome: tuple[Floats, Floats]) -> None:
        settings, figures = outcome
        with project.transaction():
            dossiers.keep_block(search, len(result.settings), settings, figures)
            dossiers.advance_search(search, len(settings), 0)
        result.settings.append(settings)
        result.figures.append(figures)
        notify(result)

    def finish(state: State) -> None:
        dossiers.advance_search(search, 0, 0, state.value)

    job = Job(f"Sweep {request.strategy.name}", "sets", [Chunk(b, len(b)) for b in blocks], work, commit, finish)
    return job, result


def candidate_from_sweep(project: Project, request: SweepRequest, values: tuple[float, ...], tried: int) -> Candidate:
    """Make a candidate of one combination."""
    history: Prepared = project.prepared(request.market, request.interval)
    one = variant(request.strategy, request.axes, values)
    run = backtest(history, one, project.settings.of(request.strategy).brief(history.bars.terms), detail=False)
    label = ", ".join(f"{v:g}" for v in values)
    return candidate_of(run, f"{request.strategy.name} ({label})"[:80], "sweep", tried)
