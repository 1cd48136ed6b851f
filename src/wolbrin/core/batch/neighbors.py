"""Neighbors of a candidate: the same rules with one number moved by a step."""

from __future__ import annotations

from dataclasses import dataclass

from pydantic import ValidationError

from wolbrin.core.rules.dated import varied
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.numbers import tunables


@dataclass(frozen=True)
class Neighbor:
    """key, title: of the number that was moved (see rules.numbers.Tunable), value: where to."""

    key: str
    title: str
    value: float
    strategy: Strategy


def neighbors(strategy: Strategy, steps: int = 1) -> list[Neighbor]:
    """Every number of the strategy moved up and down by 1 .. `steps` of its steps, one at a time; what the model refuses is
    left out. `Many.evaluate` runs them."""
    found = []
    for number in tunables(strategy):
        for step in (*range(-steps, 0), *range(1, steps + 1)):
            value = round(number.value + step * number.step, 10)
            try:
                found.append(Neighbor(number.key, number.title, value, varied(strategy, {number.key: value})))
            except ValidationError:
                continue
    return found
