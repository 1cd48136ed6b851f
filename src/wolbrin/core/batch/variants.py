"""Variants of one strategy along axes, evaluated block by block."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Run, backtest
from wolbrin.core.jobs import check_stopped
from wolbrin.core.measures.catalogue import SUMMARY, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.rules.axes import Axis, Values, variant
from wolbrin.core.rules.decide import Signals, decide, signals_of
from wolbrin.core.rules.model import Strategy

Floats = NDArray[np.float64]
Days = NDArray[np.int32]
NO_DAYS: Days = np.zeros(0, np.int32)


def _shape(s: Strategy) -> tuple[object, ...]:
    """What decides a strategy's signals; distances, sizes and other numbers of its orders do not."""
    return s.long, s.short, s.filters, s.flat_by_session_end


class Variants:
    """Variants of one strategy along axes. Numbers of distances are replaced directly, once each of their values has
    passed the model on its own; all others go through the model every time."""

    def __init__(self, strategy: Strategy, axes: Sequence[Axis]) -> None:
        self._strategy, self._axes = strategy, axes
        self._signals: tuple[tuple[object, ...], Signals] | None = None
        direct = all(len(p := a.key.split(".")) == 2 and p[0] in ("stop", "target") and p[1] in ("amount", "length")
                     for a in axes)
        self._direct = direct and all(variant(strategy, (axis,), (value,)) is not None for axis in axes
                                      for value in axis.values)

    def at(self, values: Values) -> Strategy | None:
        """The variant at one combination; None where the model refuses it."""
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


@dataclass(frozen=True)
class Block:
    """What came of a block of combinations, those that the model refused left out.

    settings: float64[b, axes]. figures: float64[b, len(SUMMARY)]. daily: float32[b, d] P/L on the dates asked for, account
    money, NaN before a run begins; [b, 0] where none were. refused: how many were left out.
    """

    settings: Floats
    figures: Floats
    daily: NDArray[np.float32]
    refused: int


def evaluate(history: Prepared, variants: Variants, brief: Brief, block: Sequence[Values], days: Days = NO_DAYS) -> Block:
    """Measures of a block of combinations, and their daily results on `days` (int32[d], trading dates)."""
    settings: list[Values] = []
    figures: list[list[float]] = []
    daily = np.full((len(block), len(days)), np.nan, np.float32)
    for values in block:
        check_stopped()
        one = variants.at(values)
        if one is None:
            continue
        made = decide(history.columns, one, variants.signals(history, one))
        run = backtest(history, one, brief, detail=False, decisions=made)
        if len(days):
            on_daily(run, days, daily[len(settings)])
        settings.append(values)
        figures.append(list(measure(Facts.of(run), SUMMARY).values()))
    width = len(block[0]) if block else 0
    return Block(np.array(settings, np.float64).reshape(-1, width),
                 np.array(figures, np.float64).reshape(-1, len(SUMMARY)), daily[:len(settings)], len(block) - len(settings))


def on_daily(run: Run, days: Days, out: NDArray[np.float32]) -> None:
    """Write a run's daily P/L into out (float32[d]) on the dates `days`; dates it has none on stay as they are."""
    own, profit = run.daily
    at = np.searchsorted(days, own)
    there = at < len(days)
    there[there] = days[at[there]] == own[there]
    out[at[there]] = profit[there]


def days_of(history: Prepared, brief: Brief) -> Days:
    """Trading dates of a brief's span on which a history has bars, int32[d]."""
    first, last = history.bars.range_of(brief.span)
    return np.unique(history.bars.trading_date[first:last])
