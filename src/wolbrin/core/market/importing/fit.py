"""Which time zone and which end of the bar a file's stamps most likely mean, judged by the market's sessions."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from wolbrin.core.market.importing.layout import Layout
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.sessions import NS_A_MINUTE, session_table
from wolbrin.core.market.terms import Terms
from wolbrin.core.market.zones import BROKER, EASTERN_EUROPE, NEW_YORK, to_local, to_utc


@dataclass(frozen=True)
class Fit:
    """zone, stamp: the reading under which most sample rows lie in sessions; inside: their share, inside_before: the share
    inside under the layout as it was. sure: no other clock reads the rows as other instants that fit as well."""

    zone: str
    stamp: str
    inside: float
    inside_before: float
    sure: bool = True


def _inside(time: np.ndarray, terms: Terms) -> tuple[float, int]:
    """Share of stamps inside sessions, and how many sit exactly on a session's open."""
    table = session_table(terms, int(time.min()), int(time.max()))
    at, inside = table.place(time)
    return float(inside.mean()), int(np.count_nonzero(time[inside] == table.open[at[inside]]))


def fit_to_sessions(sample: Raw, layout: Layout, terms: Terms, told_zone: bool) -> Fit:
    """Try readings of a sample's stamps (read under `layout`) against the schedule.

    Args:
        told_zone: the file itself says its zone, so that only the end of the bar is in question.
    """
    now, _ = _inside(sample.time, terms)
    if not terms.scheduled or sample.interval >= 1440:
        return Fit(layout.zone, layout.stamp, now, now)
    step = max(1, sample.interval) * NS_A_MINUTE
    shift = step if layout.stamp == "close" else 0
    written = to_local(sample.time + shift, layout.zone)
    found: list[tuple[tuple[float, int], str, str, np.ndarray]] = []
    zones = [layout.zone] if told_zone else list(dict.fromkeys((layout.zone, terms.time_zone, *ZONES)))
    for zone in zones:
        utc = to_utc(written, zone) if not told_zone else sample.time + shift
        for stamp in (layout.stamp, "close" if layout.stamp == "open" else "open"):
            if sample.interval == 0 and stamp == "close":
                continue
            starts = utc - (step if stamp == "close" else 0)
            share, opens = _inside(starts, terms)
            found.append(((round(share, 3), opens), zone, stamp, starts))
    best = max(found, key=lambda f: f[0])
    rivals = [f for f in found if f[0] == best[0] and not np.array_equal(f[3], best[3])]
    return Fit(best[1], best[2], best[0][0], now, not rivals)


# Clocks that files are written in, the usual ones first.
ZONES = ("UTC", "Europe/London", "Europe/Oslo", EASTERN_EUROPE, NEW_YORK, "America/Chicago", BROKER, "UTC+2", "UTC+3",
         "UTC-5")
MOST_COMPARED = 20_000
AGREE = 0.6


def fit_to_bars(sample: Raw, old: Raw, zones: tuple[str, ...], told_zone: bool) -> Fit | None:
    """The reading of a sample's stamps (read as opens in UTC) under which its bars are those that are there already; None
    where they do not overlap or agree under none.

    Args:
        old: bars in UTC, in order of time, of the same interval. zones: that are likely.
    """
    rows = np.flatnonzero((sample.time >= old.time[0] - 15 * 60 * NS_A_MINUTE)
                          & (sample.time <= old.time[-1] + 15 * 60 * NS_A_MINUTE))
    rows = rows[:: max(1, len(rows) // MOST_COMPARED)]
    if len(rows) < 10:
        return None
    part = sample.take(rows)
    best: Fit | None = None
    for zone in ["UTC"] if told_zone else list(dict.fromkeys((*zones, *ZONES))):
        for stamp in ("open", "close"):
            utc = to_utc(part.time, zone) - (sample.interval * NS_A_MINUTE if stamp == "close" else 0)
            at = np.minimum(np.searchsorted(old.time, utc), len(old) - 1)
            known = old.time[at] == utc
            same = known & (np.abs(old.close[at] - part.close) < 1e-9 + 1e-7 * np.abs(part.close)) & (
                np.abs(old.high[at] - part.high) < 1e-9 + 1e-7 * np.abs(part.high))
            share = float(same.sum() / known.sum()) if known.sum() >= 10 else 0.0
            if share >= AGREE and (best is None or share > best.inside):
                best = Fit(zone, stamp, share, 0.0)
    return best
