"""Numbers as the trade writes them: thousands separators, a true minus sign, n/a where there is no value."""

from __future__ import annotations

import math
from collections.abc import Sequence

from wolbrin.core.measures.catalogue import BY_KEY

MINUS = "\u2212"
DIGITS: dict[str, int] = {"money": 0, "percent": 1, "ratio": 2, "count": 0, "days": 0, "R": 2}


def number(value: float, digits: int = 0, sign: bool = False) -> str:
    """1234.5 -> "1,234" or "+1,234"; NaN -> "n/a"; an infinite value -> the infinity sign."""
    if math.isnan(value):
        return "n/a"
    if math.isinf(value):
        return "\u221e" if value > 0 else MINUS + "\u221e"
    text = f"{value:+,.{digits}f}" if sign else f"{value:,.{digits}f}"
    if float(text.replace(",", "")) == 0.0:
        text = text.lstrip("+-")
    return text.replace("-", MINUS)


def worded(key: str, value: float, sign: bool = False) -> str:
    """A measure's value with the digits of its unit, percent sign included."""
    m = BY_KEY[key]
    text = number(value, DIGITS[m.unit] if m.digits is None else m.digits, sign)
    return f"{text}%" if m.unit == "percent" and text != "n/a" else text


def time_words(seconds: float) -> str:
    """A length of time in round words: 4 seconds, 3 minutes, 2.5 hours, 12 days."""
    for unit, size, next_one in (("second", 1.0, 90.0), ("minute", 60.0, 5_400.0), ("hour", 3_600.0, 172_800.0),
                                 ("day", 86_400.0, 63_115_200.0), ("year", 31_557_600.0, math.inf)):
        if seconds < next_one:
            count = seconds / size
            text = f"{count:.1f}" if 1.05 <= count < 9.95 and unit != "second" else f"{max(1.0, count):,.0f}"
            text = text.removesuffix(".0")
            return f"{text} {unit}{'' if text == '1' else 's'}"
    return "n/a"


def percent(value: float, digits: int = 0) -> str:
    """A share in percent: "16.7%"; "n/a" where it has no value."""
    return f"{number(100 * value, digits)}%" if value == value else "n/a"


def few(names: Sequence[str], most: int = 3) -> str:
    """The first of several names, and how many more there are."""
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")
