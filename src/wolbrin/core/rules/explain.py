"""Why did it trade here? Every row of the conditions with the values it compared at one bar."""

from __future__ import annotations

from dataclasses import dataclass

from wolbrin.core.indicators.columns import Columns
from wolbrin.core.rules.evaluate import operand_column, row_flags
from wolbrin.core.rules.mirror import effective_long, effective_short
from wolbrin.core.rules.model import UNARY, Condition, Operand, PositionOperand, Row, Strategy
from wolbrin.core.rules.times import on_clock
from wolbrin.core.rules.words import row_words


@dataclass(frozen=True)
class Reading:
    """One row at one bar: which condition it belongs to, its words, both values (NaN where missing, and for the state of the
    position; the one before for rises and falls), their values a bar earlier for crossings, and whether it held. timed: both
    values are times of day, HHMM."""

    condition: str
    words: str
    left: float
    right: float
    left_before: float
    right_before: float
    held: bool
    timed: bool = False


def _value(columns: Columns, operand: Operand, bar: int) -> float:
    if bar < 0 or isinstance(operand, PositionOperand):
        return float("nan")
    values = operand_column(columns, operand)
    return float(values[bar if len(values) > 1 else 0])


def _reading(columns: Columns, name: str, row: Row, bar: int) -> Reading:
    at = bar - row.back
    left, left_before = _value(columns, row.left, at), _value(columns, row.left, at - 1)
    right, right_before = left_before, left_before
    if row.compare not in UNARY:
        right, right_before = _value(columns, row.right, at), _value(columns, row.right, at - 1)
    return Reading(name, row_words(row), left, right, left_before, right_before, bool(row_flags(columns, row)[bar]),
                   on_clock(row.left) or (row.compare not in UNARY and on_clock(row.right)))


def why(columns: Columns, strategy: Strategy, side: int, bar: int, out: int | None = None) -> list[Reading]:
    """Readings of one side's entry rows at its decision bar and, where `out` is given, of its exit rows at that bar."""
    rules = effective_long(strategy) if side > 0 else effective_short(strategy)
    asked: list[tuple[str, Condition, int]] = [("entry", rules.entry, bar)]
    if out is not None:
        asked.append(("exit", rules.exit, out))
    return [_reading(columns, name, row, at) for name, condition, at in asked for row in condition.leaves]
