"""Why did it trade here? Every row of the conditions with the values it compared at one bar."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from wolbrin.core.indicators.columns import Columns
from wolbrin.core.rules.decide import operand_column
from wolbrin.core.rules.mirror import effective_long, effective_short
from wolbrin.core.rules.model import UNARY, Condition, Operand, Row, Strategy
from wolbrin.core.rules.words import row_words


@dataclass(frozen=True)
class Reading:
    """One row at one bar: which condition it belongs to, its words, both values (NaN where missing, the one before for
    rises and falls), their values a bar earlier for crossings, and whether it held."""

    condition: str
    words: str
    left: float
    right: float
    left_before: float
    right_before: float
    held: bool


def _value(columns: Columns, operand: Operand, bar: int) -> float:
    if bar < 0:
        return float("nan")
    values = operand_column(columns, operand)
    return float(values[bar if len(values) > 1 else 0])


def _reading(columns: Columns, name: str, row: Row, bar: int) -> Reading:
    left, left_before = _value(columns, row.left, bar), _value(columns, row.left, bar - 1)
    if row.compare in UNARY:
        right = right_before = left_before
    else:
        right, right_before = _value(columns, row.right, bar), _value(columns, row.right, bar - 1)
    held = {"above": left > right, "below": left < right, "at or above": left >= right, "at or below": left <= right,
            "crosses above": left > right and left_before <= right_before,
            "crosses below": left < right and left_before >= right_before,
            "rises": left > left_before, "falls": left < left_before}[row.compare]
    return Reading(name, row_words(row), left, right, left_before, right_before, bool(held and not np.isnan(left + right)))


def why(columns: Columns, strategy: Strategy, side: int, bar: int, out: int | None = None) -> list[Reading]:
    """Readings of one side's entry rows at its decision bar and, where `out` is given, of its exit rows at that bar."""
    rules = effective_long(strategy) if side > 0 else effective_short(strategy)
    asked: list[tuple[str, Condition, int]] = [("entry", rules.entry, bar)]
    if out is not None:
        asked.append(("exit", rules.exit, out))
    return [_reading(columns, name, row, at) for name, condition, at in asked for row in condition.active]
