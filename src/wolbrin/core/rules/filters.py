"""Entry filters as one array: the decision bars at which nothing is entered."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.indicators.columns import Columns
from wolbrin.core.indicators.model import Floats
from wolbrin.core.market.bars import Bars
from wolbrin.core.market.sessions import NS_A_DAY, NS_A_MINUTE
from wolbrin.core.market.terms import WEEKDAYS, minutes_of
from wolbrin.core.market.zones import to_local
from wolbrin.core.rules.model import Filters, Window


def inside_windows(bars: Bars, windows: tuple[Window, ...]) -> NDArray[np.bool_]:
    """bool[n]: bars whose close, on the exchange's clock, lies in one of the windows, both ends included."""
    clock = to_local(bars.end, bars.terms.time_zone) % NS_A_DAY
    inside = np.zeros(len(bars), np.bool_)
    for window in windows:
        first, last = (minutes_of(t) * NS_A_MINUTE for t in (window.first, window.last))
        if first <= last:
            inside |= (clock >= first) & (clock <= last)
            if last == NS_A_DAY:
                inside |= clock == 0  # 24:00 and 00:00 are the same moment
        else:
            inside |= (clock >= first) | (clock <= last)
    return inside


def blocked_bars(columns: Columns, filters: Filters) -> tuple[NDArray[np.uint8] | None, list[Floats]]:
    """uint8[n], 1 where no entry may be decided, or None without filters; and the indicator columns that this used.

    The cap on entries per trading date depends on fills and is the simulator's.
    """
    bars = columns.bars
    open_ = np.ones(len(bars), np.bool_)
    used: list[Floats] = []
    plain = filters.windows or filters.weekdays or filters.last_minutes or filters.oversized
    if not plain:
        return None, used
    if filters.windows:
        open_ &= inside_windows(bars, filters.windows)
    if filters.weekdays:
        weekday = (bars.trading_date.astype(np.int64) + 3) % 7
        open_ &= np.isin(weekday, [WEEKDAYS.index(d) for d in filters.weekdays])
    if filters.last_minutes:
        left = bars.sessions.close[bars.session] - bars.end
        open_ &= left > filters.last_minutes * NS_A_MINUTE
    if filters.oversized:
        atr = columns.atr_ticks(int(filters.oversized.length))
        used.append(atr)
        span = (bars.h.astype(np.int64) - bars.l).astype(np.float64)
        open_ &= span <= filters.oversized.multiple * atr  # never true where ATR has no value
    return (~open_).view(np.uint8), used
