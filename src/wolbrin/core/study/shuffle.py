"""A history without memory: the same bars in another order, so that whatever is found in it is luck.

Bars change places within their time of day, scaled in ticks to the day they come to, so that the range of every day, the
shape of a day and the clusters of volatility stay, and rules trade on it as often, and at the same costs, as on the real one.
What belongs to an hour (a drift at the open) and the drift of the whole stay too; `mirrored` turns every gap and every bar
over at random, and they go as well: then the next price is expected to be the last one, whatever the rules know.

Moves are ticks, never shares of the price: costs are ticks too. The path is free, since one that is led back to the real
prices is an edge by itself (whoever fades it earns); only where everything that is tried is flat by session end may sessions
begin at the real open, since nobody holds what leads there.
"""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.prepare import FineBars, Prepared
from wolbrin.core.market.bars import Bars
from wolbrin.core.market.sessions import NS_A_DAY, NS_A_MINUTE
from wolbrin.core.market.zones import to_local

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
DEALING = 2  # how bars are dealt; what was dealt in another way is not compared with
LEAST_IN_SLOT = 20
WIDE_SLOT = 30  # minutes, where bars do not begin at fixed times
DAYS_BESIDE = 5  # on each side, that tell how lively a day of a single bar was
LOWEST = 0.5  # of the lowest real price, above which a free path is lifted


@dataclass(frozen=True)
class Deal:
    """Which bar comes to each place (int64[n]), how its gap and its moves inside are scaled and turned (float64[n] each), how
    far such a bar usually reaches to one side of its open, in ticks (float64[n]), and its volume (float64[n])."""

    bar: Ints
    gap: Floats
    weight: Floats
    reach: Floats
    volume: Floats


def slots_of(bars: Bars) -> Ints:
    """int64[n]: the time of day of each bar on the exchange's clock, as a number; half hours where bars begin at any time."""
    minute = to_local(bars.time, bars.terms.time_zone) % NS_A_DAY // NS_A_MINUTE
    slots, slot = np.unique(minute, return_inverse=True)
    if len(bars) < LEAST_IN_SLOT * len(slots):
        slot = np.unique(minute // WIDE_SLOT, return_inverse=True)[1]
    # A bar that opens a session carries the gap from the one before; it changes places with its like.
    first = np.diff(bars.session, prepend=-1) != 0
    return np.unique(slot * 2 + first, return_inverse=True)[1].astype(np.int64)


def volatility(size: Floats, slot: Ints, day: Ints) -> tuple[Floats, Floats, Floats]:
    """float64[n] each: how lively the day of each bar was, as the mean of its sizes over what is usual at their times of
    day; the same by all other bars of the day; and the size that is usual at the bar's time of day.

    A bar is freed from its own day by what the others say of that day: by a mean that it is part of, a large bar would be
    made smaller because it is large. A bar that is alone on its day is freed by the days beside it.
    """
    usual = (np.bincount(slot, size) / np.bincount(slot))[slot]
    count, total = np.bincount(day), np.bincount(day, size / usual)
    lively = total / np.maximum(count, 1)
    summed = np.concatenate([np.zeros(1), np.cumsum(lively)])
    at = np.arange(len(lively))
    first, last = np.maximum(0, at - DAYS_BESIDE), np.minimum(len(lively), at + DAYS_BESIDE + 1)
    beside = (summed[last] - summed[first] - lively) / np.maximum(last - first - 1, 1)
    beside = np.where(beside > 0, beside, 1.0)
    others = np.where(count[day] > 1, (total[day] - size / usual) / np.maximum(count[day] - 1, 1), beside[day])
    return np.where(count > 1, lively, beside)[day], others, usual


def _to_day(real: Floats, dealt: Floats, day: Ints) -> Floats:
    """float64[n]: by what the dealt values are multiplied so that the sum of each day is the real one; 1 where they are 0."""
    wanted, had = np.bincount(day, real), np.bincount(day, dealt)
    return np.where(had > 0, wanted / np.where(had > 0, had, 1.0), 1.0)[day]


def deal(bars: Bars, rng: np.random.Generator, mirrored: bool) -> Deal:
    """Draw where each bar goes."""
    n = len(bars)
    slot = slots_of(bars)
    order = np.argsort(slot, kind="stable")
    shuffled_order = order.copy()
    for part in np.split(np.arange(n), np.flatnonzero(np.diff(slot[order])) + 1):
        shuffled_order[part] = order[rng.permutation(part)]
    bar = np.empty(n, np.int64)
    bar[order] = shuffled_order
    _, day = np.unique(bars.trading_date, return_inverse=True)
    size = (bars.h - bars.l).astype(np.float64)
    # Half a tick, so that a quiet bar does not divide by zero.
    lively, others, usual = volatility(size + 0.5, slot, day)
    freed = 1.0 / others[bar]
    scale = freed * _to_day(size, size[bar] * freed, day)
    turn, gap_turn = np.where(rng.random((2, n)) < 0.5, -1.0, 1.0) if mirrored else np.ones((2, n))
    volume = bars.volume.astype(np.float64)
    daily = (np.bincount(day, volume) / np.maximum(np.bincount(day), 1))[day]
    share = (volume / np.where(daily > 0, daily, 1.0))[bar]
    brought = share * _to_day(volume, share, day)
    if (volume == np.rint(volume)).all():
        brought = np.where(brought > 0, np.maximum(np.rint(brought), 1.0), 0.0)
    return Deal(bar, lively * freed * gap_turn, scale * turn, (usual * others)[bar] / 2.0, brought)


def _grid(exact: Floats, rng: np.random.Generator) -> Floats:
    """Moves rounded to whole ticks so that none is made larger or smaller on average."""
    low = np.floor(exact)
    return low + (rng.random(len(exact)) < exact - low)


@dataclass(frozen=True)
class _Laid:
    """float64[n] in ticks: open, high, low, close of shuffled bars."""

    open: Floats
    high: Floats
    low: Floats
    close: Floats

    def lifted(self, by: Floats) -> _Laid:
        return _Laid(self.open + by, self.high + by, self.low + by, self.close + by)


def _steepness(reach: Floats, usual: Floats) -> Floats:
    """float64[n]: P / Q for bars that reached `reach` ticks (see `_reach`), from how fast the share of bars that reach
    further falls, both sides of all bars together, in units of the usual reach of each."""
    share = reach / usual
    edges = np.append(np.arange(0.0, 6.0, 0.25), np.inf)
    count = np.histogram(share, edges)[0].astype(np.float64)
    further = np.append(np.cumsum(count[::-1])[::-1], 0.0)
    with np.errstate(divide="ignore", invalid="ignore"):
        rate = np.log(further[:-1] / further[1:]) / np.diff(edges)
    known = np.isfinite(rate) & (further[1:] >= 30)
    rate = np.interp(np.arange(len(rate)), np.flatnonzero(known), rate[known]) if known.any() else np.ones(len(rate))
    return np.expm1(np.minimum(rate[np.clip(np.digitize(share, edges) - 1, 0, len(rate) - 1)] / usual, 5.0))


def _reach(base: Floats, up: Floats, down: Floats, weight: Floats, usual: Floats,
           rng: np.random.Generator) -> tuple[Floats, Floats]:
    """float64[n] each: highest and lowest tick of bars whose reach, up and down from `base` in ticks, is multiplied.

    The last tick a bar came to says that its price went somewhere between that tick and the next, so the reach is drawn from
    there before it is multiplied, and then rounded inward: a tick counts as reached only where the price came to it.

    Let P be the chance that a bar reaches a tick and no further, Q that it reaches the next one too. A stop between the two
    is worth nothing on average, as those on ticks are, only if a bar of the first kind reaches the share f of the tick with
    chance (1 - f) / (1 + f P / Q).
    """
    steep = _steepness(np.concatenate([up, down]), np.tile(np.maximum(usual, 0.5), 2))
    r = rng.random(2 * len(up))
    beyond = (1.0 - r) / (1.0 + r * steep)
    up, down = up + beyond[:len(up)], down + beyond[len(up):]
    size = np.abs(weight)
    high, low = np.where(weight > 0, up, down) * size, np.where(weight > 0, down, up) * size
    return base + np.floor(high + 1e-9), base - np.floor(low + 1e-9)


def _anchors(bars: Bars) -> Ints:
    """int64[k]: bars that begin at the real open where everything is flat by session end: first bars of sessions after one
    whose last bar is there, so that nothing is held into them."""
    first = np.diff(bars.session, prepend=-1) != 0
    return np.flatnonzero(first & np.append(True, bars.last[:-1] != 0))


def _lay(bars: Bars, dealt: Deal, flat: bool, rng: np.random.Generator) -> _Laid:
    o, h, low, c = (x.astype(np.float64) for x in (bars.o, bars.h, bars.l, bars.c))
    before = np.append(o[:1], c[:-1])
    j = dealt.bar
    gap, body = _grid((o - before)[j] * dealt.gap, rng), _grid((c - o)[j] * dealt.weight, rng)
    gap[0] = 0.0
    path = np.cumsum(gap + body)
    open_ = path - body
    at = _anchors(bars) if flat else np.zeros(1, np.int64)
    segment = np.cumsum(np.isin(np.arange(len(o)), at)) - 1
    base = (o[at] - open_[at])[segment]
    open_, close = open_ + base, path + base
    top, bottom = _reach(open_, (h - o)[j], (o - low)[j], dealt.weight, dealt.reach, rng)
    laid = _Laid(open_, np.maximum.reduce([open_, close, top]), np.minimum.reduce([open_, close, bottom]), close)
    lowest = float(low.min())
    if lowest <= 0:
        return laid
    # A session that begins at the real open stays there, unless it would fall below one tick.
    floor = 1.0 if flat else np.ceil(max(1.0, LOWEST * lowest))
    return laid.lifted(np.maximum(0.0, floor - np.minimum.reduceat(laid.low, at))[segment])


def _bars(bars: Bars, laid: _Laid, volume: Floats) -> Bars:
    parts = [x.astype(bars.o.dtype) for x in (laid.open, laid.high, laid.low, laid.close)]
    return dataclasses.replace(bars, o=parts[0], h=parts[1], l=parts[2], c=parts[3], volume=volume)


def _made(bars: Bars, seed: int, mirrored: bool, flat: bool) -> tuple[Deal, Bars]:
    rng = np.random.default_rng(seed)
    dealt = deal(bars, rng, mirrored)
    return dealt, _bars(bars, _lay(bars, dealt, flat and bars.terms.scheduled, rng), dealt.volume)


def shuffled(bars: Bars, seed: int, mirrored: bool = False, flat: bool = False) -> Bars:
    """The history with its bars dealt anew: sessions, times, costs in ticks, range and volume of every day stay.

    A bar is its gap from the close before it, its body, its reach and its volume, all at the scale of the day it comes to.
    Where real prices are above zero, the path is lifted by a constant so that it stays above half the lowest of them.
    mirrored: every gap and every bar is turned at random. flat: everything that is tried is flat by session end, so that
    sessions may begin at the real open.
    """
    return _made(bars, seed, mirrored, flat)[1]


def _finer(bars: Bars, made: Bars, dealt: Deal, fine: FineBars, finer: Bars, seed: int) -> Bars:
    """The finer bars of shuffled bars: each bar takes its own along, so that they add up to it."""
    first = fine.arrays.first
    size = (first[1:] - first[:-1])[dealt.bar]
    size = np.where(fine.arrays.usable[dealt.bar] != 0, size, 0)
    owner = np.repeat(np.arange(len(bars)), size)
    source = dealt.bar[owner]
    at = first[source] + (np.arange(len(owner)) - np.repeat(np.cumsum(size) - size, size))
    rng = np.random.default_rng((seed, 1))
    w, base = dealt.weight[owner], made.o[owner].astype(np.float64)
    a = fine.arrays

    def off(x: NDArray[np.int32]) -> Floats:
        return (x[at] - bars.o[source]).astype(np.float64) * w

    high, low = made.h[owner].astype(np.float64), made.l[owner].astype(np.float64)
    open_ = np.clip(base + _grid(off(a.open), rng), low, high)
    close = np.clip(base + _grid(off(a.close), rng), low, high)
    begins = np.append(True, owner[1:] != owner[:-1]) if len(owner) else np.zeros(0, bool)
    ends = np.append(owner[1:] != owner[:-1], True) if len(owner) else begins
    open_[begins] = base[begins]
    close[ends] = made.c[owner[ends]]
    up, down = (a.high[at] - bars.o[source]).astype(np.float64), (bars.o[source] - a.low[at]).astype(np.float64)
    top, bottom = _reach(base, up, down, w, dealt.reach[owner] / np.sqrt(size[owner]), rng)
    # Whichever finer bar made the bar's own extreme makes that of the shuffled bar.
    turned = w < 0
    at_top = np.where(turned, a.low[at] == bars.l[source], a.high[at] == bars.h[source])
    at_bottom = np.where(turned, a.high[at] == bars.h[source], a.low[at] == bars.l[source])
    top = np.maximum.reduce([open_, close, np.where(at_top, high, np.minimum(high, top))])
    bottom = np.minimum.reduce([open_, close, np.where(at_bottom, low, np.maximum(low, bottom))])
    time = made.time[owner] + fine.time[at] - bars.time[source]
    end = np.minimum(time + finer.interval * NS_A_MINUTE, made.end[owner])
    session = made.session[owner]
    o, h, lo, c = (x.astype(np.int32) for x in (open_, top, bottom, close))
    return dataclasses.replace(finer, time=time, end=end, o=o, h=h, l=lo, c=c, volume=np.ones(len(time)), session=session,
                               last=(end >= made.sessions.close[session]).astype(np.uint8), sessions=made.sessions)


def shuffle(real: Prepared, seed: int, mirrored: bool = False, flat: bool = False) -> Prepared:
    """A prepared history with its bars dealt anew, its finer bars with them; other markets stay as they are. See
    `shuffled`."""
    dealt, made = _made(real.bars, seed, mirrored, flat)

    def finer() -> Bars | None:
        below = real.finer()
        if below is None or real.fine is None:
            return None
        return _finer(real.bars, made, dealt, real.fine, below, seed)

    return Prepared(made, real.columns.over(made), finer, real.rates, real.source)
