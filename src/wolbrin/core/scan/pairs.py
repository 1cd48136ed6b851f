"""Pairs: a row that fires, asked together with a row that holds, under one assignment of signs to dates."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.bits import Words
from wolbrin.core.compiled import njit
from wolbrin.core.scan.columns_of_sessions import finish
from wolbrin.core.scan.moves import Floats, Ints
from wolbrin.core.scan.scores import LEAST_EFFECTIVE, LEAST_FIRING, Ints32, Scorer, begin_runs, by_date, days_of, firing_runs


@dataclass(frozen=True)
class Paired:
    """float64[a, b] each, for rows that fire and rows that hold: sum of the daily scores under the signs over the root of
    their sum of squares, 0 where the pair tells nothing; trades; how long they are held in all, in bars; money long, before
    costs."""

    strength: Floats
    trades: Floats
    covered: Floats
    firing: Floats


@njit(cache=True, nogil=True, error_model="numpy")
def pair_rows(fires: Words, holds: Words, horizon: Ints, flat: bool, first: int, stop: int, last: Ints32, so_far: Floats,
              bars_so_far: Ints32, last_of: Ints32, by_day: Floats, signs: NDArray[np.float32], least_days: int,
              least_effective: float, strength: Floats, trades: Floats, covered: Floats, firing: Floats) -> None:
    """See `Paired`. horizon: int64[a], of each row that fires; signs: float32[days]; the rest as `scores.score_rows` names
    it."""
    size, days = len(last), len(by_day)
    sums, y = np.zeros(days), np.zeros(days, np.float32)
    runs, some, now = np.zeros((2, size + 1), np.int32), np.zeros((3, size + 1), np.int32), np.zeros((3, size + 1), np.int32)
    for a in range(len(fires)):
        count = firing_runs(fires[a], first, stop, last, runs[0], runs[1])
        for b in range(len(holds)):
            found = 0
            for k in range(count):
                for i in range(runs[0, k], runs[1, k] + 1):
                    if (holds[b, i >> 6] >> np.uint64(i & 63)) & np.uint64(1):
                        some[0, found] = some[1, found] = i
                        some[2, found] = last[i] if flat else size - 1
                        found += 1
            strength[a, b] = 0.0
            firing[a, b] = days_of(some[0], some[1], found, bars_so_far, last_of)
            if firing[a, b] < least_days:
                continue
            held = begin_runs(some, found, horizon[a], -1, now, 0, last, stop - 1)
            bars = by_date(now[0], now[1], held, so_far, bars_so_far, last_of, sums)
            _, squares, effective = finish(sums, by_day, bars / bars_so_far[size], y)
            trades[a, b], covered[a, b] = held, bars
            if squares > 0.0 and effective >= least_effective:
                signed = 0.0
                for d in range(days):
                    signed += np.float64(y[d]) * signs[d]
                strength[a, b] = signed


def pair(scorer: Scorer, fires: Words, holds: Words, horizon: Ints, signs: NDArray[np.float32]) -> Paired:
    """fires: uint64[a, words], holds: uint64[b, words], horizon: int64[a] bars or END, signs: float32[days]."""
    made = [np.zeros((len(fires), len(holds))) for _ in range(4)]
    pair_rows(fires, holds, np.asarray(horizon, np.int64), scorer.moves.flat, *scorer.firing_span, scorer.last, scorer.sums,
              scorer.bars, scorer.last_of, scorer.moves.by_day, np.ascontiguousarray(signs, np.float32), LEAST_FIRING,
              LEAST_EFFECTIVE, *made)
    return Paired(*made)
