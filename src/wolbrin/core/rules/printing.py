"""Writing formulas: the text that reads back as exactly the same condition."""

from __future__ import annotations

from wolbrin.core.indicators.catalogue import BY_KEY
from wolbrin.core.rules import language
from wolbrin.core.rules.language import spelled
from wolbrin.core.rules.model import Condition, Row
from wolbrin.core.rules.named import formula_of
from wolbrin.core.rules.operands import (
    CombinedOperand,
    CustomOperand,
    FieldOperand,
    IndicatorOperand,
    NumberOperand,
    Operand,
    PositionOperand,
)
from wolbrin.core.rules.times import clock_text, reads_as_time

_SIGN = {"above": ">", "below": "<", "at or above": ">=", "at or below": "<=", "equals": "=="}
_CALL = {v: k for table in (language.COMPARING, language.TURNING, language.EXTREMES, language.RANKS, language.BANDS)
         for k, v in table.items()}


def number_text(value: float, inside: bool = False) -> str:
    """A number; a named one as its formula, in brackets where it stands in other arithmetic."""
    formula = formula_of(value)
    if formula is not None:
        return formula if formula.isidentifier() or not inside else f"({formula})"
    return str(int(value)) if float(value).is_integer() and abs(value) < 1e15 else repr(float(value))


def operand_text(operand: Operand, inside: str = "") -> str:
    """An operand's formula. inside: the sign of the arithmetic that it stands in."""
    if isinstance(operand, NumberOperand):
        return number_text(operand.value, bool(inside))
    if isinstance(operand, PositionOperand):
        return operand.state
    if isinstance(operand, CombinedOperand):
        text = f"{operand_text(operand.left, operand.join)} {operand.join} {operand_text(operand.right, operand.join)}"
        if operand.ago:
            return f"ago({text}, {number_text(operand.ago)})"
        return f"({text})" if inside else text
    text = _bare(operand)
    if operand.interval is not None or operand.market is not None:
        where = [f"interval={operand.interval}"] if operand.interval is not None else []
        where += [f'market="{_quoted(operand.market)}"'] if operand.market is not None else []
        text = f"series({text}, {', '.join(where)})"
    if operand.ago:
        text = f"ago({text}, {number_text(operand.ago)})"
    if operand.times != 1.0 or formula_of(operand.times):
        text = f"{number_text(operand.times, True)} * {text}"
        return f"({text})" if inside in ("*", "/") else text
    return text


def _quoted(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")


def _bare(operand: FieldOperand | IndicatorOperand | CustomOperand) -> str:
    if isinstance(operand, FieldOperand):
        return operand.field
    if isinstance(operand, CustomOperand):
        turns = [f'turns="{operand.turns}"'] if operand.turns != "unsigned" else []
        settings = [f"{k}={number_text(v)}" for k, v in operand.params.items()]
        args = [f'"{operand.name}"', f'"{operand.digest}"', *turns, *settings]
        return f"own({', '.join(args)})"
    entry = BY_KEY[operand.indicator]
    args = []
    if operand.of is not None:
        args.append(operand.of if isinstance(operand.of, str) else operand_text(operand.of))
    in_order = True
    for param in entry.params:
        if param.key not in operand.params:
            in_order = False
            continue
        text = number_text(operand.params[param.key])
        args.append(text if in_order else f"{param.key}={text}")
    dot = "" if len(entry.outputs) == 1 else f".{spelled(operand.output)}"
    # A number alone in front would read as a setting.
    if isinstance(operand.of, NumberOperand):
        args[0] = f"of={args[0]}"
    return f"{entry.key}({', '.join(args)}){dot}"


def beside_text(operand: Operand, other: Operand | None) -> str:
    """An operand's formula beside what it is compared with: a number beside the time of day is written as one."""
    if reads_as_time(operand, other) and isinstance(operand, NumberOperand):
        return clock_text(operand.value)
    return operand_text(operand)


def _row(row: Row) -> str:
    left = operand_text(row.left)
    if row.compare in _SIGN:
        return f"{beside_text(row.left, row.right)} {_SIGN[row.compare]} {beside_text(row.right, row.left)}"
    if row.compare == "between" and row.upper is not None:
        return f"{beside_text(row.right, row.left)} <= {left} <= {beside_text(row.upper, row.left)}"
    args = [left]
    if row.compare in ("inside", "outside"):
        assert isinstance(row.right, IndicatorOperand)
        elsewhere = row.right.interval is not None or row.right.market is not None
        args.append(operand_text(row.right) if elsewhere else _bare(row.right).rpartition(".")[0])
    elif row.compare not in ("rises", "falls", "makes a new high", "makes a new low"):
        args.append(operand_text(row.right))
    if row.compare.startswith(("makes", "ranks")):
        args.append(number_text(row.over))
    return f"{_CALL[row.compare]}({', '.join(args)})"


def node_text(node: Row | Condition, inside: bool = False) -> str:
    """The formula of a row or group. inside: it stands among others."""
    if isinstance(node, Row):
        text, joined = _row(node), False
    else:
        text, joined = _group(node)
    if isinstance(node, Row) and node.compare in ("rises", "falls") and node.when == "held" and node.for_bars != 1:
        text = f"{node.compare}({operand_text(node.left)}, {number_text(node.for_bars)})"
    elif node.when != "now":
        text, joined = f"{node.when}({text}, {number_text(node.for_bars)})", False
    if node.back:
        text, joined = f"ago({text}, {number_text(node.back)})", False
    if not node.on:
        text, joined = f"off({text})", False
    return f"({text})" if inside and joined else text


def _group(group: Condition) -> tuple[str, bool]:
    parts = [node_text(r, True) for r in group.rows]
    if group.match in ("all", "any") and len(parts) > 1:
        return (" and " if group.match == "all" else " or ").join(parts), True
    if group.match == "none" and len(parts) == 1:
        only = group.rows[0]
        return f"not {parts[0] if isinstance(only, Condition) else '(' + parts[0] + ')'}", False
    name = {v: k for k, v in language.GROUPS.items()}[group.match]
    first = [number_text(group.least)] if group.match == "at least" else []
    return f"{name}({', '.join(first + [node_text(r) for r in group.rows])})", False


def condition_text(condition: Condition) -> str:
    """The formula of a whole condition; empty for an empty one."""
    plain = condition.match == "all" and condition.when == "now" and not condition.back
    if plain and not condition.rows:
        return ""
    if plain and len(condition.rows) == 1 and (isinstance(condition.rows[0], Row) or not condition.rows[0].on):
        return node_text(condition.rows[0])
    return node_text(condition)
