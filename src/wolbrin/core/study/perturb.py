"""A history as it might have been quoted: prices with noise, sessions drawn again in blocks."""

from __future__ import annotations

import dataclasses

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.market.bars import Bars

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Seed = int | tuple[int, ...]
RANGE_BARS = 20  # over which the usual range is told
SESSIONS_A_YEAR = 252


def usual_range(bars: Bars) -> Floats:
    """Mean true range of the RANGE_BARS bars before each, in ticks, float64[n]; of the first ones, what is known."""
    before = np.append(bars.c[:1], bars.c[:-1]).astype(np.float64)
    true = np.maximum(bars.h, before) - np.minimum(bars.l, before)
    total = np.concatenate([[0.0], np.cumsum(true)])
    last = np.arange(len(bars))
    first = np.maximum(0, last - RANGE_BARS)
    return np.where(last > first, (total[last] - total[first]) / np.maximum(last - first, 1), true)


class Noise:
    """A history with noise in its prices, as often as asked. Draws are laid along one row of normal numbers from places drawn
    anew for each open, high, low and close, which costs a tenth of drawing them all and is as good."""

    def __init__(self, bars: Bars, seed: Seed, share: float) -> None:
        """share: of the usual range, the standard deviation of the noise."""
        self._bars, self._seed = bars, seed if isinstance(seed, tuple) else (seed,)
        n = len(bars)
        rng = np.random.default_rng(self._seed)
        row = rng.standard_normal(n, np.float32)
        self._row = np.concatenate([row, row])
        self._by = (share * usual_range(bars)).astype(np.float32)
        self._floor = 1 if bars.l.min() > 0 else np.iinfo(bars.o.dtype).min  # prices above zero stay there

    def bars(self, number: int) -> Bars:
        """Every price moved, on whole ticks; highs stay the highest, lows the lowest."""
        bars, n = self._bars, len(self._bars)
        at = np.random.default_rng((*self._seed, number)).integers(0, max(n, 1), 4).tolist()

        def moved(prices: NDArray[np.int32], first: int) -> NDArray[np.int32]:
            by = np.rint(self._row[first:first + n] * self._by).astype(prices.dtype)
            return np.maximum(prices + by, self._floor)

        o, h, low, c = (moved(x, first) for x, first in zip((bars.o, bars.h, bars.l, bars.c), at))
        top, bottom = np.maximum(o, c), np.minimum(o, c)
        return dataclasses.replace(bars, o=o, h=np.maximum(np.maximum(h, low), top), l=np.minimum(np.minimum(h, low), bottom),
                                   c=c)


def redrawn(bars: Bars, seed: Seed, block: int, first: int, last: int) -> Bars:
    """Sessions of bars first .. last - 1 drawn again in stationary blocks of `block` sessions on average (Politis & Romano
    1994), each with the moves of one of as many bars. Moves are in ticks from the close before; prices are lifted where they
    would fall below one tick, if they were above it."""
    rng = np.random.default_rng(seed)
    session = bars.session[first:last]
    _, start, count = np.unique(session, return_index=True, return_counts=True)
    start = start + first
    source = _sources(rng, count, block)
    at = np.arange(len(bars))
    for to, of in enumerate(source):
        at[start[to]:start[to] + count[to]] = np.arange(start[of], start[of] + count[of])
    before = np.append(bars.o[:1], bars.c[:-1]).astype(np.int64)
    gap, body = (bars.o - before)[at], (bars.c.astype(np.int64) - bars.o)[at]
    close = int(bars.o[0]) + np.cumsum(gap + body)
    open_ = close - body
    high, low = open_ + (bars.h.astype(np.int64) - bars.o)[at], open_ - (bars.o.astype(np.int64) - bars.l)[at]
    lift = max(0, 1 - int(low.min())) if bars.l.min() > 0 else 0
    o, h, lo, c = ((x + lift).astype(bars.o.dtype) for x in (open_, high, low, close))
    return dataclasses.replace(bars, o=o, h=h, l=lo, c=c, volume=bars.volume[at])


def _sources(rng: np.random.Generator, count: Ints, block: int) -> Ints:
    """Which session comes to each place: runs of neighbors, drawn among sessions of as many bars."""
    n = len(count)
    alike = {int(k): np.flatnonzero(count == k) for k in np.unique(count)}
    out = np.empty(n, np.int64)
    fresh = rng.random(n) < 1.0 / max(1, block)
    for to in range(n):
        follows = out[to - 1] + 1 if to else n
        if fresh[to] or follows >= n or count[follows] != count[to]:
            choice = alike[int(count[to])]
            follows = int(choice[rng.integers(len(choice))])
        out[to] = follows
    return out


def over(history: Prepared, bars: Bars) -> Prepared:
    """The history with other prices; other markets stay as they are, and finer bars are left out."""
    return Prepared(bars, history.columns.over(bars), rates=history.rates, source=history.source)


def planted(bars: Bars, seed: Seed, sharpe: float, share: float = 0.25) -> Bars:
    """A drift through one part of every session, whose gains alone have this yearly Sharpe ratio. share: of a usual session
    that it takes. Where it begins, and which way it goes, is drawn."""
    rng = np.random.default_rng(seed)
    _, start, count = np.unique(bars.session, return_index=True, return_counts=True)
    usual = int(np.median(count))
    width = max(1, round(share * usual))
    first = int(rng.integers(0, max(1, usual - width + 1)))
    inside = np.arange(len(bars)) - np.repeat(start, count)
    slot = (inside >= first) & (inside < first + width)
    before = np.append(bars.o[:1], bars.c[:-1]).astype(np.float64)
    moves = np.bincount(np.repeat(np.arange(len(start)), count), np.where(slot, bars.c - before, 0.0))
    a_bar = sharpe / np.sqrt(SESSIONS_A_YEAR) * float(moves.std()) / width * (1.0 if rng.random() < 0.5 else -1.0)
    exact = np.cumsum(np.where(slot, a_bar, 0.0))
    after = np.rint(exact).astype(np.int64)
    prior = np.append(0, after[:-1])
    # A bar's extremes come halfway through it, on average; were they moved less, stops would be touched too seldom.
    half = np.rint((exact + np.append(0.0, exact[:-1])) / 2).astype(np.int64)
    lift = max(0, 1 - int((bars.l + np.minimum(after, prior)).min())) if bars.l.min() > 0 else 0
    o, c = bars.o + prior + lift, bars.c + after + lift
    h = np.maximum.reduce([bars.h + half + lift, o, c])
    low = np.minimum.reduce([bars.l + half + lift, o, c])
    kind = bars.o.dtype
    return dataclasses.replace(bars, o=o.astype(kind), h=h.astype(kind), l=low.astype(kind), c=c.astype(kind))
