"""Varying a strategy's numbers: axes, what moves with them, their combinations, and what the model refuses.

One rule holds for what is refused (a fast average longer than its own limit, say): there is no such strategy, so it is left
out, counted as refused, and not counted as tried.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import product
from typing import Literal

import numpy as np
from pydantic import ValidationError

from wolbrin.core.errors import UserError
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.rules.dated import undated
from wolbrin.core.rules.mirror import SIDES, with_sides
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.numbers import Tunable, clock, with_values

MOST_VALUES = 10_000
Values = tuple[float, ...]
Kind = Literal["number", "clock", "market", "interval", "sides"]
PLACES: tuple[Kind, ...] = ("market", "interval", "sides")  # what is no number of the rules; it comes first


@dataclass(frozen=True)
class Link:
    """A number that moves with an axis: factor * value + offset."""

    key: str
    factor: float = 1.0
    offset: float = 0.0

    def at(self, value: float) -> float:
        return float(round(self.factor * value + self.offset, 10))


@dataclass(frozen=True)
class Axis:
    """One number and the values it takes. key: see rules.numbers.Tunable.key, or the kind where it is no number. links:
    numbers that move with it. names: of the values, where they are numbers only inside (markets by their place in it)."""

    key: str
    title: str
    values: Values
    kind: Kind = "number"
    links: tuple[Link, ...] = ()
    names: tuple[str, ...] = ()

    @classmethod
    def spread(cls, key: str, title: str, low: float, high: float, step: float, clocked: bool = False) -> Axis:
        """Values low, low + step .. high, free of float drift."""
        if not all(np.isfinite((low, high, step))):
            raise UserError("a range needs numbers", title, "Enter from, to and step.")
        if not step > 0:
            raise UserError("the step must be above zero", title, "Enter a larger step.")
        if high < low:
            raise UserError("the range ends before it begins", title, "Exchange from and to.")
        count = int(np.floor((high - low) / step + 1e-9)) + 1
        if count > MOST_VALUES:
            raise UserError(f"{count:,} values are too many for one number", title, "Enter a larger step.")
        values = tuple(float(round(low + i * step, 10)) for i in range(count))
        return cls(key, title, values, "clock" if clocked else "number")

    @classmethod
    def over(cls, tunable: Tunable, count: int) -> Axis:
        """So many values spread over the tunable's range, on its steps."""
        steps = max(0, round((tunable.high - tunable.low) / tunable.step))
        at = sorted({round(i) for i in np.linspace(0, steps, min(count, steps + 1))})
        return cls(tunable.key, tunable.title, tuple(round(tunable.low + i * tunable.step, 10) for i in at),
                   "clock" if tunable.clock else "number")

    @classmethod
    def markets(cls, codes: Sequence[str]) -> Axis:
        """The market, by its place among these."""
        return cls("market", "market", tuple(float(i) for i in range(len(codes))), "market", (), tuple(codes))

    @classmethod
    def intervals(cls, codes: Sequence[int]) -> Axis:
        """The bar interval, by its code."""
        return cls("interval", "bar interval", tuple(float(c) for c in sorted(set(codes))), "interval")

    @classmethod
    def sides(cls, names: Sequence[str] = SIDES) -> Axis:
        """Which sides are traded, by their place in mirror.SIDES."""
        return cls("sides", "sides", tuple(float(SIDES.index(n)) for n in names), "sides")

    @property
    def ordered(self) -> bool:
        """Whether values next to each other are neighbors."""
        return self.kind not in ("market", "sides")

    @property
    def step(self) -> float:
        """The usual distance of two values, 0 where there is one."""
        return float(np.median(np.diff(self.values))) if len(self.values) > 1 else 0.0

    def shown(self, value: float) -> str:
        """A value as it is read: 14, 09:30, 15 min, NPW, long."""
        if self.kind == "clock":
            return clock(value)
        if self.kind == "interval":
            return interval_words(int(value))
        if self.kind == "sides":
            return SIDES[int(value)]
        if self.kind == "market":
            return self.names[int(value)] if int(value) < len(self.names) else "n/a"
        return f"{value:g}"

    @property
    def short(self) -> str:
        """The title without where it stands."""
        return self.title.split(",")[0].replace("_", " ")


def size_of(axes: Sequence[Axis]) -> int:
    """Number of combinations."""
    return int(np.prod([len(a.values) for a in axes], dtype=object)) if axes else 0


def check_size(axes: Sequence[Axis], most: int) -> None:
    """Raises UserError where there are more than `most` combinations."""
    size = size_of(axes)
    if size > most:
        raise UserError(f"{size:,} combinations are more than are tried at once ({most:,})", "sweep",
                        "Narrow a range or enlarge a step.")


def combinations(axes: Sequence[Axis], most: int) -> list[Values]:
    """All combinations, the last axis running fastest. Raises UserError where there are none, or more than `most`."""
    if not axes:
        raise UserError("no number is chosen", "sweep", "Tick at least one number to vary.")
    check_size(axes, most)
    return list(product(*(a.values for a in axes)))


def numbers_at(axes: Sequence[Axis], values: Values) -> dict[str, float]:
    """Numbers of the rules at one combination, by their keys, those that move along included."""
    found = {}
    for axis, value in zip(axes, values):
        if axis.kind not in PLACES:
            found[axis.key] = value
            found |= {link.key: link.at(value) for link in axis.links}
    return found


def variant(strategy: Strategy, axes: Sequence[Axis], values: Values) -> Strategy | None:
    """The strategy at one combination, without dated numbers; None where the model refuses it."""
    try:
        made = with_values(undated(strategy), numbers_at(axes, values))
    except ValidationError:
        return None
    sides = next((int(v) for a, v in zip(axes, values) if a.kind == "sides"), None)
    return made if sides is None else with_sides(made, SIDES[sides])


def named_variants(strategy: Strategy, axes: Sequence[Axis], most: int) -> list[tuple[str, Strategy]]:
    """Name and strategy of every combination there is; the strategy itself without axes."""
    if not axes:
        return [(strategy.name, strategy)]
    found = []
    for values in combinations(axes, most):
        one = variant(strategy, axes, values)
        if one is not None:
            name = f"{strategy.name}: " + ", ".join(f"{a.title} {a.shown(x)}" for a, x in zip(axes, values))
            found.append((name, one.model_copy(update={"name": name[:80]})))
    return found
