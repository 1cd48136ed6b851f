"""What measures are computed from: trades, an equity curve and daily P/L, of a run or of a combination of runs."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.run import Run
from wolbrin.core.measures.drawdown import Episodes, episodes, largest_fall
from wolbrin.core.measures.sums import gains_and_losses, returns_of, total

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
NS_A_DAY = 86_400 * 1_000_000_000
FOLLOWS_EQUITY = ("risk", "percent")  # kinds of sizing


@njit(cache=True, nogil=True)
def _placement(high: NDArray[np.int32], low: NDArray[np.int32], first: Ints, last: Ints, side: Ints, entry: Ints,
               exit_: Ints) -> tuple[Floats, Floats]:
    n = len(first)
    placed_in = np.full(n, np.nan)
    placed_out = np.full(n, np.nan)
    for j in range(n):
        top = max(entry[j], exit_[j])
        bottom = min(entry[j], exit_[j])
        for i in range(first[j], last[j] + 1):
            top = max(top, high[i])
            bottom = min(bottom, low[i])
        if top > bottom:
            span = float(top - bottom)
            if side[j] > 0:
                placed_in[j] = (top - entry[j]) / span
                placed_out[j] = (exit_[j] - bottom) / span
            else:
                placed_in[j] = (entry[j] - bottom) / span
                placed_out[j] = (top - exit_[j]) / span
    return placed_in, placed_out


@dataclass(frozen=True)
class Facts:
    """Inputs of every measure; money in account currency.

    profits: net per trade, float64[m]. r: R multiples, NaN without a stop. risk_share: initial risk / equity that
    sized the trade. exit_year: int64[m]. equity: float64[n] net, with `times`, int64[n] UTC ns of its points, and
    `begin`, the instant before the first. daily: P/L per trading date, float64[d].
    exposed, bars: bars with a position and bars in all. run: the run behind, None for a combination. pooled: the trades are
    those of several members, which overlap in time. compounding: sizes of a combination follow its equity.
    """

    capital: float
    profits: Floats
    r: Floats
    risk_share: Floats
    exit_year: Ints
    equity: Floats
    times: Ints
    begin: int
    daily: Floats
    exposed: int
    bars: int
    run: Run | None = None
    pooled: bool = False
    compounding: bool = False

    @cached_property
    def daily_returns(self) -> Floats:
        """Daily P/L over the starting capital; over the last date's equity where the size compounds, NaN once that is at or
        below zero, float64[d]."""
        return returns_of(np.ascontiguousarray(self.daily, np.float64), float(self.capital), self.compounds)

    @property
    def compounds(self) -> bool:
        """Whether the size follows equity."""
        return self.compounding or (self.run is not None and self.run.strategy.sizing.kind in FOLLOWS_EQUITY)

    @cached_property
    def nets(self) -> Floats:
        """Net per trade in a row of its own, float64[m]."""
        return np.ascontiguousarray(self.profits, np.float64)

    @classmethod
    def of(cls, run: Run) -> Facts:
        t, f = run.trades_i, run.trades_f
        part = slice(run.first, run.last)
        dates = run.bars.trading_date[t[:, k.T_EXIT_BAR]]
        years = dates.astype("datetime64[D]").astype("datetime64[Y]").astype(np.int64) + 1970
        begin = int(run.bars.time[run.first]) if run.last > run.first else 0
        return cls(run.brief.capital, f[:, k.F_NET], f[:, k.F_NET] / f[:, k.F_RISK],
                   f[:, k.F_RISK] / f[:, k.F_EQUITY], years, run.net, run.bars.end[part], begin, run.daily[1],
                   run.counts["exposed"], run.last - run.first, run)

    @cached_property
    def drawdowns(self) -> Episodes:
        return episodes(self.equity, self.capital)

    @cached_property
    def largest_fall(self) -> float:
        """Largest fall of equity from its running peak, starting capital included (money)."""
        return float(largest_fall(self.equity, self.capital))

    def days_under_water(self) -> Floats:
        """float64[drawdowns]: calendar days of each from its peak to its recovery, or to the end."""
        d = self.drawdowns
        stamps = np.append(self.times, self.begin)  # index -1 is the start
        until = stamps[np.minimum(d.recovery, len(self.times) - 1)]
        return (until - stamps[d.peak]) / NS_A_DAY

    @cached_property
    def sums(self) -> tuple[float, float, int, int]:
        """Sum of winning trades, sum of losing ones, how many each."""
        return gains_and_losses(self.nets)

    @cached_property
    def wins(self) -> Floats:
        """float64[wins]: net profits above zero, money, in order of exits."""
        return self.profits[self.profits > 0]

    @cached_property
    def losses(self) -> Floats:
        """float64[losses]: net profits below zero, money, in order of exits."""
        return self.profits[self.profits < 0]

    @cached_property
    def net(self) -> float:
        return float(total(self.nets))

    @cached_property
    def days(self) -> float:
        return (int(self.times[-1]) - self.begin) / NS_A_DAY if len(self.times) else 0.0

    @cached_property
    def placement(self) -> tuple[Floats, Floats]:
        """Twice float64[trades]: placement of entries and of exits (0 worst, 1 best), NaN where a trade saw no range."""
        if self.run is None:
            return np.zeros(0), np.zeros(0)
        t, bars = self.run.trades_i, self.run.bars
        first = t[:, k.T_ENTRY_BAR] + (t[:, k.T_ENTRY_AT] == k.AT_CLOSE)
        return _placement(bars.h, bars.l, np.ascontiguousarray(first), np.ascontiguousarray(t[:, k.T_EXIT_BAR]),
                          np.ascontiguousarray(t[:, k.T_SIDE]), np.ascontiguousarray(t[:, k.T_ENTRY]),
                          np.ascontiguousarray(t[:, k.T_EXIT]))
