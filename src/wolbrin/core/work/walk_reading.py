"""A walk read: the dated strategy that its fits make, its stitched run, and what stands beside it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Run, backtest
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Floats, Span, day_number
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.rules.axes import numbers_at
from wolbrin.core.rules.dated import with_schedule
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.numbers import tunables, with_values
from wolbrin.core.rules.schedule import Schedule, Spell
from wolbrin.core.search.walked import Fit, FoldResult, drift_of, efficiency, jump_words, profitable, sentence
from wolbrin.core.work.walk_request import Layout, WalkRequest

Fits = Mapping[tuple[dt.date, dt.date], Fit]


def spells_of(request: WalkRequest, layout: Layout, fits: Fits) -> list[Spell]:
    """Dated numbers of a cell: one spell a fold, and the one in force now."""
    spans = [(f.test_first, (f.training_first, f.training_last)) for f in layout.folds]
    a = layout.ahead
    if a is not None and (not spans or a.first > spans[-1][0]):
        spans.append((a.first, (a.training_first, a.training_last)))
    found = []
    for first, span in spans:
        values = fits[span].values
        numbers = numbers_at(request.sweep.axes, values) if values is not None else {}
        found.append(Spell(first=first, values=tuple(numbers.values()), fitted_first=span[0], fitted_last=span[1]))
    return found


def seen_by(history: Prepared, spells: Sequence[Spell]) -> str:
    """Digest of the history that the fits of some spells saw: what must not change if they are to be carried on."""
    stop = history.bars.range_of(Span(None, max(s.fitted_last for s in spells)))[1]
    return history.bars.digest(stop)


def dated_strategy(request: WalkRequest, cell: int, fits: Fits, history: Prepared | None = None) -> Strategy:
    """The strategy of a walk with its dated numbers, which can be carried on where the history is given.

    Raises:
        UserError: the rules do not take them.
    """
    layout, lengths, sweep = request.layouts[cell], request.cells[cell], request.sweep
    folds = layout.folds
    keys = tuple(key for a in sweep.axes for key in (a.key, *(link.key for link in a.links)))
    titles = {t.key: t.title for t in tunables(sweep.strategy)}
    spells = spells_of(request, layout, fits)
    due = layout.ahead.due if layout.ahead is not None else folds[-1].test_last + dt.timedelta(days=1)
    after = lengths.test.words() if lengths.test.unit == "trades" else ""
    procedure = request.procedure(cell)
    if history is not None:
        procedure["history"] = seen_by(history, spells)
    schedule = Schedule(keys=keys, titles=tuple(titles.get(key, key) for key in keys), spells=tuple(spells), due=due,
                        due_after=after if due is None else "", market=sweep.market, interval=sweep.interval, rules="0" * 16,
                        procedure=procedure)
    return with_schedule(sweep.strategy, schedule)


@dataclass(frozen=True)
class Walked:
    """One walk. strategy: with its dated numbers, run: over the training view, which is the stitched tests, positions carried
    across borders with the numbers that opened them. tested: fold by fold. now: the fit in force now, None where its training
    does not fit."""

    request: WalkRequest
    cell: int
    strategy: Strategy
    run: Run
    tested: tuple[FoldResult, ...]
    now: Fit | None
    history: Prepared
    brief: Brief

    @property
    def layout(self) -> Layout:
        return self.request.layouts[self.cell]

    @cached_property
    def figures(self) -> dict[str, float]:
        """Measures of the stitched run and of the walk."""
        drifts = drift_of(self.request.sweep.axes, self.fits)
        known = [d for d in drifts if d == d]
        return measure(Facts.of(self.run), self.request.sweep.measures) | {
            "efficiency": efficiency(self.tested), "profitable": profitable(self.tested),
            "drift": max(known) if known else float("nan"), "folds": float(len(self.tested))}

    @property
    def fits(self) -> list[Fit]:
        """Fits in the order of their dates, that of the numbers in force now last."""
        fits = [t.fit for t in self.tested]
        return fits if self.now is None or (fits and fits[-1] is self.now) else [*fits, self.now]

    def words(self) -> list[str]:
        """What is to be said: the walk in one sentence, jumps, fits that chose nothing."""
        axes = self.request.sweep.axes
        lines = [sentence(axes, self.tested, float(self.run.profits.sum())), *jump_words(axes, self.tested)]
        idle = [t for t in self.tested if t.fit.values is None]
        lines += [f"Nothing fitted for {t.fold.test_first:%d %b %Y}: {t.fit.why}" for t in idle[:3]]
        if len(idle) > 3:
            lines.append(f"And {len(idle) - 3} more folds that fitted nothing.")
        silent = sum(t.trades == 0 and t.fit.values is not None for t in self.tested)
        if silent:
            lines.append(f"{silent} of {len(self.tested)} tests had no entry: test on longer spans.")
        if self.now is None:
            lines.append("The training of the next fit does not fit into the training view: no numbers are in force now.")
        return lines

    @cached_property
    def unwalked(self) -> Run:
        """The strategy with the numbers it shows, on the same days."""
        base = self.request.sweep.strategy
        return backtest(self.history, base, replace(self.brief, span=Span(self.layout.folds[0].test_first, self._last)))

    @property
    def _last(self) -> dt.date:
        return self.layout.folds[-1].test_last

    @cached_property
    def hindsight(self) -> tuple[Floats, Floats]:
        """Trading dates and daily results of each test span with the numbers of the next fit, which saw it: what training
        shows of the same days."""
        fits, days, profits = self.fits, [], []
        for t, after in zip(self.tested, fits[1:]):
            if after.values is None:
                continue
            one = with_values(self.request.sweep.strategy, numbers_at(self.request.sweep.axes, after.values))
            brief = replace(self.brief, span=Span(t.fold.test_first, t.fold.test_last))
            run = backtest(self.history, one, brief, detail=False)
            days.append(run.daily[0].astype(np.float64))
            profits.append(run.daily[1])
        return (np.concatenate(days), np.concatenate(profits)) if days else (np.zeros(0), np.zeros(0))


def training_of(walked: Walked, fold: FoldResult) -> Run:
    """The run of a fold's numbers over its training span. Raises UserError where nothing was fitted."""
    sweep = walked.request.sweep
    if fold.fit.values is None:
        raise UserError("nothing was fitted for this fold", f"{fold.fold.test_first:%d %b %Y}", "Choose another fold.")
    one = with_values(sweep.strategy, numbers_at(sweep.axes, fold.fit.values))
    return backtest(walked.history, one, replace(walked.brief, span=Span(fold.fit.first, fold.fit.last)), detail=False)


def tests_of(run: Run, layout: Layout, fits: Sequence[Fit]) -> tuple[FoldResult, ...]:
    """Each fold with what its test span brought in a stitched run: change of equity from date to date, and entries."""
    days, profit = run.daily
    total = np.concatenate(([0.0], np.cumsum(profit)))
    entered = run.bars.trading_date[run.trades_i[:, k.T_ENTRY_BAR]]
    found = []
    for fold, fit in zip(layout.folds, fits):
        first, last = day_number(fold.test_first), day_number(fold.test_last)
        a, b = np.searchsorted(days, (first, last + 1))
        found.append(FoldResult(fold, fit, float(total[b] - total[a]), int(((entered >= first) & (entered <= last)).sum())))
    return tuple(found)


def walked(request: WalkRequest, cell: int, fits: Fits, history: Prepared, brief: Brief, *, detail: bool = True) -> Walked:
    """One walk from the fits of its training spans. Raises UserError where it cannot be run."""
    layout = request.layouts[cell]
    strategy = dated_strategy(request, cell, fits, history if detail else None)
    run = backtest(history, strategy, brief, detail=detail)
    mine = [fits[f.training_first, f.training_last] for f in layout.folds]
    now = fits[layout.ahead.training_first, layout.ahead.training_last] if layout.ahead is not None else None
    return Walked(request, cell, strategy, run, tests_of(run, layout, mine), now, history, brief)
