"""Exhaustive search over ranges of a strategy's numbers."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import product

import numpy as np
from numpy.typing import NDArray
from pydantic import ValidationError

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.faults import explain
from wolbrin.core.measures.catalogue import SUMMARY, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.rules.decide import Signals, decide, signals_of
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.numbers import with_values

LARGEST_SWEEP = 1_000_000


@dataclass(frozen=True)
class Axis:
    """One number and the values it takes. key: see rules.numbers.Tunable.key."""

    key: str
    title: str
    values: tuple[float, ...]

    @classmethod
    def spread(cls, key: str, title: str, low: float, high: float, step: float) -> Axis:
        """Values low, low + step .. high, free of float drift."""
        if not step > 0:
            raise UserError("the step must be above zero", title, "Enter a larger step.")
        if high < low:
            raise UserError("the range ends before it begins", title, "Exchange from and to.")
        count = int(np.floor((high - low) / step + 1e-9)) + 1
        if count > 10_000:
            raise UserError(f"{count:,} values are too many for one number", title, "Enter a larger step.")
        return cls(key, title, tuple(float(round(low + i * step, 10)) for i in range(count)))


def combinations(axes: tuple[Axis, ...]) -> list[tuple[float, ...]]:
    """All combinations, the last axis running fastest."""
    if not axes:
        raise UserError("no number is chosen", "sweep", "Tick at least one number to vary.")
    size = int(np.prod([len(a.values) for a in axes], dtype=object))
    if size > LARGEST_SWEEP:
        raise UserError(f"{size:,} combinations are more than a sweep takes ({LARGEST_SWEEP:,})", "sweep",
                        "Narrow a range or enlarge a step.")
    return list(product(*(a.values for a in axes)))


def variant(strategy: Strategy, axes: tuple[Axis, ...], values: tuple[float, ...]) -> Strategy:
    """The strategy with one combination applied; a combination the model refuses is a sentence."""
    try:
        return with_values(strategy, dict(zip((a.key for a in axes), values)))
    except ValidationError as err:
        raise explain(err, "sweep") from None


def _shape(s: Strategy) -> tuple[object, ...]:
    """What decides a strategy's signals; distances, sizes and other numbers of its orders do not."""
    return s.long, s.short, s.filters, s.flat_by_session_end


class Variants:
    """Variants of one strategy along axes. Numbers of distances are replaced directly, once each of their values has
    passed the model on its own; all others go through the model every time."""

    def __init__(self, strategy: Strategy, axes: tuple[Axis, ...]) -> None:
        self._strategy, self._axes = strategy, axes
        self._signals: tuple[tuple[object, ...], Signals] | None = None
        self._direct = all(len(p := a.key.split(".")) == 2 and p[0] in ("stop", "target") and p[1] in ("amount", "length")
                           for a in axes)
        if self._direct:
            for number, axis in enumerate(axes):
                for value in axis.values:
                    variant(strategy, axes[number:number + 1], (value,))

    def at(self, values: tuple[float, ...]) -> Strategy:
        """The variant at one combination."""
        if not self._direct:
            return variant(self._strategy, self._axes, values)
        changes: dict[str, dict[str, float]] = {}
        for axis, value in zip(self._axes, values):
            name, field = axis.key.split(".")
            changes.setdefault(name, {})[field] = int(value) if field == "length" else value
        return self._strategy.model_copy(update={
            name: getattr(self._strategy, name).model_copy(update=change) for name, change in changes.items()})


    def signals(self, history: Prepared, one: Strategy) -> Signals:
        """Signals of a variant; those of the variant before serve where only its orders differ. Threads may share it."""
        shape, held = _shape(one), self._signals
        if held is None or not all(a is b or a == b for a, b in zip(held[0], shape)):
            held = self._signals = shape, signals_of(history.columns, one)
        return held[1]


def evaluate(history: Prepared, variants: Variants, brief: Brief, block: list[tuple[float, ...]]) -> NDArray[np.float64]:
    """Measures of a block of combinations: float64[len(block), len(SUMMARY)]."""
    out = np.full((len(block), len(SUMMARY)), np.nan)
    for row, values in enumerate(block):
        one = variants.at(values)
        made = decide(history.columns, one, variants.signals(history, one))
        run = backtest(history, one, brief, detail=False, decisions=made)
        out[row] = list(measure(Facts.of(run), SUMMARY).values())
    return out
