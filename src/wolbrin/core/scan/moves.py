"""Each bar's move, in units of what its hour moved on the 20 days before, and where a position can be held on.

A bar's move is what a position earns that is held from its open to the next bar's open, or, where it is flat at the session's
end, to the close of the session's last bar. So a position entered at the next open after a firing and left at the open
after h bars earns the sum of the moves of the h bars between, and each bar counts once, however many firings hold it.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.bits import Words, pack
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Bars, Span
from wolbrin.core.market.sessions import NS_A_DAY, NS_A_MINUTE
from wolbrin.core.market.zones import to_local
from wolbrin.core.study.forward import scale_of

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
DAYS_BEFORE = 20  # days that tell what an hour moves
LEAST_DAYS = 60  # of a scan
MOST_BARS = 500  # of a horizon
END = 0  # the horizon "to the session's end"
USUAL = (1, 2, 4, 8, 16, 32, END)


@dataclass(frozen=True)
class Moves:
    """What a scan of one market measures, bar by bar of the whole history, n bars.

    flat: positions end with their session. counted: packed bits of the bars that count: in the span, with 20 days of their
    hour before them. unit: float64[n], moves in units of their hour less their mean; raw: float64[n], money of one
    contract; both 0 where a bar does not count. day: int32[n], number of its trading date among `dates` (int32[d]), -1
    where it does not count. place: int32[n], bars since the session's open; last: int64[n], the last bar of its session.
    by_day: float64[d], sum of `unit` a date. bars: how many count. longest: bars of a long session (99 of 100 have at most
    so many). first, stop: bars of the span.
    """

    flat: bool
    counted: Words
    unit: Floats
    raw: Floats
    day: NDArray[np.int32]
    dates: NDArray[np.int32]
    place: NDArray[np.int32]
    last: Ints
    hour: NDArray[np.int8]
    by_day: Floats
    bars: int
    longest: int
    first: int
    stop: int

    @property
    def days(self) -> int:
        return len(self.dates)


def place_in_session(bars: Bars) -> tuple[NDArray[np.int32], Ints]:
    """Bars since the session's open (0 for its first), int32[n], and the last bar of each bar's session, int64[n]."""
    size = len(bars)
    begins = np.flatnonzero(np.diff(bars.session, prepend=-1) != 0)
    of = np.cumsum(np.diff(bars.session, prepend=-1) != 0) - 1
    ends = np.append(begins[1:], size) - 1
    return (np.arange(size) - begins[of]).astype(np.int32), ends[of].astype(np.int64)


def hour_of(bars: Bars) -> NDArray[np.int8]:
    """The hour of the exchange's clock at which bars open, int8[n]."""
    return (to_local(bars.time, bars.terms.time_zone) % NS_A_DAY // (60 * NS_A_MINUTE)).astype(np.int8)


def usual_size(size: Floats, hour: NDArray[np.integer], date: NDArray[np.integer]) -> Floats:
    """What each bar's hour moved on the 20 dates before on which it had bars: the mean of their sizes, float64[n]; NaN where
    there are not as many."""
    out = np.full(len(size), np.nan)
    for h in np.unique(hour):
        at = np.flatnonzero(hour == h)
        _, first, of = np.unique(date[at], return_index=True, return_inverse=True)
        total = np.add.reduceat(size[at], first)
        count = np.diff(np.append(first, len(at))).astype(np.float64)
        sums, counts = (np.concatenate([[0.0], np.cumsum(x)]) for x in (total, count))
        begin = np.arange(len(first)) - DAYS_BEFORE
        known = begin >= 0
        usual = np.full(len(first), np.nan)
        usual[known] = ((sums[:-1][known] - sums[begin[known]]) / (counts[:-1][known] - counts[begin[known]]))
        out[at] = usual[of]
    return out


def moves_of(history: Prepared, span: Span, flat: bool = True) -> Moves:
    """The moves of a market on a span of trading dates. flat: positions end at the close of their session's last bar.

    Raises:
        UserError: there are too few days to tell anything.
    """
    bars = history.bars
    first, stop = bars.range_of(span)
    size = len(bars)
    place, last = place_in_session(bars)
    hour = hour_of(bars)
    to = bars.close.copy()
    at = np.arange(size)
    go_on = (at < last) if flat else (at < size - 1)
    go_on[-1:] = False
    inner = np.flatnonzero(go_on)
    to[inner] = bars.open[inner + 1]
    points = to - bars.open
    # What lies at the end of the span is not moved by a bar beyond it.
    if 0 < stop < size:
        points[stop - 1] = bars.close[stop - 1] - bars.open[stop - 1]
    usual = usual_size(np.abs(points), hour, bars.trading_date)
    with np.errstate(divide="ignore", invalid="ignore"):
        unit = points / usual
    known = np.isfinite(unit) & (usual > 0)
    known[:first] = False
    known[stop:] = False
    if not known.any():
        raise UserError(f"no day of this span has {DAYS_BEFORE} days before it: nothing says what an hour usually moves",
                        bars.terms.code, "Choose a longer span, or import more history.")
    unit = np.where(known, unit, 0.0)
    unit[known] -= unit[known].mean()
    dates, number = np.unique(bars.trading_date[known], return_inverse=True)
    day = np.full(size, -1, np.int32)
    day[known] = number
    if len(dates) < LEAST_DAYS:
        raise UserError(f"{len(dates)} days are too few to tell anything: {LEAST_DAYS} on which a row fires are the least",
                        bars.terms.code, "Choose a longer span, or import more history.")
    raw = np.where(known, points * scale_of(history, at, "money"), 0.0)
    sessions = np.bincount(bars.session[known])
    return Moves(flat, pack((known.view(np.uint8),), size)[:, 0], unit, raw, day, dates.astype(np.int32), place, last, hour,
                 np.bincount(number, unit[known], len(dates)).astype(np.float64), int(known.sum()),
                 int(np.quantile(sessions[sessions > 0], 0.99, method="lower")), first, stop)


def hours_changed(bars: Bars, moves: Moves) -> str:
    """A sentence where sessions of this market came to have other hours: the bar of a session is another time of day then."""
    sessions = np.unique(bars.session[moves.day >= 0])
    begins = np.flatnonzero(np.diff(bars.session, prepend=-1) != 0)
    of = np.searchsorted(bars.session[begins], sessions)
    local = to_local(bars.time[begins[of]], bars.terms.time_zone)
    minute = (local % NS_A_DAY // NS_A_MINUTE).astype(np.int64)
    year = bars.trading_date[begins[of]].astype("datetime64[D]").astype("datetime64[Y]").astype(np.int64) + 1970
    usual = {int(y): int(np.bincount(minute[year == y]).argmax()) for y in np.unique(year)
             if np.count_nonzero(year == y) >= LEAST_DAYS}
    for (_, before), (y, after) in pairwise(sorted(usual.items())):
        if before != after:
            clock = [f"{m // 60:02d}:{m % 60:02d}" for m in (before, after)]
            return (f"sessions opened at {clock[0]} until {y - 1} and at {clock[1]} from {y} on: rows at a bar of the "
                    "session mean another time of day then")
    return ""


def round_turn(history: Prepared, brief: Brief) -> float:
    """What one trade of one contract costs in and out, in account money: spread, slippage and commission; at the mean price
    of the history where the commission is in percent."""
    terms = history.bars.terms
    c = brief.on(terms).paid
    rate = float(np.mean(history.conversion[1]))
    ticks = (c.spread_ticks + 2 * c.slippage_ticks) * terms.tick_value * rate
    side = c.per_contract + c.percent / 100 * float(np.mean(np.abs(history.bars.close))) * terms.point_value * rate
    return ticks + 2 * max(side, c.minimum)
