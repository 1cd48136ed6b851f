"""Daily scores of many rows at once: which bars they would be held on, and what those moved beyond what all bars move.

A row fires on runs of bars. Held for h bars, a run from b to e covers bars b + 1 to e + h, not beyond the session where
positions are flat there; runs that meet are one position. So the runs of a horizon are those of the one before, longer and
fewer, and their moves are differences of sums made once.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.bits import Words, lowest
from wolbrin.core.compiled import njit
from wolbrin.core.scan.columns_of_sessions import finish, layout_of, score_sessions
from wolbrin.core.scan.moves import END, Floats, Ints, Moves

F32 = NDArray[np.float32]
Ints32 = NDArray[np.int32]
LEAST_FIRING = 60  # days
LEAST_EFFECTIVE = 30.0  # days


@njit(cache=True, nogil=True)
def firing_runs(words: Words, first: int, stop: int, last: Ints32, begins: Ints32, ends: Ints32) -> int:
    """First and last bars of the runs of set bits in [first, stop), none beyond the end of a session; returns how many.
    begins, ends: int32 with room for all."""
    found = 0
    carry = np.uint64(0)
    begin = -1
    for w in range(first >> 6, len(words) + 1):
        word = words[w] if w < len(words) else np.uint64(0)
        edges = word ^ ((word << np.uint64(1)) | carry)
        carry = word >> np.uint64(63)
        while edges != 0:
            i = (w << 6) + lowest(edges)
            edges &= edges - np.uint64(1)
            if begin < 0:
                begin = i
                continue
            b, e = max(begin, first), min(i, stop) - 1
            begin = -1
            while b <= e:
                to = min(e, np.int64(last[b]))
                begins[found], ends[found] = b, to
                found += 1
                b = to + 1
    return found


@njit(cache=True, nogil=True)
def _held(begins: Ints32, ends: Ints32, limits: Ints32, count: int, more: int) -> int:
    """Hold runs of bars for `more` bars longer, not beyond their limits, and join those that meet, in place; returns how many
    there are."""
    kept = -1
    for k in range(count):
        s = begins[k]
        f = min(np.int64(ends[k]) + more, np.int64(limits[k]))
        if f < s:
            continue
        if kept >= 0 and s <= np.int64(ends[kept]) + 1:
            if f > ends[kept]:
                ends[kept], limits[kept] = f, limits[k]
            elif limits[k] > limits[kept]:
                limits[kept] = limits[k]
        else:
            kept += 1
            begins[kept], ends[kept], limits[kept] = s, f, limits[k]
    return kept + 1


@njit(cache=True, nogil=True)
def by_date(begins: Ints32, ends: Ints32, count: int, so_far: Floats, bars_so_far: Ints32, last_of: Ints32,
             sums: Floats) -> int:
    """sums: float64[days], moves of the runs by date; returns how many bars that count they hold. so_far: float64[n + 1] and
    bars_so_far int32[n + 1], sums before each bar; last_of: int32[days], the last bar of each date, n - 1 of the last."""
    sums[:] = 0.0
    held, d = 0, 0
    for k in range(count):
        i, j = np.int64(begins[k]), np.int64(ends[k]) + 1
        held += bars_so_far[j] - bars_so_far[i]
        while last_of[d] < i:
            d += 1
        while last_of[d] < j - 1:  # a run over the end of a date belongs to several
            beyond = np.int64(last_of[d]) + 1
            sums[d] += so_far[beyond] - so_far[i]
            i = beyond
            d += 1
        sums[d] += so_far[j] - so_far[i]
    return held


@njit(cache=True, nogil=True)
def days_of(begins: Ints32, ends: Ints32, count: int, bars_so_far: Ints32, last_of: Ints32) -> int:
    """How many dates have one of these bars, of those that count."""
    found, d, before = 0, 0, -1
    for k in range(count):
        while last_of[d] < begins[k]:
            d += 1
        if d != before and bars_so_far[ends[k] + 1] > bars_so_far[begins[k]]:
            before = d
            found += 1
    return found


@njit(cache=True, nogil=True)
def begin_runs(runs: Ints32, count: int, horizon: int, before: int, now: Ints32, held: int, last: Ints32, end: int) -> int:
    """Runs of a horizon, made of those of the horizon before it (held of them in `now`) or of the firings. runs, now:
    int32[3, r], first and last bars, and bars beyond which they may not be held. end: the bar beyond which none may."""
    if before < 0 or horizon == 0:
        for k in range(count):
            now[0, k] = runs[0, k] + 1
            now[1, k] = last[runs[0, k]] if horizon == 0 else runs[1, k]
            limit = np.int64(last[runs[0, k]]) if horizon == 0 else np.int64(runs[2, k])
            now[2, k] = limit if limit < end else end
        return _held(now[0], now[1], now[2], count, horizon)
    return _held(now[0], now[1], now[2], held, horizon - before)


@njit(cache=True, nogil=True, error_model="numpy")
def score_rows(rows: Words, horizons: Ints, flat: bool, first: int, stop: int, last: Ints32, so_far: Floats,
               bars_so_far: Ints32, last_of: Ints32, by_day: Floats, y: F32, total: Floats, squares: Floats,
               effective: Floats, covered: Ints, trades: Ints, firing: Ints) -> None:
    """rows: uint64[r, words], where each fires. horizons: int64[k], rising, END last. first, stop: bars at which a firing
    counts. last: int32[n], last bars of sessions. Fills y float32[r, k, days], daily scores over the root of their sum of
    squares (0 where there is none); total, squares, effective float64[r, k]: their sum, their sum of squares, and that
    squared over their sum of fourth powers; covered, trades int64[r, k]: bars held and positions; firing int64[r], dates."""
    size, days = len(last), len(by_day)
    bars = bars_so_far[size]
    sums = np.zeros(days)
    runs, now = np.zeros((3, size + 1), np.int32), np.zeros((3, size + 1), np.int32)
    for r in range(len(rows)):
        count = firing_runs(rows[r], first, stop, last, runs[0], runs[1])
        firing[r] = days_of(runs[0], runs[1], count, bars_so_far, last_of)
        for k in range(count):
            runs[2, k] = last[runs[0, k]] if flat else size - 1
        before, held = -1, 0
        for h in range(len(horizons)):
            held = begin_runs(runs, count, horizons[h], before, now, held, last, stop - 1)
            before = horizons[h]
            bars_held = by_date(now[0], now[1], held, so_far, bars_so_far, last_of, sums)
            total[r, h], squares[r, h], effective[r, h] = finish(sums, by_day, bars_held / bars, y[r, h])
            covered[r, h], trades[r, h] = bars_held, held


@njit(cache=True, nogil=True)
def earned_by(rows: Words, horizon: Ints, flat: bool, first: int, stop: int, last: Ints32, money: Floats,
              out: Floats) -> None:
    """What holding one contract long earned before costs, float64[r], each row at a horizon of its own (int64[r]). money:
    float64[n + 1], sums before each bar."""
    size = len(last)
    runs, now = np.zeros((3, size + 1), np.int32), np.zeros((3, size + 1), np.int32)
    for r in range(len(rows)):
        count = firing_runs(rows[r], first, stop, last, runs[0], runs[1])
        for k in range(count):
            runs[2, k] = last[runs[0, k]] if flat else size - 1
        held = begin_runs(runs, count, horizon[r], -1, now, 0, last, stop - 1)
        out[r] = 0.0
        for k in range(held):
            out[r] += money[now[1, k] + 1] - money[now[0, k]]


@dataclass(frozen=True)
class Scored:
    """Scores of r rows at k horizons. y: float32[r, k, days], daily scores over the root of their sum of squares. strength:
    float64[r, k], |sum| over that root, from which t follows (`t_of`); side: int8[r, k], +1 where price rises after the
    row. ok: bool[r, k], those that tell something. trades, covered: int64[r, k], positions and bars held; firing: int64[r],
    dates."""

    y: F32
    strength: Floats
    side: NDArray[np.int8]
    ok: NDArray[np.bool_]
    trades: Ints
    covered: Ints
    firing: Ints
    effective: Floats


class Scorer:
    """Scores rows of one market; threads may share it. horizons: rising, END last."""

    def __init__(self, moves: Moves, horizons: tuple[int, ...]) -> None:
        self.moves, self.horizons = moves, horizons
        counting = np.flatnonzero(moves.day >= 0)
        self.firing_span = max(0, int(counting[0]) - 1), int(counting[-1]) + 1
        self.sums = np.concatenate([[0.0], np.cumsum(moves.unit)])
        self._money = np.concatenate([[0.0], np.cumsum(moves.raw)])
        self.bars = np.concatenate([[0], np.cumsum(moves.day >= 0)]).astype(np.int32)
        last_of = counting[np.searchsorted(moves.day[counting], np.arange(moves.days), "right") - 1].astype(np.int32)
        last_of[-1] = len(moves.day)
        self.last_of: Ints32 = last_of
        self.last = moves.last.astype(np.int32)
        self._layout = layout_of(moves) if moves.flat else None

    def score(self, rows: Words) -> Scored:
        """rows: uint64[r, words], where each fires; bars outside the span do not count as firings."""
        m, (r, k, d) = self.moves, (len(rows), len(self.horizons), self.moves.days)
        y = np.empty((r, k, d), np.float32)
        total, squares, effective = (np.zeros((r, k)) for _ in range(3))
        trades, covered, firing = np.zeros((r, k), np.int64), np.zeros((r, k), np.int64), np.zeros(r, np.int64)
        layout = self._layout
        if layout is not None:
            score_sessions(rows, np.array(self.horizons, np.int64), layout.begin, layout.length, layout.unit, layout.counted,
                           layout.there, layout.date, layout.single, self.firing_span[0], m.bars, m.by_day, y, total, squares,
                           effective, covered, trades, firing)
        else:
            score_rows(rows, np.array(self.horizons, np.int64), m.flat, *self.firing_span, self.last, self.sums,
                       self.bars, self.last_of, m.by_day, y, total, squares, effective, covered, trades, firing)
        with np.errstate(divide="ignore", invalid="ignore"):
            strength = np.where(squares > 0, np.abs(total) / np.sqrt(squares), 0.0)
        ok = (firing >= LEAST_FIRING)[:, None] & (effective >= LEAST_EFFECTIVE)
        return Scored(y, strength, np.sign(total).astype(np.int8), ok, trades, covered, firing, effective)

    def earned(self, rows: Words, horizon: Ints) -> Floats:
        """Money of one contract before costs, long, float64[r]; horizon: int64[r], bars or END."""
        out = np.zeros(len(rows))
        m = self.moves
        earned_by(rows, horizon, m.flat, *self.firing_span, self.last, self._money, out)
        return out


def t_of(strength: NDArray[np.floating], days: int) -> Floats:
    """|t| = |sum| / sqrt(sum of squares - sum^2 / days), of strength |sum| / sqrt(sum of squares)."""
    strength = np.asarray(strength, np.float64)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(strength > 0, strength / np.sqrt(np.maximum(1.0 - strength ** 2 / days, 1e-12)), 0.0)


def at_horizons(horizons: tuple[int, ...]) -> tuple[int, ...]:
    """Horizons as the scorer takes them: rising, each once, the session's end last."""
    return (*sorted({h for h in horizons if h != END}), *((END,) if END in horizons else ()))
