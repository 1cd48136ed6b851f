"""Ranges of numbers as people write them: "> 2", "at most 9,000", "10 to 20", "between 1.5 and 3"."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

NUMBER = r"([-+\u2212]?(?:\d[\d,]*\.?\d*|\.\d+)\s*k?)"
UNIT = r"\s*(?:%|[a-z]{1,8})?\s*$"
SIGN = re.compile(rf"^\s*(<=|>=|<|>|=|\u2264|\u2265)\s*{NUMBER}{UNIT}", re.I)
SAID = ("at least|at most|no more than|not more than|no less than|not less than|more than|less than|above|below|over|under|"
        "from|up to|min|max|exactly")
WORDS = re.compile(rf"^\s*({SAID})\s+{NUMBER}{UNIT}", re.I)
BOTH = re.compile(rf"^\s*(?:between\s+|from\s+)?{NUMBER}\s*(?:to|and|\.\.+|\u2026|\u2013)\s*{NUMBER}{UNIT}", re.I)
MEANING = {"at least": ">=", "at most": "<=", "no more than": "<=", "not more than": "<=", "no less than": ">=",
           "not less than": ">=", "more than": ">", "less than": "<", "above": ">", "below": "<", "over": ">", "under": "<",
           "from": ">=", "up to": "<=", "min": ">=", "max": "<=", "exactly": "=", "\u2264": "<=", "\u2265": ">="}
NEAR = 1e-9


@dataclass(frozen=True)
class Range:
    """low and high are included unless `open_low` or `open_high` says not."""

    low: float = -math.inf
    high: float = math.inf
    open_low: bool = False
    open_high: bool = False

    def holds(self, values: NDArray[np.float64]) -> NDArray[np.bool_]:
        """bool[n]: which of float64[n] lie in it; those without a value do not."""
        with np.errstate(invalid="ignore"):
            low = values > self.low if self.open_low else values >= self.low - NEAR * abs(self._or_zero(self.low))
            high = values < self.high if self.open_high else values <= self.high + NEAR * abs(self._or_zero(self.high))
        return low & high & ~np.isnan(values)

    @staticmethod
    def _or_zero(x: float) -> float:
        return x if math.isfinite(x) else 0.0


def number_of(text: str) -> float:
    """A number with thousands commas, a true minus or a k for thousands."""
    plain = text.strip().replace("\u2212", "-").replace(",", "")
    return float(plain[:-1]) * 1000.0 if plain[-1:] in "kK" and plain else float(plain)


def range_of(text: str, losses: bool = False) -> Range | None:
    """The range a text describes; None where it is none.

    losses: the values are sizes of losses, kept without a minus. Then a limit may be given with one, "at most 9,000" and
    "at most -9,000" are the same, and "> -9,000" asks for a smaller loss.
    """
    both = BOTH.match(text)
    if both:
        a, b = number_of(both[1]), number_of(both[2])
        if losses:
            a, b = abs(a), abs(b)
        return Range(min(a, b), max(a, b))
    sign, words = SIGN.match(text), WORDS.match(text)
    found = sign or words
    if not found:
        return None
    said = found[1].casefold()
    compare, limit = MEANING.get(said, said), number_of(found[2])
    if losses and limit < 0:
        limit = -limit
        if sign:
            compare = {"<": ">", ">": "<", "<=": ">=", ">=": "<="}.get(compare, compare)
    if compare == "=":
        return Range(limit, limit)
    if compare.startswith(">"):
        return Range(low=limit, open_low=compare == ">")
    return Range(high=limit, open_high=compare == "<")
