"""A history made ready for many runs: shared indicator columns, rollover nights, conversion rates, finer bars."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from types import MappingProxyType
from typing import Literal

import numpy as np

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.inputs import NO_FINER, NO_NIGHTS, Finer
from wolbrin.core.errors import Door, UserError
from wolbrin.core.indicators.columns import Columns, Elsewhere, Own, no_other, no_own
from wolbrin.core.market.bars import Bars, Floats, Ints
from wolbrin.core.market.sessions import rollovers

NightCount = Callable[[Ints, Literal["left", "right"]], Ints]


def night_counter(bars: Bars) -> NightCount:
    """A function that counts rollover nights before instants, and ROLL for each roll of a continuous future."""
    instants, nights = rollovers(bars.terms, int(bars.time[0]), int(bars.end[-1]))
    rolls = np.asarray(bars.rolls, np.int64)
    total = np.concatenate(([0], np.cumsum(nights)))

    def before(moments: Ints, side: Literal["left", "right"]) -> Ints:
        # The bar that begins a new month opens after the roll; the bar before it closes before the roll.
        return total[np.searchsorted(instants, moments, "left")] + np.searchsorted(rolls, moments, side) * k.ROLL

    return before


@dataclass(frozen=True)
class FineBars:
    """Finer bars laid under main bars. time: int64[m] UTC ns of their starts; arrays: what the kernel walks."""

    time: Ints
    arrays: Finer

    @classmethod
    def under(cls, bars: Bars, finer: Bars) -> FineBars:
        """Lay `finer` under `bars`; where they do not add up to a bar, that bar is marked unusable."""
        owner = np.searchsorted(bars.time, finer.time, "right") - 1
        inside = (owner >= 0) & (finer.time < bars.end[np.maximum(owner, 0)])
        owner = owner[inside]
        o, h, l, c = finer.o[inside], finer.h[inside], finer.l[inside], finer.c[inside]  # noqa: E741
        first = np.searchsorted(owner, np.arange(len(bars) + 1)).astype(np.int64)
        filled = first[1:] > first[:-1]
        usable = np.zeros(len(bars), np.uint8)
        at, end = first[:-1][filled], first[1:][filled] - 1
        if len(at):
            adds_up = ((o[at] == bars.o[filled]) & (c[end] == bars.c[filled])
                       & (np.maximum.reduceat(h, at) == bars.h[filled]) & (np.minimum.reduceat(l, at) == bars.l[filled]))
            usable[filled] = adds_up
        return cls(finer.time[inside], Finer(first, usable, o, h, l, c, NO_NIGHTS))


def rates_at(bars: Bars, rates: Bars, moments: Ints) -> Floats:
    """The last known conversion rate at each moment, float64[n], NaN while there is none."""
    at = np.searchsorted(rates.end, moments, "right") - 1
    close = rates.close[np.maximum(at, 0)]
    known = (at >= 0) & (close > 0)
    with np.errstate(divide="ignore"):
        return np.where(known, 1.0 / close if bars.terms.conversion_inverse else close, np.nan)


@dataclass(frozen=True, repr=False)
class Prepared:
    """bars and shared indicator columns. finer: bars of a shorter interval for fine fills, rates: bars of the market
    that quotes the conversion rate; either may be made when first asked for. source: name of the source, for records."""

    bars: Bars
    columns: Columns
    finer: Callable[[], Bars | None] = field(default=lambda: None)
    rates: Callable[[], Bars | None] = field(default=lambda: None)
    source: str = ""
    answers: Mapping[str, str] = field(default_factory=dict)  # what somebody said of other markets that lead this one

    @classmethod
    def of(cls, bars: Bars, *, finer: Callable[[], Bars | None] = lambda: None,
           rates: Callable[[], Bars | None] = lambda: None, elsewhere: Elsewhere = no_other,
           own: Own = no_own, source: str = "", answers: Mapping[str, str] = MappingProxyType({})) -> Prepared:
        return cls(bars, Columns(bars, elsewhere=elsewhere, own=own), finer, rates, source, answers)

    def __repr__(self) -> str:
        return f"Prepared({self.bars!r})"

    def over(self, bars: Bars) -> Prepared:
        """Other bars of this market, such as a beginning of these, made ready with the same sources beside."""
        return Prepared(bars, self.columns.over(bars), self.finer, self.rates, self.source, self.answers)

    @cached_property
    def counter(self) -> NightCount:
        return night_counter(self.bars)

    @cached_property
    def nights(self) -> tuple[Ints, Ints]:
        """Rollover nights before each bar's start and end: what financing and rolls count."""
        return self.counter(self.bars.time, "right"), self.counter(self.bars.end, "left")

    @cached_property
    def conversion(self) -> tuple[Floats, Floats]:
        """Account money for one unit of quote money at each bar's start and end; one value where it is fixed."""
        terms = self.bars.terms
        if not terms.conversion_market:
            fixed = np.array([terms.conversion_rate])
            return fixed, fixed
        rates = self.rates()
        if rates is None:
            raise UserError(f"{terms.code} is converted at the price of {terms.conversion_market}, which is not at hand",
                            f"{terms.code}, conversion market", "Import that market, or give a fixed rate in the terms.",
                            Door(f"Change the rate of {terms.code}", "rate"))
        return rates_at(self.bars, rates, self.bars.time), rates_at(self.bars, rates, self.bars.end)

    @cached_property
    def fine(self) -> FineBars | None:
        """The finer bars laid under these, None where there are none."""
        finer = self.finer()
        return None if finer is None or finer.interval >= self.bars.interval else FineBars.under(self.bars, finer)

    @cached_property
    def fine_nights(self) -> Ints:
        """Rollover nights before each finer bar's start."""
        return self.counter(self.fine.time, "right") if self.fine else NO_NIGHTS

    def finer_arrays(self, first: int, last: int, financed: bool) -> Finer:
        """What the kernel walks for bars first .. last - 1."""
        if self.fine is None:
            return NO_FINER
        a = self.fine.arrays
        return a._replace(first=a.first[first:last + 1], usable=a.usable[first:last],
                          nights=self.fine_nights if financed else NO_NIGHTS)


def as_prepared(history: Prepared | Bars) -> Prepared:
    return history if isinstance(history, Prepared) else Prepared.of(history)

