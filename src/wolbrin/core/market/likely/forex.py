"""Clocks of currency pairs: their week begins and ends at 17:00 in New York, which tells the clock a file is written in."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.market.likely.week import MONDAY, Counts, Week, week_in
from wolbrin.core.market.sessions import NS_A_DAY, NS_A_MINUTE
from wolbrin.core.market.terms import MINUTES_A_DAY, WEEKDAYS
from wolbrin.core.market.zones import BROKER, EASTERN_EUROPE, NEW_YORK, known_clock, to_local, to_utc

WEEK = 7 * MINUTES_A_DAY
SUNDAY, FRIDAY = (WEEKDAYS.index(d) * MINUTES_A_DAY + 17 * 60 for d in ("Sun", "Fri"))
NEAR = 20  # minutes; some sources begin or end the week a little within it
LATE_OPEN = 65  # minutes; metals open an hour after currencies
# Clocks that change as New York's, as Europe's, and never; a distance of hours is found for each.
RULES = {NEW_YORK: NEW_YORK, "Europe/London": "Europe/London", "UTC": "UTC"}
NAMED = {("Europe/London", 1): "Europe/Oslo", ("Europe/London", 2): EASTERN_EUROPE}
USUAL = (BROKER, EASTERN_EUROPE, "UTC", NEW_YORK, "Europe/London", "Europe/Oslo", "UTC+2", "UTC+3")


@dataclass(frozen=True)
class Reading:
    """A clock the file may be written in, and the schedule in New York under it."""

    clock: str
    week: Week


def _edges(week: Week) -> tuple[int, int] | None:
    """Minute of the week at which the longest pause ends, and at which it begins; None where the market has none."""
    spans = sorted((WEEKDAYS.index(d) * MINUTES_A_DAY + r.open_minute, r.close_minute - r.open_minute)
                   for r in week.rules for d in r.days)
    if not spans:
        return None
    pauses = [((b + (WEEK if i + 1 == len(spans) else 0)) - (a + n), b, a + n)
              for i, ((a, n), (b, _)) in enumerate(zip(spans, [*spans[1:], spans[0]]))]
    length, opens, closes = max(pauses)
    return (opens % WEEK, closes % WEEK) if length >= 24 * 60 else None


def _off(minute: int, anchor: int) -> int:
    return (minute - anchor + WEEK // 2) % WEEK - WEEK // 2


def hours_ahead(week: Week, minutes: int, stamp: str | None) -> int | None:
    """How many hours the clock of a schedule in New York is ahead of New York's own, by the edges of the week; None where
    they are not those of currencies.

    Args:
        minutes: of a bar. stamp: which end of the bar carries the time, where that is known.
    """
    edges = _edges(week)
    if edges is None:
        return None
    late = minutes if stamp == "close" else 0
    opens, closes = _off(edges[0], SUNDAY) - late, _off(edges[1], FRIDAY) - late
    found = (closes + NEAR) // 60  # stamps at the close are late by a bar, never early
    slack = 0 if stamp else min(minutes, 30)  # of stamps at the close
    if -NEAR <= closes - found * 60 <= NEAR + slack and -NEAR <= opens - found * 60 <= LATE_OPEN + slack:
        return found
    return None


def readings(counts: Counts, minutes: int, stamp: str | None, clear: float) -> list[Reading]:
    """Clocks under which a file's week is that of currencies and stays put, the usual ones first; empty where none does."""
    weeks = {rule: week_in(counts, NEW_YORK, rule) for rule in RULES}
    least = min(w.score for w in weeks.values())
    out = []
    for rule, week in weeks.items():
        if (week.score - least) * counts.weeks >= clear:
            continue
        ahead = hours_ahead(week, minutes, stamp)
        if ahead is None:
            continue
        clock = NAMED.get((rule, ahead)) or known_clock(f"{rule}{ahead:+d}" if ahead else rule)
        out.append(Reading(clock, week_in(counts, NEW_YORK, clock)))
    return sorted(out, key=lambda r: USUAL.index(r.clock) if r.clock in USUAL else len(USUAL))


def days_against(time: NDArray[np.int64], clock: str) -> NDArray[np.int64]:
    """Days (int64, since 1970) of bars that would stand where currencies are closed, from Friday to Sunday 17:00 in New York,
    if stamps, int64[n] ns of the file's clock, were of a clock."""
    local = to_local(to_utc(time, clock), NEW_YORK)
    minute = (local - MONDAY) // NS_A_MINUTE % WEEK
    closed = (minute >= FRIDAY + NEAR) & (minute < SUNDAY - NEAR)
    return np.unique(local[closed] // NS_A_DAY)


def is_currency_week(week: Week) -> bool:
    """Whether a schedule in New York's clock is that of currencies, or of metals that open an hour later."""
    edges = _edges(week)
    return week.zone == NEW_YORK and edges is not None and abs(_off(edges[1], FRIDAY)) <= NEAR and (
        -NEAR <= _off(edges[0], SUNDAY) <= LATE_OPEN)
