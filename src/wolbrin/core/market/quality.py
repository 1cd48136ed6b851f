"""The quality report of a source: what is wrong with it, where, and a score with its parts.

Everything is judged on the rows as they came, against the market's sessions, closed days and tick grid. One finding a
kind of fault; every finding lists its places, worst first, so that each can be looked at.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import UserError
from wolbrin.core.market.intervals import DAILY
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.schedule import Coverage, coverage
from wolbrin.core.market.sessions import session_table
from wolbrin.core.market.spikes import SPIKE_DEVIATIONS, find_spikes, true_range
from wolbrin.core.market.terms import Terms
from wolbrin.core.market.treatment import contradicting
from wolbrin.core.market.zones import shifts_between

MOST_PLACES = 5_000
STUCK_BARS = 6
ROLL_DEVIATIONS = 12.0
LONG_GAP_BARS = 12
Ints = NDArray[np.int64]
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Place:
    """One place of a fault: when (UTC ns), how many bars, what in words, and how bad beside its like."""

    time: int
    bars: int
    words: str
    weight: float


@dataclass(frozen=True)
class Finding:
    """All of one fault. count: bars concerned (days for missing days). cost: points taken from the score."""

    key: str
    title: str
    meaning: str
    count: int
    share: float
    cost: float
    places: tuple[Place, ...]


@dataclass(frozen=True)
class Report:
    """score: 0 to 100, 100 less the cost of every finding. findings: in a fixed order, also those without a fault.
    years, hours: axes of `complete`, float64[years, 24], share of scheduled bars that exist by exchange-local hour,
    NaN where none is scheduled."""

    rows: int
    score: float
    findings: tuple[Finding, ...]
    years: tuple[int, ...]
    complete: Floats
    first: int
    last: int

    def finding(self, key: str) -> Finding:
        return next(f for f in self.findings if f.key == key)


def stamp(ns: int) -> str:
    """A UTC instant in words."""
    return str(np.datetime64(ns, "ns").astype("datetime64[m]")).replace("T", " ")


def _runs(flags: NDArray[np.bool_]) -> tuple[Ints, Ints]:
    """First row and length of every run of True."""
    edges = np.diff(np.concatenate(([0], flags.astype(np.int8), [0])))
    first = np.flatnonzero(edges == 1)
    return first, np.flatnonzero(edges == -1) - first


def _places(raw: Raw, rows: Ints, words: Callable[[int], str], weight: Floats | None = None) -> tuple[Place, ...]:
    """Places for rows, heaviest first, at most `MOST_PLACES`."""
    weight = np.ones(len(rows)) if weight is None else weight
    best = np.argsort(-weight, kind="stable")[:MOST_PLACES]
    return tuple(Place(int(raw.time[rows[i]]), 1, words(int(rows[i])), float(weight[i])) for i in best)


def _run_places(raw: Raw, first: Ints, length: Ints, words: Callable[[int, int], str]) -> tuple[Place, ...]:
    best = np.argsort(-length, kind="stable")[:MOST_PLACES]
    return tuple(Place(int(raw.time[first[i]]), int(length[i]), words(int(first[i]), int(length[i])), float(length[i]))
                 for i in best)


# Key: title, meaning, points that a share of one percent of all bars costs, most points it can cost.
FAULTS: dict[str, tuple[str, str, float, float]] = {
    "missing": ("missing bars", "scheduled bars that are not there, whole days apart", 2.0, 25.0),
    "days": ("missing days", "scheduled trading dates without any bar", 4.0, 25.0),
    "gaps": ("long gaps", f"{LONG_GAP_BARS} or more scheduled bars in a row missing inside a session", 0.0, 0.0),
    "repeated": ("repeated stamps", "rows with the time of the row before", 10.0, 10.0),
    "outside": ("out of session", "bars that start outside every session; they are left out of tests", 1.0, 10.0),
    "flat": ("no range", "four equal prices; often a closed market or a feed that hung", 1.0, 15.0),
    "contradiction": ("contradicting prices", "high not the highest or low not the lowest price", 20.0, 15.0),
    "spikes": ("spikes", "far beyond the usual range of that time of day, and back within three bars", 100.0, 20.0),
    "stuck": ("stuck prices", f"the same close {STUCK_BARS} or more bars in a row", 1.0, 10.0),
    "volume": ("no volume", "bars without volume in a source that has volume", 0.5, 5.0),
    "rolls": ("roll-like jumps", "a jump between sessions that stays: perhaps a change of contract", 0.0, 0.0),
    "clock": ("clock changes", "weeks around a daylight-saving change in which bars sit an hour off the session", 20.0, 10.0),
    "grid": ("off the tick grid", "prices that are no whole number of ticks; they are moved to the nearest", 1.0, 10.0),
    "sign": ("zero or negative prices", "prices at or below zero", 5.0, 10.0),
}


def report(raw: Raw, terms: Terms, deviations: float = SPIKE_DEVIATIONS) -> Report:
    """Examine a source's rows (in order of time, finite prices) against the market's terms.

    Raises:
        UserError: there is no row to look at.
    """
    n = len(raw)
    if not n:
        raise UserError("there are no bars in this history", terms.code, "Choose another source.")
    have = coverage(raw, terms)
    found: dict[str, tuple[int, tuple[Place, ...]]] = {}
    found["missing"] = (have.missing, _slots(have))
    found["days"] = (len(have.empty_dates), _empty_days(have))
    long = have.gap_bars >= LONG_GAP_BARS
    found["gaps"] = (int(long.sum()), _slots(have, LONG_GAP_BARS))
    again = np.flatnonzero(np.append(False, raw.time[1:] == raw.time[:-1]))
    found["repeated"] = (len(again), _places(raw, again, lambda i: "the same prices again" if _same(raw, i)
                                             else "other prices under the same stamp"))
    outside = np.flatnonzero(~have.inside)
    found["outside"] = (len(outside), _run_places(raw, *_runs(~have.inside), lambda i, k: f"{k:,} bars in a row"))
    flat = (raw.high == raw.low) & (raw.open == raw.close) & (raw.open == raw.high)
    found["flat"] = (int(flat.sum()), _run_places(raw, *_runs(flat), lambda i, k: (
        f"{k:,} bars in a row at " if k > 1 else "one bar at ") + terms.format_price(float(raw.close[i]))))
    wrong = np.flatnonzero(contradicting(raw))
    found["contradiction"] = (len(wrong), _places(raw, wrong, lambda i: (
        f"open {raw.open[i]:g}, high {raw.high[i]:g}, low {raw.low[i]:g}, close {raw.close[i]:g}")))
    sane = raw.take(np.flatnonzero(~contradicting(raw) & np.append(True, raw.time[1:] != raw.time[:-1])))
    spikes = find_spikes(sane, terms, deviations)
    best = np.argsort(-spikes.deviations, kind="stable")[:MOST_PLACES]
    found["spikes"] = (len(spikes), tuple(Place(
        int(sane.time[spikes.rows[i]]), 1, f"{_signed_ticks(spikes.size[i], terms)} ticks and back, "
        f"{spikes.deviations[i]:.0f} deviations", float(spikes.deviations[i])) for i in best))
    same = np.append(False, raw.close[1:] == raw.close[:-1])
    first, length = _runs(same)
    stuck = length >= STUCK_BARS - 1
    found["stuck"] = (int((length[stuck] + 1).sum()), _run_places(
        raw, first[stuck] - 1, length[stuck] + 1, lambda i, k: f"{k:,} closes at {terms.format_price(float(raw.close[i]))}"))
    has_volume = bool((raw.volume > 0).any())
    without = raw.volume <= 0 if has_volume else np.zeros(n, bool)
    found["volume"] = (int(without.sum()), _run_places(raw, *_runs(without), lambda i, k: f"{k:,} bars in a row"))
    found["rolls"] = _rolls(sane, terms)
    found["clock"] = _clock(raw, terms, have)
    fraction = terms.tick_fraction
    off = np.zeros(n, bool)
    for prices in raw.prices:
        exact = prices * float(fraction.denominator) / float(fraction.numerator)
        off |= np.abs(exact - np.round(exact)) > 1e-6
    rows = np.flatnonzero(off)
    found["grid"] = (len(rows), _places(raw, rows, lambda i: (
        f"open {raw.open[i]:g}, high {raw.high[i]:g}, low {raw.low[i]:g}, close {raw.close[i]:g}")))
    sign = np.flatnonzero(np.minimum(raw.low, raw.close) <= 0)
    found["sign"] = (len(sign), _places(raw, sign, lambda i: f"low {raw.low[i]:g}"))

    findings = []
    for key, (title, meaning, rate, most) in FAULTS.items():
        count, places = found[key]
        base = max(1, have.dates) if key == "days" else max(1, have.expected) if key == "missing" else n
        share = count / base
        findings.append(Finding(key, title, meaning, count, share, min(most, rate * share * 100.0), places))
    score = max(0.0, 100.0 - sum(f.cost for f in findings))
    return Report(n, score, tuple(findings), have.years, have.complete, int(raw.time[0]), int(raw.time[-1]))


def _same(raw: Raw, i: int) -> bool:
    return all(float(p[i]) == float(p[i - 1]) for p in raw.prices)


def _signed_ticks(size: float, terms: Terms) -> str:
    ticks = round(abs(size) / terms.tick_size)
    return f"{'up' if size > 0 else 'down'} {ticks:,}"


def _slots(have: Coverage, at_least: int = 1) -> tuple[Place, ...]:
    keep = np.flatnonzero(have.gap_bars >= at_least)
    best = keep[np.argsort(-have.gap_bars[keep], kind="stable")][:MOST_PLACES]
    return tuple(Place(int(have.gap_time[i]), int(have.gap_bars[i]),
                       f"{have.gap_bars[i]:,} missing" + (" in a row" if have.gap_bars[i] > 1 else ""),
                       float(have.gap_bars[i])) for i in best)


def _empty_days(have: Coverage) -> tuple[Place, ...]:
    """Runs of trading dates without any bar, the longest first."""
    cut = np.flatnonzero(np.append(True, np.diff(have.empty_at) > 1)) if len(have.empty_at) else have.empty_at
    stop = np.append(cut[1:], len(have.empty_at))
    days = have.empty_dates.astype("datetime64[D]")
    places = [Place(int(have.empty_open[a]), int(b - a),
                    f"{days[a]} has no bar" if b - a == 1 else f"{b - a} trading dates in a row, until {days[b - 1]}",
                    float(b - a)) for a, b in zip(cut, stop)]
    return tuple(sorted(places, key=lambda p: -p.weight)[:MOST_PLACES])


def _rolls(raw: Raw, terms: Terms) -> tuple[int, tuple[Place, ...]]:
    """Jumps at the begin of a session far beyond the usual ones, for futures."""
    if terms.kind != "future" or len(raw) < 3 or raw.interval >= DAILY:
        return 0, ()
    table = session_table(terms, int(raw.time[0]), int(raw.time[-1]))
    at = np.searchsorted(table.open, raw.time, "right") - 1
    begins = np.flatnonzero(np.append(False, at[1:] != at[:-1]))
    if len(begins) < 30:
        return 0, ()
    jump = raw.open[begins] - raw.close[begins - 1]
    size = np.abs(jump)
    usual = float(np.median(size))
    spread = max(1.4826 * float(np.median(np.abs(size - usual))), terms.tick_size)
    # It stays: half an hour of bars later at least half of it is still there.
    later = np.minimum(begins + 6, len(raw) - 1)
    stays = np.sign(jump) * (raw.close[later] - raw.close[begins - 1]) > 0.5 * size
    hit = np.flatnonzero((size > usual + ROLL_DEVIATIONS * spread) & stays & (size > 3 * np.median(true_range(raw))))
    return len(hit), tuple(Place(int(raw.time[begins[i]]), 1, f"{_signed_ticks(float(jump[i]), terms)} ticks "
                                 "from the close before", float(size[i]))
                           for i in hit[np.argsort(-size[hit], kind="stable")][:MOST_PLACES])


def _clock(raw: Raw, terms: Terms, have: Coverage) -> tuple[int, tuple[Place, ...]]:
    """Weeks after a clock change in which the session's first hour is empty or bars sit in the hour beside it."""
    if not terms.scheduled or raw.interval >= DAILY:
        return 0, ()
    hour = 3600 * 10**9
    places, count = [], 0
    for change in shifts_between(terms.time_zone, int(raw.time[0]), int(raw.time[-1])):
        lo, hi = np.searchsorted(raw.time, (change, change + 7 * 24 * hour))
        lo2 = np.searchsorted(raw.time, change - 7 * 24 * hour)
        stray = int(np.count_nonzero(~have.inside[lo:hi]))
        before = int(np.count_nonzero(~have.inside[lo2:lo]))
        if stray > max(3, 2 * before) and stray > 0.02 * max(1, hi - lo):
            count += stray
            at = int(lo + np.argmax(~have.inside[lo:hi]))
            places.append(Place(int(raw.time[at]), stray, f"{stray:,} bars out of session in the week after the change",
                                float(stray)))
    return count, tuple(sorted(places, key=lambda p: -p.weight))
