"""Kernels of market structure: swings and their breaks, sweeps, imbalances, origin zones, runs of closes.

Common practice, no source; where practitioners differ the definition is the one written here. All arrays are float64[n],
and value i depends on bars 0 .. i only.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit

Floats = NDArray[np.float64]


@njit(cache=True, nogil=True)
def imbalance(high: Floats, low: Floats) -> tuple[Floats, Floats]:
    """Fair value gap: the room between this bar and the bar before last that the bar between them jumped over.

    Returns the size of an upward and of a downward gap, 0 where there is none, NaN for the first two bars.
    """
    n = len(high)
    up = np.full(n, np.nan)
    down = np.full(n, np.nan)
    for i in range(2, n):
        up[i] = max(0.0, low[i] - high[i - 2])
        down[i] = max(0.0, low[i - 2] - high[i])
    return up, down


@njit(cache=True, nogil=True)
def swings(high: Floats, low: Floats, close: Floats, side: int) -> tuple[Floats, Floats, Floats]:
    """Last confirmed swing high and low, and breaks of structure.

    A swing high is a high above those of `side` bars before and at or above those of `side` bars after it; it is known
    only then. Break: +1 where a close first lies above the last swing high, -1 below the last swing low, else 0.
    """
    n = len(high)
    top = np.full(n, np.nan)
    bottom = np.full(n, np.nan)
    broke = np.full(n, np.nan)
    hi, lo = np.nan, np.nan
    above = below = False
    for i in range(n):
        at = i - side
        if at >= side:
            is_high = is_low = True
            for j in range(1, side + 1):
                is_high = is_high and high[at] > high[at - j] and high[at] >= high[at + j]
                is_low = is_low and low[at] < low[at - j] and low[at] <= low[at + j]
            if is_high:
                hi = high[at]
                above = False
            if is_low:
                lo = low[at]
                below = False
        top[i] = hi
        bottom[i] = lo
        if not np.isnan(hi) and not np.isnan(lo):
            broke[i] = 0.0
            if close[i] > hi and not above:
                broke[i] = 1.0
                above = True
            elif close[i] < lo and not below:
                broke[i] = -1.0
                below = True
    return top, bottom, broke


@njit(cache=True, nogil=True)
def sweep(high: Floats, low: Floats, close: Floats, length: int) -> Floats:
    """Sweep of a prior extreme: +1 where the low goes below the lowest of the `length` bars before and the close comes
    back above it, -1 for the high, 0 for neither or both."""
    n = len(high)
    out = np.full(n, np.nan)
    for i in range(length, n):
        hi = high[i - length]
        lo = low[i - length]
        for j in range(i - length + 1, i):
            hi = max(hi, high[j])
            lo = min(lo, low[j])
        up = low[i] < lo and close[i] > lo
        down = high[i] > hi and close[i] < hi
        out[i] = (1.0 if up else 0.0) - (1.0 if down else 0.0)
    return out


@njit(cache=True, nogil=True)
def origin(open_: Floats, high: Floats, low: Floats, close: Floats, atr: Floats,
           multiple: float) -> tuple[Floats, Floats, Floats]:
    """Origin zone of the last impulse: the range of the bar before a bar whose body is at least `multiple` ATR of the
    bar before it. Returns the zone's upper and lower edge, and the return: +1 on the first bar that comes back to the
    zone of an upward impulse, -1 of a downward one, else 0."""
    n = len(close)
    upper = np.full(n, np.nan)
    lower = np.full(n, np.nan)
    back = np.full(n, np.nan)
    top, bottom = np.nan, np.nan
    side = 0
    for i in range(1, n):
        if np.isnan(atr[i - 1]):
            continue
        back[i] = 0.0
        if side > 0 and low[i] <= top:
            back[i] = 1.0
            side = 0
        elif side < 0 and high[i] >= bottom:
            back[i] = -1.0
            side = 0
        body = close[i] - open_[i]
        if abs(body) >= multiple * atr[i - 1] and body != 0.0:
            top, bottom = high[i - 1], low[i - 1]
            side = 1 if body > 0.0 else -1
        upper[i] = top
        lower[i] = bottom
    return upper, lower, back


@njit(cache=True, nogil=True)
def inside_run(high: Floats, low: Floats) -> Floats:
    """How many bars in a row, up to this one, lie inside the range of the bar before them."""
    out = np.full(len(high), np.nan)
    count = 0.0
    for i in range(1, len(high)):
        count = count + 1.0 if high[i] <= high[i - 1] and low[i] >= low[i - 1] else 0.0
        out[i] = count
    return out


@njit(cache=True, nogil=True)
def close_run(close: Floats) -> Floats:
    """How many closes in a row, up to this one, were higher (positive) or lower (negative); an equal close is 0."""
    out = np.full(len(close), np.nan)
    count = 0.0
    for i in range(1, len(close)):
        if close[i] > close[i - 1]:
            count = count + 1.0 if count > 0.0 else 1.0
        elif close[i] < close[i - 1]:
            count = count - 1.0 if count < 0.0 else -1.0
        else:
            count = 0.0
        out[i] = count
    return out


@njit(cache=True, nogil=True)
def rank_of(values: Floats, length: int) -> Floats:
    """Percent of the `length` values before this one that lie below it; NaN while one of them is missing."""
    n = len(values)
    out = np.full(n, np.nan)
    missing = -1  # the last value that was
    for i in range(n):
        value = values[i]
        if np.isnan(value):
            missing = i
        elif i >= length and missing < i - length:
            below = np.int64(0)
            window = values[i - length:i]
            for j in range(length):  # no branch in it, so that several are compared at once
                below += np.int64(window[j] < value)
            out[i] = 100.0 * below / length
    return out
