"""Variants of a strategy at a few values of some of its numbers, as rows of a trial."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import product

import numpy as np
from pydantic import ValidationError

from wolbrin.core.errors import UserError
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.numbers import Tunable, with_values

MOST_VARIANTS = 2_000


@dataclass(frozen=True)
class Varied:
    """One number and the values it takes."""

    key: str
    title: str
    values: tuple[float, ...]

    @classmethod
    def of(cls, tunable: Tunable, count: int) -> Varied:
        """So many values spread over the tunable's range, on its steps."""
        steps = max(0, round((tunable.high - tunable.low) / tunable.step))
        at = sorted({round(i) for i in np.linspace(0, steps, min(count, steps + 1))})
        return cls(tunable.key, tunable.title, tuple(round(tunable.low + i * tunable.step, 10) for i in at))


def varied(strategy: Strategy, numbers: Sequence[Varied]) -> list[tuple[str, Strategy]]:
    """Name and strategy of every combination that the model allows; the strategy itself without numbers."""
    if not numbers:
        return [(strategy.name, strategy)]
    size = int(np.prod([len(v.values) for v in numbers]))
    if size > MOST_VARIANTS:
        raise UserError(f"{size:,} variants are more than a trial takes ({MOST_VARIANTS:,})", "variants",
                        "Tick fewer numbers, or fewer values of each.")
    found = []
    for values in product(*(v.values for v in numbers)):
        words = ", ".join(f"{v.title} {x:g}" for v, x in zip(numbers, values))
        try:
            one = with_values(strategy, {v.key: x for v, x in zip(numbers, values)})
        except ValidationError:
            continue  # such as a fast average longer than its own limit: there is no such strategy
        name = f"{strategy.name}: {words}"
        found.append((name, one.model_copy(update={"name": name[:80]})))
    return found
