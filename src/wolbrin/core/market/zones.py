"""Wall-clock time and UTC, by the tz database."""

from __future__ import annotations

import datetime as dt
from functools import lru_cache
from typing import NamedTuple
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

NS = 1_000_000_000
DAY = 86_400
Instants = NDArray[np.int64]


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
    zone = ZoneInfo(name)
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
    return Shifts(np.array(at, np.int64) * NS, np.array(offset, np.int64) * NS)


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
