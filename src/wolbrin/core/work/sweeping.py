"""A sweep as a job: blocks on threads, every block stored as it comes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.record import Record
from wolbrin.core.engine.run import backtest, need_bars, record_of
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Chunk, Job, State
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.measures.inference import Tally
from wolbrin.core.rules.model import Strategy
from wolbrin.core.search.candidate import Candidate, candidate_of
from wolbrin.core.search.sweep import Axis, Variants, combinations, evaluate, variant
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.settings import OwnSpan
from wolbrin.core.work.footing import Footing

Floats = NDArray[np.float64]
BLOCK = 20


@dataclass(frozen=True)
class SweepRequest:
    """What is swept. own: the strategy's own training span; sets that are kept inherit it."""

    strategy: Strategy
    market: str
    interval: int
    axes: tuple[Axis, ...]
    own: OwnSpan | None = None

    def as_json(self) -> dict[str, Any]:
        return {"strategy": self.strategy.model_dump(mode="json"), "market": self.market, "interval": self.interval,
                "axes": [{"key": a.key, "title": a.title, "values": list(a.values)} for a in self.axes],
                "own": self.own.model_dump(mode="json") if self.own else None}

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> SweepRequest:
        axes = tuple(Axis(a["key"], a["title"], tuple(a["values"])) for a in data["axes"])
        own = OwnSpan.model_validate(data["own"]) if data.get("own") else None
        return cls(Strategy.model_validate(data["strategy"]), data["market"], data["interval"], axes, own)


@dataclass
class SweepResult:
    """Grows block by block. settings: float64[b, axes]; figures: float64[b, len(SUMMARY)]. record: what made it; None where
    the brief was not recorded."""

    request: SweepRequest
    record: Record | None = None
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
    searches, footing = Searches(project), Footing.of(project)
    history = footing.histories.prepared(request.market, request.interval)
    brief = footing.brief(history.bars.terms, request.own)
    need_bars(history, brief.span)
    every = combinations(request.axes)
    backtest(history, variant(request.strategy, request.axes, every[0]), brief, detail=False)
    blocks = [every[i:i + BLOCK] for i in range(0, len(every), BLOCK)]
    record = record_of(history, request.strategy, brief, tried=searches.tried_on(request.market) + len(every))
    result = SweepResult(request, record)
    variants = Variants(request.strategy, request.axes)
    search = searches.begin(now(), "sweep", f"Sweep of {request.strategy.name}", request.as_json(), record=record,
                            market=request.market, interval=request.interval, columns=SUMMARY)

    def work(block: list[tuple[float, ...]]) -> tuple[Floats, Floats]:
        return np.array(block), evaluate(history, variants, brief, block)

    def commit(outcome: tuple[Floats, Floats]) -> None:
        settings, figures = outcome
        with project.transaction():
            searches.keep_block(search, len(result.settings), settings, figures)
            searches.advance(search, len(settings), 0, sharpe=Tally.of(figures[:, SUMMARY.index("sharpe_daily")]))
        result.settings.append(settings)
        result.figures.append(figures)
        notify(result)

    def finish(state: State) -> None:
        searches.advance(search, 0, 0, state.value)

    job = Job(f"Sweep {request.strategy.name}", "sets", [Chunk(b, len(b)) for b in blocks], work, commit, finish)
    return job, result


def last_sweep(project: Project) -> SweepResult | None:
    """The newest sweep with results, as far as it came; measures that were not stored then have no value."""
    searches = Searches(project)
    id, rows = searches.last("sweep"), searches.last_sweep()
    if id is None or rows is None:
        return None
    return SweepResult(SweepRequest.from_json(rows.request), searches.record(id), [rows.settings], [rows.named(SUMMARY)])


def brief_again(project: Project, record: Record | None, market: str, interval: int) -> Brief:
    """The brief of a stored search, if it can still be asked.

    Raises:
        UserError: it was not recorded, or the history is not the one it ran on.
    """
    if record is None or not record.whole:
        raise UserError("the brief of this search was not recorded", market, "Run it again.")
    if project.prepared(market, interval).bars.hash != record.history:
        raise UserError("the history has changed since this search ran", market, "Run it again.")
    return record.brief


def candidate_from_sweep(project: Project, result: SweepResult, values: tuple[float, ...]) -> Candidate:
    """Make a candidate of one combination, under the brief of its sweep."""
    request = result.request
    brief = brief_again(project, result.record, request.market, request.interval)
    one = variant(request.strategy, request.axes, values)
    run = backtest(project.prepared(request.market, request.interval), one, brief, detail=False)
    label = ", ".join(f"{v:g}" for v in values)
    return candidate_of(run, f"{request.strategy.name} ({label})"[:80], "sweep",
                        max(1, Searches(project).tried_on(request.market)))
