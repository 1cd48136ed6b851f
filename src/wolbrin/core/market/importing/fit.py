"""Which time zone and which end of the bar a file's stamps most likely mean, judged by the market's sessions."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from wolbrin.core.market.importing.layout import Layout, make_layout
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.sessions import NS_A_MINUTE, session_table
from wolbrin.core.market.terms import Terms
from wolbrin.core.market.zones import to_local, to_utc


@dataclass(frozen=True)
class Fit:
    """zone, stamp: the readings under which most sample rows lie in sessions; inside: their share, outside_else: the
    share inside under the layout as it was."""

    zone: str
    stamp: str
    inside: float
    inside_before: float


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
    best: tuple[tuple[float, int], str, str] | None = None
    zones = [layout.zone] if told_zone else list(dict.fromkeys((layout.zone, terms.time_zone, "UTC")))
    for zone in zones:
        utc = to_utc(written, zone) if not told_zone else sample.time + shift
        for stamp in (layout.stamp, "close" if layout.stamp == "open" else "open"):
            if sample.interval == 0 and stamp == "close":
                continue
            share, opens = _inside(utc - (step if stamp == "close" else 0), terms)
            rank = (round(share, 3), opens)
            if best is None or rank > best[0]:
                best = rank, zone, stamp
    assert best is not None
    return Fit(best[1], best[2], best[0][0], now)


def with_fit(layout: Layout, fit: Fit) -> Layout:
    """A layout read in the zone and at the end of the bar that fit."""
    return make_layout(layout.model_dump() | {"zone": fit.zone, "stamp": fit.stamp})
