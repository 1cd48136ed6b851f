"""Higher bar intervals, built inside sessions and anchored at their open."""

from __future__ import annotations

import numpy as np

from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Bars
from wolbrin.core.market.sessions import NS_A_MINUTE


def to_interval(bars: Bars, minutes: int) -> Bars:
    """Bars of `minutes`, a multiple of the base interval, counted from each session's open and cut at its end."""
    if minutes == bars.minutes:
        return bars
    if minutes < bars.minutes or minutes % bars.minutes:
        raise UserError(f"{minutes}-minute bars cannot be built from {bars.minutes}-minute bars",
                        bars.terms.code, f"Choose a multiple of {bars.minutes}.")
    step = minutes * NS_A_MINUTE
    opened = bars.sessions.open[bars.session]
    slot = (bars.time - opened) // step
    fresh = np.empty(len(bars), bool)
    fresh[0] = True
    fresh[1:] = (slot[1:] != slot[:-1]) | (bars.session[1:] != bars.session[:-1])
    first = np.flatnonzero(fresh)
    final = np.append(first[1:], len(bars)) - 1
    session = bars.session[first]
    close = bars.sessions.close[session]
    time = opened[first] + slot[first] * step
    end = np.minimum(time + step, close)
    return Bars(bars.terms, minutes, time, end, bars.o[first], np.maximum.reduceat(bars.h, first),
                np.minimum.reduceat(bars.l, first), bars.c[final], np.add.reduceat(bars.volume, first), session,
                (end >= close).astype(np.uint8), bars.sessions, bars.left_out, bars.off_grid)
