"""What the schedule promises and what a source delivers: missing bars, gaps, empty days, completeness by hour."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.market.intervals import DAILY, Interval
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.sessions import NS_A_DAY, NS_A_MINUTE, SessionTable, session_table
from wolbrin.core.market.terms import Terms
from wolbrin.core.market.zones import to_local

HOURS = 24
NS_AN_HOUR = 60 * NS_A_MINUTE
Ints = NDArray[np.int64]


@dataclass(frozen=True)
class Coverage:
    """inside: bool[n], which rows start in a session. expected, missing: scheduled bars of days that have any, and how
    many of them are not there. dates: scheduled trading dates. gap_time (UTC ns), gap_bars: int64[g] each, runs of
    missing bars inside sessions. empty_dates (days since 1970), empty_open (UTC ns), empty_at (number of the trading
    date): int64[d] each, dates without any bar. years; complete: float64[years, 24], share of scheduled bars that are
    there, by local hour, NaN where none is scheduled."""

    inside: NDArray[np.bool_]
    expected: int
    missing: int
    dates: int
    gap_time: Ints
    gap_bars: Ints
    empty_dates: Ints
    empty_open: Ints
    empty_at: Ints
    years: tuple[int, ...]
    complete: NDArray[np.float64]


def _expected_slots(table: SessionTable, first: int, last: int, step: int) -> tuple[Ints, Ints]:
    """Start (UTC ns) and session of every scheduled bar that starts in [first, last]."""
    touched = np.flatnonzero((table.close > first) & (table.open <= last))
    count = -(-(table.close[touched] - table.open[touched]) // step)
    session = np.repeat(touched, count)
    slot = np.arange(int(count.sum())) - np.repeat(np.cumsum(count) - count, count)
    time = table.open[session] + slot * step
    keep = (time > first - step) & (time <= last)
    return time[keep], session[keep]


def daily_dates(raw: Raw, terms: Terms) -> Ints:
    """int64[n]: the date of each daily row (days since 1970). Rows stamped at midnight UTC carry a bare date; all others
    are dated by the market's clock."""
    if not np.any(raw.time % NS_A_DAY):
        return raw.time // NS_A_DAY
    return to_local(raw.time, terms.time_zone) // NS_A_DAY


def placed_daily(raw: Raw, terms: Terms) -> Raw:
    """Daily rows moved to the sessions of their dates: from the first session's open to the last one's close. A row whose
    date has no session keeps its stamp."""
    dates = daily_dates(raw, terms)
    table = session_table(terms, int(raw.time[0]), int(raw.time[-1]))
    begin = np.searchsorted(table.trading_date, dates, "left")
    stop = np.searchsorted(table.trading_date, dates, "right")
    there = stop > begin
    if not len(table.open):
        return raw
    time = np.where(there, table.open[np.minimum(begin, len(table.open) - 1)], raw.time)
    end = np.where(there, table.close[np.maximum(stop - 1, 0)], raw.time + NS_A_DAY)
    order = np.argsort(time, kind="stable")
    return Raw(raw.interval, time, *raw.prices, raw.volume, end, raw.open_interest).take(order)


def coverage(raw: Raw, terms: Terms) -> Coverage:
    """Compare rows (in order of time) with the market's schedule. Without one, bars are expected only on local days
    that have some, and none is missing."""
    table = session_table(terms, int(raw.time[0]), int(raw.time[-1]))
    at, inside = table.place(raw.time)
    none = np.zeros(0, np.int64)
    interval = Interval.of(raw.interval)
    if not terms.scheduled or interval.by_activity or raw.interval == 0:
        return Coverage(inside, 0, 0, 0, none, none, none, none, none, (), np.zeros((0, HOURS)))
    touched = np.flatnonzero((table.close > raw.time[0]) & (table.open <= raw.time[-1]))
    dates = np.unique(table.trading_date[touched])
    covered = np.zeros(len(dates), bool)
    place = np.searchsorted(dates, table.trading_date[at[inside]])
    covered[place] = True
    if raw.interval >= DAILY:
        covered = np.isin(dates, daily_dates(raw, terms))
        empty = dates[~covered].astype(np.int64)
        opens = table.open[np.searchsorted(table.trading_date, empty)]
        return Coverage(np.ones(len(raw), bool), 0, 0, len(dates), none, none, empty, opens, np.flatnonzero(~covered),
                        *_by_hour(raw.time[:0], raw.time[:0], raw, terms))
    step = raw.interval * NS_A_MINUTE
    time, session = _expected_slots(table, int(raw.time[0]), int(raw.time[-1]), step)
    near = np.searchsorted(raw.time, time)
    there = (near < len(raw)) & (raw.time[np.minimum(near, len(raw) - 1)] < time + step)
    of_empty = ~covered[np.searchsorted(dates, table.trading_date[session])]
    lack = ~there & ~of_empty
    edge = np.diff(np.concatenate(([0], lack.astype(np.int8), [0])))
    begin, stop = np.flatnonzero(edge == 1), np.flatnonzero(edge == -1)
    # A run over a session's end is two gaps.
    cuts = np.flatnonzero(np.append(False, session[1:] != session[:-1]) & lack & np.append(False, lack[:-1]))
    begin, stop = np.sort(np.append(begin, cuts)), np.sort(np.append(stop, cuts))
    empty = dates[~covered].astype(np.int64)
    opens = table.open[np.searchsorted(table.trading_date, empty)]
    years, complete = _by_hour(time, time[there], raw, terms)
    return Coverage(inside, int((~of_empty).sum()), int(lack.sum()), len(dates), time[begin], stop - begin, empty, opens,
                    np.flatnonzero(~covered), years, complete)


def _by_hour(expected: Ints, there: Ints, raw: Raw, terms: Terms) -> tuple[tuple[int, ...], NDArray[np.float64]]:
    """Years and float64[years, 24]: share of expected bars that are there, by exchange-local hour."""
    ends = to_local(raw.time[[0, -1]], terms.time_zone).view("datetime64[ns]").astype("datetime64[Y]").astype(int) + 1970
    years = tuple(range(int(ends[0]), int(ends[1]) + 1))

    def counts(time: Ints) -> NDArray[np.float64]:
        local = to_local(time, terms.time_zone)
        year = local.view("datetime64[ns]").astype("datetime64[Y]").astype(np.int64) + 1970 - years[0]
        hour = local % NS_A_DAY // NS_AN_HOUR
        size = len(years) * HOURS
        cell = np.clip(year, 0, len(years) - 1) * HOURS + hour
        return np.bincount(cell, minlength=size)[:size].reshape(-1, HOURS).astype(np.float64)

    total = counts(expected)
    with np.errstate(invalid="ignore", divide="ignore"):
        return years, np.where(total > 0, counts(there) / total, np.nan)
