"""How alike the markets move, whoever trades them: daily changes of their own prices."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from wolbrin.core.portfolio.overlap import Overlap
from wolbrin.core.portfolio.sampling import Sampling, Series
from wolbrin.core.store.project import Project
from wolbrin.core.work.footing import Footing


def price_overlap(project: Project, places: Sequence[tuple[str, int]], how: Sampling) -> tuple[list[str], Overlap]:
    """Codes of the markets, and the overlap of their changes from one training date's close to the next, in ticks. places:
    markets with an interval at which their bars are at hand; the first of each market is taken."""
    footing = Footing.of(project)
    first: dict[str, int] = {}
    for market, interval in places:
        first.setdefault(market, interval)
    series = []
    for market, interval in first.items():
        history = footing.prepared(market, interval)
        bars = history.bars
        begin, last = bars.range_of(footing.brief(bars.terms).span)
        ends = bars.day_ends
        ends = ends[(ends >= begin) & (ends < last)]
        close = bars.c[ends].astype(np.float64)
        series.append(Series(bars.trading_date[ends][1:], np.diff(close)))
    plain = how.model_copy(update={"of": "profit"})
    return list(first), Overlap.of(series, plain)
