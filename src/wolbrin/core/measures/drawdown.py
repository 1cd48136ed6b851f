"""Drawdown episodes of an equity curve."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit
from wolbrin.core.measures.sums import SAME, fall_that_counts

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


class Episodes(NamedTuple):
    """One entry per drawdown, in order. peak: index of the last bar at the peak, -1 for the starting capital.
    trough: index of the lowest bar. recovery: first index at or above the peak, n if still under water.
    depth: money below the peak at the trough. share: largest fall as a fraction of the peak."""

    peak: Ints
    trough: Ints
    recovery: Ints
    depth: Floats
    share: Floats


@njit(cache=True, nogil=True)
def _episodes(equity: Floats, capital: float) -> tuple[Ints, Floats]:
    n = len(equity)
    room = n // 2 + 1
    where = np.empty((room, 3), np.int64)
    size = np.empty((room, 2), np.float64)
    count = 0
    peak = capital
    peak_at = -1
    under = False
    low = 0.0
    low_at = 0
    for i in range(n):
        value = equity[i]
        if value >= peak - SAME * peak:  # closer than that is at the peak
            if under:
                where[count, 0], where[count, 1], where[count, 2] = peak_at, low_at, i
                size[count, 0] = peak - low
                size[count, 1] = (peak - low) / peak
                count += 1
                under = False
            peak = max(peak, value)
            peak_at = i
        elif not under or value < low:
            low = value
            low_at = i
            under = True
    if under:
        where[count, 0], where[count, 1], where[count, 2] = peak_at, low_at, n
        size[count, 0] = peak - low
        size[count, 1] = (peak - low) / peak
        count += 1
    return where[:count], size[:count]


def episodes(equity: Floats, capital: float) -> Episodes:
    """All drawdowns of `equity` (float64[n], money), the starting capital (> 0) being the first peak."""
    where, size = _episodes(np.ascontiguousarray(equity), float(capital))
    return Episodes(where[:, 0], where[:, 1], where[:, 2], size[:, 0], size[:, 1])


def depth_below_peak(equity: Floats, capital: float) -> Floats:
    """Money below the running peak at each point, float64[n], zero or negative."""
    return equity - np.maximum(np.maximum.accumulate(equity), capital) if len(equity) else equity


@njit(cache=True, nogil=True)
def largest_fall(equity: Floats, capital: float) -> float:
    """Largest fall of float64[n], money, from its running peak, starting capital included.

    >>> float(largest_fall(np.array([110.0, 90.0, 120.0, 100.0]), 100.0))
    20.0
    """
    peak = capital
    worst = 0.0
    for i in range(len(equity)):
        value = equity[i]
        if value > peak:
            peak = value
        elif peak - value > worst:
            worst = peak - value
    return fall_that_counts(worst, peak)
