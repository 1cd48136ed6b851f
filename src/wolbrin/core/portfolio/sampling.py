"""Daily results of several candidates on one calendar, summed by day, week or month."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import UserError
from wolbrin.core.models import Model

Floats = NDArray[np.float64]
Days = NDArray[np.int32]
Bits = NDArray[np.bool_]
WEEK, MONDAY = 7, 3  # 1970-01-01 was a Thursday
LEAST = 3  # periods, below which two series have no correlation


class Sampling(Model):
    """How results are compared. by: length of a period. of: profit and loss, return on the equity at the period's start, or
    depth below the peak at the period's end. empty: periods without a trade count as zero or are left out, of a pair where
    either has none. span: dates that all have, or that any has. rank: Spearman's correlation instead of Pearson's."""

    by: Literal["day", "week", "month"] = "day"
    of: Literal["profit", "return", "drawdown"] = "profit"
    empty: Literal["zero", "left out"] = "zero"
    span: Literal["common", "union"] = "union"
    rank: bool = False

    def words(self) -> str:
        """What is compared, in words."""
        what = {"profit": "P/L", "return": "returns", "drawdown": "drawdowns"}[self.of]
        left = "without trades counted as zero" if self.empty == "zero" else "without trades left out"
        dates = "common span" if self.span == "common" else "all dates"
        return f"{'rank ' if self.rank else ''}correlation of {what} by {self.by}, {self.by}s {left}, {dates}"


@dataclass(frozen=True)
class Series:
    """Daily results: dates, int32[d] days since 1970, increasing; profit, float64[d]; share, float32[d] of the day's bars in
    the market, None where that is not known."""

    days: Days
    profit: Floats
    share: NDArray[np.float32] | None = None

    @property
    def traded(self) -> Bits:
        """bool[d]: dates on which a position was held."""
        return self.profit != 0 if self.share is None else (self.share > 0) | (self.profit != 0)


@dataclass(frozen=True)
class Table:
    """Series side by side. days: int32[d]; profit: float64[n, d], 0 where one has no bars; traded: bool[n, d]; own: bool[n,
    d], dates within the span of each."""

    days: Days
    profit: Floats
    traded: Bits
    own: Bits

    @classmethod
    def of(cls, series: Sequence[Series], span: str = "union") -> Table:
        """Raises UserError: there are no dates, or none in common where the common span is asked for."""
        known = [s for s in series if len(s.days)]
        if not known:
            raise UserError("none of these has a trading date in the training span", "overlap", "Choose a longer span.")
        first = min(int(s.days[0]) for s in known)
        last = max(int(s.days[-1]) for s in known)
        if span == "common":
            low, high = max(int(s.days[0]) for s in known), min(int(s.days[-1]) for s in known)
            if low > high or len(known) < len(series):
                raise UserError("these candidates have no span in common", "overlap",
                                "Compare them over all dates, or leave out those with a training span of their own.")
            first, last = low, high
        there = np.zeros(last - first + 1, bool)
        for s in known:
            part = s.days[(s.days >= first) & (s.days <= last)] if span == "common" else s.days
            there[part - first] = True
        days = np.flatnonzero(there).astype(np.int32)
        at = np.cumsum(there) - 1
        shape = len(series), len(days)
        profit, traded, own = np.zeros(shape), np.zeros(shape, bool), np.zeros(shape, bool)
        for row, s in enumerate(series):
            if not len(s.days):
                continue
            inside = slice(*np.searchsorted(s.days, (first, last + 1)))
            place = at[s.days[inside] - first]
            profit[row, place] = s.profit[inside]
            traded[row, place] = s.traded[inside]
            if len(place):
                own[row, place[0]:place[-1] + 1] = True
        return cls(days + np.int32(first), profit, traded, own)


@dataclass(frozen=True)
class Sampled:
    """What is correlated. starts: int32[p], first date of each period; values: float64[n, p]; known: bool[n, p] of those that
    count, None where all do."""

    starts: Days
    values: Floats
    known: Bits | None


def period_starts(days: Days, by: str) -> NDArray[np.int64]:
    """int64[p]: places of the first date of each period among `days`."""
    if by == "day":
        return np.arange(len(days))
    key = (days.astype(np.int64) + MONDAY) // WEEK if by == "week" else \
        days.astype("datetime64[D]").astype("datetime64[M]").astype(np.int64)
    return np.flatnonzero(np.append(True, key[1:] != key[:-1])[:len(key)])


def depth_of(profit: Floats) -> Floats:
    """float64[n, d]: how far each row's running sum stands below its peak, the start included."""
    path = np.cumsum(profit, axis=1)
    return np.maximum(np.maximum.accumulate(path, axis=1), 0.0) - path


def sampled(table: Table, how: Sampling, capital: float = 1.0) -> Sampled:
    """Sum a table by periods. capital: to which returns refer, money."""
    starts = period_starts(table.days, how.by)
    daily = how.by == "day"
    profit = table.profit if daily else np.add.reduceat(table.profit, starts, axis=1)
    known = None
    if how.empty == "left out":
        known = table.traded if daily else np.logical_or.reduceat(table.traded, starts, axis=1)
    values = profit
    if how.of == "drawdown":
        depth = depth_of(table.profit)
        values = depth if daily else depth[:, np.append(starts[1:], len(table.days)) - 1]
    elif how.of == "return":
        before = capital + np.cumsum(profit, axis=1) - profit
        good = before > 0
        values = np.divide(profit, before, out=np.zeros_like(profit), where=good)
        if not good.all():
            known = good if known is None else known & good
    return Sampled(table.days[starts], values, known)
