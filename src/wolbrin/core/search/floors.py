"""Floors of a search: what each candidate must reach, in the order in which they are asked, and how many each rejected.

Floors on the figures that are kept of everything tried are asked first; those on anything else are asked of what passes them,
by a run of its own.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch.driver import FIGURES, GIVEN_UP, TOO_FEW, Ask
from wolbrin.core.batch.many import Outcomes
from wolbrin.core.engine.run import Run
from wolbrin.core.errors import UserError
from wolbrin.core.measures.breakdown import side_facts, year_facts
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.sums import COMPILED
from wolbrin.core.search.objective import Floor

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
NEAR = 0.5  # a floor that is loosened by up to this share of itself takes in what was simulated
NEUTRAL = {"profit_factor": 1.0, "payoff": 1.0}
TRADES, FACTOR = COMPILED.index("trades"), COMPILED.index("profit_factor")
FEWEST, A_YEAR = 30, 10  # trades
LEAST_DRIFT = 2.5  # t above drift
WHOLE_YEAR = 300  # days of bars that make a year count as one
DAYS_A_YEAR = 365.25
PASSED, NO_SIGNALS = -1, -2


def usual_floors(years: float) -> tuple[Floor, ...]:
    """Floors for a span of so many years: common practice, no source."""
    a_year = max(20.0, round(FEWEST / max(years, 0.1), 1))
    return (Floor(key="trades_per_year", value=a_year), Floor(key="profit_factor", value=1.2),
            Floor(key="t_daily", value=2.5), Floor(key="return_drawdown", value=round(min(2.0, 0.5 + 0.3 * years), 1)),
            Floor(key="positive_years", value=50.0), Floor(key="above_drift", value=LEAST_DRIFT))


def least_trades(years: float) -> int:
    """Trades below which a result says nothing: 30, or 10 a year (common practice, no source)."""
    return max(FEWEST, round(A_YEAR * years))


STANDING = ("trades", "above_drift")  # floors that stand unless they are taken out by name


def standing(floors: Sequence[Floor], years: float, without: Sequence[str] = (), drift: bool = True) -> tuple[Floor, ...]:
    """The floors with those that stand in every search: enough trades, and, with drift, t above drift, which controls do not
    have. without: which of them are taken out; one that is asked otherwise is as it is asked.

    Raises:
        UserError: `without` names no such floor.
    """
    for key in without:
        if key not in STANDING:
            raise UserError(f'there is no standing floor "{key}"', "--without-floor", f"There are {', '.join(STANDING)}.")
    asked = {f.key for f in floors if not f.of and f.compare == ">="}
    out = list(floors)
    if "trades" not in without and not asked & {"trades", "trades_per_year"}:
        out.insert(0, Floor(key="trades", value=least_trades(years)))
    if drift and "above_drift" not in without and "above_drift" not in asked:
        out.append(Floor(key="above_drift", value=LEAST_DRIFT))
    return tuple(out)


def _loose(floor: Floor) -> float:
    """The value of a floor that still counts as near."""
    by = NEAR * abs(floor.value - NEUTRAL.get(floor.key, 0.0))
    return floor.value - by if floor.compare == ">=" else floor.value + by


@dataclass(frozen=True)
class Floors:
    """floors: as they are asked; years: calendar years that the span covers; bars: of the span."""

    floors: tuple[Floor, ...]
    years: float

    @cached_property
    def quick(self) -> tuple[int, ...]:
        """Places of floors on figures that are kept of everything, in the order in which they are asked."""
        at = [i for i, f in enumerate(self.floors) if not f.of and (f.key in COMPILED or f.key == "trades_per_year")]
        first = {"trades": 0, "trades_per_year": 1, "profit_factor": 2}
        return tuple(sorted(at, key=lambda i: first.get(self.floors[i].key, 3)))

    @cached_property
    def slow(self) -> tuple[int, ...]:
        """Places of the others."""
        return tuple(i for i in range(len(self.floors)) if i not in self.quick)

    @property
    def least_trades(self) -> float:
        """Trades that a candidate must have at least."""
        wanted = [f.value * (self.years if f.key == "trades_per_year" else 1.0) for f in self.floors
                  if not f.of and f.key in ("trades", "trades_per_year") and f.compare == ">="]
        return math.floor(max(wanted, default=1.0))

    def check(self, bars: int) -> None:
        """Raises UserError for floors that nothing can pass."""
        if self.least_trades > bars / 2:
            raise UserError(f"the floors ask for {self.least_trades:,.0f} trades, and the training span has {bars:,} bars",
                            "floors", "Ask fewer trades, or search on a longer span or a shorter interval.")
        for a in self.floors:
            for b in self.floors:
                if a.name == b.name and a.compare == ">=" and b.compare == "<=" and a.value > b.value:
                    raise UserError(f"no value is at least {a.value:g} and at most {b.value:g}", f"floors on {a.name}",
                                    "Change one of them.")
            ends = {"percent": (-math.inf, 100.0)} if a.key in ("win_rate", "positive_years", "exposure") else {}
            low, high = ends.get(BY_KEY[a.key].unit, (-math.inf, math.inf))
            if (a.compare == ">=" and a.value > high) or (a.compare == "<=" and a.value < low):
                raise UserError(f"{BY_KEY[a.key].title} is never above {high:g}%", "floors", "Change the floor.")

    def ask(self, everything: bool, hopeless: int) -> Ask:
        """What the simulator is asked: figures of all that come near."""
        least = np.full(FIGURES, -np.inf)
        least[TRADES] = self.least_trades
        for i in self.quick:
            f = self.floors[i]
            if f.compare == ">=" and f.key in COMPILED and f.key != "trades":
                at = COMPILED.index(f.key)
                least[at] = max(least[at], _loose(f))
        return Ask(least, everything, hopeless)

    def _column(self, floor: Floor, figures: Floats) -> Floats:
        if floor.key == "trades_per_year":
            return figures[:, TRADES] / max(self.years, 1e-9)
        return figures[:, COMPILED.index(floor.key)]

    def first_failed(self, out: Outcomes) -> Ints:
        """int64[n]: the place of the first quick floor that a candidate fails; PASSED, or NO_SIGNALS where it had too few
        entry signals to be simulated."""
        failed = self.failed(out.figures)
        failed[(out.outcome == GIVEN_UP) & (failed == PASSED)] = self.quick[0] if self.quick else PASSED
        failed[out.outcome == TOO_FEW] = NO_SIGNALS
        return failed

    def failed(self, figures: Floats) -> Ints:
        """As `first_failed`, of figures."""
        found = np.full(len(figures), PASSED, np.int64)
        for i in reversed(self.quick):
            f = self.floors[i]
            x = self._column(f, figures)
            with np.errstate(invalid="ignore"):
                bad = ~(x >= f.value) if f.compare == ">=" else ~(x <= f.value)
            found[bad] = i
        return found

    def near(self, figures: Floats) -> NDArray[np.bool_]:
        """Which come near: they pass every quick floor once it is loosened by NEAR."""
        out = np.isfinite(figures[:, TRADES])
        for i in self.quick:
            f = self.floors[i]
            x = self._column(f, figures)
            with np.errstate(invalid="ignore"):
                limit = f.value if f.key in ("trades", "trades_per_year") and f.compare == ">=" else _loose(f)
                out &= x >= limit if f.compare == ">=" else x <= limit
        return out

    def values(self, run: Run) -> Floats:
        """float64[len(slow)]: what the slow floors read of a run; of every year the worst."""
        return np.array([_value(self.floors[i], run) for i in self.slow])

    def slow_failed(self, values: Floats) -> int:
        """The place of the first slow floor that these values fail, or PASSED."""
        return next((i for i, v in zip(self.slow, values.tolist()) if not self.floors[i].holds(v)), PASSED)


def _value(floor: Floor, run: Run) -> float:
    of = BY_KEY[floor.key].of
    if not floor.of:
        return float(of(Facts.of(run)))
    if floor.of in ("long", "short"):
        return float(of(side_facts(run, 1 if floor.of == "long" else -1)))
    values = [float(of(year_facts(run, y))) for y in whole_years(run)]
    if not values or any(v != v for v in values):
        return math.nan
    return min(values) if floor.compare == ">=" else max(values)


def whole_years(run: Run) -> list[int]:
    """Calendar years that the run covers but for a few weeks; all it touches where there are none."""
    days = np.unique(run.bars.trading_date[run.first:run.last]).astype("datetime64[D]")
    years = days.astype("datetime64[Y]").astype(np.int64) + 1970
    found = np.unique(years)
    reach = {int(y): int((days[years == y][-1] - days[years == y][0]).astype(np.int64)) for y in found}
    return [y for y, n in reach.items() if n >= WHOLE_YEAR] or [int(y) for y in found]
