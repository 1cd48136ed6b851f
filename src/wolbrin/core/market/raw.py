"""Rows as a source wrote them: bars or ticks in order of time, faults and all. Nothing here is ever changed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.market.bars import Bars, Floats, Ints
from wolbrin.core.market.intervals import Interval
from wolbrin.core.market.sessions import NS_A_MINUTE

PRICES = ("open", "high", "low", "close")


@dataclass(frozen=True)
class Raw:
    """n rows of a source, in order of time; stamps may repeat, prices may contradict each other.

    interval: code of the bars' interval (see intervals), 0 for single ticks, whose four prices are equal.
    time: int64[n] UTC ns, starts of bars. open, high, low, close, volume: float64[n].
    end: int64[n] UTC ns of the bars' ends where they do not follow from the interval, else None.
    open_interest: float64[n] where the source has it, else None.
    """

    interval: int
    time: Ints
    open: Floats
    high: Floats
    low: Floats
    close: Floats
    volume: Floats
    end: Ints | None = None
    open_interest: Floats | None = None

    def __len__(self) -> int:
        return len(self.time)

    @property
    def prices(self) -> tuple[Floats, Floats, Floats, Floats]:
        return self.open, self.high, self.low, self.close

    @property
    def ends(self) -> Ints:
        """int64[n]: when each row is complete."""
        if self.end is not None:
            return self.end
        return self.time + max(1, self.interval) * NS_A_MINUTE if self.interval else self.time + 1

    def take(self, rows: NDArray[np.bool_] | NDArray[np.int64] | slice) -> Raw:
        """Some of the rows."""
        return Raw(self.interval, self.time[rows], self.open[rows], self.high[rows], self.low[rows], self.close[rows],
                   self.volume[rows],
                   None if self.end is None else self.end[rows],
                   None if self.open_interest is None else self.open_interest[rows])

    @classmethod
    def of(cls, bars: Bars) -> Raw:
        """What a source would write that has exactly these bars."""
        end = bars.end if Interval.of(bars.interval).by_activity else None
        return cls(bars.interval, bars.time, bars.open, bars.high, bars.low, bars.close, bars.volume, end)


def in_order(raw: Raw) -> tuple[Raw, int]:
    """Rows sorted by time, those with equal stamps in the order they came in; and how many came out of order."""
    late = int(np.count_nonzero(np.diff(raw.time) < 0))
    return (raw.take(np.argsort(raw.time, kind="stable")), late) if late else (raw, 0)


def concatenated(parts: list[Raw]) -> Raw:
    """Several pieces of one source, one after the other."""
    first = parts[0]
    joined = {name: np.concatenate([getattr(p, name) for p in parts]) for name in ("time", *PRICES, "volume")}
    interest = None
    if all(p.open_interest is not None for p in parts):
        interest = np.concatenate([p.open_interest for p in parts if p.open_interest is not None])
    end = np.concatenate([p.ends for p in parts]) if any(p.end is not None for p in parts) else None
    return Raw(first.interval, **joined, end=end, open_interest=interest)


def ticks_to_bars(raw: Raw, minutes: int) -> Raw:
    """Bars of whole UTC minutes from ticks in order of time; minutes without a tick have no bar."""
    step = minutes * NS_A_MINUTE
    slot = raw.time // step
    first = np.flatnonzero(np.append(True, slot[1:] != slot[:-1]))
    final = np.append(first[1:], len(raw)) - 1
    return Raw(minutes, slot[first] * step, raw.open[first], np.maximum.reduceat(raw.high, first),
               np.minimum.reduceat(raw.low, first), raw.close[final], np.add.reduceat(raw.volume, first))
