"""The spread that a file holds: from bid and ask, or from a column of its own whose unit is found against the tick."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, get_args

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.market.findings import Answer, Finding
from wolbrin.core.market.likely.grid import plain

Unit = Literal["points", "pips", "price"]
UNITS: tuple[str, ...] = get_args(Unit)
WIDEST = 0.02  # of the price; no spread that one trades on is wider
MOST = 200_000
OPTION = "--spread-unit"
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Spread:
    """ticks: what a run is charged by, in the middle of all rows; None where the file does not tell. findings: why."""

    ticks: float | None
    findings: tuple[Finding, ...]


def pip_of(tick: float, pair: bool) -> float:
    """A pip in price: ten ticks where a pair is quoted in tenths of a pip (3 or 5 decimals), else the tick. Common practice,
    no source."""
    text = plain(tick).rstrip(".")
    decimals = len(text.split(".")[1]) if "." in text else 0
    return tick * 10 if pair and decimals in (3, 5) else tick


def _said(ticks: float, tick: float, pair: bool, of: str, rows: int) -> Finding:
    pips = f", {ticks * tick / pip_of(tick, pair):.3g} pips" if pair else ""
    return Finding("spread", f"{ticks:g} {'tick' if ticks == 1 else 'ticks'}{pips}", f"The middle of {of} in {rows:,} rows.")


def from_quotes(bid: Floats, ask: Floats, tick: float, pair: bool) -> Spread:
    """The spread of bids and asks, float64[n] each."""
    there = np.isfinite(bid) & np.isfinite(ask)
    width = (ask - bid)[there]
    if not len(width):
        return Spread(None, (Finding("spread", "not told", "The column of asks holds no number.", False),))
    middle = float(np.median(width))
    if middle < -0.5 * tick:
        return Spread(None, (Finding("spread", "not told", "Most asks lie below the bid beside them, so they are no asks of "
                                     "these prices.", False),))
    if middle < 0.05 * tick:
        return Spread(None, (Finding("spread", "not told", "Bid and ask are the same price in most rows, which nobody trades "
                                     "at; it is not taken as zero.", False),))
    return Spread(round(middle / tick, 1), (_said(round(middle / tick, 1), tick, pair, "the distance of bid and ask",
                                                  len(width)),))


def fits(unit: str, values: Floats, tick: float, pair: bool, price: float) -> bool:
    """Whether a column of spreads, float64[n] above zero, may be in a unit: whole ticks, at a size that spreads have, and
    with the finest step that such a unit would show."""
    scale = {"points": tick, "pips": pip_of(tick, pair), "price": 1.0}[unit]
    ticks = values * scale / tick
    middle, whole = float(np.median(ticks)), float(np.mean(np.abs(ticks - np.round(ticks)) < 0.02))
    if middle < 0.5 or middle * tick > WIDEST * price or whole < 0.99:
        return False
    different = np.unique(np.round(ticks))
    # All spreads multiples of many ticks: the unit is a finer one.
    return len(different) < 2 or int(np.gcd.reduce(different.astype(np.int64))) == 1


def from_column(values: Floats, tick: float, pair: bool, price: float, said: str | None = None) -> Spread:
    """The spread of a column of spreads, float64[n], whose unit the file does not name.

    Args:
        tick: of the prices. pair: a currency pair. price: a usual one. said: the unit, where the user has said it.
    """
    some = values[np.isfinite(values)][:: max(1, len(values) // MOST)]
    if not len(some) or not some.any():
        return Spread(None, (Finding("spread", "not told", "The spread column holds nothing but zeros; it is not taken as "
                                     "zero.", False),))
    some = some[some > 0]
    scale = {"points": tick, "pips": pip_of(tick, pair), "price": 1.0}
    units = [said] if said else [u for u in UNITS if fits(u, some, tick, pair, price)]
    if not units:
        return Spread(None, (Finding("spread", "not told",
                                     f"The spread column, {np.median(some):g} in the middle, is neither "
                                     "ticks nor pips nor a price.", False),))
    ticks = {u: round(float(np.median(some)) * scale[u] / tick, 1) for u in units}
    best = units[0]
    if len(set(ticks.values())) > 1:
        answers = tuple(Answer(u, f"{ticks[u]:g} ticks, {plain(round(ticks[u] * tick, 10))} in price") for u in units)
        return Spread(ticks[best], (Finding("spread", f"{ticks[best]:g} ticks",
                                            f"The spread column holds {np.median(some):g} "
                                            "in the middle, which may be more than one unit.", False, True, OPTION, answers),
                                    ))
    found = _said(ticks[best], tick, pair, f"the spread column, in {best}", len(some))
    if np.ptp(some) == 0:
        found = Finding(found.what, found.value, f"The spread column holds {some[0]:g} throughout, in {best}: set rather "
                        "than measured, so check it.", False)
    return Spread(ticks[best], (found,))
