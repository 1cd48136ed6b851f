"""Wall-clock time and UTC, by the tz database.

A clock is a zone of that database ("Europe/Oslo"), a fixed distance from UTC ("UTC+2", "UTC-5:30"), or a zone and hours ahead
of it ("America/New_York+7"): the clock of many forex files, whose day ends when it is 17:00 in New York, changes when New
York's does. Common practice, no source.
"""

from __future__ import annotations

import datetime as dt
import re
from functools import lru_cache
from typing import NamedTuple
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import numpy as np
from numpy.typing import NDArray

NS = 1_000_000_000
DAY = 86_400
Instants = NDArray[np.int64]
FIXED = re.compile(r"^(?:UTC|GMT) ?([+-]) ?(\d{1,2})(?::?([0-5]\d))?$", re.IGNORECASE)
AHEAD = re.compile(r"^(.+?) ?([+-]) ?(\d{1,2})(?: ?h| hours?)?$")
NEW_YORK = "America/New_York"
BROKER = f"{NEW_YORK}+7"  # the day ends at 17:00 in New York, when it is midnight there
EASTERN_EUROPE = "Europe/Helsinki"
FARTHEST = 14  # hours; no clock is farther from UTC, and none is set farther from another


def _in_database(name: str) -> bool:
    try:
        ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        return False
    return True


@lru_cache(maxsize=256)
def parts_of(clock: str) -> tuple[str, int]:
    """A clock as a zone of the tz database and seconds ahead of it. Raises ValueError when it is none."""
    text = clock.strip()
    if _in_database(text):
        return text, 0
    fixed = FIXED.match(text)
    if fixed and int(fixed[2]) <= FARTHEST:
        ahead = int(fixed[2]) * 3600 + int(fixed[3] or 0) * 60
        return "UTC", ahead if fixed[1] == "+" else -ahead
    found = AHEAD.match(text)
    if found and int(found[3]) <= FARTHEST:
        zone = NEW_YORK if found[1].lower() in ("new york", "ny", "new_york") else found[1]
        if _in_database(zone) and not zone.startswith("Etc/"):
            return zone, int(found[3]) * 3600 * (1 if found[2] == "+" else -1)
    raise ValueError(f'"{clock}" is not a time zone: neither one of the tz database, such as Europe/Oslo, nor a distance '
                     f'from '
                     "UTC, such as UTC+2, nor hours ahead of a zone, such as America/New_York+7")


def known_clock(value: str) -> str:
    """A clock as it is kept: "UTC+2", "America/New_York+7", or the zone's name. Raises ValueError when it is none."""
    zone, ahead = parts_of(value)
    if not ahead:
        return zone
    hours, minutes = divmod(abs(ahead) // 60, 60)
    return f"{zone}{'+' if ahead > 0 else '-'}{hours}" + (f":{minutes:02d}" if minutes else "")


def clock_words(clock: str) -> str:
    """A clock as one says it."""
    zone, ahead = parts_of(clock)
    if zone == NEW_YORK and ahead:
        return f"New York {'plus' if ahead > 0 else 'less'} {abs(ahead) // 3600} hours"
    if zone == EASTERN_EUROPE and not ahead:
        return "UTC+2/+3 by Europe's dates (Europe/Helsinki)"
    return known_clock(clock)


class Shifts(NamedTuple):
    """Changes of a zone's UTC offset. at: int64[k] UTC ns. offset: int64[k + 1] ns, offset[j] holds before at[j]."""

    at: Instants
    offset: Instants


def _offset(zone: ZoneInfo, second: int) -> int:
    moment = dt.datetime.fromtimestamp(second, tz=dt.UTC).astimezone(zone)
    shift = moment.utcoffset()
    return round(shift.total_seconds()) if shift is not None else 0


@lru_cache(maxsize=32)
def _shifts(name: str, first_year: int, last_year: int) -> Shifts:
    base, ahead = parts_of(name)
    zone = ZoneInfo(base)
    start, stop = (int(dt.datetime(y, 1, 1, tzinfo=dt.UTC).timestamp()) for y in (first_year, last_year + 1))
    at: list[int] = []
    offset = [_offset(zone, start)]
    for day in range(start + DAY, stop + DAY, DAY):
        now = _offset(zone, day)
        if now != offset[-1]:
            low, high = day - DAY, day
            while high - low > 1:  # the very second of the change
                middle = (low + high) // 2
                low, high = (low, middle) if _offset(zone, middle) == now else (middle, high)
            at.append(high)
            offset.append(now)
    return Shifts(np.array(at, np.int64) * NS, (np.array(offset, np.int64) + ahead) * NS)


def _shifts_over(ns: Instants, name: str) -> Shifts:
    if not len(ns):
        return Shifts(np.zeros(0, np.int64), np.zeros(1, np.int64))
    years = [int(np.datetime64(int(x), "ns").astype("datetime64[Y]").astype(np.int64)) + 1970 for x in (ns.min(), ns.max())]
    return _shifts(name, max(1, years[0] - 1), min(9990, years[1] + 1))


def to_utc(local_ns: Instants, zone: str) -> Instants:
    """Local wall-clock nanoseconds to UTC. Skipped local times move forward to the change, repeated ones take the
    first."""
    shifts = _shifts_over(local_ns, zone)
    k = np.searchsorted(shifts.at + shifts.offset[:-1], local_ns, "right")
    utc = local_ns - shifts.offset[k]
    if len(shifts.at):
        utc = np.where(k > 0, np.maximum(utc, shifts.at[np.maximum(k - 1, 0)]), utc)
    return np.asarray(utc, np.int64)


def to_local(utc_ns: Instants, zone: str) -> Instants:
    """UTC nanoseconds to local wall-clock nanoseconds."""
    shifts = _shifts_over(utc_ns, zone)
    return np.asarray(utc_ns + shifts.offset[np.searchsorted(shifts.at, utc_ns, "right")], np.int64)


def shifts_between(zone: str, first_ns: int, last_ns: int) -> list[int]:
    """UTC nanoseconds of the zone's changes of offset in [first_ns, last_ns]."""
    at = _shifts_over(np.array([first_ns, last_ns], np.int64), zone).at
    return [int(x) for x in at if first_ns <= x <= last_ns]
