"""Operands as columns, conditions as flags.

Logic has three values: a comparison with a missing value (NaN, a division by zero, before the first bar) is unknown, neither
true nor false. Only what is true fires, so that `none of` an unknown row does not fire either (Kleene 1952, Introduction to
Metamathematics, section 64).
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit
from wolbrin.core.indicators.columns import Columns
from wolbrin.core.indicators.model import Floats
from wolbrin.core.indicators.structure import rank_of
from wolbrin.core.rules.compare import compare, where_set
from wolbrin.core.rules.model import RANKED, UNARY, Condition, Row
from wolbrin.core.rules.operands import (
    CombinedOperand,
    CustomOperand,
    FieldOperand,
    NumberOperand,
    Operand,
    PositionOperand,
    Series,
)

Flags = NDArray[np.uint8]
Held = Mapping[Row, bool]
NOBODY: Held = {}
# A condition whose first row leaves so few bars is finished on these bars alone.
FEW = 0.2


def operand_column(columns: Columns, operand: Operand) -> Floats:
    """An operand's values, float64[n], or float64[1] for a plain number."""
    if isinstance(operand, NumberOperand):
        return np.array([float(operand.value)])
    return columns.shifted(at_hand(columns, operand), operand.ago)  # type: ignore[union-attr]


def at_hand(columns: Columns, operand: Operand) -> Floats:
    """The operand's values without its shift in time, float64[n] (a number's float64[1])."""
    if isinstance(operand, NumberOperand):
        return np.array([float(operand.value)])
    if isinstance(operand, CombinedOperand):
        return columns.kept(("combined", operand.model_copy(update={"ago": 0}).model_dump_json()),
                            lambda: _joined(columns, operand))
    assert not isinstance(operand, PositionOperand), "the state of the position is known to the simulator only"
    values = _series(columns, operand)
    return values * float(operand.times) if operand.times != 1.0 else values


def _joined(columns: Columns, operand: CombinedOperand) -> Floats:
    left, right = operand_column(columns, operand.left), operand_column(columns, operand.right)
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        made = {"+": np.add, "-": np.subtract, "*": np.multiply, "/": np.divide}[operand.join](left, right)
    made[~np.isfinite(made)] = np.nan
    return np.ascontiguousarray(np.broadcast_to(made, len(columns.bars)))


def _series(columns: Columns, operand: Series) -> Floats:
    if operand.interval is None and operand.market in (None, columns.bars.terms.code):
        return _own(columns, operand)
    other, at = columns.other(operand.market, operand.interval)
    plain = operand.model_copy(update={"interval": None, "market": None, "times": 1.0, "ago": 0})
    key = operand.model_copy(update={"times": 1.0, "ago": 0}).model_dump_json()
    # Index -1, before the other series' first close, reads the NaN put at its end.
    return columns.kept(("elsewhere", key), lambda: np.append(_own(other, plain), np.nan)[at])


def _own(columns: Columns, operand: Series) -> Floats:
    if isinstance(operand, FieldOperand):
        return columns.field(operand.field)
    if isinstance(operand, CustomOperand):
        return columns.own(operand.name, operand.digest, operand.params)
    source = operand.of
    if source is None or isinstance(source, str):
        return columns.indicator(operand.indicator, operand.settings, operand.output, operand.source)
    return columns.chained(operand.indicator, operand.settings, operand.output, source.model_dump_json(),
                           lambda: operand_column(columns, source))


# Modifiers in time. Flags before the first bar are unknown.


@njit(cache=True, nogil=True)
def lasting(flags: Flags, bars: int) -> Flags:
    """1 where the flag is set on each of the last `bars` bars."""
    out = np.empty(len(flags), np.uint8)
    run = 0
    for i in range(len(flags)):
        run = run + 1 if flags[i] else 0
        out[i] = run >= bars
    return out


@njit(cache=True, nogil=True)
def lately(flags: Flags, bars: int) -> Flags:
    """1 where the flag is set on at least one of the last `bars` bars."""
    out = np.empty(len(flags), np.uint8)
    since = bars
    for i in range(len(flags)):
        since = 0 if flags[i] else since + 1
        out[i] = since < bars
    return out


def _later(flags: Flags, back: int) -> Flags:
    if not back:
        return flags
    out = np.zeros(len(flags), np.uint8)
    if back < len(flags):
        out[back:] = flags[:-back]
    return out


def _in_time(node: Row | Condition, flags: Flags, false: bool = False) -> Flags:
    """Flags of a node after its modifiers. false: the flags say where it is known to be false."""
    if node.when != "now" and node.for_bars > 1:
        every = (node.when == "held") != false
        flags = (lasting if every else lately)(flags, int(node.for_bars))
    return _later(flags, node.back)


# Rows


def _before(columns: Columns, row: Row, left: Floats) -> Floats:
    """The extreme of the `over` values before each bar, or the percent of them that lie below: float64[n]."""
    size = len(columns.bars)
    series = np.ascontiguousarray(np.broadcast_to(left, size))
    if row.compare.startswith("ranks"):
        return columns.kept(("rank", row.left.model_dump_json(), row.over), lambda: rank_of(series, int(row.over)))
    high = row.compare == "makes a new high"
    return columns.kept(("extreme", row.left.model_dump_json(), row.over, high),
                        lambda: _extreme(series, int(row.over), high))


@njit(cache=True, nogil=True)
def _extreme(x: Floats, length: int, high: bool) -> Floats:
    """Largest (high) or smallest of the `length` values before each one; NaN while one of them is missing."""
    n = len(x)
    out = np.full(n, np.nan)
    queue = np.empty(n, np.int64)  # indices whose values fall (rise) monotonously
    head = tail = 0
    known = 0
    for i in range(n):
        if i > 0:
            value = x[i - 1]
            if np.isnan(value):
                known = 0
                head = tail
            else:
                known += 1
                while tail > head and (x[queue[tail - 1]] <= value if high else x[queue[tail - 1]] >= value):
                    tail -= 1
                queue[tail] = i - 1
                tail += 1
        while tail > head and queue[head] < i - length:
            head += 1
        if known >= length:
            out[i] = x[queue[head]]
    return out


def _base(columns: Columns, row: Row) -> Flags:
    """Where the bare comparison holds, without modifiers in time."""
    size = len(columns.bars)
    left = operand_column(columns, row.left)
    if row.compare in ("rises", "falls"):
        before = columns.shifted(left, 1) if len(left) > 1 else left
        return compare(left, before, "above" if row.compare == "rises" else "below", size)
    if row.compare in RANKED:
        known = _before(columns, row, left)
        if row.compare in UNARY:
            return compare(left, known, "above" if row.compare == "makes a new high" else "below", size)
        return compare(known, operand_column(columns, row.right), row.compare.removeprefix("ranks "), size)
    if row.compare in ("between", "inside", "outside"):
        low, high = (operand_column(columns, o) for o in row.asked[1:])
        if row.compare == "outside":
            return compare(left, low, "below", size) | compare(left, high, "above", size)
        return compare(left, low, "at or above", size) & compare(left, high, "at or below", size)
    return compare(left, operand_column(columns, row.right), row.compare, size)


def _known(columns: Columns, row: Row) -> Flags:
    """Where every value that the comparison reads is there."""
    size = len(columns.bars)
    found = np.ones(size, np.bool_)
    if row.compare in RANKED:
        found &= np.isfinite(_before(columns, row, operand_column(columns, row.left)))
    for operand in row.asked:
        values = operand_column(columns, operand)
        found &= np.isfinite(values)
        if row.compare in ("rises", "falls") or row.compare.startswith("crosses"):
            found &= np.isfinite(columns.shifted(values, 1)) if len(values) > 1 else np.isfinite(values)
            found[:1] = False
    return found.view(np.uint8)


def row_flags(columns: Columns, row: Row, held: Held = NOBODY) -> Flags:
    """uint8[n]: 1 where this single row is true. held: what rows on the state of the position are taken for."""
    if isinstance(row.left, PositionOperand):
        return np.full(len(columns.bars), held.get(row, True), np.uint8)
    return _in_time(row, _base(columns, row))


def _row_false(columns: Columns, row: Row, held: Held) -> Flags:
    if isinstance(row.left, PositionOperand):
        return np.full(len(columns.bars), not held.get(row, False), np.uint8)
    return _in_time(row, _known(columns, row) & (_base(columns, row) ^ np.uint8(1)), True)


# Conditions


def _some_values(columns: Columns, operand: Operand, at: NDArray[np.int64], ago: int) -> Floats:
    """An operand's values `ago` bars before the given bars, float64[len(at)]."""
    if isinstance(operand, NumberOperand):
        return np.full(len(at), float(operand.value))
    back = at - operand.ago - ago  # type: ignore[union-attr]
    values = at_hand(columns, operand)[np.maximum(back, 0)]
    if len(back) and back[0] < 0:
        values[back < 0] = np.nan
    return values


def _some_flags(columns: Columns, row: Row, at: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Where this plain row is true among the given bars, bool[len(at)]."""
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


def _all(columns: Columns, nodes: tuple[Row | Condition, ...], held: Held) -> Flags:
    size = len(columns.bars)
    # Crossings are rare: they come first, and what follows them is asked on few bars.
    rows = sorted((r for r in nodes if isinstance(r, Row) and r.plain and not isinstance(r.left, PositionOperand)),
                  key=lambda r: not r.compare.startswith("crosses"))
    rest = [n for n in nodes if not any(n is r for r in rows)]
    flags = row_flags(columns, rows[0]) if rows else truth(columns, rest.pop(0), held)
    for number, row in enumerate(rows[1:], 1):
        if np.count_nonzero(flags.view(np.bool_)) < FEW * size:
            at = where_set(flags, 1)
            for one in rows[number:]:
                at = at[_some_flags(columns, one, at)]
            flags[:] = 0
            flags[at] = 1
            break
        flags &= row_flags(columns, row)
    for node in rest:
        flags &= truth(columns, node, held)
    return flags


def _some(columns: Columns, nodes: tuple[Row | Condition, ...], held: Held, false: bool, least: int) -> Flags:
    """Where at least `least` of the nodes are true (or known to be false)."""
    ask = falsity if false else truth
    if least == 1:
        flags = ask(columns, nodes[0], held).copy()
        for node in nodes[1:]:
            flags |= ask(columns, node, held)
        return flags
    count = np.zeros(len(columns.bars), np.uint8)
    for node in nodes:
        count += ask(columns, node, held)
    return (count >= least).view(np.uint8)


def truth(columns: Columns, node: Row | Condition, held: Held = NOBODY) -> Flags:
    """uint8[n]: 1 where a row or group is true."""
    if isinstance(node, Row):
        return row_flags(columns, node, held)
    nodes = node.active
    if not nodes:
        return np.zeros(len(columns.bars), np.uint8)
    if node.match == "all":
        flags = _all(columns, nodes, held)
    elif node.match == "none":
        flags = _some(columns, nodes, held, True, len(nodes))
    else:
        flags = _some(columns, nodes, held, False, 1 if node.match == "any" else int(node.least))
    return _in_time(node, flags)


def falsity(columns: Columns, node: Row | Condition, held: Held = NOBODY) -> Flags:
    """uint8[n]: 1 where a row or group is known to be false."""
    if isinstance(node, Row):
        return _row_false(columns, node, held)
    nodes = node.active
    if not nodes:
        return np.zeros(len(columns.bars), np.uint8)
    need = {"all": 1, "any": len(nodes), "none": 1, "at least": len(nodes) - int(node.least) + 1}[node.match]
    flags = (np.ones(len(columns.bars), np.uint8) if need < 1  # more are asked for than there are
             else _some(columns, nodes, held, node.match != "none", need))
    return _in_time(node, flags, True)


def condition_flags(columns: Columns, condition: Condition, held: Held = NOBODY) -> Flags:
    """uint8[n]: 1 where the condition holds; all zero when no row is switched on."""
    return truth(columns, condition, held)


def operands(condition: Condition) -> list[Operand]:
    """Every operand of the rows that are switched on; those of a mirrored or nested one as they stand."""
    return [o for row in condition.leaves for o in row.asked]
