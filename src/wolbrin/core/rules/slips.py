"""What people write who know other languages, and how it is written here."""

from __future__ import annotations

import ast
import re

# In the line that could not be read, in this order: what it holds, and what to write.
_LINES: tuple[tuple[re.Pattern[str], str], ...] = tuple((re.compile(pattern), words) for pattern, words in (
    (r"&&|\|\|", "write and, or between conditions, not && and ||"),
    (r"<>|\u2260|!=", 'for "not equal" write not a == b'),
    (r"\u2265|\u2264", "write >= and <="),
    (r"[\u201c\u201d\u2018\u2019]", "write plain quotation marks: \" or '"),
    (r"(?<![=!<>])!(?!=)", "write not in front of a condition, not !"),
    (r"\b(AND|OR|NOT)\b", "write and, or, not in small letters"),
    (r"(?i)\bcross(es|ed)?\s+(above|over|up)", "write crosses_above(a, b), such as crosses_above(close, sma(20))"),
    (r"(?i)\bcross(es|ed)?\s+(below|under|down)", "write crosses_below(a, b), such as crosses_below(close, sma(20))"),
    (r"(?i)^[^=]*=?\s*\bif\b", "a rule is a condition by itself: write long_entry = close > open, without if"),
    (r"(?i)\bthen\b", "a rule is a condition by itself: write long_entry = close > open, without then"),
    (r"\d\s*%", "there is no %: a distance is written percent(0.5), other shares as numbers"),
    (r"(?i)=\s*[\d.]+\s*R\b", "a multiple of the stop is written 2 * stop"),
    (r"(?i)=\s*[\d.]+\s*(ticks?|pips?|points?)\b", "a distance in ticks is written ticks(20)"),
    (r"(?i)\bis\s+(above|below)", "write > or <"),
    (r":=", "write =, as in long_entry = close > open"),
    (r"//|/\*", "a remark begins with #"),
    (r"(?i)\b(ago|back)\s*$|\bbars?\s+ago\b", "an earlier bar is written ago(close, 1)"),
    (r"\b(and|or|not)\s*$", "a condition is missing at the end"),
    (r"[{}]", "there are no { }: every line is an assignment, as in long_entry = close > open"),
))
# Names that are not known here, small letters, and what to write instead.
_NAMES = {
    "true": "a condition that always holds is written close > 0", "false": "leave the condition out",
    "abs": "there is no abs: write any_of(a - b > 2, b - a > 2)", "time": "the time of day is time_of_day(), as in "
    "time_of_day() <= 13:00",
    "hour": "the time of day is time_of_day(), as in time_of_day() >= 13:00",
    "minute": "the time of day is time_of_day(), as in time_of_day() >= 13:00",
    "bollinger": "bands are bands(20, 2).upper, .middle, .lower", "bb": "bands are bands(20, 2).upper, .middle, .lower",
    "dayofweek": "the day is weekday(), 1 for Monday", "day_of_week": "the day is weekday(), 1 for Monday",
    "avg": "the mean of a series is sma(of, length)", "average": "the mean of a series is sma(of, length)",
    "mean": "the mean of a series is sma(of, length)", "mov": "the mean of a series is sma(of, length)",
    "ref": "an earlier bar is written ago(close, 1)", "shift": "an earlier bar is written ago(close, 1)",
    "offset": "an earlier bar is written ago(close, 1)", "hhv": "the highest of 20 bars is highest(20)",
    "llv": "the lowest of 20 bars is lowest(20)", "max": "the highest of 20 bars is highest(20)",
    "min": "the lowest of 20 bars is lowest(20)", "crossover": "write crosses_above(a, b)",
    "crossunder": "write crosses_below(a, b)", "cross": "write crosses_above(a, b) or crosses_below(a, b)",
    "crosses": "write crosses_above(a, b) or crosses_below(a, b)", "iff": "a rule is a condition by itself",
    "bars_since": "write within(condition, 3) for within three bars, held(condition, 3) for so long",
    "barssince": "write within(condition, 3) for within three bars, held(condition, 3) for so long",
    "stop_loss": "the stop is written stop = 2 * atr(14)", "stoploss": "the stop is written stop = 2 * atr(14)",
    "sl": "the stop is written stop = 2 * atr(14)", "tp": "the target is written target = 2 * stop",
    "profit_target": "the target is written target = 2 * stop", "take_profit": "the target is written target = 2 * stop",
    "buy": "the entry is written long_entry = close > open", "sell": "short entries are written short_entry = ..., exits "
    "long_exit",
    "entry": "the entry is written long_entry = close > open", "exit": "the exit is written long_exit = close < open",
    "contracts": "the size is written quantity = 2", "size": "the size is written quantity = 2",
}
_DAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
_GLUED = re.compile(r"^([a-z_]+?)_?(\d+)$")


def in_line(line: str) -> str:
    """What to write instead of what a line holds that cannot be read, "" where nothing is known."""
    bare = re.sub(r"\"[^\"]*\"|'[^']*'", "''", line).split("#")[0]
    return next((words for pattern, words in _LINES if pattern.search(bare)), "")


def of_name(name: str, known: object) -> str:
    """What to write instead of a name that is not known, "" where nothing is known. known: a container of those that are."""
    small = name.casefold()
    if small in _NAMES:
        return _NAMES[small]
    if small in _DAYS:
        return f"write weekday() == {_DAYS.index(small) + 1}"
    if name != small and small in known:  # type: ignore[operator]
        return f"names are written in small letters: {small}"
    glued = _GLUED.match(small)
    if glued and glued[1] in known:  # type: ignore[operator]
        return f"write {glued[1]}({glued[2]})"
    return ""


def of_node(node: ast.AST) -> str:
    """What to write instead of a form that the language does not have, "" where nothing is known."""
    if isinstance(node, ast.Subscript):
        inner = ast.unparse(node.value)
        at = ast.unparse(node.slice).lstrip("-")
        return f"a value some bars before is written ago({inner}, {at if at.isdigit() else 1})"
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.BitAnd | ast.BitOr | ast.BitXor):
        sign = {ast.BitAnd: "and instead of &", ast.BitOr: "or instead of |"}.get(type(node.op))
        return f"write {sign}" if sign else "^ is not known: multiply, as in 2 * 2"
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Pow | ast.Mod | ast.FloorDiv):
        return "only + - * and / are known"
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr in ("shift", "ago", "prev"):
        return f"a value some bars before is written ago({ast.unparse(node.func.value)}, 1)"
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        return "a number or a series belongs here, without quotation marks"
    if isinstance(node, ast.Tuple) and all(isinstance(e, ast.Constant | ast.Compare) for e in node.elts):
        return "a decimal point is written 0.5, not 0,5"
    if isinstance(node, ast.IfExp):
        return "a rule is a condition by itself: join conditions with and, or, not"
    return ""
