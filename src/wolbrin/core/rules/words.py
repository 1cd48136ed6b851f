"""A strategy in plain English, generated from the model so that it never disagrees with what is traded."""

from __future__ import annotations

from wolbrin.core.indicators.catalogue import BY_KEY
from wolbrin.core.rules.mirror import effective_long, effective_short
from wolbrin.core.rules.model import (
    UNARY,
    Condition,
    Distance,
    FieldOperand,
    NumberOperand,
    Operand,
    Row,
    Strategy,
)


def number(value: float) -> str:
    return f"{value:g}".replace("-", "\u2212")


def operand_words(operand: Operand) -> str:
    if isinstance(operand, NumberOperand):
        return number(operand.value)
    if isinstance(operand, FieldOperand):
        text = operand.field
    else:
        text = BY_KEY[operand.indicator].label(operand.settings, operand.output, operand.source)
    if operand.times != 1.0:
        text = f"{number(operand.times)} \u00d7 {text}"
    return f"{text} {operand.ago} bars ago" if operand.ago else text


def row_words(row: Row) -> str:
    verb = row.compare if row.compare.startswith("crosses") or row.compare in UNARY else f"is {row.compare}"
    left = operand_words(row.left)
    return f"{left} {verb}" if row.compare in UNARY else f"{left} {verb} {operand_words(row.right)}"


def condition_words(condition: Condition) -> str:
    joint = " and " if condition.match == "all" else " or "
    return joint.join(row_words(r) for r in condition.active)


def distance_words(distance: Distance) -> str:
    if distance.unit == "ticks":
        return f"{number(distance.amount)} ticks"
    if distance.unit == "stop":
        return f"{number(distance.amount)} \u00d7 stop"
    return f"{number(distance.amount)} ATR({distance.length})"


def describe(strategy: Strategy) -> str:
    """One short paragraph: entries, exits, protective orders, session rule."""
    when = "at the next open" if strategy.fill == "next open" else "at that close"
    long_side, short_side = effective_long(strategy), effective_short(strategy)
    parts: list[str] = []
    mirrored = strategy.short.mode == "mirrored" and strategy.long.mode != "off"
    if long_side.entry.active:
        parts.append(f"Buy {when} when {condition_words(long_side.entry)}.")
    if mirrored and short_side.entry.active:
        parts.append("Sell short mirrored.")
    elif short_side.entry.active:
        parts.append(f"Sell short {when} when {condition_words(short_side.entry)}.")
    if not parts:
        return "No entry yet: add a row to the long or the short entry."
    if long_side.exit.active:
        parts.append(f"Leave a long when {condition_words(long_side.exit)}.")
    if short_side.exit.active and not mirrored:
        parts.append(f"Leave a short when {condition_words(short_side.exit)}.")
    protection = []
    if strategy.stop:
        protection.append(f"stop {distance_words(strategy.stop)}")
    if strategy.target:
        protection.append(f"target {distance_words(strategy.target)}")
    if strategy.time_exit:
        protection.append(f"out after {strategy.time_exit} bars")
    if strategy.flat_by_session_end:
        protection.append("flat by session end")
    if protection:
        text = ", ".join(protection)
        parts.append(text[0].upper() + text[1:] + ".")
    return " ".join(parts)
