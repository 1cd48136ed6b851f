"""Numbers and texts that read like a date: what holds one may know what came."""

from __future__ import annotations

import datetime as dt
import re

FIRST, LAST = dt.date(1980, 1, 1), dt.date(2079, 12, 31)
ISO = re.compile(r"\b(19[89]\d|20[0-7]\d)[-/.](\d{1,2})[-/.](\d{1,2})\b")
SECONDS = (1, 1_000, 1_000_000, 1_000_000_000)  # of how many parts of a second a stamp may be made


def date_of(value: float | str) -> dt.date | None:
    """The date that a constant reads like: 20200315, "2020-03-15", or a stamp since 1970 in seconds or finer; None where it
    reads like a plain number."""
    if isinstance(value, str):
        found = ISO.search(value)
        return _date(*(int(x) for x in found.groups())) if found else None
    if value != value or value in (float("inf"), float("-inf")) or value != int(value):
        return None
    whole = int(value)
    if not 0 < whole < 10**20:
        return None
    if 10**7 <= whole < 10**8:
        return _date(whole // 10_000, whole // 100 % 100, whole % 100)
    for parts in SECONDS:
        seconds = whole / parts
        if 10**9 <= seconds < 3.5e9 and (parts > 1 or whole % 60 == 0):
            return (dt.datetime(1970, 1, 1) + dt.timedelta(seconds=seconds)).date()
    return None


def _date(year: int, month: int, day: int) -> dt.date | None:
    try:
        made = dt.date(year, month, day)
    except ValueError:
        return None
    return made if FIRST <= made <= LAST else None


def date_words(day: dt.date) -> str:
    """Such as "reads like 15 Mar 2020"."""
    return f"reads like {day.day} {day:%b %Y}"
