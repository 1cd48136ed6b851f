"""From a strategy and a history to decision arrays: which conditions hold at the close of each bar."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.bits import Words, entries_of, pack, unpack
from wolbrin.core.indicators.columns import Columns
from wolbrin.core.indicators.model import Floats
from wolbrin.core.rules.compare import first_finite
from wolbrin.core.rules.evaluate import at_hand, condition_flags, operand_column, operands
from wolbrin.core.rules.filters import blocked_bars
from wolbrin.core.rules.mirror import effective_long, effective_short, entry_orders, mirror_level
from wolbrin.core.rules.model import (
    Condition,
    Distance,
    IndicatorOperand,
    Level,
    NumberOperand,
    Operand,
    PositionOperand,
    Row,
    Side,
    Strategy,
)
from wolbrin.core.rules.operands import CombinedOperand, CustomOperand, leaves

LONG_IN, SHORT_IN, LONG_OUT, SHORT_OUT, BLOCKED, EDGE = 1, 2, 4, 8, 16, 32
NO_TABLES = np.zeros((0, 0), np.uint64)
Needed = tuple[Floats | None, ...]


Used = tuple[tuple[Floats, int], ...]


@dataclass(frozen=True)
class Signals:
    """What a strategy's conditions and filters say, whatever its orders; see `Decisions`. used: columns of the indicators
    used, with how many bars back each is read. Where rows ask the state of the position (`asked`), bits say what may hold in
    some state, and tables (see `_tables`) what holds in which."""

    words: Words
    used: Used
    tables: NDArray[np.uint64] = field(default_factory=lambda: NO_TABLES)
    asked: tuple[Row, ...] = ()


@dataclass(frozen=True)
class Decisions:
    """words: uint64[bits.words_of(n), 6], packed: columns say where LONG_IN, SHORT_IN, LONG_OUT, SHORT_OUT hold at a bar's
    close, BLOCKED where a filter forbids entries, EDGE where a session begins or ends that a position must not outlive.
    size: n. warm: index of the first bar where every indicator used has a value (n if there is none).
    needed: eleven columns, float64[n] or None where not used: ATR in ticks for stop, target, trail, the trail's start and
    break even; levels in ticks of stop, target and entry, long before short. tables, asked: see `Signals`.
    """

    words: Words
    size: int
    warm: int
    needed: Needed
    tables: NDArray[np.uint64] = field(default_factory=lambda: NO_TABLES)
    asked: tuple[Row, ...] = ()

    @cached_property
    def signals(self) -> NDArray[np.uint8]:
        """The same as one byte a bar, uint8[n], bits LONG_IN .. EDGE."""
        return unpack(self.words, self.size)

    def entries(self, first: int, stop: int) -> NDArray[np.int64]:
        """Bars in [first, stop) with an entry signal, in order, counted from `first`."""
        return entries_of(self.words[:, 0], self.words[:, 1], first, stop)


def _distance_atr(columns: Columns, distance: Distance | None) -> Floats | None:
    return columns.atr_ticks(int(distance.length)) if distance is not None and distance.unit == "atr" else None


def level_column(columns: Columns, level: Level | None) -> Floats | None:
    """A level in ticks, not rounded, float64[n]; None without a level."""
    if level is None:
        return None
    values = operand_column(columns, level.operand)
    fraction = columns.bars.terms.tick_fraction
    ticks = np.broadcast_to(values, len(columns.bars)) * (fraction.denominator / fraction.numerator)
    if level.offset:
        ticks = ticks + level.offset * (columns.atr_ticks(int(level.length)) if level.unit == "atr" else 1.0)
    return np.ascontiguousarray(ticks)


def levels_of(distance: Distance | None) -> tuple[Level | None, Level | None]:
    if distance is None or distance.unit != "level" or distance.level is None:
        return None, None
    return distance.level, distance.short_level or mirror_level(distance.level)


def needed_columns(columns: Columns, strategy: Strategy) -> Needed:
    """What orders need to know at their decision bar, see `Decisions.needed`."""
    long_order, short_order = entry_orders(strategy)
    levels = [*levels_of(strategy.stop), *levels_of(strategy.target),
              long_order.level if long_order.kind != "market" else None,
              short_order.level if short_order.kind != "market" else None]
    return (*(_distance_atr(columns, d) for d in strategy.distances), *(level_column(columns, x) for x in levels))


def used_columns(columns: Columns, asked: list[Operand]) -> Used:
    """Columns that must have a value before a run begins, with how many bars back each is read."""
    found = []
    for operand in asked:
        outer = int(operand.ago) if isinstance(operand, CombinedOperand) else 0
        for one in leaves(operand):
            if isinstance(one, NumberOperand | PositionOperand | CombinedOperand):
                continue
            if isinstance(one, IndicatorOperand | CustomOperand) or one.interval is not None or one.market is not None:
                found.append((at_hand(columns, one), int(one.ago) + outer))
    return tuple(found)


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


def _tables(columns: Columns, conditions: list[Condition], rows: tuple[Row, ...]) -> NDArray[np.uint64]:
    """uint64[4, n]: bit c of a condition's word says whether it holds on that bar in case c; bit r of the number c says
    whether row r on the state of the position is taken for true."""
    tables = np.zeros((len(conditions), len(columns.bars)), np.uint64)
    for number, condition in enumerate(conditions):
        mine = sum(1 << at for at, row in enumerate(rows) if row in condition.leaves)
        for case in range(2 ** len(rows)):
            alike = case & mine  # other conditions' rows do not matter here
            if alike != case:
                flags = tables[number] >> np.uint64(alike) & np.uint64(1)
            else:
                held = {row: bool(case >> at & 1) for at, row in enumerate(rows)}
                flags = condition_flags(columns, condition, held).astype(np.uint64)
            tables[number] |= flags << np.uint64(case)
    return tables


def _compute_together(columns: Columns, strategy: Strategy, *sides: Side) -> None:
    """Averages, RSI and ATR that the strategy asks of its own bars, in one pass."""
    asked = {o for side in sides for c in (side.entry, side.exit) for operand in operands(c) for o in _plain(operand)}
    lengths = {int(d.length) for d in strategy.distances if d is not None and d.unit == "atr"}
    columns.together([(key, {"length": length}, field) for key, length, field in sorted(asked)], sorted(lengths))


def _plain(operand: Operand) -> list[tuple[str, float, str]]:
    """Averages and RSI of a price field of the own bars among an operand and what is inside it: key, length, field."""
    return [(o.indicator, o.settings["length"], o.source) for o in leaves(operand)
            if isinstance(o, IndicatorOperand) and o.indicator in ("sma", "ema", "rsi") and o.interval is None
            and o.market is None and (o.of is None or isinstance(o.of, str))]


def signals_of(columns: Columns, strategy: Strategy) -> Signals:
    """What the conditions and filters of a strategy say over the history of `columns`."""
    long_side, short_side = effective_long(strategy), effective_short(strategy)
    _compute_together(columns, strategy, long_side, short_side)
    conditions = [long_side.entry, short_side.entry, long_side.exit, short_side.exit]
    asked = tuple(dict.fromkeys(r for c in conditions for r in c.leaves if isinstance(r.left, PositionOperand)))
    tables = _tables(columns, conditions, asked) if asked else NO_TABLES
    flags = (tuple((one != 0).view(np.uint8) for one in tables) if asked else
             tuple(condition_flags(columns, c) if c.active else None for c in conditions))
    blocked, filtered = blocked_bars(columns, strategy.filters)
    edges = columns.bars.edges if strategy.flat_by_session_end else None
    words = pack((*flags, blocked, edges), len(columns.bars))
    used = used_columns(columns, [o for c in conditions for o in operands(c)]) + tuple((x, 0) for x in filtered)
    return Signals(words, used, tables, asked)


def decide(columns: Columns, strategy: Strategy, signals: Signals | None = None) -> Decisions:
    """All decisions of a strategy over the history of `columns`. signals: those of its conditions, if at hand."""
    made = signals or signals_of(columns, strategy)
    needed = needed_columns(columns, strategy)
    # Levels that are plain indicators move the start like conditions do.
    warm = warm_up(len(columns.bars), made.used + tuple((x, 0) for x in needed if x is not None))
    return Decisions(made.words, len(columns.bars), warm, needed, made.tables, made.asked)
