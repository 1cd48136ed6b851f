"""From a strategy and a history to decision arrays: which conditions hold at the close of each bar."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.indicators.columns import Columns
from wolbrin.core.indicators.model import Floats
from wolbrin.core.rules.compare import compare, first_finite, pack
from wolbrin.core.rules.mirror import effective_long, effective_short
from wolbrin.core.rules.model import (
    UNARY,
    Condition,
    Distance,
    FieldOperand,
    IndicatorOperand,
    NumberOperand,
    Operand,
    Row,
    Strategy,
)

LONG_IN, SHORT_IN, LONG_OUT, SHORT_OUT = 1, 2, 4, 8
NO_COLUMN = np.zeros(1, np.float64)


@dataclass(frozen=True)
class Decisions:
    """signals: uint8[n], bits LONG_IN, SHORT_IN, LONG_OUT, SHORT_OUT at each bar's close.
    warm: index of the first bar where every indicator used has a value (n if there is none).
    stop_atr, target_atr: float64[n] ATR in ticks where a distance needs it, else float64[1].
    """

    signals: NDArray[np.uint8]
    warm: int
    stop_atr: Floats
    target_atr: Floats


def operand_column(columns: Columns, operand: Operand) -> Floats:
    """An operand's values, float64[n], or float64[1] for a plain number."""
    if isinstance(operand, NumberOperand):
        return np.array([operand.value])
    if isinstance(operand, FieldOperand):
        values = columns.field(operand.field)
    else:
        values = columns.indicator(operand.indicator, operand.settings, operand.output, operand.source)
    if operand.times != 1.0:
        values = values * operand.times
    return columns.shifted(values, operand.ago)


def row_flags(columns: Columns, row: Row) -> NDArray[np.uint8]:
    """uint8[n]: 1 where this single row is true."""
    left = operand_column(columns, row.left)
    if row.compare in UNARY:
        before = columns.shifted(left, 1) if len(left) > 1 else left
        return compare(left, before, "above" if row.compare == "rises" else "below", len(columns.bars))
    return compare(left, operand_column(columns, row.right), row.compare, len(columns.bars))


def condition_flags(columns: Columns, condition: Condition) -> NDArray[np.uint8]:
    """uint8[n]: 1 where the condition holds; all zero when no row is switched on."""
    rows = condition.active
    if not rows:
        return np.zeros(len(columns.bars), np.uint8)
    flags = row_flags(columns, rows[0])
    for row in rows[1:]:
        if condition.match == "any":
            flags |= row_flags(columns, row)
        else:
            flags &= row_flags(columns, row)
    return flags


def _operands(condition: Condition) -> list[Operand]:
    found: list[Operand] = []
    for row in condition.active:
        found += [row.left] if row.compare in UNARY else [row.left, row.right]
    return found


def _distance_atr(columns: Columns, distance: Distance | None) -> Floats:
    if distance is None or distance.unit != "atr":
        return NO_COLUMN
    return columns.atr_ticks(distance.length)


def warm_up(columns: Columns, conditions: list[Condition], extra: list[Floats]) -> int:
    """First bar at which every indicator used has a value at once; the number of bars if there is none."""
    used = [operand_column(columns, o) for c in conditions for o in _operands(c) if isinstance(o, IndicatorOperand)]
    used += [x for x in extra if len(x) > 1]
    start = 0
    moved = True
    while moved and start < len(columns.bars):
        moved = False
        for column in used:
            at = first_finite(column, start)
            if at > start:
                start, moved = at, True
    return start


def decide(columns: Columns, strategy: Strategy) -> Decisions:
    """All decisions of a strategy over the history of `columns`."""
    long_side, short_side = effective_long(strategy), effective_short(strategy)
    conditions = [long_side.entry, short_side.entry, long_side.exit, short_side.exit]
    flags = tuple(condition_flags(columns, c) if c.active else None for c in conditions)
    stop_atr = _distance_atr(columns, strategy.stop)
    target_atr = _distance_atr(columns, strategy.target)
    warm = warm_up(columns, conditions, [stop_atr, target_atr])
    return Decisions(pack(flags, len(columns.bars)), warm, stop_atr, target_atr)
