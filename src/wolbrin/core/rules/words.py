"""A strategy in plain English, generated from the model so that it never disagrees with what is traded."""

from __future__ import annotations

from wolbrin.core.indicators.catalogue import BY_KEY
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.rules.mirror import effective_long, effective_short
from wolbrin.core.rules.model import (
    UNARY,
    Condition,
    Distance,
    EntryOrder,
    FieldOperand,
    Filters,
    Level,
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
    if operand.interval is not None:
        text = f"{interval_words(operand.interval)} {text}"
    if operand.market is not None:
        text = f"{operand.market} {text}"
    return f"{text} {operand.ago} bars ago" if operand.ago else text


def row_words(row: Row) -> str:
    verb = row.compare if row.compare.startswith("crosses") or row.compare in UNARY else f"is {row.compare}"
    left = operand_words(row.left)
    return f"{left} {verb}" if row.compare in UNARY else f"{left} {verb} {operand_words(row.right)}"


def condition_words(condition: Condition) -> str:
    joint = " and " if condition.match == "all" else " or "
    return joint.join(row_words(r) for r in condition.active)


def distance_words(distance: Distance) -> str:
    amount = number(distance.amount)
    if distance.unit == "level" and distance.level is not None:
        return f"at {level_words(distance.level)}"
    return {"ticks": f"{amount} ticks", "stop": f"{amount} \u00d7 stop", "money": f"{amount} a contract",
            "percent": f"{amount}% of the entry"}.get(distance.unit, f"{amount} ATR({distance.length})")


def level_words(level: Level) -> str:
    """A level, such as "Highest(20) of high + 2 ticks"."""
    text = operand_words(level.operand)
    if not level.offset:
        return text
    sign = "+" if level.offset > 0 else "\u2212"
    unit = "ticks" if level.unit == "ticks" else f"ATR({level.length})"
    return f"{text} {sign} {number(abs(level.offset))} {unit}"


def entry_words(order: EntryOrder, verb: str, when: str) -> str:
    """How a side enters: "Buy at the next open", or by a resting order."""
    if order.kind == "market" or order.level is None:
        return f"{verb} {when}"
    bars = "the next bar" if order.bars == 1 else f"the next {order.bars} bars"
    touch = f", {order.touch_ticks} ticks through" if order.kind == "limit" and order.touch_ticks else ""
    return f"{verb} by a {order.kind} order at {level_words(order.level)}{touch}, resting for {bars},"


def sizing_words(strategy: Strategy) -> str:
    """The quantity in a few words."""
    amount = number(strategy.sizing.amount)
    return {"risk": f"{amount}% of equity at risk", "percent": f"{amount}% of equity", "notional": f"{amount} notional"}.get(
        strategy.sizing.kind, f"{number(strategy.quantity)} contract{'' if strategy.quantity == 1 else 's'}")


def filter_words(filters: Filters) -> list[str]:
    """Each entry filter in a few words."""
    found = [f"between {w.first} and {w.last}" for w in filters.windows]
    if filters.weekdays:
        found.append("on " + ", ".join(filters.weekdays))
    if filters.most_entries:
        found.append(f"at most {filters.most_entries} entr{'y' if filters.most_entries == 1 else 'ies'} a date")
    if filters.last_minutes:
        found.append(f"not in the last {filters.last_minutes} minutes of a session")
    if filters.oversized:
        found.append(f"not after a bar above {number(filters.oversized.multiple)} ATR({filters.oversized.length})")
    return found


def describe(strategy: Strategy) -> str:
    """One short paragraph: entries, exits, protective orders, session rule."""
    when = "at the next open" if strategy.fill == "next open" else "at that close"
    long_side, short_side = effective_long(strategy), effective_short(strategy)
    parts: list[str] = []
    mirrored = strategy.short.mode == "mirrored" and strategy.long.mode != "off"
    if long_side.entry.active:
        parts.append(f"{entry_words(long_side.order, 'Buy', when)} when {condition_words(long_side.entry)}.")
    if mirrored and short_side.entry.active:
        parts.append("Sell short mirrored.")
    elif short_side.entry.active:
        parts.append(f"{entry_words(short_side.order, 'Sell short', when)} when {condition_words(short_side.entry)}.")
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
    if strategy.trail:
        begin = f" once {distance_words(strategy.trail.start_after)} ahead" if strategy.trail.start_after else ""
        protection.append(f"trail {distance_words(strategy.trail.distance)}{begin}")
    if strategy.break_even:
        protection.append(f"break even after {distance_words(strategy.break_even.after)}")
    if strategy.time_exit:
        protection.append(f"out after {strategy.time_exit} bar{'' if strategy.time_exit == 1 else 's'}")
    if strategy.flat_by_session_end:
        protection.append("flat by session end")
    if protection:
        text = ", ".join(protection)
        parts.append(text[0].upper() + text[1:] + ".")
    if filters := filter_words(strategy.filters):
        parts.append(f"Entries: {'; '.join(filters)}.")
    if strategy.sizing.kind != "fixed" or strategy.quantity != 1.0:
        parts.append(f"Size: {sizing_words(strategy)}.")
    return " ".join(parts)
