"""A strategy in plain English, generated from the model so that it never disagrees with what is traded."""

from __future__ import annotations

from wolbrin.core.indicators.catalogue import BY_KEY
from wolbrin.core.market.date_numbers import date_of, date_words
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.rules.dated import schedule_words
from wolbrin.core.rules.mirror import effective_long, effective_short
from wolbrin.core.rules.model import (
    UNARY,
    CombinedOperand,
    Condition,
    CustomOperand,
    Distance,
    EntryOrder,
    FieldOperand,
    Filters,
    IndicatorOperand,
    Level,
    NumberOperand,
    Operand,
    PositionOperand,
    Row,
    Strategy,
)
from wolbrin.core.rules.named import formula_of
from wolbrin.core.rules.times import clock_text, reads_as_time

POSITION = {"bars_held": "bars held", "open_profit_r": "open profit in R", "entries_today": "entries today"}
SIGN = {"+": "+", "-": "\u2212", "*": "\u00d7", "/": "/"}


def number(value: float) -> str:
    """A number in words; a named one with its name."""
    formula = formula_of(value)
    plain = f"{value:g}".replace("-", "\u2212")
    return plain if formula is None else f"{plain} ({formula})"


def operand_words(operand: Operand, inside: bool = False) -> str:
    """An operand, such as "1.5 × ATR(14)". inside: it stands in other arithmetic, so that it takes brackets."""
    if isinstance(operand, NumberOperand):
        day = date_of(float(operand.value))
        return number(operand.value) + (f" ({date_words(day)})" if day is not None else "")
    if isinstance(operand, PositionOperand):
        return POSITION[operand.state]
    if isinstance(operand, CombinedOperand):
        text = f"{operand_words(operand.left, True)} {SIGN[operand.join]} {operand_words(operand.right, True)}"
        text = f"({text})" if inside or operand.ago else text
        return f"{text} {_ago(operand.ago)}" if operand.ago else text
    if isinstance(operand, FieldOperand):
        text = operand.field
    elif isinstance(operand, CustomOperand):
        args = ", ".join(number(v) for v in operand.params.values())
        text = f"{operand.name}({args})" if args else operand.name
    else:
        text = _label(operand)
        if operand.of is not None and not isinstance(operand.of, str):
            text += f" of {operand_words(operand.of, True)}"
    if operand.times != 1.0 or formula_of(operand.times):
        text = f"{number(operand.times)} \u00d7 {text}"
    if operand.interval is not None:
        text = f"{interval_words(operand.interval)} {text}"
    if operand.market is not None:
        text = f"{operand.market} {text}"
    return f"{text} {_ago(operand.ago)}" if operand.ago else text


def _label(operand: IndicatorOperand) -> str:
    """Such as "EMA(20)", or "EMA(fast = 20)" where the number has a name."""
    entry = BY_KEY[operand.indicator]
    text = entry.label(operand.settings, operand.output, operand.source)
    if all(formula_of(v) is None for v in operand.params.values()):
        return text
    values = [operand.settings[p.key] for p in entry.params]
    args = ", ".join(f"{v:g}" if formula_of(v) is None else f"{formula_of(v)} = {v:g}" for v in values)
    return text.replace(text[text.index("("):text.index(")") + 1], f"({args})", 1)


def _ago(bars: int) -> str:
    return f"{number(bars)} bar{'' if bars == 1 else 's'} ago"


def in_time_words(node: Row | Condition) -> str:
    """What a row or group adds in time: "for 6 bars", "within 3 bars", "2 bars ago"."""
    bars = f"{number(node.for_bars)} bar{'' if node.for_bars == 1 else 's'}"
    text = {"now": "", "held": f" for {bars}", "within": f" within {bars}"}[node.when]
    return f"{text}, {_ago(node.back)}" if node.back else text


def beside_words(operand: Operand, other: Operand | None) -> str:
    """An operand in words, beside what it is compared with: a number beside the time of day is one."""
    if reads_as_time(operand, other) and isinstance(operand, NumberOperand):
        return clock_text(operand.value)
    return operand_words(operand)


def row_words(row: Row) -> str:
    left = operand_words(row.left)
    over = f"of {number(row.over)} bars"
    verb = row.compare if row.compare.startswith(("crosses", "makes", "ranks", "equals")) or row.compare in UNARY else (
        f"is {row.compare}")
    if row.compare in ("rises", "falls"):
        text = f"{left} {verb}"
    elif row.compare in UNARY:
        text = f"{left} {verb} {over}"
    elif row.compare == "between" and row.upper is not None:
        text = f"{left} is between {beside_words(row.right, row.left)} and {beside_words(row.upper, row.left)}"
    elif row.compare in ("inside", "outside") and isinstance(row.right, IndicatorOperand):
        entry = BY_KEY[row.right.indicator]
        args = ", ".join(number(v) for v in row.right.settings.values())
        text = f"{left} is {row.compare} {entry.title}({args})"
    elif row.compare.startswith("ranks"):
        text = f"{left} {verb} {operand_words(row.right)}% {over}"
    else:
        text = f"{beside_words(row.left, row.right)} {verb} {beside_words(row.right, row.left)}"
    return text + in_time_words(row)


def node_words(node: Row | Condition, inside: bool = True) -> str:
    """A row or group in words; a group inside another one takes brackets."""
    if isinstance(node, Row):
        return row_words(node)
    rows = node.active
    joint = {"all": " and ", "any": " or ", "at least": ", ", "none": " or "}[node.match]
    text = joint.join(node_words(r) for r in rows)
    if node.match == "at least":
        text = f"at least {number(node.least)} of ({text})"
    elif node.match == "none":
        text = f"not ({text})"
    elif (inside and len(rows) > 1) or (node.when != "now" or node.back):
        text = f"({text})"
    return text + in_time_words(node)


def condition_words(condition: Condition) -> str:
    return node_words(condition, False)


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
    if strategy.schedule is not None:
        parts.append(f"Dated numbers, instead of those named here: {'; '.join(schedule_words(strategy, 1))}.")
    return " ".join(parts)
