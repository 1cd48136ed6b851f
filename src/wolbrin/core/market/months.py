"""A digest for each month of a history, by which the same bars are known under any name, in any project.

A month is told by its days: first, highest, lowest and last price of each, so that files of other intervals, longer files
and files with other volumes match where they hold the same prices.
"""

from __future__ import annotations

import hashlib

import numpy as np

from wolbrin.core.market.raw import Raw
from wolbrin.core.market.sessions import NS_A_MINUTE

DAY = 1440 * NS_A_MINUTE
DIGITS = 16
LEAST_DAYS = 5  # of a month before it tells one history from another
LEAST_SAME = 1  # months that two histories share before they are the same bars


def month_digests(raw: Raw) -> dict[str, str]:
    """Digest of every month that is whole, by year-month in UTC. The first and the last month are left out: another file of
    the same bars may begin or end elsewhere in them."""
    if not len(raw):
        return {}
    day = raw.time // DAY
    starts = np.flatnonzero(np.r_[True, day[1:] != day[:-1]])
    stops = np.r_[starts[1:], len(day)] - 1
    prices = np.column_stack([raw.open[starts], np.maximum.reduceat(raw.high, starts), np.minimum.reduceat(raw.low, starts),
                              raw.close[stops]])
    days = day[starts]
    months = days.astype("datetime64[D]").astype("datetime64[M]")
    rows = np.round(prices, 9) + 0.0  # no -0
    out = {}
    for month in np.unique(months)[1:-1]:
        at = months == month
        if int(at.sum()) < LEAST_DAYS or np.ptp(rows[at]) == 0.0:
            continue  # too little, or a month without a price
        data = np.ascontiguousarray(days[at], "<i8").tobytes() + np.ascontiguousarray(rows[at], "<f8").tobytes()
        out[str(month)] = hashlib.sha256(data).hexdigest()[:DIGITS]
    return out


def same_bars(a: dict[str, str], b: dict[str, str]) -> bool:
    """Whether two histories hold the same bars over some stretch."""
    return len(set(a.values()) & set(b.values())) >= LEAST_SAME
