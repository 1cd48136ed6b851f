"""From a strategy and a history to decision arrays: which conditions hold at the close of each bar."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.indicators.columns import Columns
from wolbrin.core.indicators.model import Floats
from wolbrin.core.rules.compare import compare, first_finite, pack, where_set
from wolbrin.core.rules.filters import blocked_bars
from wolbrin.core.rules.mirror import effective_long, effective_short, entry_orders, mirror_level
from wolbrin.core.rules.model import (
    UNARY,
    Condition,
    Distance,
    IndicatorOperand,
    Level,
    NumberOperand,
    Operand,
    Row,
    Strategy,
)

LONG_IN, SHORT_IN, LONG_OUT, SHORT_OUT, BLOCKED, EDGE = 1, 2, 4, 8, 16, 32
ENTRIES = LONG_IN | SHORT_IN
# A condition whose first row leaves so few bars is finished on these bars alone.
FEW = 0.2
Needed = tuple[Floats | None, ...]


Used = tuple[tuple[Floats, int], ...]


@dataclass(frozen=True)
class Signals:
    """What a strategy's conditions and filters say, whatever its orders; see `Decisions`. entries: int64, bars with an
    entry signal. used: columns of the indicators used, with how many bars back each is read."""

    bits: NDArray[np.uint8]
    entries: NDArray[np.int64]
    used: Used


@dataclass(frozen=True)
class Decisions:
    """signals: uint8[n], bits LONG_IN, SHORT_IN, LONG_OUT, SHORT_OUT at each bar's close, BLOCKED where a filter forbids
    entries, EDGE where a session begins or ends that a position must not outlive. entries: int64, bars with an entry
    signal, in order. warm: index of the first bar where every indicator used has a value (n if there is none).
    needed: eleven columns, float64[n] or None where not used: ATR in ticks for stop, target, trail, the trail's start and
    break even; levels in ticks of stop, target and entry, long before short.
    """

    signals: NDArray[np.uint8]
    entries: NDArray[np.int64]
    warm: int
    needed: Needed


def operand_column(columns: Columns, operand: Operand) -> Floats:
    """An operand's values, float64[n], or float64[1] for a plain number."""
    if isinstance(operand, NumberOperand):
        return np.array([operand.value])
    return columns.shifted(_at_hand(columns, operand), operand.ago)


def _at_hand(columns: Columns, operand: Operand) -> Floats:
    """The operand's values without its shift in time, float64[n]."""
    assert not isinstance(operand, NumberOperand)
    values = columns.values(operand)
    return values * operand.times if operand.times != 1.0 else values


def row_flags(columns: Columns, row: Row) -> NDArray[np.uint8]:
    """uint8[n]: 1 where this single row is true."""
    left = operand_column(columns, row.left)
    if row.compare in UNARY:
        before = columns.shifted(left, 1) if len(left) > 1 else left
        return compare(left, before, "above" if row.compare == "rises" else "below", len(columns.bars))
    return compare(left, operand_column(columns, row.right), row.compare, len(columns.bars))


def _some_values(columns: Columns, operand: Operand, at: NDArray[np.int64], ago: int) -> Floats:
    """An operand's values `ago` bars before the given bars, float64[len(at)]."""
    if isinstance(operand, NumberOperand):
        return np.full(len(at), operand.value)
    back = at - operand.ago - ago
    values = _at_hand(columns, operand)[np.maximum(back, 0)]
    if len(back) and back[0] < 0:
        values[back < 0] = np.nan
    return values


def _some_flags(columns: Columns, row: Row, at: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Where this row is true among the given bars, bool[len(at)]."""
    left = _some_values(columns, row.left, at, 0)
    if row.compare in UNARY:
        before = _some_values(columns, row.left, at, 1)
        return left > before if row.compare == "rises" else left < before
    right = _some_values(columns, row.right, at, 0)
    if row.compare == "above":
        return left > right
    if row.compare == "below":
        return left < right
    if row.compare == "at or above":
        return left >= right
    if row.compare == "at or below":
        return left <= right
    left_before, right_before = (_some_values(columns, o, at, 1) for o in (row.left, row.right))
    if row.compare == "crosses above":
        return (left > right) & (left_before <= right_before)
    return (left < right) & (left_before >= right_before)


def condition_flags(columns: Columns, condition: Condition) -> NDArray[np.uint8]:
    """uint8[n]: 1 where the condition holds; all zero when no row is switched on."""
    rows = condition.active
    size = len(columns.bars)
    if not rows:
        return np.zeros(size, np.uint8)
    if condition.match == "any":
        flags = row_flags(columns, rows[0])
        for row in rows[1:]:
            flags |= row_flags(columns, row)
        return flags
    # Crossings are rare: they come first, and what follows them is asked on few bars.
    ordered = sorted(rows, key=lambda r: not r.compare.startswith("crosses"))
    flags = row_flags(columns, ordered[0])
    for number, row in enumerate(ordered[1:], 1):
        if np.count_nonzero(flags.view(np.bool_)) < FEW * size:
            at = where_set(flags, 1)
            for rest in ordered[number:]:
                at = at[_some_flags(columns, rest, at)]
            flags[:] = 0
            flags[at] = 1
            break
        flags &= row_flags(columns, row)
    return flags


def operands(condition: Condition) -> list[Operand]:
    """Every operand of the rows that are switched on."""
    found: list[Operand] = []
    for row in condition.active:
        found += [row.left] if row.compare in UNARY else [row.left, row.right]
    return found


def _distance_atr(columns: Columns, distance: Distance | None) -> Floats | None:
    return columns.atr_ticks(distance.length) if distance is not None and distance.unit == "atr" else None


def level_column(columns: Columns, level: Level | None) -> Floats | None:
    """A level in ticks, not rounded, float64[n]; None without a level."""
    if level is None:
        return None
    values = operand_column(columns, level.operand)
    fraction = columns.bars.terms.tick_fraction
    ticks = np.broadcast_to(values, len(columns.bars)) * (fraction.denominator / fraction.numerator)
    if level.offset:
        ticks = ticks + level.offset * (columns.atr_ticks(level.length) if level.unit == "atr" else 1.0)
    return np.ascontiguousarray(ticks)


def _levels_of(distance: Distance | None) -> tuple[Level | None, Level | None]:
    if distance is None or distance.unit != "level" or distance.level is None:
        return None, None
    return distance.level, distance.short_level or mirror_level(distance.level)


def needed_columns(columns: Columns, strategy: Strategy) -> Needed:
    """What orders need to know at their decision bar, see `Decisions.needed`."""
    long_order, short_order = entry_orders(strategy)
    levels = [*_levels_of(strategy.stop), *_levels_of(strategy.target),
              long_order.level if long_order.kind != "market" else None,
              short_order.level if short_order.kind != "market" else None]
    return (*(_distance_atr(columns, d) for d in strategy.distances), *(level_column(columns, x) for x in levels))


def used_columns(columns: Columns, asked: list[Operand]) -> Used:
    """Columns that must have a value before a run begins, with how many bars back each is read."""
    return tuple((_at_hand(columns, o), o.ago) for o in asked if not isinstance(o, NumberOperand)
                 and (isinstance(o, IndicatorOperand) or o.interval is not None or o.market is not None))


def warm_up(size: int, used: Used) -> int:
    """First bar at which every indicator used has a value at once; `size` if there is none."""
    start = 0
    moved = True
    while moved and start < size:
        moved = False
        for column, ago in used:
            at = min(size, first_finite(column, max(0, start - ago)) + ago)
            if at > start:
                start, moved = at, True
    return start


def signals_of(columns: Columns, strategy: Strategy) -> Signals:
    """What the conditions and filters of a strategy say over the history of `columns`."""
    long_side, short_side = effective_long(strategy), effective_short(strategy)
    conditions = [long_side.entry, short_side.entry, long_side.exit, short_side.exit]
    flags = tuple(condition_flags(columns, c) if c.active else None for c in conditions)
    blocked, filtered = blocked_bars(columns, strategy.filters)
    edges = columns.bars.edges if strategy.flat_by_session_end else None
    bits = pack((*flags, blocked, edges), len(columns.bars))
    used = used_columns(columns, [o for c in conditions for o in operands(c)]) + tuple((x, 0) for x in filtered)
    return Signals(bits, where_set(bits, ENTRIES), used)


def decide(columns: Columns, strategy: Strategy, signals: Signals | None = None) -> Decisions:
    """All decisions of a strategy over the history of `columns`. signals: those of its conditions, if at hand."""
    made = signals or signals_of(columns, strategy)
    needed = needed_columns(columns, strategy)
    # Levels that are plain indicators move the start like conditions do.
    warm = warm_up(len(columns.bars), made.used + tuple((x, 0) for x in needed if x is not None))
    return Decisions(made.bits, made.entries, warm, needed)
