"""What a filter adds: whether the trades that it leaves out are worse than luck would leave out.

A filter is one of the rows of an entry that ask for all. The trades that the rest takes are known, with the bar each was
decided at. Beside the filter stands the same filter moved by whole sessions at random (sessions of as many bars change
places), which knows nothing of them. A filter of the clock is its own shift by sessions: the hours of each session are
turned round at random instead.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch.sessions import Floats, Ints, Sessions, volatility_of
from wolbrin.core.bits import Words
from wolbrin.core.compiled import njit
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.run import Run
from wolbrin.core.market.bars import Bars

SHIFTS = 199
CLEAR = 12  # that are as bad, after which more would not say otherwise
LEAVES_OUT = 0.02  # of the trades, at least, or it does nothing
SAME = 0.02  # of the trades that a moved filter may say otherwise of, where it is one of the clock


@dataclass(frozen=True)
class Taken:
    """Trades of the rest. bar: int64[t], where each was decided; side: int8[t], 0 long, 1 short; earned: float64[t], net, in
    units of the volatility of its date (mean range of a bar)."""

    bar: Ints
    side: NDArray[np.int8]
    earned: Floats


class Shuffled:
    """Sessions of a span that change places. first, last: bars of it."""

    def __init__(self, bars: Bars, first: int, last: int, seed: int, shifts: int = SHIFTS) -> None:
        rng = np.random.default_rng((seed, 39))
        self._sessions = x = Sessions.within(bars, first, last)
        self._source = np.stack([x.shuffled(rng) for _ in range(shifts)]).astype(np.int32)
        self._by = (rng.random((shifts, len(x.start))) * x.length).astype(np.int32)
        self._all = np.full(len(bars) // 64 + 1, ~np.uint64(0))
        self._unit = np.ones(len(bars))
        days = np.cumsum(np.diff(bars.trading_date[first:last], prepend=bars.trading_date[first]) != 0)
        self._unit[first:last] = volatility_of(bars, first, last)[days]

    def taken(self, run: Run) -> Taken:
        """Trades of a run."""
        t = run.trades_i
        bar = t[:, k.T_DECISION].astype(np.int64)
        return Taken(bar, (t[:, k.T_SIDE] < 0).astype(np.int8), run.profits / self._unit[bar])

    def p(self, taken: Taken, filters: tuple[Words | None, Words | None]) -> float:
        """Chance that luck leaves out trades as bad. filters: where the filter of the long and of the short side holds, None
        where it does not filter that side. 1 where it leaves out none, or all."""
        count = len(taken.bar)
        if not count:
            return 1.0
        off = taken.earned - taken.earned.mean()
        x = self._sessions
        session = x.of[taken.bar]
        words = [self._all if w is None else w for w in filters]
        as_bad, done = as_bad_as(words[0], words[1], taken.bar, taken.side, off, session, taken.bar - x.start[session],
                                 x.start, x.length, self._source, self._by, max(1.0, LEAVES_OUT * count), SAME, CLEAR)
        return (1 + as_bad) / (1 + done) if done else 1.0


@njit(cache=True, nogil=True)
def _holds(words: Words, at: int) -> bool:
    return (words[at >> 6] >> np.uint64(at & 63)) & np.uint64(1) != np.uint64(0)


@njit(cache=True, nogil=True)
def as_bad_as(long: Words, short: Words, bar: Ints, side: NDArray[np.int8], off: Floats, session: Ints, place: Ints,
              start: Ints, length: Ints, source: NDArray[np.int32], by: NDArray[np.int32], least: float, same: float,
              clear: int) -> tuple[int, int]:
    """How many moved filters leave out trades as bad, and how many were asked: fewer once `clear` of them do; none where the
    filter leaves out fewer than `least` trades, or all.

    long, short: uint64[w], where the filter of each side holds. bar, side, off, session, place: of t trades, where each was
    decided, its side (0 long, 1 short), what it earned beyond the mean, its session and the bar's place in it. start, length:
    int64[s] of sessions; source: int32[shifts, s], which session each reads; by: int32[shifts, s], by how much the bars of
    each are turned round. What is left out is compared at its own number: by the sum of what is let through, over
    sqrt(left out x share let through).
    """
    count = len(bar)
    lets = np.empty(count, np.bool_)
    through, total = 0, 0.0
    for i in range(count):
        lets[i] = _holds(long if side[i] == 0 else short, bar[i])
        if lets[i]:
            through += 1
            total += off[i]
    out = count - through
    if out < least or through == 0:
        return 0, 0
    actual = total / np.sqrt(out * (through / count))
    differ = 0
    for i in range(count):
        at = start[source[0, session[i]]] + place[i]
        differ += _holds(long if side[i] == 0 else short, at) != lets[i]
    turned = differ <= same * count
    as_bad = 0
    for shift in range(len(source)):
        through, total = 0, 0.0
        for i in range(count):
            s = session[i]
            at = start[s] + (place[i] + by[shift, s]) % length[s] if turned else start[source[shift, s]] + place[i]
            if _holds(long if side[i] == 0 else short, at):
                through += 1
                total += off[i]
        out = count - through
        beyond = total / np.sqrt(out * (through / count)) if 0 < through < count else 0.0
        if beyond >= actual - 1e-12:
            as_bad += 1
            if as_bad >= clear:
                return as_bad, shift + 1
    return as_bad, len(source)
