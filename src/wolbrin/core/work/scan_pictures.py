"""What a scan looks like: the strongest row of each family by how long it is held, and the clock of a week, how surely price
moves in each hour of each weekday. All cells are rows of the scan, and count as such."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.scan.families import HOURS, WEEK
from wolbrin.core.scan.scanner import GROUPS
from wolbrin.core.search.families import WEEKDAYS
from wolbrin.core.search.ingredients import ROWS
from wolbrin.core.work.scan_results import ScanResult

Floats = NDArray[np.float64]
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


@dataclass(frozen=True)
class Map:
    """families: keys, those with the strongest rows first. t: float64[f, horizons], the strongest of each with sign, NaN for
    none; hurdles: the same, what luck reaches, NaN while that is not known."""

    families: tuple[str, ...]
    t: Floats
    hurdles: Floats


def map_of(result: ScanResult) -> Map:
    """Families by how long they are held, over all places."""
    levels = len(result.request.levels)
    reached = result.hurdles() if result.answered else (float("nan"),) * GROUPS
    best: dict[str, Floats] = {}
    group: dict[str, int] = {}
    for keys, f in zip(result.keys, result.places):
        family = [k.partition(":")[0] for k in keys]
        names = {k: i for i, k in enumerate(dict.fromkeys(family))}
        of = np.array([names[k] for k in family], np.int64)[f.ingredient[:f.looked]]
        signed = np.nan_to_num(f.t[:f.looked]) * f.side[:f.looked]
        for key, at in names.items():
            mine = np.flatnonzero(of == at)
            if len(mine):
                top = signed[mine][np.abs(signed[mine]).argmax(axis=0), np.arange(levels)].astype(np.float64)
                before = best.get(key, np.zeros(levels))
                best[key] = np.where(np.abs(top) > np.abs(before), top, before)
                group[key] = int(f.group[mine[0]])
    families = sorted(best, key=lambda k: -float(np.abs(best[k]).max()))
    t = np.array([best[k] for k in families]).reshape(len(families), levels)
    return Map(tuple(families), np.where(t == 0.0, np.nan, t),
               np.array([[reached[group[k]]] * levels for k in families]).reshape(t.shape))


@dataclass(frozen=True)
class Week:
    """hours: int64[h], those with a t. t: float64[5, h] with sign; rows: int64[5, h], numbers of the rows, -1 where there
    is none. hurdle: what luck reaches, NaN while that is not known."""

    hours: NDArray[np.int64]
    t: Floats
    rows: NDArray[np.int64]
    hurdle: float


def clock_of(result: ScanResult, place: int) -> Week:
    """The clock of a week on one place."""
    t = np.full((len(WEEKDAYS), HOURS), np.nan)
    for day, hour, value in week_of(result, place):
        t[day, hour] = value
    hours = np.flatnonzero(np.isfinite(t).any(axis=0))
    hurdle = result.hurdles()[0] if result.answered else float("nan")
    return Week(hours, t[:, hours], week_rows(result, place)[:, hours], hurdle)
