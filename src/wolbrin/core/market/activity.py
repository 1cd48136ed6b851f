"""Bars by activity: n ticks, n traded units, or a fixed range, from single ticks or from fine bars.

A fine bar is read as the four prices it is known to have touched, the nearer extreme first: open, low, high, close when
the open lies nearer the low, open, high, low, close otherwise. Each of the four counts as a tick; for volume bars a fine
bar stays whole. No price is invented: a range bar ends before the price that would stretch it too far. Bars never
straddle two sessions.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit
from wolbrin.core.errors import Door, UserError
from wolbrin.core.market.intervals import Interval
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.sessions import session_table
from wolbrin.core.market.terms import Terms

COUNT, VOLUME, RANGE = 0, 1, 2


@njit(cache=True)
def break_rows(kind: int, limit: float, session: NDArray[np.int64], high: NDArray[np.float64],
               low: NDArray[np.float64], volume: NDArray[np.float64]) -> NDArray[np.bool_]:
    """bool[n], True where a new bar begins. kind: COUNT of rows, summed VOLUME at least `limit`, or RANGE at most
    `limit`."""
    n = len(session)
    fresh = np.zeros(n, np.bool_)
    total, top, bottom = 0.0, 0.0, 0.0
    for i in range(n):
        begins = i == 0 or session[i] != session[i - 1]
        if not begins:
            begins = max(top, high[i]) - min(bottom, low[i]) > limit if kind == RANGE else total >= limit
        if begins:
            fresh[i] = True
            total, top, bottom = 0.0, high[i], low[i]
        total += volume[i] if kind == VOLUME else 1.0
        top, bottom = max(top, high[i]), min(bottom, low[i])
    return fresh


def _path(raw: Raw) -> Raw:
    """Fine bars as the four prices each is known to have touched, in their likely order."""
    n = len(raw)
    low_first = raw.open - raw.low <= raw.high - raw.open
    prices = np.empty((n, 4))
    prices[:, 0], prices[:, 3] = raw.open, raw.close
    prices[:, 1] = np.where(low_first, raw.low, raw.high)
    prices[:, 2] = np.where(low_first, raw.high, raw.low)
    flat = prices.ravel()
    return Raw(raw.interval, np.repeat(raw.time, 4) + np.tile(np.arange(4), n), flat, flat, flat, flat,
               np.repeat(raw.volume / 4, 4), np.repeat(raw.ends, 4))


def by_activity(raw: Raw, terms: Terms, interval: Interval) -> Raw:
    """Bars by activity out of clean rows: finite prices, rising time (equal stamps allowed for ticks).

    Raises:
        UserError: not such an interval, or volume bars from a source without volume.
    """
    if not interval.by_activity:
        raise UserError(f"{interval.words} bars are not bars by activity", terms.code, "Choose ticks, volume or range.")
    if interval.kind == "volume" and not (raw.volume > 0).any():
        raise UserError("this source has no volume, so volume bars cannot be built", terms.code,
                        "Choose another kind of bar.", Door("Choose another interval", "interval"))
    if not len(raw):
        raise UserError("there are no bars in this history", terms.code, "Choose another source.")
    rows = raw if interval.kind == "volume" or raw.interval == 0 else _path(raw)
    table = session_table(terms, int(rows.time[0]), int(rows.time[-1]))
    at, inside = table.place(rows.time)
    rows, session = rows.take(inside), at[inside]
    if not len(rows):
        raise UserError("every bar lies outside the market's sessions", terms.code,
                        "Check the time zone and the session schedule.", Door(f"Correct {terms.code}'s sessions", "sessions"))
    kind = {"ticks": COUNT, "volume": VOLUME, "range": RANGE}[interval.kind]
    limit = interval.count * (1 + 1e-9) * terms.tick_size if kind == RANGE else float(interval.count)
    fresh = break_rows(kind, limit, session, rows.high, rows.low, rows.volume)
    first = np.flatnonzero(fresh)
    final = np.append(first[1:], len(rows)) - 1
    # Bars that begin at one stamp are set one nanosecond apart, so that time rises strictly.
    step = np.arange(len(first), dtype=np.int64)
    time = np.maximum.accumulate(rows.time[first] - step) + step
    end = rows.ends[final].copy()
    total = np.add.reduceat(rows.volume, first)
    size = final - first + 1
    # The bar that a session's end cuts short ends with the session; one that filled up ended where it filled.
    ended_by_session = np.append(session[first[1:]] != session[final[:-1]], False)
    short = size < interval.count if kind == COUNT else total < interval.count if kind == VOLUME else np.ones(len(size), bool)
    cut = ended_by_session & short
    end[cut] = table.close[session[final[cut]]]
    end = np.maximum(np.minimum(end, np.append(time[1:], np.iinfo(np.int64).max)), time + 1)
    return Raw(interval.code, time, rows.open[first], np.maximum.reduceat(rows.high, first),
               np.minimum.reduceat(rows.low, first), rows.close[final], total, end)
