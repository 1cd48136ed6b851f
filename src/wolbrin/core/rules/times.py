"""Times of day: numbers HHMM in the model, 13:00 wherever people read or write them."""

from __future__ import annotations

import re

from wolbrin.core.rules.named import formula_of
from wolbrin.core.rules.operands import IndicatorOperand, NumberOperand, Operand

TIME_OF_DAY = "time_of_day"
# Outside quotation marks: text is passed over whole, so that no part of it is taken for a time.
_PART = re.compile(r"""("[^"\n]*"|'[^'\n]*')|(?<![\w.:])(\d{1,2}):(\d{2})(?![\w:])""")


def clock_text(value: float) -> str:
    """Such as "09:30" of 930."""
    return f"{int(value) // 100:02d}:{int(value) % 100:02d}"


def is_time(value: float) -> bool:
    """Whether a number is a time of day, HHMM."""
    return float(value).is_integer() and 0 <= value <= 2400 and int(value) % 100 < 60


def on_clock(operand: Operand | None) -> bool:
    """Whether an operand's values are times of day."""
    return isinstance(operand, IndicatorOperand) and operand.indicator == TIME_OF_DAY and operand.times == 1.0


def reads_as_time(operand: Operand | None, beside: Operand | None) -> bool:
    """Whether a number is read as a time of day, since it stands beside one; a named number keeps its name."""
    return (isinstance(operand, NumberOperand) and on_clock(beside) and is_time(operand.value)
            and formula_of(operand.value) is None)


def as_numbers(text: str) -> tuple[str, tuple[int, str] | None]:
    """A formula with its times as numbers of the same width, so that every column stays; and where one stands that is none:
    its place and what it says."""
    wrong: list[tuple[int, str]] = []

    def number(found: re.Match[str]) -> str:
        if found[1] is not None:
            return found[0]
        hours, minutes = int(found[2]), int(found[3])
        if minutes > 59 or hours * 60 + minutes > 24 * 60:
            wrong.append((found.start(), found[0]))
        return str(hours * 100 + minutes).ljust(len(found[0]))

    return _PART.sub(number, text), (wrong[0] if wrong else None)
