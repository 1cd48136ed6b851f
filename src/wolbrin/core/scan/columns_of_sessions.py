"""Scores where positions end with their session, the usual case: sessions stand side by side, bar under bar.

In that layout a bar held one bar longer is the row below, nothing is held beyond a session by itself, and the moves of all
dates are summed at once, with no branch in any inner loop. It gives what `scores.score_rows` gives, which a test holds it to.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.bits import Words
from wolbrin.core.compiled import njit
from wolbrin.core.scan.moves import Floats, Ints, Moves

F32 = NDArray[np.float32]
Bytes = NDArray[np.uint8]
ROOMY = 4  # times as many places as bars, beyond which this layout is none


BLOCK = 64  # sessions that are laid side by side together
FULL = 250  # bars that a byte counts


@dataclass(frozen=True)
class Layout:
    """begin: int64[s], first bars of sessions; length: int64[s], bars. unit: float64[most, s], moves (0 where a bar does not
    count); counted, there: uint8[most, s], bars that count, and that are there before the scan's end. date: int64[s],
    number of the session's date; single: each date is one session."""

    begin: Ints
    length: Ints
    unit: Floats
    counted: Bytes
    there: Bytes
    date: Ints
    single: bool


def layout_of(moves: Moves) -> Layout | None:
    """The sessions of a scan side by side; None where they differ so much in length that this would be mostly empty."""
    counting = np.flatnonzero(moves.day >= 0)
    begins = np.unique(counting - moves.place[counting])
    length = moves.last[begins] - begins + 1
    most = int(length.max())
    if most * len(begins) > ROOMY * len(counting) + 10_000:
        return None
    unit, counted = np.zeros((most, len(begins))), np.zeros((most, len(begins)), np.uint8)
    column = np.searchsorted(begins, counting - moves.place[counting])
    unit[moves.place[counting], column] = moves.unit[counting]
    counted[moves.place[counting], column] = 1
    date = np.zeros(len(begins), np.int64)
    date[column] = moves.day[counting]
    single = len(begins) == moves.days and bool((date == np.arange(len(begins))).all())
    bar = begins[None] + np.arange(most)[:, None]
    there = ((bar <= counting[-1]) & (np.arange(most)[:, None] < length[None])).astype(np.uint8)
    return Layout(begins.astype(np.int64), length.astype(np.int64), unit, counted, there, date, single)


@njit(cache=True, nogil=True)
def _side_by_side(words: Words, begin: Ints, length: Ints, first: int, out: Bytes) -> None:
    """Where a row fires from bar `first` on, by place in the session and session."""
    most, sessions = out.shape
    for b in range(0, sessions, BLOCK):  # so that what is written stays near
        for s in range(b, min(sessions, b + BLOCK)):
            p, i = 0, begin[s]
            while p < length[s]:
                w, k = (i + p) >> 6, (i + p) & 63
                chunk = words[w] >> np.uint64(k)
                stop = min(length[s], p + 64 - k)
                for j in range(p, stop):
                    out[np.uint64(j), np.uint64(s)] = np.uint8(chunk & np.uint64(1))
                    chunk >>= np.uint64(1)
                p = stop
            for j in range(length[s], most):
                out[j, s] = 0
    for s in range(sessions):
        for p in range(min(most, first - begin[s])):
            out[p, s] = 0


@njit(cache=True, nogil=True)
def _longer(now: Bytes, by: int, out: Bytes) -> None:
    """out: bars held, and those held `by` bars longer."""
    most = now.shape[0]
    for p in range(most):
        if p < by:
            for s in range(now.shape[1]):
                out[p, s] = now[p, s]
        else:
            for s in range(now.shape[1]):
                out[p, s] = now[p, s] | now[p - by, s]


@njit(cache=True, nogil=True)
def _counts(held: Bytes, counted: Bytes, there: Bytes, few: Bytes) -> tuple[int, int]:
    """Bars that are held and count, and runs of held bars. few: uint8[2, s], so that many are added at once."""
    bars, begun = 0, 0
    few[:, :] = 0
    some, first = few[0], few[1]
    most = held.shape[0]
    for p in range(most):
        now, count, exists = held[p], counted[p], there[p]
        if p > 0:
            before = held[p - 1]
            for s in range(len(some)):
                some[s] += now[s] & count[s]
                first[s] += now[s] & exists[s] & ~before[s]
        else:
            for s in range(len(some)):
                some[s] += now[s] & count[s]
                first[s] += now[s] & exists[s]
        if p % FULL == FULL - 1 or p == most - 1:
            for s in range(len(some)):
                bars += int(some[s])
                begun += int(first[s])
            few[:, :] = 0
    return bars, begun


@njit(cache=True, nogil=True, error_model="numpy")
def finish(sums: Floats, by_day: Floats, share: float, y: F32) -> tuple[float, float, float]:
    """Make daily scores of the moves held, float64[days] (changed), and put them over the root of their sum of squares into
    y. Returns their sum, their sum of squares, and that squared over their sum of fourth powers. Four sums at once, added
    in an order of their own, which is the same on every machine."""
    days = len(sums)
    for d in range(days):
        sums[d] -= share * by_day[d]
    s0, s1, s2, s3, q0, q1, q2, q3, f0, f1, f2, f3 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    even = days - days % 4
    for d in range(0, even, 4):
        a, b, c, e = sums[d], sums[d + 1], sums[d + 2], sums[d + 3]
        s0 += a
        s1 += b
        s2 += c
        s3 += e
        a, b, c, e = a * a, b * b, c * c, e * e
        q0 += a
        q1 += b
        q2 += c
        q3 += e
        f0 += a * a
        f1 += b * b
        f2 += c * c
        f3 += e * e
    for d in range(even, days):
        a = sums[d]
        s0 += a
        q0 += a * a
        f0 += a * a * a * a
    q, fourth = (q0 + q1) + (q2 + q3), (f0 + f1) + (f2 + f3)
    scale = 1.0 / np.sqrt(q) if q > 0.0 else 0.0
    for d in range(days):
        y[d] = np.float32(sums[d] * scale)
    return (s0 + s1) + (s2 + s3), q, q * q / fourth if fourth > 0.0 else 0.0


@njit(cache=True, nogil=True)
def _moved(held: Bytes, unit: Floats, sums: Floats) -> None:
    """sums: float64[s], moves of the bars held, by session."""
    sums[:] = 0.0
    most = held.shape[0]
    even = most - most % 4
    for p in range(0, even, 4):  # four bars at once, so that the sums are written less often
        h0, h1, h2, h3 = held[p], held[p + 1], held[p + 2], held[p + 3]
        u0, u1, u2, u3 = unit[p], unit[p + 1], unit[p + 2], unit[p + 3]
        for s in range(len(sums)):
            sums[s] += (h0[s] * u0[s] + h1[s] * u1[s]) + (h2[s] * u2[s] + h3[s] * u3[s])
    for p in range(even, most):
        now, moves = held[p], unit[p]
        for s in range(len(sums)):
            sums[s] += now[s] * moves[s]


@njit(cache=True, nogil=True)
def _firing_dates(fires: Bytes, counted: Bytes, date: Ints) -> int:
    """Dates with a firing on a bar that counts."""
    some = np.zeros(fires.shape[1], np.uint8)
    for p in range(fires.shape[0]):
        for s in range(fires.shape[1]):
            some[s] |= fires[p, s] & counted[p, s]
    found, before = 0, -1
    for s in range(len(some)):
        if some[s] and date[s] != before:
            before = date[s]
            found += 1
    return found


@njit(cache=True, nogil=True, error_model="numpy")
def score_sessions(rows: Words, horizons: Ints, begin: Ints, length: Ints, unit: Floats, counted: Bytes, there: Bytes,
                   date: Ints, single: bool, first: int, bars: int, by_day: Floats, y: F32, total: Floats, squares: Floats,
                   effective: Floats, covered: Ints, trades: Ints, firing: Ints) -> None:
    """See `scores.score_rows`; the rest as `Layout` names it."""
    most, sessions = unit.shape
    days = len(by_day)
    # Apart in memory: where two stand side by side, the compiler's look whether they overlap is too careful, and nothing is
    # done many at a time (ten times as slow).
    room = np.zeros((5, most, sessions), np.uint8)
    fires, now, other = room[0], room[2], room[4]
    sums, by_date, few = np.zeros(sessions), np.zeros(days), np.zeros((2, sessions), np.uint8)
    for r in range(len(rows)):
        _side_by_side(rows[r], begin, length, first, fires)
        firing[r] = _firing_dates(fires, counted, date)
        for h in range(len(horizons)):
            if h == 0:
                now[0] = 0
                now[1:] = fires[:-1]
                reach = 1
            # Doubling: what is held for `reach` bars, moved by as many again.
            want = most if horizons[h] == 0 else min(horizons[h], most)
            while reach < want:
                by = min(reach, want - reach)
                _longer(now, by, other)
                now, other = other, now
                reach += by
            bars_held, begun = _counts(now, counted, there, few)
            _moved(now, unit, sums)
            if not single:
                by_date[:] = 0.0
                for s in range(sessions):
                    by_date[date[s]] += sums[s]
            else:
                by_date[:] = sums
            total[r, h], squares[r, h], effective[r, h] = finish(by_date, by_day, bars_held / bars, y[r, h])
            covered[r, h], trades[r, h] = bars_held, begun
