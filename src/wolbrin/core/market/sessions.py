"""Sessions as instants: the weekly schedule laid over the calendar, daylight saving by the tz database."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.market.exchanges import SessionTable, exchange_sessions
from wolbrin.core.market.terms import MINUTES_A_DAY, WEEKDAYS, Terms, minutes_of
from wolbrin.core.market.zones import to_utc

NS_A_MINUTE = 60 * 1_000_000_000
NS_A_DAY = MINUTES_A_DAY * NS_A_MINUTE


def _weekday(days: NDArray[np.int64]) -> NDArray[np.int64]:
    # 1970-01-01 was a Thursday.
    return (days + 3) % 7


def session_table(terms: Terms, first_ns: int, last_ns: int) -> SessionTable:
    """Sessions of `terms` that may hold a bar starting in [first_ns, last_ns] (UTC nanoseconds)."""
    days = np.arange(first_ns // NS_A_DAY - 2, last_ns // NS_A_DAY + 3, dtype=np.int64)
    if terms.calendar:
        return _without_closed(terms, exchange_sessions(terms.calendar, int(days[0]), int(days[-1])))
    weekday = _weekday(days)
    opens, closes, dates = [], [], []
    if terms.sessions:
        for rule in terms.sessions:
            on = days[np.isin(weekday, [WEEKDAYS.index(d) for d in rule.days])]
            opens.append(on * NS_A_DAY + rule.open_minute * NS_A_MINUTE)
            closes.append(on * NS_A_DAY + rule.close_minute * NS_A_MINUTE)
            # A session that ends at 24:00 belongs to the day that ends there.
            dates.append(on + (rule.close_minute - 1) // MINUTES_A_DAY)
    else:
        opens.append(days * NS_A_DAY)
        closes.append((days + 1) * NS_A_DAY)
        dates.append(days)
    start = to_utc(np.concatenate(opens), terms.time_zone)
    end = to_utc(np.concatenate(closes), terms.time_zone)
    date = np.concatenate(dates)
    order = np.argsort(start, kind="stable")
    order = order[end[order] > start[order]]
    return _without_closed(terms, SessionTable(start[order], end[order], date[order].astype(np.int32),
                                               bool(terms.sessions)))


def _without_closed(terms: Terms, table: SessionTable) -> SessionTable:
    """The table without sessions whose trading date the terms name as closed."""
    if not terms.closed:
        return table
    dates = table.trading_date.astype("datetime64[D]")
    yearly = [d for d in terms.closed if len(d) == 5]
    once = np.array([d for d in terms.closed if len(d) > 5], "datetime64[D]")
    shut = np.isin(dates, once)
    if yearly:
        month = dates.astype("datetime64[M]")
        day_of_month = (dates - month).astype(np.int64) + 1
        code = (month.astype(np.int64) % 12 + 1) * 100 + day_of_month
        shut |= np.isin(code, [int(d[:2]) * 100 + int(d[3:]) for d in yearly])
    return SessionTable(table.open[~shut], table.close[~shut], table.trading_date[~shut], table.scheduled)


def rollovers(terms: Terms, first_ns: int, last_ns: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Rollover instants (UTC ns, int64[k]) and the nights each counts for (int64[k]): Monday to Friday, three on
    the named weekday, none at weekends."""
    days = np.arange(first_ns // NS_A_DAY - 2, last_ns // NS_A_DAY + 3, dtype=np.int64)
    weekday = _weekday(days)
    keep = weekday < 5
    instants = to_utc(days[keep] * NS_A_DAY + minutes_of(terms.financing.time) * NS_A_MINUTE, terms.time_zone)
    nights = np.where(weekday[keep] == WEEKDAYS.index(terms.financing.triple), 3, 1).astype(np.int64)
    return instants, nights
