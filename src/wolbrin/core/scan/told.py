"""A row of a scan in words, and as the beginning of a strategy."""

from __future__ import annotations

from wolbrin.core.market.terms import WEEKDAYS
from wolbrin.core.rules.model import Condition, Distance, IndicatorOperand, NumberOperand, Row, Side, Strategy
from wolbrin.core.rules.naming import row_name
from wolbrin.core.rules.words import in_time_words, node_words
from wolbrin.core.scan.moves import END
from wolbrin.core.search.ingredients import Node

FAR = Distance(unit="atr", amount=10.0)  # a stop that is seldom reached: what is studied is the row
DAYS = {"Mon": "Mondays", "Tue": "Tuesdays", "Wed": "Wednesdays", "Thu": "Thursdays", "Fri": "Fridays", "Sat": "Saturdays",
        "Sun": "Sundays"}
ORDINALS = ("", "first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth", "tenth")


def _value(row: Row, indicator: str) -> float | None:
    """The number that a row on the clock or calendar asks for; None where it is another row."""
    if isinstance(row.left, IndicatorOperand) and row.left.indicator == indicator and isinstance(row.right, NumberOperand):
        return float(row.right.value)
    return None


def ordinal(number: int) -> str:
    """Such as "sixth" or "23rd"."""
    if number < len(ORDINALS):
        return ORDINALS[number]
    ending = "th" if 10 <= number % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}.get(number % 10, "th")
    return f"{number}{ending}"


def _row(row: Row) -> str:
    day = _value(row, "weekday")
    if day is not None and row.compare == "equals" and row.when == "now" and not row.back and 1 <= day <= 7:
        return DAYS[WEEKDAYS[int(day) - 1]]
    bar = _value(row, "bars_in_session")
    if bar is not None and row.compare == "equals" and row.when == "now" and not row.back:
        return f"at the session's {ordinal(int(bar))} bar"
    if isinstance(row.left, IndicatorOperand) and row.left.indicator in ("weekday", "month", "time_of_day"):
        return row_name(row) + in_time_words(row)
    return node_words(row)


def node_text(node: Node) -> str:
    """A row in words, such as "Tuesdays" or "close is above Session open at the session's sixth bar"."""
    if isinstance(node, Row):
        return _row(node)
    rows = node.active
    last = rows[-1] if rows else None
    if node.match == "all" and isinstance(last, Row) and _value(last, "bars_in_session") is not None and len(rows) > 1:
        rest = node.rows[:-1]
        return f"{' and '.join(node_text(r) for r in rest)} {_row(last)}"
    days = [r for r in rows if isinstance(r, Row) and _value(r, "weekday") is not None]
    hours = [r for r in rows if isinstance(r, Row) and _value(r, "time_of_day") is not None]
    if node.match == "all" and len(rows) == 3 and len(days) == 1 and len(hours) == 2:
        first, until = (int(_value(r, "time_of_day") or 0) for r in hours)
        return f"{_row(days[0])}, {first // 100:02d}:{first % 100:02d} to {until // 100:02d}:{until % 100:02d}"
    if node.match == "none" and len(rows) == 1 and isinstance(rows[0], Row):
        return f"not {_row(rows[0])}"
    return node_words(node, False)


def pair_text(fires: Node, holds: Node) -> str:
    """A pair in words."""
    return f"{node_text(fires)}, while {node_text(holds)}"


def horizon_text(horizon: int, state: bool) -> str:
    """For how long, such as "into the close", "over 8 bars" or "while it holds"."""
    if horizon == END:
        return "into the close"
    if horizon == 1:
        return "while it holds" if state else "over 1 bar"
    return f"over {horizon} bars"


def move_text(node_words_: str, side: int, horizon: int, state: bool) -> str:
    """A row and what price does after it, such as "Tuesdays, down into the close"."""
    return f"{node_words_}, {'up' if side > 0 else 'down'} {horizon_text(horizon, state)}"


def condition_of(nodes: tuple[Node, ...]) -> Condition:
    """Rows as one entry condition, those of a group of "all of" among them."""
    rows: list[Node] = []
    for node in nodes:
        plain = isinstance(node, Condition) and node.match == "all" and node.when == "now" and not node.back
        rows += node.rows if plain and isinstance(node, Condition) else [node]
    return Condition(rows=tuple(rows))


def strategy_of(nodes: tuple[Node, ...], side: int, horizon: int, flat: bool, name: str, state: bool = False) -> Strategy:
    """A strategy that begins from a row or a pair: enters at the next open in the direction price went, holds to the
    horizon or the session's end, its stop far away."""
    entry = condition_of(nodes)
    leave = Condition(match="none", rows=entry.rows) if horizon == 1 and state and len(entry.rows) == 1 else Condition()
    if horizon == 1 and state and len(entry.rows) > 1:
        leave = Condition(match="none", rows=(entry,))
    mine, off = Side(entry=entry, exit=leave), Side(mode="off")
    return Strategy(name=name[:80], long=mine if side > 0 else off, short=mine if side < 0 else off, stop=FAR,
                    time_exit=None if horizon == END or leave.active else horizon,
                    flat_by_session_end=flat or horizon == END)
