"""The clock of a week: how surely price moves in each hour of each weekday. Its cells are rows of the scan, and count as
such."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.scan.families import HOURS, WEEK
from wolbrin.core.search.families import WEEKDAYS
from wolbrin.core.search.ingredients import ROWS
from wolbrin.core.work.scan_results import ScanResult

WEEK_HOUR = f"{WEEK}:hour"


def week_rows(result: ScanResult, place: int) -> NDArray[np.int64]:
    """Numbers of the rows of each hour of each weekday, int64[5, 24]; -1 where there is none."""
    out = np.full((len(WEEKDAYS), HOURS), -1, np.int64)
    f = result.places[place]
    if WEEK_HOUR not in result.keys[place]:
        return out
    which = result.keys[place].index(WEEK_HOUR)
    at = np.flatnonzero(f.ingredient == which)
    cell = f.code[at] & ((1 << ROWS) - 1)
    out[cell // HOURS, cell % HOURS] = at
    return out


def week_of(result: ScanResult, place: int) -> Iterator[tuple[int, int, float]]:
    """Weekday (Monday 0), hour and t with sign, over the first horizon: while the hour lasts."""
    f = result.places[place]
    for (day, hour), row in np.ndenumerate(week_rows(result, place)):
        if row >= 0 and np.isfinite(f.t[row, 0]):
            yield int(day), int(hour), float(f.t[row, 0]) * int(f.side[row, 0])
