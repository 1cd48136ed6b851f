"""A short name that says what a strategy does: "Opening range 60 up, ATR 2.5 stop"."""

from __future__ import annotations

from wolbrin.core.indicators.catalogue import BY_KEY
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.rules.model import (
    Condition,
    Distance,
    FieldOperand,
    IndicatorOperand,
    NumberOperand,
    Operand,
    Row,
    Strategy,
)
from wolbrin.core.rules.times import TIME_OF_DAY, clock_text
from wolbrin.core.rules.words import operand_words, row_words

MOST = 76  # characters
WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
MONTHS = ("January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November",
          "December")
SIGNS = {"above": ">", "below": "<", "at or above": "\u2265", "at or below": "\u2264", "equals": "=",
         "crosses above": "up through", "crosses below": "down through"}
UP = {"above": "above", "crosses above": "up", "below": "below", "crosses below": "down", "at or above": "above",
      "at or below": "below"}


def _plain(operand: Operand) -> str:
    """A series without brackets: "RSI 14", "60 min EMA 20"."""
    if not isinstance(operand, IndicatorOperand):
        return operand_words(operand)
    entry = BY_KEY[operand.indicator]
    words = [entry.title]
    if len(entry.outputs) > 1:
        output = entry.output(operand.output).title
        words = [output if entry.title.casefold() in output.casefold() else f"{entry.title} {output.casefold()}"]
    words += [f"{operand.settings[p.key]:g}" for p in entry.params[:2]]
    text = " ".join(words)
    if operand.interval is not None:
        text = f"{interval_words(operand.interval)} {text}"
    return f"{operand.market} {text}" if operand.market else text


def _of_time(row: Row) -> str | None:
    """Rows on the clock and the calendar."""
    if not isinstance(row.left, IndicatorOperand) or not isinstance(row.right, NumberOperand):
        return None
    key, value = row.left.indicator, row.right.value
    last = row.upper.value if isinstance(row.upper, NumberOperand) else value
    names = {"weekday": WEEKDAYS, "month": MONTHS}.get(key)
    if names is not None and 1 <= value <= len(names) and 1 <= last <= len(names):
        first = names[int(value) - 1]
        return {"equals": first, "between": f"{first[:3]} to {names[int(last) - 1][:3]}"}.get(row.compare)
    if key == TIME_OF_DAY:
        return {"at or above": f"from {clock_text(value)}", "above": f"after {clock_text(value)}",
                "at or below": f"until {clock_text(value)}", "below": f"before {clock_text(value)}",
                "between": f"{clock_text(value)} to {clock_text(last)}"}.get(row.compare)
    if key == "bars_in_session" and row.compare == "equals":
        return f"bar {value:g} of the session"
    return None


def row_name(row: Row) -> str:
    """A row, briefly."""
    timed = _of_time(row)
    if timed is not None:
        return timed
    if row.when != "now" or row.back or row.compare not in SIGNS:
        return row_words(row)
    if isinstance(row.left, FieldOperand) and isinstance(row.right, IndicatorOperand) and not row.left.ago:
        return f"{_plain(row.right)} {UP[row.compare]}"
    return f"{_plain(row.left)} {SIGNS[row.compare]} {_plain(row.right)}"


def _node_name(node: Row | Condition) -> str:
    if isinstance(node, Row):
        return row_name(node)
    inner = [_node_name(n) for n in node.active]
    if not inner:
        return ""
    text = inner[0] if len(inner) == 1 else f"{inner[0]} and {len(inner) - 1} more"
    return f"not {text}" if node.match == "none" else text


def _distance(distance: Distance) -> str:
    amount = f"{distance.amount:g}"
    return {"atr": f"ATR {amount}", "ticks": f"{amount} ticks", "money": f"{amount} money", "percent": f"{amount}%",
            "stop": f"{amount} R"}.get(distance.unit, "level")


def short_name(strategy: Strategy) -> str:
    """What a strategy does, in at most MOST characters: its first entry row, how many more, and what ends a trade."""
    side = strategy.long if strategy.long.mode == "own" and strategy.long.entry.active else strategy.short
    nodes = side.entry.active
    entry = _node_name(nodes[0]) if nodes else "No entry"
    more = f" and {len(nodes) - 1} more" if len(nodes) > 1 else ""
    ends = []
    if strategy.stop is not None:
        ends.append(f"{_distance(strategy.stop)} stop")
    elif strategy.trail is not None:
        ends.append(f"{_distance(strategy.trail.distance)} trail")
    if strategy.time_exit is not None and len(ends) < 2:
        ends.append(f"{strategy.time_exit} bars")
    elif strategy.target is not None and len(ends) < 2:
        ends.append(f"{_distance(strategy.target)} target")
    one_sided = "" if strategy.short.mode != "off" and strategy.long.mode != "off" else (
        ", long" if strategy.short.mode == "off" else ", short")
    tail = f"{more}{one_sided}" + (f", {', '.join(ends)}" if ends else "")
    room = MOST - len(tail)
    head = entry if len(entry) <= room else entry[:room - 1].rstrip() + "\u2026"
    return head[:1].upper() + head[1:] + tail


def family_of(strategy: Strategy) -> str:
    """The group of indicators that the first entry row is on: what kind of idea it is."""
    side = strategy.long if strategy.long.mode == "own" and strategy.long.entry.active else strategy.short
    for row in side.entry.leaves:
        for operand in row.asked[::-1]:
            if isinstance(operand, IndicatorOperand):
                return BY_KEY[operand.indicator].group
    return "price" if side.entry.leaves else ""
