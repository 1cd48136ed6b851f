"""A history without memory: the same bars in another order, so that whatever is found in it is luck."""

from __future__ import annotations

import dataclasses

import numpy as np

from wolbrin.core.market.bars import Bars


def shuffled(bars: Bars, seed: int) -> Bars:
    """The history with its bars dealt anew over the same times.

    A bar is its gap from the close before it, its open-to-close move, its reach and its volume, all in ticks; bars that open
    a session change places among themselves, and so do all others. Drift, costs, sessions and the distribution of bars
    stay; every order in time, and what belongs to a time of day, goes. Prices are lifted where they would fall below one
    tick.
    """
    rng = np.random.default_rng(seed)
    n = len(bars)
    o, h, low, c = (x.astype(np.int64) for x in (bars.o, bars.h, bars.l, bars.c))
    gap = np.diff(c, prepend=o[:1]) - (c - o)
    first = np.diff(bars.session, prepend=-1) != 0
    deal = np.arange(n)
    for kind in (first, ~first):
        places = np.flatnonzero(kind)
        deal[places] = rng.permutation(places)
    body = (c - o)[deal]
    close = int(o[0]) + np.cumsum(gap[deal] + body)
    open_ = close - body
    high, bottom = open_ + (h - o)[deal], open_ + (low - o)[deal]
    lift = max(0, 1 - int(bottom.min())) if n else 0
    parts = tuple((x + lift).astype(bars.o.dtype) for x in (open_, high, bottom, close))
    return dataclasses.replace(bars, o=parts[0], h=parts[1], l=parts[2], c=parts[3], volume=bars.volume[deal])
