"""Spikes: a bar far beyond what is usual at its time of day, with the price back soon after.

The usual range of a bar is learned from the history itself: the median true range at that local time of day, times how
lively the market was around then. What is left is judged in robust deviations (1.4826 x median absolute deviation;
Rousseeuw and Croux 1993), so that the spikes themselves do not raise the bar. A move that stays is news, not a spike.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.sessions import NS_A_DAY, NS_A_MINUTE
from wolbrin.core.market.terms import Terms
from wolbrin.core.market.zones import to_local

SPIKE_DEVIATIONS = 10.0
BACK_WITHIN = 3  # bars after which the price must have come back
BACK_SHARE = 0.35  # share of the excursion that may remain
SLOT_MINUTES = 30
NEIGHBORS = 48  # bars a block of the local liveliness holds
TO_SIGMA = 1.4826
Floats = NDArray[np.float64]
Rows = NDArray[np.int64]


@dataclass(frozen=True)
class Usual:
    """What is usual at each time of day, float64[slots]: median true range, and its median deviation in shares of itself."""

    size: Floats
    spread: Floats


@dataclass(frozen=True)
class Spikes:
    """rows: int64[k], rising. deviations: float64[k] robust deviations. base: float64[k] price before. size: float64[k]
    how far the bar went beyond it, signed. usual: float64[k] usual true range there."""

    rows: Rows
    deviations: Floats
    base: Floats
    size: Floats
    usual: Floats

    def __len__(self) -> int:
        return len(self.rows)


def true_range(raw: Raw) -> Floats:
    """float64[n]: range of each bar, stretched to the close before it."""
    before = np.append(raw.close[:1], raw.close[:-1])
    return np.maximum(raw.high, before) - np.minimum(raw.low, before)


def _medians(values: Floats, group: Rows, count: int) -> Floats:
    order = np.lexsort((values, group))
    ordered = values[order]
    edges = np.searchsorted(group[order], np.arange(count + 1))
    size = np.diff(edges)
    low = ordered[np.minimum(edges[:-1] + np.maximum(size - 1, 0) // 2, len(values) - 1)]
    high = ordered[np.minimum(edges[:-1] + size // 2, len(values) - 1)]
    return np.where(size > 0, (low + high) / 2, np.nan)


def _slots(raw: Raw, terms: Terms) -> tuple[Rows, int]:
    slot = to_local(raw.time, terms.time_zone) % NS_A_DAY // (SLOT_MINUTES * NS_A_MINUTE)
    return slot, int(NS_A_DAY // (SLOT_MINUTES * NS_A_MINUTE))


def _sizes(raw: Raw) -> Floats:
    """float64[n]: true ranges; the first bar after a pause carries the gap, so only its own range counts there."""
    gap = np.append(True, np.diff(raw.time) > 4 * np.median(np.diff(raw.time))) if len(raw) > 1 else np.ones(len(raw), bool)
    return np.where(gap, raw.high - raw.low, true_range(raw))


def _lively(size: Floats, by_slot: Floats, tick: float) -> Floats:
    """float64[n]: the usual size at each bar's time of day times the liveliness around the bar, one tick at least."""
    n = len(size)
    block = np.arange(n) // NEIGHBORS
    level = _medians(size / by_slot, block, int(block[-1]) + 1 if n else 0)
    if len(level) > 2:
        level = np.median(np.stack([np.append(level[:1], level[:-1]), level, np.append(level[1:], level[-1:])]), axis=0)
    return np.maximum(by_slot * np.maximum(level, 0.2)[block], tick) if n else size


def learn_usual(raw: Raw, terms: Terms) -> Usual:
    """What is usual in these rows, for judging them or later ones."""
    slot, slots = _slots(raw, terms)
    size = _sizes(raw)
    by_slot = np.maximum(np.nan_to_num(_medians(size, slot, slots), nan=terms.tick_size), terms.tick_size)
    left = size / _lively(size, by_slot[slot], terms.tick_size)
    return Usual(by_slot, _medians(np.abs(left - 1.0), slot, slots))


def usual_range(raw: Raw, terms: Terms, learned: Usual | None = None) -> tuple[Floats, Floats]:
    """float64[n] each: usual true range of every bar, and its robust deviation, at that time of day and liveliness.

    learned: what is usual in other rows, such as the training ones; of these rows themselves when it is None.
    """
    known = learn_usual(raw, terms) if learned is None else learned
    slot, _ = _slots(raw, terms)
    usual = _lively(_sizes(raw), known.size[slot], terms.tick_size)
    return usual, np.maximum(np.nan_to_num(known.spread, nan=0.0)[slot] * TO_SIGMA * usual, terms.tick_size)


@njit(cache=True)
def _reverting(o: Floats, h: Floats, lo: Floats, c: Floats, limit: Floats, within: int,
               share: float, gap: NDArray[np.bool_]) -> tuple[NDArray[np.int8], Floats]:
    """int8[n], 1 up or -1 down where a bar belongs to a spike; float64[n] the price before the spike."""
    n = len(o)
    out = np.zeros(n, np.int8)
    base = np.zeros(n)
    i = 0
    while i < n:
        ref = o[i] if i == 0 or gap[i] else c[i - 1]
        up, down = h[i] - ref, ref - lo[i]
        reach = max(up, down)
        if reach <= limit[i]:
            i += 1
            continue
        side = 1 if up >= down else -1
        end = -1
        for j in range(i, min(i + within + 1, n)):
            back = side * (c[j] - ref)
            if back <= share * reach and -back <= share * reach:
                end = j
                break
        if end < 0:
            i += 1
            continue
        for j in range(i, end + 1):
            beyond = h[j] - ref if side > 0 else ref - lo[j]
            if beyond > share * reach:
                out[j] = side
                base[j] = ref
        i = end + 1
    return out, base


def find_spikes(raw: Raw, terms: Terms, deviations: float = SPIKE_DEVIATIONS, learned: Usual | None = None) -> Spikes:
    """Bars that left the price by more than `deviations` robust deviations and came back within `BACK_WITHIN` bars.

    Args:
        raw: rows in order of time, finite prices. deviations: how far is too far. learned: see `usual_range`.
    """
    nothing = np.zeros(0)
    if len(raw) < 3:
        return Spikes(np.zeros(0, np.int64), nothing, nothing, nothing, nothing)
    usual, deviation = usual_range(raw, terms, learned)
    step = np.diff(raw.time)
    gap = np.append(True, step > 4 * np.median(step))
    side, base = _reverting(*raw.prices, usual + deviations * deviation, BACK_WITHIN, BACK_SHARE, gap)
    rows = np.flatnonzero(side)
    size = np.where(side[rows] > 0, raw.high[rows] - base[rows], raw.low[rows] - base[rows])
    return Spikes(rows, (np.abs(size) - usual[rows]) / deviation[rows], base[rows], size, usual[rows])


def spike_limits(raw: Raw, terms: Terms, spikes: Spikes) -> tuple[Floats, Floats]:
    """float64[k] each: lowest and highest price a capped spike bar may have, the usual range around the price before."""
    ticks = np.maximum(1.0, np.round(spikes.usual / terms.tick_size)) * terms.tick_size
    return spikes.base - ticks, spikes.base + ticks
