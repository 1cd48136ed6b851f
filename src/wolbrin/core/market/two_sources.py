"""Two sources of one market over their common span: what each has, how far their prices are apart."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Bars
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.spikes import SPIKE_DEVIATIONS, find_spikes

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]
MOST_LISTED = 5_000


@dataclass(frozen=True)
class Apart:
    """A common bar whose closes differ. ticks: second less first."""

    time: int
    first: float
    second: float
    ticks: int


@dataclass(frozen=True)
class Compared:
    """begin, end: UTC ns of the common span. both, only_first, only_second: bars of the span. ticks: int64[both], close
    of the second less that of the first. apart: common bars by size of the difference, the largest first (at most
    `MOST_LISTED`). only_first_times, only_second_times: UTC ns, int64. spikes_first, spikes_second: UTC ns of spikes
    that the other source does not have."""

    begin: int
    end: int
    both: int
    only_first: int
    only_second: int
    ticks: Ints
    times: Ints
    apart: tuple[Apart, ...]
    only_first_times: Ints
    only_second_times: Ints
    spikes_first: Ints
    spikes_second: Ints

    @property
    def alike(self) -> float:
        """Share of common bars with the same close."""
        return float(np.mean(self.ticks == 0)) if len(self.ticks) else float("nan")

    def spread(self, share: float) -> float:
        """The absolute difference in ticks that `share` of the common bars do not exceed."""
        return float(np.quantile(np.abs(self.ticks), share)) if len(self.ticks) else float("nan")


def compare_sources(first: Bars, second: Bars) -> Compared:
    """Compare two sources' bars of one market at one interval.

    Raises:
        UserError: different intervals, or no common span.
    """
    if first.interval != second.interval:
        raise UserError("the two sources have different bar intervals", first.terms.code,
                        "Compare them at an interval both have.")
    begin, end = max(int(first.time[0]), int(second.time[0])), min(int(first.time[-1]), int(second.time[-1]))
    if begin > end:
        raise UserError("the two sources have no common span", first.terms.code, "Choose other sources.")

    def part(bars: Bars) -> Ints:
        return np.flatnonzero((bars.time >= begin) & (bars.time <= end))

    a, b = part(first), part(second)
    common, i, j = np.intersect1d(first.time[a], second.time[b], assume_unique=True, return_indices=True)
    ticks = second.c[b[j]].astype(np.int64) - first.c[a[i]]
    order = np.argsort(-np.abs(ticks), kind="stable")[:MOST_LISTED]
    order = order[ticks[order] != 0]
    one, two = first.close[a[i]], second.close[b[j]]
    apart = tuple(Apart(int(common[k]), float(one[k]), float(two[k]), int(ticks[k])) for k in order)
    lack_second = np.setdiff1d(first.time[a], common, assume_unique=True)
    lack_first = np.setdiff1d(second.time[b], common, assume_unique=True)
    spikes = [bars.time[find_spikes(Raw.of(bars), bars.terms, SPIKE_DEVIATIONS).rows] for bars in (first, second)]
    spikes = [s[(s >= begin) & (s <= end)] for s in spikes]
    return Compared(begin, end, len(common), len(lack_second), len(lack_first), ticks, common, apart, lack_second,
                    lack_first, np.setdiff1d(spikes[0], spikes[1]), np.setdiff1d(spikes[1], spikes[0]))
