"""The sessions of a span, and which of them may change places: those of as many bars."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.market.bars import Bars

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


@dataclass(frozen=True)
class Sessions:
    """of: int64[n], number of each bar's session, -1 outside the span; start, length: int64[s], first bar and bars of each;
    alike: numbers of sessions that have as many bars."""

    of: Ints
    start: Ints
    length: Ints
    alike: tuple[Ints, ...]

    @classmethod
    def within(cls, bars: Bars, first: int, last: int) -> Sessions:
        """Of bars first .. last - 1."""
        inside = np.full(len(bars), -1, np.int64)
        inside[first:last] = np.asarray(bars.session, np.int64)[first:last]
        numbers, start, count = np.unique(inside[first:last], return_index=True, return_counts=True)
        of = np.where(inside >= 0, np.searchsorted(numbers, inside), -1).astype(np.int64)
        return cls(of, start.astype(np.int64) + first, count.astype(np.int64),
                   tuple(np.flatnonzero(count == n) for n in np.unique(count)))

    def shuffled(self, rng: np.random.Generator) -> Ints:
        """int64[s]: which session takes the place of each, at random among those of as many bars."""
        target = np.arange(len(self.start))
        for alike in self.alike:
            target[alike] = rng.permutation(alike)
        return target


def volatility_of(bars: Bars, first: int, last: int) -> Floats:
    """float64[d]: by trading date of a span, the mean range of a bar, in money of one contract; at least one tick."""
    dates = bars.trading_date[first:last]
    if not len(dates):
        return np.zeros(0)
    spans = (bars.h.astype(np.float64) - bars.l)[first:last]
    firsts = np.flatnonzero(np.diff(dates, prepend=dates[0] - 1))
    mean = np.add.reduceat(spans, firsts) / np.diff(np.append(firsts, len(dates)))
    return np.maximum(mean, 1.0) * bars.terms.tick_value
