"""What a search will cost, told before it begins: time, and charge for whatever is judged on its market later."""

from __future__ import annotations

import os

from wolbrin.core.measures.wording import number
from wolbrin.core.search.breeding import CHILDREN, ISLANDS
from wolbrin.core.store.project import Project
from wolbrin.core.work.discover_beside import QUIET
from wolbrin.core.work.discover_request import DiscoverRequest
from wolbrin.core.work.footing import Footing

# Seconds of one processor, measured on generated markets of 48,000 bars (two processors, 2026); they vary by half.
A_ROW = 2.5e-8  # of a row and a bar, looked at first
A_TRY, A_TRY_BAR = 1.2e-3, 2.5e-8  # of a candidate, and of each of its bars, where little passes the floors
MUCH = 2.0  # times as long where much does
BUSY = 0.85  # of the processors' time that threads can use
A_PLACE = 1.7  # tries that a row which was looked at counts for, about


def seconds_of(request: DiscoverRequest, bars: int) -> tuple[float, float]:
    """About how long an informed search takes here, where nothing is found and where much is."""
    each = request.rows * bars * A_ROW
    fewest = min(request.count, QUIET * ISLANDS * CHILDREN)
    a_try = A_TRY + bars * A_TRY_BAR
    least = request.streams * (each + fewest * a_try)
    most = request.streams * (each + request.count * a_try * MUCH)
    threads = max(1.0, BUSY * (os.cpu_count() or 1))
    return least / threads, most / threads


def _time(seconds: float) -> str:
    return f"{max(5, 5 * round(seconds / 5))} s" if seconds < 90 else f"{round(seconds / 60)} min"


def cost_words(project: Project, request: DiscoverRequest) -> str:
    """Such as "About 30 to 75 s here; for what is judged on NPW later it counts as about 8,200 tries"; "" where nothing is
    known of it."""
    if request.method != "informed":
        return ""
    footing = Footing.of(project)
    bars = 0
    for market, interval in request.places:
        history = footing.prepared(market, interval)
        first, last = history.bars.range_of(footing.brief(history.bars.terms).span)
        bars += last - first
    low, high = seconds_of(request, bars // max(1, len(request.searched)))
    about = _time(low) if _time(low) == _time(high) else f"{_time(low)} to {_time(high)}"
    markets = ", ".join(dict.fromkeys(m for m, _ in request.places))
    tries = request.count + round(A_PLACE * request.rows, -2)
    return (f"About {about} here; for what is judged on {markets} later it counts as up to {number(tries)} tries, of which "
            f"other searches like it are charged {number(request.count)}")
