"""Varying a strategy's numbers: axes, their combinations, and what the model refuses.

One rule holds for what is refused (a fast average longer than its own limit, say): there is no such strategy, so it is left
out, counted as refused, and not counted as tried.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import product

import numpy as np
from pydantic import ValidationError

from wolbrin.core.errors import UserError
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.numbers import Tunable, with_values

MOST_VALUES = 10_000
Values = tuple[float, ...]


@dataclass(frozen=True)
class Axis:
    """One number and the values it takes. key: see rules.numbers.Tunable.key."""

    key: str
    title: str
    values: Values

    @classmethod
    def spread(cls, key: str, title: str, low: float, high: float, step: float) -> Axis:
        """Values low, low + step .. high, free of float drift."""
        if not step > 0:
            raise UserError("the step must be above zero", title, "Enter a larger step.")
        if high < low:
            raise UserError("the range ends before it begins", title, "Exchange from and to.")
        count = int(np.floor((high - low) / step + 1e-9)) + 1
        if count > MOST_VALUES:
            raise UserError(f"{count:,} values are too many for one number", title, "Enter a larger step.")
        return cls(key, title, tuple(float(round(low + i * step, 10)) for i in range(count)))

    @classmethod
    def over(cls, tunable: Tunable, count: int) -> Axis:
        """So many values spread over the tunable's range, on its steps."""
        steps = max(0, round((tunable.high - tunable.low) / tunable.step))
        at = sorted({round(i) for i in np.linspace(0, steps, min(count, steps + 1))})
        return cls(tunable.key, tunable.title, tuple(round(tunable.low + i * tunable.step, 10) for i in at))


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


def variant(strategy: Strategy, axes: Sequence[Axis], values: Values) -> Strategy | None:
    """The strategy at one combination; None where the model refuses it."""
    try:
        return with_values(strategy, dict(zip((a.key for a in axes), values)))
    except ValidationError:
        return None


def named_variants(strategy: Strategy, axes: Sequence[Axis], most: int) -> list[tuple[str, Strategy]]:
    """Name and strategy of every combination there is; the strategy itself without axes."""
    if not axes:
        return [(strategy.name, strategy)]
    found = []
    for values in combinations(axes, most):
        one = variant(strategy, axes, values)
        if one is not None:
            name = f"{strategy.name}: " + ", ".join(f"{a.title} {x:g}" for a, x in zip(axes, values))
            found.append((name, one.model_copy(update={"name": name[:80]})))
    return found
