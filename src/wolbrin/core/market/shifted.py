"""Whether one file holds the bars of another at other times: what "knows" a market's future is often just that."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.market.raw import Raw
from wolbrin.core.market.sessions import NS_A_MINUTE

RUN = 8  # moves in a row that are compared
LEAST = 60  # runs that must be there, and match
SHARE = 0.5  # of the runs of the shorter file that match before the bars are the same
MOVING = 5  # moves of a run that are not zero before it says anything
WINDOW = 20_000  # rows on each side of the middle that are looked for
FAR = 40 * 1440 * NS_A_MINUTE  # how far they may be moved
MULTIPLIER = np.uint64(0x9E3779B97F4A7C15)


@dataclass(frozen=True)
class Shift:
    """Bars of a file that are another's at other times. minutes: by how much they come earlier (above zero) or later; share:
    of its runs that match."""

    minutes: float
    share: float

    @property
    def words(self) -> str:
        """Such as "1 day earlier"."""
        size, way = abs(self.minutes), "earlier" if self.minutes > 0 else "later"
        for unit, minutes in (("day", 1440), ("hour", 60), ("minute", 1)):
            if size >= minutes:
                n = size / minutes
                return f"{n:.3g} {unit}{'s' if n != 1 else ''} {way}"
        return f"{60 * size:.3g} seconds {way}"


def _runs(raw: Raw) -> tuple[NDArray[np.uint64], NDArray[np.int64]]:
    """A number for each run of moves that says anything, and when it ends (UTC ns)."""
    if len(raw) < RUN + 2:
        return np.zeros(0, np.uint64), np.zeros(0, np.int64)
    before = raw.close[:-1]
    bars = np.column_stack([raw.open[1:] - before, raw.high[1:] - before, raw.low[1:] - before, raw.close[1:] - before])
    moves = np.round(bars * 1e7).astype(np.int64).view(np.uint64)
    one = np.zeros(len(moves), np.uint64)
    with np.errstate(over="ignore"):
        for column in moves.T:
            one = (one ^ column) * MULTIPLIER
            one ^= one >> np.uint64(29)
        run = np.zeros(len(one) - RUN + 1, np.uint64)
        for at in range(RUN):
            run = (run ^ one[at:at + len(run)]) * MULTIPLIER
            run ^= run >> np.uint64(31)
    moving = np.convolve(bars[:, 3] != 0, np.ones(RUN, int), "valid") >= MOVING
    return run[moving], raw.time[RUN:][moving]


def shift_between(mine: Raw, other: Raw) -> Shift | None:
    """How `mine` is `other` at other times: None where it is not, or where the times are the same. Prices may differ by a
    constant. Looked at are rows around the middle of what both cover. Bars of different intervals are not compared."""
    if mine.interval != other.interval or not mine.interval:
        return None
    if not len(mine) or not len(other):
        return None
    both = max(mine.time[0], other.time[0]), min(mine.time[-1], other.time[-1])
    middle = int(np.searchsorted(mine.time, sum(int(t) for t in both) // 2))
    mine = mine.take(slice(max(0, middle - WINDOW), middle + WINDOW))
    if not len(mine):
        return None
    low, high = np.searchsorted(other.time, (mine.time[0] - FAR, mine.time[-1] + FAR))
    a, at = _runs(mine)
    b, bt = _runs(other.take(slice(int(low), int(high))))
    least = min(len(a), len(b))
    if least < LEAST:
        return None
    known, first, many = np.unique(b, return_index=True, return_counts=True)
    place = np.minimum(np.searchsorted(known, a), len(known) - 1)
    met = (known[place] == a) & (many[place] == 1)
    if met.sum() < max(LEAST, SHARE * least):
        return None
    apart = bt[first[place[met]]] - at[met]
    if (apart == 0).mean() >= SHARE:
        return None
    return Shift(float(np.median(apart)) / NS_A_MINUTE, float(met.sum()) / least)
