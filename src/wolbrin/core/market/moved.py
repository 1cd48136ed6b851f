"""The same bars at other instants: the whole calendar moved, or a history that begins later."""

from __future__ import annotations

import dataclasses

import numpy as np

from wolbrin.core.market.bars import Bars, Ints
from wolbrin.core.market.sessions import NS_A_DAY
from wolbrin.core.market.zones import to_local

YEARS, DAYS = 28, 10_227  # after which weekdays, leap days and, by one rule, clock changes recur (between 1901 and 2099)


def years_on(bars: Bars) -> Bars:
    """The bars 28 years later by their market's own clock: every weekday, date of the year and time of day is the same; years
    and instants are not. Sessions and holidays move along."""
    zone = bars.terms.time_zone

    def on(instants: Ints) -> Ints:
        later = instants + DAYS * NS_A_DAY
        # Where a zone has changed its rules since, the clock is kept, not the instant.
        kept = later + (to_local(instants, zone) + DAYS * NS_A_DAY - to_local(later, zone))
        return kept if len(kept) < 2 or (np.diff(kept) > 0).all() else later

    table = bars.sessions
    sessions = dataclasses.replace(table, open=on(table.open), close=on(table.close),
                                   trading_date=(table.trading_date + DAYS).astype(table.trading_date.dtype))
    rolls = tuple(on(np.array(bars.rolls, np.int64)).tolist()) if bars.rolls else ()
    return dataclasses.replace(bars, time=on(bars.time), end=on(bars.end), sessions=sessions, rolls=rolls)


def begun_later(bars: Bars, first: int) -> Bars:
    """The bars from one on, as a history that begins there."""
    cut = {k: getattr(bars, k)[first:] for k in ("time", "end", "o", "h", "l", "c", "volume", "session", "last")}
    return dataclasses.replace(bars, **cut)
