"""A walk-forward analysis as a job: fits on threads, then cells, then the same on shuffled histories by choice."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest, need_bars, record_of
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Job, State, Work
from wolbrin.core.market.bars import Span, day_of
from wolbrin.core.measures.inference import Tally
from wolbrin.core.measures.wording import time_words
from wolbrin.core.search.planners import Known
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.searches import ROWS, Searches
from wolbrin.core.store.tables import Columns
from wolbrin.core.study.shuffle import DEALING
from wolbrin.core.work.briefs import brief_again
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.sweep_estimate import check_sets, count_of, first_set, seconds_a_set
from wolbrin.core.work.walk_request import View, WalkRequest, lay_out
from wolbrin.core.work.walk_results import (
    KIND,
    WalkResult,
    cell_columns,
    cells_table,
    fit_columns,
    luck_columns,
    luck_table,
    read_walk,
)
from wolbrin.core.work.walk_work import SHARPE, CellDone, Fitted, LuckDone, Result, WalkSource, WalkWork, evaluate_walk

MOST_SPANS = 5_000
MOST_SHUFFLES = 1_000


def view_of(history: Prepared, brief: Brief, request: WalkRequest) -> View:
    """The training view a walk is laid over."""
    need_bars(history, brief.span)
    first, last = history.bars.range_of(brief.span)
    dates = history.bars.trading_date[first:last]
    units = {x.unit for x in (*request.trainings, *request.tests)}
    entries: Sequence[Any] = ()
    if "trades" in units:
        run = backtest(history, request.sweep.strategy, brief, detail=False)
        entries = [day_of(d) for d in run.bars.trading_date[run.trades_i[:, k.T_ENTRY_BAR]].tolist()]
    return View(day_of(dates[0]), day_of(dates[-1]), tuple(entries), history.bars.digest(last))


def laid(project: Project, request: WalkRequest) -> WalkRequest:
    """The request laid over the present training view. Raises UserError where no cell has a fold."""
    footing = Footing.of(project)
    history = footing.prepared(request.sweep.market, request.sweep.interval)
    return laid_over(history, footing.brief(history.bars.terms, request.sweep.own), request)


def laid_over(history: Prepared, brief: Brief, request: WalkRequest) -> WalkRequest:
    """The request laid over the span of a brief. Raises UserError where no cell has a fold."""
    request.check()
    view = view_of(history, brief, request)
    made = replace(request, view=view)
    if all(o.fault for o in made.layouts):
        lay_out(view, made.cells[0])  # says why
    if len(made.spans) > MOST_SPANS:
        raise UserError(f"{len(made.spans):,} fits are more than are made at once ({MOST_SPANS:,})", "walk-forward",
                        "Test on longer spans, or take fewer lengths.")
    return made


@dataclass(frozen=True)
class WalkEstimate:
    """fits: training spans; sets: of each; seconds: about how long they take on this machine with all its cores."""

    fits: int
    sets: int
    seconds: float

    def words(self) -> str:
        return f"{self.fits:,} fits of {self.sets:,} sets, about {time_words(self.seconds)}"


def estimate_walk(project: Project, request: WalkRequest) -> WalkEstimate:
    """How many fits there are and about how long they take. Raises UserError as `walk_job` does."""
    footing = Footing.of(project)
    made, sweep = laid(project, request), request.sweep
    first_set(sweep)
    each = seconds_a_set(footing, sweep)
    plan = check_sets(sweep, Known(sweep.measures, sweep.objective, sweep.floors), lambda: each)
    view = made.view
    assert view is not None
    whole = (view.last - view.first).days + 1
    share = sum((b - a).days + 1 for a, b in made.spans) / whole
    return WalkEstimate(len(made.spans), plan.total, plan.total * each * share)


@dataclass
class _Charge:
    """What a walk is charged for: the sets of its fits, those that are the same on every span once; and every cell, once
    however often it is extended."""

    sets: int = 0
    evolves: bool = False
    cells: bool = True

    def of(self, results: Sequence[Result]) -> tuple[int, list[Tally]]:
        """What is charged for these results beyond what was before, and the daily Sharpe ratios that go with it."""
        tried, tallies = 0, []
        for one in results:
            if isinstance(one, Fitted):
                more = one.fit.tried if self.evolves else max(0, one.fit.tried - self.sets)
                if more:
                    tallies.append(one.tally)
                self.sets = max(self.sets, one.fit.tried)
                tried += more
            elif isinstance(one, CellDone) and self.cells and not one.fault:
                tried += 1
                tallies.append(Tally.of(np.array([one.figures.get(SHARPE, np.nan)])))
        return tried, tallies


def _job(project: Project, work: WalkWork, result: WalkResult, notify: Callable[[WalkResult], None]) -> Job:
    searches, request = Searches(project), work.request
    charge = _Charge(max((f.tried for f in result.fits), default=0), request.sweep.method == "evolve",
                     request.view is None or request.view.until is None)
    source = WalkSource(request, list(result.fits), len(result.cells) + len(result.faults),
                        (len(result.luck), result.shuffles))

    def commit(results: list[Result], cursor: dict[str, Any]) -> None:
        fits = [r.fit for r in results if isinstance(r, Fitted)]
        cells = [r for r in results if isinstance(r, CellDone)]
        luck = [r for r in results if isinstance(r, LuckDone)]
        tables: dict[str, Columns] = {}
        if fits:
            tables[ROWS] = fit_columns(request, fits)
        if cells:
            tables[cells_table(request)] = cell_columns(request, cells)
        if luck:
            tables[luck_table(request)] = luck_columns(request, luck)
        tried, tallies = charge.of(results)
        with project.transaction():
            if tried:
                searches.advance(result.search, tried, 0, tallies)
            searches.commit(result.search, cursor, tables)
        result.take_fits(fits)
        for one in cells:
            result.take_cell(one)
        for deal in luck:
            result.take_luck(deal.figures)
        notify(result)

    def finish(state: State) -> None:
        result.unfinished = state is not State.DONE
        work.let_go()
        searches.end(result.search, state)

    return Job(request.title, "fits", source, Work(evaluate_walk, work), commit=commit, finish=finish)


def walk_job(project: Project, request: WalkRequest, shuffles: int = 0,
             notify: Callable[[WalkResult], None] = lambda result: None) -> tuple[Job, WalkResult]:
    """Prepare a walk over the training view. Raises UserError before anything runs when it cannot be run.

    shuffles: shuffled histories on which the whole grid is walked again. notify: called on the job's thread after results
    were kept.
    """
    searches, footing, sweep = Searches(project), Footing.of(project), request.sweep
    history = footing.prepared(sweep.market, sweep.interval)
    brief = footing.brief(history.bars.terms, sweep.own)
    request = laid_over(history, brief, request)
    if not 0 <= shuffles <= MOST_SHUFFLES:
        raise UserError(f"up to {MOST_SHUFFLES:,} shuffled histories are walked", "walk-forward", "Ask for fewer.")
    backtest(history, first_set(sweep), brief, detail=False)
    sweep = replace(sweep, count=0 if sweep.method == "every" else count_of(sweep))
    plan = check_sets(sweep, Known(sweep.measures, sweep.objective, sweep.floors), lambda: seconds_a_set(footing, sweep))
    request = replace(request, sweep=sweep)
    tried = searches.tried().get(sweep.market, 0) + plan.total + len(request.cells)
    record = record_of(history, sweep.strategy, brief, tried=tried, seeds=() if sweep.method == "every" else (sweep.seed,))
    search = searches.begin(now(), KIND, request.title, request.as_json(), record=record, market=sweep.market,
                            interval=sweep.interval, columns=sweep.measures,
                            cursor={"shuffles": shuffles, "dealing": DEALING})
    result = WalkResult(request, record, search, shuffles=shuffles)
    return _job(project, WalkWork(footing, request, brief, history.bars.hash), result, notify), result


def resume_walk(project: Project, search: int, notify: Callable[[WalkResult], None] = lambda result: None,
                more: int = 0) -> tuple[Job, WalkResult]:
    """Go on with a walk where it was; more: with so many shuffled histories beyond those it has, if it is finished.

    Raises:
        UserError: it cannot be gone on with, such as on another history.
    """
    searches, footing = Searches(project), Footing.of(project)
    result = read_walk(project, search)
    sweep = result.request.sweep
    brief = brief_again(project, result.record, sweep.market, sweep.interval, same_engine=True)
    assert result.record is not None
    if more:
        result.shuffles = min(MOST_SHUFFLES, max(result.shuffles, len(result.luck) + more))
        searches.again(search)
    else:
        searches.take_up(search)
    result.unfinished = False
    return _job(project, WalkWork(footing, result.request, brief, result.record.history), result, notify), result


def extend_walk(project: Project, search: int, notify: Callable[[WalkResult], None] = lambda result: None) -> tuple[
        Job, WalkResult, int]:
    """Append the folds that have come due to a finished walk, under its own brief; those that are there stay as they are.
    Returns the job, the result and how many fits are to be made, 0 where nothing is due.

    Raises:
        UserError: the walk is not finished, or the history behind it has changed.
    """
    searches, footing = Searches(project), Footing.of(project)
    result = read_walk(project, search)
    old, sweep = result.request.view, result.request.sweep
    if result.unfinished or old is None or result.record is None:
        raise UserError("this walk is not finished", result.request.title, "Go on with it first.")
    history = footing.prepared(sweep.market, sweep.interval)
    present = footing.brief(history.bars.terms, sweep.own)
    stop = history.bars.range_of(Span(None, old.last))[1]
    if history.bars.digest(stop) != old.content:
        raise UserError(f"the history up to {old.last:%d %b %Y}, or the market's terms, have changed since this walk",
                        result.request.title, "The walk is kept as it is; walk again.")
    brief = replace(result.record.brief, span=Span(result.record.first, present.span.last))
    grown = view_of(history, brief, result.request)
    request = replace(result.request, view=replace(old, until=grown.last, entries=grown.entries))
    missing = len(request.spans) - len(result.fits)
    record = record_of(history, sweep.strategy, brief, tried=result.record.tried, seeds=result.record.seeds)
    searches.again(search)
    # On shuffled histories the walk was shorter; they are no control of the longer one.
    result = replace(result, request=request, record=record, cells={}, faults={}, shuffles=0, _luck=[])
    with project.transaction():
        searches.revise(search, request.as_json(), record)
    return _job(project, WalkWork(footing, request, brief, history.bars.hash), result, notify), result, missing
