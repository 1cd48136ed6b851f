"""A sweep as a job: blocks on threads; rows, daily results and where it stands are kept together as they come."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from threading import Lock
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch.many import NO_DAYS, Days, Many, days_of
from wolbrin.core.batch.variants import Block, Variants
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.record import Record
from wolbrin.core.engine.run import backtest, need_bars, record_of
from wolbrin.core.engine.version import engine_version
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Chunk, Job, Listed, State, Work
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.measures.inference import Tally
from wolbrin.core.rules.axes import Axis, Values, combinations, variant
from wolbrin.core.rules.model import Strategy
from wolbrin.core.search.candidate import Candidate, candidate_of
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.searches import DAILY, ROWS, Searches, matrix
from wolbrin.core.store.settings import OwnSpan
from wolbrin.core.store.tables import Columns
from wolbrin.core.work.footing import Footing, Request

Floats = NDArray[np.float64]
BLOCK = 20
LARGEST_SWEEP = 1_000_000
MOST_DAILY = 20_000  # sets of a sweep whose daily results are kept
KIND = "sweep"
DAYS = "days"
SHARPE = SUMMARY.index("sharpe_daily")


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

    @property
    def columns(self) -> tuple[str, ...]:
        """Names under which the axes' values are stored."""
        return tuple(f"set.{a.key}" for a in self.axes)


@dataclass(frozen=True)
class SweepWork(Request):
    """All that a block needs, wherever it runs."""

    footing: Footing
    request: SweepRequest
    brief: Brief
    content: str
    days: Days

    @cached_property
    def variants(self) -> Variants:
        """The sets on their history; all threads share them."""
        history = self.footing.prepared(self.request.market, self.request.interval, self.content)
        return Variants(self.request.strategy, self.request.axes, Many(history, self.brief))


def evaluate_block(work: SweepWork, unit: tuple[int, list[Values]]) -> Block:
    """One block of a sweep. unit: number of its first set, and the sets."""
    first, block = unit
    return work.variants.evaluate(block, work.days if first < MOST_DAILY else NO_DAYS)


@dataclass
class SweepResult:
    """Grows as the sweep does. settings: float64[n, axes]; figures: float64[n, len(SUMMARY)]; as many rows as `count`.
    record: what made it; None where the brief was not recorded. refused: sets that the model does not allow. search: its
    number in the project; total: sets in all; unfinished: it can be gone on with."""

    request: SweepRequest
    record: Record | None = None
    search: int = 0
    total: int = 0
    refused: int = 0
    unfinished: bool = False
    _parts: list[tuple[Floats, Floats]] = field(default_factory=list, repr=False)
    _lock: Any = field(default_factory=Lock, repr=False, compare=False)

    @property
    def count(self) -> int:
        """Sets that were tried."""
        return sum(len(s) for s, _ in self._parts)

    def add(self, settings: Floats, figures: Floats) -> None:
        """Take rows in; on any thread."""
        if len(settings):
            with self._lock:
                self._parts.append((settings, figures))

    def table(self) -> tuple[Floats, Floats]:
        """All rows; on any thread."""
        with self._lock:
            if len(self._parts) > 1:
                self._parts = [(np.concatenate([s for s, _ in self._parts]), np.concatenate([f for _, f in self._parts]))]
            if self._parts:
                return self._parts[0]
        return np.zeros((0, len(self.request.axes))), np.zeros((0, len(SUMMARY)))


def _job(project: Project, work: SweepWork, result: SweepResult, every: list[Values], first: int,
         notify: Callable[[SweepResult], None]) -> Job:
    """The job of a sweep that is on record, from block `first` on."""
    searches, request = Searches(project), work.request
    chunks = [Chunk((i, every[i:i + BLOCK]), len(every[i:i + BLOCK])) for i in range(0, len(every), BLOCK)]

    def commit(blocks: list[Block], cursor: dict[str, Any]) -> None:
        settings, figures = np.concatenate([b.settings for b in blocks]), np.concatenate([b.figures for b in blocks])
        refused = result.refused + sum(b.refused for b in blocks)
        tables: dict[str, Columns] = {ROWS: _named(request, settings, figures)}
        with_daily = [b for b in blocks if b.daily.shape[1]]
        if with_daily:
            tables[DAILY] = _named(request, np.concatenate([b.settings for b in with_daily]), None) | {
                "daily": np.concatenate([b.daily for b in with_daily])}
        with project.transaction():
            searches.advance(result.search, len(settings), 0, [Tally.of(b.figures[:, SHARPE]) for b in blocks])
            searches.commit(result.search, cursor | {"refused": refused}, tables)
        searches.tidy(result.search)
        result.refused = refused
        result.add(settings, figures)
        notify(result)

    def finish(state: State) -> None:
        result.unfinished = state is not State.DONE
        vars(work).pop("variants", None)  # their memory is large
        searches.end(result.search, state)

    return Job(f"Sweep {request.strategy.name}", "sets", Listed(chunks, first), Work(evaluate_block, work), commit=commit,
               finish=finish)


def _named(request: SweepRequest, settings: Floats, figures: Floats | None) -> Columns:
    named = {name: settings[:, i] for i, name in enumerate(request.columns)}
    return named if figures is None else named | {key: figures[:, i] for i, key in enumerate(SUMMARY)}


def sweep_job(project: Project, request: SweepRequest,
              notify: Callable[[SweepResult], None] = lambda result: None) -> tuple[Job, SweepResult]:
    """Prepare a sweep over the training span. Raises UserError before anything runs when it cannot be run.

    notify: called on the job's thread after rows were kept.
    """
    searches, footing = Searches(project), Footing.of(project)
    history = footing.prepared(request.market, request.interval)
    brief = footing.brief(history.bars.terms, request.own)
    need_bars(history, brief.span)
    every = combinations(request.axes, LARGEST_SWEEP)
    some = next((one for values in every[:1000] if (one := variant(request.strategy, request.axes, values))), None)
    if some is None:
        raise UserError("the strategy's model refuses these numbers", "sweep", "Change the ranges.")
    backtest(history, some, brief, detail=False)
    record = record_of(history, request.strategy, brief, tried=searches.tried_on(request.market) + len(every))
    with project.transaction():
        search = searches.begin(now(), KIND, f"Sweep of {request.strategy.name}", request.as_json(), record=record,
                                market=request.market, interval=request.interval, columns=SUMMARY,
                                cursor={"first": 0, "refused": 0})
        days = days_of(history, brief)
        searches.add(search, DAYS, {"day": days})
    result = SweepResult(request, record, search, len(every))
    return _job(project, SweepWork(footing, request, brief, history.bars.hash, days), result, every, 0, notify), result


def resume_sweep(project: Project, search: int,
                 notify: Callable[[SweepResult], None] = lambda result: None) -> tuple[Job, SweepResult]:
    """Go on with a sweep where it was. Raises UserError when it cannot be, such as on another history."""
    searches, footing = Searches(project), Footing.of(project)
    result = read_sweep(project, search)
    history = footing.prepared(result.request.market, result.request.interval)
    brief = brief_again(project, result.record, result.request.market, result.request.interval,
                        same_engine=True)
    stored = searches.take_up(search)
    result.unfinished = False
    work = SweepWork(footing, result.request, brief, history.bars.hash, searches.rows(search, DAYS)["day"])
    every = combinations(result.request.axes, LARGEST_SWEEP)
    return _job(project, work, result, every, (stored.cursor or {}).get("first", 0), notify), result


def read_sweep(project: Project, search: int) -> SweepResult:
    """A sweep as far as it came; measures that were not stored then have no value."""
    searches = Searches(project)
    stored, rows = searches.get(search), searches.rows(search)
    request = SweepRequest.from_json(stored.request)
    total = int(np.prod([len(a.values) for a in request.axes], dtype=object))
    result = SweepResult(request, searches.record(search), search, total, (stored.cursor or {}).get("refused", 0),
                         stored.unfinished)
    result.add(matrix(rows, request.columns), matrix(rows, SUMMARY))
    return result


def last_sweep(project: Project) -> SweepResult | None:
    """The newest sweep with results, as far as it came."""
    id = Searches(project).last(KIND)
    return read_sweep(project, id) if id is not None else None


def daily_of_sweep(project: Project, search: int) -> tuple[Days, Columns]:
    """Daily results that a sweep kept: trading dates int32[d], and a table of the sets with `daily`, float32[n, d]."""
    searches = Searches(project)
    return searches.rows(search, DAYS).get("day", NO_DAYS), searches.rows(search, DAILY)


def brief_again(project: Project, record: Record | None, market: str, interval: int, *, same_engine: bool = False) -> Brief:
    """The brief of a stored search, if it can still be asked. same_engine: results are to be added to those it has.

    Raises:
        UserError: it was not recorded, or the history (or the simulator, where it matters) is not the one it ran on.
    """
    if record is None or not record.whole:
        raise UserError("the brief of this search was not recorded", market, "Run it again.")
    if project.prepared(market, interval).bars.hash != record.history:
        raise UserError("the history has changed since this search ran", market, "Run it again.")
    if same_engine and record.engine != engine_version():
        raise UserError("the simulator has changed since this search ran: new results would not belong to the old", market,
                        "Run it again.")
    return record.brief


def candidate_from_sweep(project: Project, result: SweepResult, values: Values) -> Candidate:
    """Make a candidate of one combination, under the brief of its sweep."""
    request = result.request
    brief = brief_again(project, result.record, request.market, request.interval)
    one = variant(request.strategy, request.axes, values)
    if one is None:
        raise UserError("the strategy's model refuses these numbers", "sweep", "Choose another set.")
    run = backtest(project.prepared(request.market, request.interval), one, brief, detail=False)
    label = ", ".join(f"{v:g}" for v in values)
    return candidate_of(run, f"{request.strategy.name} ({label})"[:80], "sweep",
                        max(1, Searches(project).tried_on(request.market)))
