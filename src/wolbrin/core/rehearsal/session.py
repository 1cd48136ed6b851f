"""A strategy met by bars one at a time. Each step sees the bars so far and nothing else."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared, as_prepared
from wolbrin.core.engine.run import Run, backtest
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Bars, Span
from wolbrin.core.rules.model import Strategy


@dataclass(frozen=True)
class Snapshot:
    """Where a rehearsal stands after a bar: bars shown and to come, the position (0 flat), its open profit and entry
    price (NaN when flat), equity marked to the close, and the run so far."""

    shown: int
    total: int
    time: int
    position: int
    entry_price: float
    open_profit: float
    equity: float
    closed: int
    run: Run


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


def closed_profit(snapshot: Snapshot) -> float:
    """Net of the trades that are closed, account money."""
    run = snapshot.run
    return float(run.profits.sum()) - (float(run.trades_f[-1, k.F_NET]) if snapshot.position else 0.0)


class Rehearsal:
    """Plays the bars of `span` through a strategy in order.

    Every step hands the simulator a history that ends at the current bar, so nothing later can be known. A position
    that is open there is reported as open, although a run that ended there would close it.
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
        self.shown = min(self.total, self.shown + max(1, count))
        so_far = self.bars.take(self.first + self.shown)
        run = backtest(self._history.over(so_far), self.strategy, self.brief)
        still_open = len(run) > 0 and run.trades_i[-1, k.T_REASON] == k.END_OF_DATA
        trade_i = run.trades_i[-1] if still_open else None
        position = int(trade_i[k.T_SIDE]) if trade_i is not None else 0
        entry = float(so_far.to_price(trade_i[k.T_ENTRY])) if trade_i is not None else float("nan")
        return Snapshot(self.shown, self.total, int(so_far.end[-1]), position, entry,
                        float(run.trades_f[-1, k.F_GROSS]) if still_open else 0.0,
                        float(run.net[-1]) if len(run.net) else self.brief.capital, len(run) - int(still_open), run)

    def batch(self) -> Run:
        """The same span in one go, to compare with."""
        return backtest(self._history.over(self.bars.take(self.stop)), self.strategy, self.brief)


def same_ledger(a: Run, b: Run) -> bool:
    """Whether two runs have bit-identical trades and equity."""
    return bool(np.array_equal(a.trades_i, b.trades_i) and np.array_equal(a.trades_f, b.trades_f, equal_nan=True)
                and np.array_equal(a.net, b.net))
