"""The tick that says a number is to be varied: ticked, a number is a parameter of the strategy that takes part in sweeps."""

from __future__ import annotations

import re
from collections.abc import Iterable

from wolbrin.core.rules.language import Names, words
from wolbrin.core.rules.model import Parameter, Strategy
from wolbrin.core.rules.named import named
from wolbrin.core.rules.numbers import Tunable, tunables, with_values
from wolbrin.core.rules.script import SETTINGS


def free_name(wanted: str, taken: Iterable[str]) -> str:
    """A parameter's name near the wanted one that nothing else has."""
    plain = re.sub(r"[^a-z0-9]+", "_", wanted.lower()).strip("_")[:30].strip("_") or "number"
    plain = plain if plain[0].isalpha() else f"n_{plain}"
    used = {*taken, *words(Names()), *SETTINGS}
    return next(n for i in range(1, 1000) if (n := plain if i == 1 else f"{plain}_{i}") not in used)


def parameter_at(strategy: Strategy, key: str) -> int | None:
    """Which parameter a number's key names, if it is one's."""
    found = re.fullmatch(r"parameters\.(\d+)\.value", key)
    return int(found[1]) if found and int(found[1]) < len(strategy.parameters) else None


def is_ticked(strategy: Strategy, number: Tunable) -> bool:
    """Whether a number takes part in sweeps."""
    at = parameter_at(strategy, number.key)
    return at is not None and strategy.parameters[at].sweep


def tick(strategy: Strategy, key: str, on: bool) -> Strategy:
    """The strategy with a number ticked or not. A plain number that is ticked becomes a parameter with its usual range; a
    time of day stays plain, and is ticked where it is swept only."""
    at = parameter_at(strategy, key)
    if at is not None:
        made = list(strategy.parameters)
        made[at] = made[at].model_copy(update={"sweep": on})
        return strategy.model_copy(update={"parameters": tuple(made)})
    number = next((t for t in tunables(strategy) if t.key == key), None)
    if not on or number is None or number.clock:
        return strategy
    name = free_name(number.title.split(",")[0], (p.name for p in strategy.parameters))
    low, high = min(number.low, number.value), max(number.high, number.value)
    made = [*strategy.parameters, Parameter(name=name, value=number.value, low=round(low, 6), high=round(high, 6),
                                            step=number.step, sweep=True)]
    with_name = strategy.model_copy(update={"parameters": tuple(made)})
    value = int(number.value) if float(number.value).is_integer() and _whole(strategy, key) else float(number.value)
    return with_values(with_name, {key: named(value, name)})


def _whole(strategy: Strategy, key: str) -> bool:
    """Whether a number is kept as a whole one."""
    node: object = strategy
    for part in key.split("."):
        if isinstance(node, tuple | list):
            node = node[int(part)]
        elif isinstance(node, dict):
            node = node.get(part)
        else:
            node = getattr(node, part)
    return isinstance(node, int)
