"""Indicator kernels that TA-Lib lacks, or where our contract differs from it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Prices = NDArray[np.float64] | NDArray[np.int32]  # in money or in whole ticks


@njit(cache=True, nogil=True)
def wilder_atr(high: Prices, low: Prices, close: Prices, length: int) -> Floats:
    """Average true range, float64[n] in the unit of the inputs; NaN for the first length - 1 bars.

    Wilder 1978 (New Concepts in Technical Trading Systems): the first value is the mean of the first `length` true
    ranges, the first true range is high - low, later ones use the previous close (across sessions too).
    """
    n = len(close)
    out = np.full(n, np.nan)
    if n < length or length < 1:
        return out
    total = 0.0
    for i in range(length):
        tr = float(high[i] - low[i])
        if i > 0:
            tr = max(tr, abs(high[i] - close[i - 1]), abs(low[i] - close[i - 1]))
        total += tr
    value = total / length
    out[length - 1] = value
    share = 1.0 / length
    for i in range(length, n):
        previous = close[i - 1]
        tr = float(max(high[i], previous) - min(low[i], previous))
        value += (tr - value) * share  # (value (n - 1) + tr) / n without the division
        out[i] = value
    return out


@njit(cache=True, nogil=True)
def opening_range(high: Floats, low: Floats, end: Ints, session: NDArray[np.int32], opened: Ints,
                  span_ns: int) -> tuple[Floats, Floats]:
    """High and low of the bars that end within `span_ns` of the session's open; NaN until that time has passed.

    opened: int64[n], each bar's session open. Returns two float64[n].
    """
    n = len(high)
    top = np.full(n, np.nan)
    bottom = np.full(n, np.nan)
    hi = -np.inf
    lo = np.inf
    for i in range(n):
        if i == 0 or session[i] != session[i - 1]:
            hi = -np.inf
            lo = np.inf
        past = end[i] - opened[i]
        if past <= span_ns:
            hi = max(hi, high[i])
            lo = min(lo, low[i])
        if past >= span_ns and hi >= lo:
            top[i] = hi
            bottom[i] = lo
    return top, bottom


@njit(cache=True, nogil=True)
def prior_session(high: Floats, low: Floats, close: Floats,
                  session: NDArray[np.int32]) -> tuple[Floats, Floats, Floats]:
    """High, low and close of the last earlier session that has bars: three float64[n]; NaN in the first session."""
    n = len(high)
    top = np.full(n, np.nan)
    bottom = np.full(n, np.nan)
    final = np.full(n, np.nan)
    hi = lo = np.nan
    p_hi = p_lo = p_close = np.nan
    for i in range(n):
        if i == 0 or session[i] != session[i - 1]:
            if i > 0:
                p_hi, p_lo, p_close = hi, lo, close[i - 1]
            hi, lo = high[i], low[i]
        else:
            hi = max(hi, high[i])
            lo = min(lo, low[i])
        top[i], bottom[i], final[i] = p_hi, p_lo, p_close
    return top, bottom, final


@njit(cache=True, nogil=True)
def session_vwap(typical: Floats, volume: Floats, session: NDArray[np.int32]) -> Floats:
    """Volume-weighted average of the typical price since the session's open, float64[n]; NaN while volume is zero."""
    n = len(typical)
    out = np.full(n, np.nan)
    money = 0.0
    amount = 0.0
    for i in range(n):
        if i == 0 or session[i] != session[i - 1]:
            money = 0.0
            amount = 0.0
        money += typical[i] * volume[i]
        amount += volume[i]
        if amount > 0.0:
            out[i] = money / amount
    return out


@njit(cache=True, nogil=True)
def session_count(session: NDArray[np.int32]) -> Floats:
    """1 on a session's first existing bar, 2 on the next and so on: float64[n]."""
    out = np.empty(len(session))
    count = 0
    for i in range(len(session)):
        count = 1 if i == 0 or session[i] != session[i - 1] else count + 1
        out[i] = count
    return out


@njit(cache=True, nogil=True)
def session_open(open_: Floats, session: NDArray[np.int32]) -> Floats:
    """The open of the session's first existing bar, float64[n]."""
    out = np.empty(len(session))
    value = np.nan
    for i in range(len(session)):
        if i == 0 or session[i] != session[i - 1]:
            value = open_[i]
        out[i] = value
    return out
