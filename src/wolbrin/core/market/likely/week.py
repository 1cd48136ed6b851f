"""The weekly schedule, found from the bars themselves: in which stretches of the week there are bars, and in which zone
these stretches stay put across changes of daylight-saving time."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.market.raw import Raw
from wolbrin.core.market.sessions import NS_A_DAY, NS_A_MINUTE
from wolbrin.core.market.terms import MINUTES_A_DAY, WEEKDAYS, SessionRule
from wolbrin.core.market.zones import shifts_between, to_local

WEEK = 7 * MINUTES_A_DAY
MONDAY = 4 * NS_A_DAY  # 1970-01-05
OPEN_SHARE = 0.12  # of what a usual slot of the week has
FLAT_RUN = 240  # minutes of one price that are no trading
LONG_HOLE = 180
FEW_WEEKS = 12
MOST_MISSED = 4.0  # bars that may all be missing by chance
# One zone for every rule of daylight saving and offset that markets are known to keep; common practice, no source.
ZONES = ("UTC", "Europe/Oslo", "Europe/London", "Europe/Helsinki", "America/New_York", "America/Chicago",
         "America/Los_Angeles", "America/Sao_Paulo", "Australia/Sydney", "Pacific/Auckland", "Asia/Jerusalem",
         "America/Santiago")
# Opens and closes that markets of these zones are known for; they only decide between readings that fit alike. Common
# practice, no source.
USUAL = {"America/New_York": ("09:30", "16:00", "18:00", "17:00", "08:00", "04:00", "20:00"),
         "America/Chicago": ("17:00", "16:00", "08:30", "15:00", "15:15", "13:20"),
         "Europe/London": ("08:00", "16:30", "01:00", "21:00"),
         "Europe/Oslo": ("09:00", "17:30", "22:00", "17:00", "08:00", "16:20", "18:00"),
         "Europe/Helsinki": ("10:00", "18:30"), "America/Los_Angeles": (), "America/Sao_Paulo": ("10:00", "17:00", "18:00"),
         "Australia/Sydney": ("10:00", "16:00"), "Pacific/Auckland": ("10:00",), "Asia/Jerusalem": (), "America/Santiago": ()}


@dataclass(frozen=True)
class Counts:
    """Bars of a history by slot of the week.

    step: minutes of a slot. edges: int64[s + 1] UTC ns, stretches in which no zone changes. hits, flat: float64[s, slots] by
    UTC week, flat: bars of one price that nothing moved. weeks: number of weeks that have bars.
    """

    step: int
    edges: NDArray[np.int64]
    hits: NDArray[np.float64]
    flat: NDArray[np.float64]
    weeks: float
    padded: bool


@dataclass(frozen=True)
class Week:
    """zone: of the schedule. rules: the schedule. share: float64[7, slots a day], how many weeks have a bar there, by local
    weekday from Monday. score: how blurred it is, in nats a week; less is better. padded: whether there are bars of closed
    hours."""

    zone: str
    rules: tuple[SessionRule, ...]
    share: NDArray[np.float64]
    score: float
    weeks: float
    padded: bool
    step: int


def flat_rows(raw: Raw) -> NDArray[np.bool_]:
    """bool[n]: bars whose prices all are the close before, without volume where the source has volume."""
    before = np.append(raw.open[:1], raw.close[:-1])
    flat = (raw.high == raw.low) & (raw.close == before)
    return flat & (raw.volume == 0) if (raw.volume > 0).any() else flat


def _long_flat(flat: NDArray[np.bool_], minutes: int) -> NDArray[np.bool_]:
    """Which flat bars stand in runs of hours."""
    edge = np.diff(np.concatenate(([0], flat.astype(np.int8), [0])))
    begin, stop = np.flatnonzero(edge == 1), np.flatnonzero(edge == -1)
    long = (stop - begin) * minutes >= FLAT_RUN
    out = np.zeros(len(flat) + 1, np.int64)
    np.add.at(out, begin[long], 1)
    np.add.at(out, stop[long], -1)
    return np.cumsum(out)[:-1] > 0


def _slot_minutes(raw: Raw) -> int:
    """Minutes of a slot: a bar's where bars follow each other, more where they are thin, at most half an hour, as some zones
    are half an hour apart."""
    if raw.interval >= 60:
        return 30
    own = raw.interval if 60 % raw.interval == 0 else 1
    steps = np.diff(raw.time) // NS_A_MINUTE
    steps = steps[(steps > 0) & (steps < 240)]
    usual = float(np.mean(steps)) if len(steps) else 1.0
    if usual < 2.5 * raw.interval:
        return own
    return next((s for s in (5, 10, 15, 30) if s % own == 0 and s >= 1.5 * usual), 30)


def count_bars(raw: Raw, zones: tuple[str, ...] = ZONES) -> Counts:
    """Count bars by slot of the UTC week, in stretches within which none of the zones changes."""
    step = _slot_minutes(raw)
    first, last = int(raw.time[0]), int(raw.time[-1])
    shifts = sorted({t for z in zones for t in shifts_between(z, first, last)})
    edges = np.array([first, *shifts, last + 1], np.int64)
    slots = WEEK // step
    slot = (raw.time - MONDAY) // (step * NS_A_MINUTE) % slots
    part = np.searchsorted(edges, raw.time, "right") - 1
    part = np.minimum(part, len(edges) - 2)
    cell = part * slots + slot
    flat = flat_rows(raw)
    long = _long_flat(flat, raw.interval)
    padded = bool(long.mean() > 0.02)
    gone = long if padded else np.zeros(len(raw), bool)
    size = (len(edges) - 1) * slots
    hits = np.bincount(cell[~gone], minlength=size).reshape(-1, slots).astype(np.float64)
    still = np.bincount(cell[flat & ~gone], minlength=size).reshape(-1, slots).astype(np.float64)
    first_hits, first_still = hits, still
    for j in range(1, max(1, raw.interval // step)):  # a bar fills all slots it lasts
        hits, still = (x + np.roll(y, j, axis=1) for x, y in ((hits, first_hits), (still, first_still)))
    weeks = len(np.unique((raw.time - MONDAY) // (WEEK * NS_A_MINUTE)))
    return Counts(step, edges, hits, still, float(weeks), padded)


def local_share(counts: Counts, zone: str, file_zone: str = "UTC") -> NDArray[np.float64]:
    """float64[slots]: how many weeks have a bar in each slot of the zone's week, bars being given in `file_zone`'s clock read
    as UTC."""
    total = np.zeros(counts.hits.shape[1])
    middle = (counts.edges[:-1] + counts.edges[1:]) // 2
    shift = to_local(middle, zone) - to_local(middle, file_zone)
    used = counts.hits - counts.flat if _padded_slots(counts) else counts.hits
    for row, s in zip(used, shift // (counts.step * NS_A_MINUTE)):
        total += np.roll(row, int(s))
    return np.minimum(1.0, total / counts.weeks)


def _padded_slots(counts: Counts) -> bool:
    """Whether there are slots that have bars in most weeks and never a trade."""
    hits, flat = counts.hits.sum(axis=0), counts.flat.sum(axis=0)
    return bool(np.mean((hits > 0.5 * counts.weeks) & (flat >= 0.97 * hits)) > 0.01 and flat.sum() < 0.7 * hits.sum())


def blur(share: NDArray[np.float64]) -> float:
    """Entropy of the slots in nats: 0 where every slot has a bar in every week or in none."""
    p = np.clip(share, 1e-9, 1 - 1e-9)
    return float(-(p * np.log(p) + (1 - p) * np.log(1 - p)).sum())


def _open_slots(share: NDArray[np.float64], weeks: float) -> NDArray[np.bool_]:
    some = share[share > 0.03]
    if not len(some):
        return np.zeros(len(share), bool)
    usual = float(np.quantile(some, 0.75))
    open_ = share >= max(OPEN_SHARE * usual, min(2.5 / weeks, 0.5 * usual))
    # In a few weeks a thin market leaves slots empty by chance: what other weekdays have there, this one has too, unless it
    # would then have had bars there that cannot all be missing by chance.
    day = len(share) // 7
    table, busy = open_.reshape(7, day), share.reshape(7, day)
    full = table.sum(axis=1) >= 0.6 * table.sum(axis=1).max()
    usually = busy[full].mean(axis=0)
    pooled = usually >= OPEN_SHARE * usual
    hole = max(1, LONG_HOLE * day // MINUTES_A_DAY)

    def by_chance(k: int, a: int, b: int) -> bool:
        """Whether weekday k may have had no bar from slot a to b although the market was open."""
        return bool(busy[k, a:b].any() or weeks * (usually[a:b] * pooled[a:b]).sum() < MOST_MISSED)

    for k in map(int, np.flatnonzero(full)):
        row = table[k]
        on = [int(x) for x in np.flatnonzero(row)]
        for a, b in pairwise(on):
            if 1 < b - a <= hole and by_chance(k, a + 1, b):
                row[a + 1:b] |= pooled[a + 1:b]
        if weeks < FEW_WEEKS and on:
            edge = max(1, 60 * day // MINUTES_A_DAY)
            for a, b in ((max(0, on[0] - edge), on[0]), (on[-1] + 1, min(day, on[-1] + 1 + edge))):
                if by_chance(k, a, b):
                    row[a:b] |= pooled[a:b]
    return table.ravel()


def _stretches(open_: NDArray[np.bool_], step: int) -> list[tuple[int, int]]:
    """Open stretches of the week as (begin, end) minutes, end above WEEK where one crosses it."""
    if open_.all():
        return [(d * MINUTES_A_DAY, (d + 1) * MINUTES_A_DAY) for d in range(7)]
    edge = np.flatnonzero(open_ & ~np.roll(open_, 1))
    out = []
    for a in edge:
        length = int(np.argmin(np.roll(open_, -int(a))))
        out.append((int(a) * step, (int(a) + length) * step))
    return out


def rules_of(stretches: list[tuple[int, int]]) -> tuple[SessionRule, ...]:
    """Weekly sessions of open stretches; one of more than a day is cut at the time of day it begins at."""
    found: dict[tuple[str, str], list[int]] = {}
    for begin, end in stretches:
        while begin < end:
            stop = min(end, begin + MINUTES_A_DAY)
            day, at = begin // MINUTES_A_DAY % 7, begin % MINUTES_A_DAY
            close = (at + stop - begin) % MINUTES_A_DAY
            text = "24:00" if close == 0 and at + stop - begin == MINUTES_A_DAY else f"{close // 60:02d}:{close % 60:02d}"
            found.setdefault((f"{at // 60:02d}:{at % 60:02d}", text), []).append(day)
            begin = stop
    rules = [SessionRule(days=tuple(WEEKDAYS[d] for d in _in_a_row(set(days))), open=o, close=c)
             for (o, c), days in found.items()]
    return tuple(sorted(rules, key=lambda r: (WEEKDAYS.index(r.days[0]), r.open_minute)))


def _in_a_row(days: set[int]) -> list[int]:
    """Weekdays in order, beginning after a day that is not among them, so that Sunday comes before Monday."""
    begin = next((d for d in [0, 6, 5, 4, 3, 2, 1] if d in days and (d - 1) % 7 not in days), 0)
    return [d for d in ((begin + i) % 7 for i in range(7)) if d in days]


def week_in(counts: Counts, zone: str, file_zone: str = "UTC") -> Week:
    """The schedule as it shows in a zone."""
    share = local_share(counts, zone, file_zone)
    rules = rules_of(_stretches(_open_slots(share, counts.weeks), counts.step))
    return Week(zone, rules, share.reshape(7, -1), blur(share), counts.weeks, counts.padded or _padded_slots(counts),
                counts.step)


def usual_edges(week: Week) -> float:
    """How many opens and closes of a schedule are usual ones of its zone, and round ones."""
    known = USUAL.get(week.zone, ())
    return sum((3.0 if e in known else 0.0) + roundness(e) / 4 for r in week.rules for e in (r.open, r.close)) / max(
        1, len(week.rules))


def roundness(clock: str) -> float:
    """How round a time of day is: sessions begin and end at round times. Common practice, no source."""
    minute = int(clock[3:])
    if clock in ("00:00", "24:00"):
        return 4.0
    return 3.0 if minute == 0 else 2.0 if minute == 30 else 1.0 if minute % 15 == 0 or minute % 10 == 0 else (
        0.5 if minute % 5 == 0 else 0.0)
