"""A strategy met by bars one at a time. Each step sees the bars so far and nothing else."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from threading import Lock

import numpy as np

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared, as_prepared
from wolbrin.core.engine.run import Going, Run, backtest
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Bars, Span
from wolbrin.core.rules.model import Strategy


@dataclass(frozen=True)
class Snapshot:
    """Where a rehearsal stands after a bar: bars shown and to come, the position (0 flat), its open profit before costs and
    entry price (NaN when flat), equity marked to the close, trades closed and their net. rehearsal: where it was taken."""

    shown: int
    total: int
    time: int
    position: int
    entry_price: float
    open_profit: float
    equity: float
    closed: int
    profit: float
    rehearsal: Rehearsal

    @cached_property
    def run(self) -> Run:
        """The run as it would be if the data ended here: what is open is closed at the last close."""
        return self.rehearsal.run_at(self.shown)


@dataclass(frozen=True)
class TradeSeen:
    """The latest trade of a run, as a chart marks it. entry, exit: bar and price; stop, target: levels in price, NaN without
    one. gains: gross above zero. reason: of the exit, "now" while it is open."""

    entry: tuple[int, float]
    exit: tuple[int, float]
    side: int
    stop: float
    target: float
    gains: bool
    reason: str


def latest_trade(snapshot: Snapshot) -> TradeSeen | None:
    """The trade that is open or was closed last; None before any."""
    run = snapshot.run
    if not len(run):
        return None
    t, bars = run.trades_i[-1], run.bars
    stop, target = (float(bars.to_price(int(t[c]))) if t[c] != k.NO_LEVEL else float("nan") for c in (k.T_STOP, k.T_TARGET))
    return TradeSeen((int(t[k.T_ENTRY_BAR]), float(bars.to_price(int(t[k.T_ENTRY])))),
                     (int(t[k.T_EXIT_BAR]), float(bars.to_price(int(t[k.T_EXIT])))), int(t[k.T_SIDE]), stop, target,
                     bool(run.trades_f[-1, k.F_GROSS] > 0),
                     "now" if snapshot.position else k.REASONS[int(t[k.T_REASON])])


class Rehearsal:
    """Plays the bars of `span` through a strategy in order.

    The simulator pauses after every step and goes on from there. Indicators are computed once over all that is played, since
    no value depends on a later bar; what is handed out ends at the current bar. A position that is open there is reported as
    open.
    """

    def __init__(self, history: Prepared | Bars, strategy: Strategy, brief: Brief, span: Span) -> None:
        self._history = as_prepared(history)
        bars = self.bars = self._history.bars
        self.strategy = strategy
        # Bars come one at a time, so there are no finer ones.
        self.brief = Brief(span, brief.costs, brief.capital, role="rehearsal", assumed=brief.assumed)
        self.first, self.stop = bars.range_of(span)
        if self.stop <= self.first:
            raise UserError("there are no bars after the training span", bars.terms.code,
                            "Move the start of the holdout to an earlier date.")
        self.shown = 0
        self._lock = Lock()
        self._going = Going(self._history.over(bars.take(self.stop)), strategy, self.brief)

    @property
    def history(self) -> Prepared:
        """All that is played from, later bars included."""
        return self._history

    @property
    def total(self) -> int:
        return self.stop - self.first

    @property
    def over(self) -> bool:
        return self.shown >= self.total

    def step(self, count: int = 1) -> Snapshot:
        """Show the next `count` bars and say where things stand."""
        with self._lock:
            return self._step(count)

    def _step(self, count: int) -> Snapshot:
        self.shown = min(self.total, self.shown + max(1, count))
        going = self._going
        going.advance(self.first + self.shown - going.first)
        s, state, at = going.state.s, going.state, self.first + self.shown - 1
        done, cash = int(s[k.S_DONE]), float(state.purse[k.P_CASH])
        trade, money = going.books.trades_i[done], going.books.trades_f[done]
        side = int(trade[k.T_SIDE])
        entry, gross = float("nan"), 0.0
        if side:
            entry = float(self.bars.to_price(int(trade[k.T_ENTRY])))
            rates = going.rate_end
            rate = float(rates[at - going.first] if len(rates) > 1 else rates[0])
            gross = side * (int(self.bars.c[at]) - int(trade[k.T_ENTRY])) * self.bars.terms.tick_value * rate * float(
                money[k.F_QUANTITY])
        equity = float(state.purse[k.P_MARK]) if s[k.S_TAIL] else cash
        return Snapshot(self.shown, self.total, int(self.bars.end[at]), side, entry, gross, equity, done,
                        cash - self.brief.capital, self)

    def run_at(self, shown: int) -> Run:
        """The run as it would be if the data ended after so many bars."""
        so_far = self._history.over(self.bars.take(self.first + shown))
        with self._lock:
            if shown == self.shown:
                return self._going.so_far(so_far)
        return backtest(so_far, self.strategy, self.brief)

    def batch(self) -> Run:
        """The same span in one go, to compare with."""
        return backtest(self._history.over(self.bars.take(self.stop)), self.strategy, self.brief)


def same_ledger(a: Run, b: Run) -> bool:
    """Whether two runs have bit-identical trades and equity."""
    return bool(np.array_equal(a.trades_i, b.trades_i) and np.array_equal(a.trades_f, b.trades_f, equal_nan=True)
                and np.array_equal(a.net, b.net))
