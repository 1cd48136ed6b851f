"""A history without memory: the same bars in another order, so that whatever is found in it is luck.

Bars change places within their time of day, scaled to the volatility of the day they come to, so that the shape of a day and
the clusters of volatility stay and rules trade on it as often as on the real one. What belongs to an hour (a drift at the
open) and the drift of the whole stay too; `mirrored` turns every bar over at random, in simple returns, and they go as well:
then the next price is expected to be the last one, whatever the rules know.
"""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit
from wolbrin.core.engine.prepare import FineBars, Prepared
from wolbrin.core.market.bars import Bars
from wolbrin.core.market.sessions import NS_A_DAY, NS_A_MINUTE
from wolbrin.core.market.zones import to_local

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
LEAST_IN_SLOT = 20
WIDE_SLOT = 30  # minutes, where bars do not begin at fixed times
LEAST_PRICE = 20  # ticks; where prices come nearer to zero, or below it, moves are ticks and not shares of the price


@dataclass(frozen=True)
class Deal:
    """Which bar comes to each place (int64[n]), how its moves are scaled (float64[n]) and turned (float64[n], 1 or -1), and
    how far such a bar usually reaches to one side of its open, in ticks (float64[n])."""

    bar: Ints
    scale: Floats
    turn: Floats
    reach: Floats


def slots_of(bars: Bars) -> Ints:
    """int64[n]: the time of day of each bar on the exchange's clock, as a number; half hours where bars begin at any time."""
    minute = to_local(bars.time, bars.terms.time_zone) % NS_A_DAY // NS_A_MINUTE
    slots, slot = np.unique(minute, return_inverse=True)
    if len(bars) < LEAST_IN_SLOT * len(slots):
        slot = np.unique(minute // WIDE_SLOT, return_inverse=True)[1]
    # A bar that opens a session carries the gap from the one before; it changes places with its like.
    first = np.diff(bars.session, prepend=-1) != 0
    return np.unique(slot * 2 + first, return_inverse=True)[1].astype(np.int64)


def volatility(bars: Bars, slot: Ints) -> tuple[Floats, Floats, Floats]:
    """float64[n] each: how lively the day of each bar was, as the mean of its ranges over what is usual at their times of
    day; the same by all other bars of the day; and the range in ticks that is usual at the bar's time of day.

    A bar is freed from its own day by what the others say of that day: by a mean that it is part of, a large bar would be
    made smaller because it is large.
    """
    size = (bars.h - bars.l).astype(np.float64) + 0.5  # half a tick, so that a quiet bar does not divide by zero
    usual = (np.bincount(slot, size) / np.bincount(slot))[slot]
    _, day = np.unique(bars.trading_date, return_inverse=True)
    count, total = np.bincount(day)[day], np.bincount(day, size / usual)[day]
    others = np.where(count > 1, (total - size / usual) / np.maximum(count - 1, 1), 1.0)
    return np.where(count > 1, total / count, 1.0), others, usual


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
    lively, others, usual = volatility(bars, slot)
    turn = np.where(rng.random(n) < 0.5, -1.0, 1.0) if mirrored else np.ones(n)
    return Deal(bar, lively / others[bar], turn, (usual * others)[bar] / 2.0)


def _grid(exact: Floats, rng: np.random.Generator) -> Floats:
    """Moves rounded to whole ticks so that none is made larger or smaller on average."""
    low = np.floor(exact)
    return low + (rng.random(len(exact)) < exact - low)


@njit(cache=True, nogil=True)
def _chain(gap: Floats, body: Floats, factor: Floats, before: Floats, start: float, relative: bool,
           chance: Floats) -> tuple[Floats, Floats, Floats]:
    """Put dealt bars one after the other, all in ticks.

    gap, body: float64[n] moves to the open and to the close; factor: float64[n] scale and turn; before: float64[n] price that
    the bar's moves were made at; chance: float64[2, n] uniform. relative: moves are shares of the price.
    Returns float64[n] each: open and close, whole; and by what each bar's moves are multiplied.
    """
    n = len(gap)
    open_ = np.empty(n)
    close = np.empty(n)
    weight = np.empty(n)
    price = start
    for i in range(n):
        w = factor[i] * price / before[i] if relative else factor[i]
        exact = gap[i] * w
        low = np.floor(exact)
        first = price + low + (1.0 if chance[0, i] < exact - low else 0.0)
        exact = body[i] * w
        low = np.floor(exact)
        price = first + low + (1.0 if chance[1, i] < exact - low else 0.0)
        if relative:
            first = max(1.0, first)
            price = max(1.0, price)
        open_[i] = first
        close[i] = price
        weight[i] = w
    return open_, close, weight


@dataclass(frozen=True)
class _Laid:
    """float64[n] in ticks: open, high, low, close of shuffled bars, and by what the dealt bars' moves are multiplied."""

    open: Floats
    high: Floats
    low: Floats
    close: Floats
    weight: Floats


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


def _lay(bars: Bars, dealt: Deal, rng: np.random.Generator) -> _Laid:
    o, h, low, c = (x.astype(np.float64) for x in (bars.o, bars.h, bars.l, bars.c))
    before = np.append(o[:1], c[:-1])
    j = dealt.bar
    relative = bool(bars.l.min() > LEAST_PRICE)
    open_, close, weight = _chain((o - before)[j], (c - o)[j], dealt.scale * dealt.turn, before[j], float(before[0]),
                                  relative, rng.random((2, len(bars))))
    top, bottom = _reach(open_, (h - o)[j], (o - low)[j], weight, dealt.reach, rng)
    return _Laid(open_, np.maximum.reduce([open_, close, top]), np.minimum.reduce([open_, close, bottom]), close, weight)


def _bars(bars: Bars, laid: _Laid, volume: Floats) -> Bars:
    lift = 0.0 if bars.l.min() <= 0 else max(0.0, 1.0 - laid.low.min())
    parts = [(x + lift).astype(bars.o.dtype) for x in (laid.open, laid.high, laid.low, laid.close)]
    return dataclasses.replace(bars, o=parts[0], h=parts[1], l=parts[2], c=parts[3], volume=volume)


def shuffled(bars: Bars, seed: int, mirrored: bool = False) -> Bars:
    """The history with its bars dealt anew: sessions, times, costs and the volatility of every day stay.

    A bar is its gap from the close before it, its body, its reach and its volume. Moves are shares of the price, unless
    prices come near zero. Prices are lifted where they would fall below one tick. mirrored: every bar is turned at random.
    """
    rng = np.random.default_rng(seed)
    dealt = deal(bars, rng, mirrored)
    return _bars(bars, _lay(bars, dealt, rng), bars.volume[dealt.bar])


def _finer(bars: Bars, made: Bars, fine: FineBars, finer: Bars, seed: int, mirrored: bool) -> Bars:
    """The finer bars of shuffled bars: each bar takes its own along, so that they add up to it."""
    rng = np.random.default_rng(seed)
    dealt = deal(bars, rng, mirrored)
    weight = _lay(bars, dealt, rng).weight
    first = fine.arrays.first
    size = (first[1:] - first[:-1])[dealt.bar]
    size = np.where(fine.arrays.usable[dealt.bar] != 0, size, 0)
    owner = np.repeat(np.arange(len(bars)), size)
    source = dealt.bar[owner]
    at = first[source] + (np.arange(len(owner)) - np.repeat(np.cumsum(size) - size, size))
    rng = np.random.default_rng((seed, 1))
    w, base = weight[owner], made.o[owner].astype(np.float64)
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


def shuffle(real: Prepared, seed: int, mirrored: bool = False) -> Prepared:
    """A prepared history with its bars dealt anew, its finer bars with them; other markets stay as they are."""
    made = shuffled(real.bars, seed, mirrored)

    def finer() -> Bars | None:
        below = real.finer()
        if below is None or real.fine is None:
            return None
        return _finer(real.bars, made, real.fine, below, seed, mirrored)

    return Prepared(made, real.columns.over(made), finer, real.rates, real.source)
