"""Prices in fractions, as bonds and grains are quoted: 128'16.5 and 128-165 are 128 and 16.5 of 32, 412'6 is 412 and 6 of 8.

A third digit after two stands for quarters of a 32nd, cut to one digit: 0, 2, 5, 7 (and 1, 3, 6, 8 for eighths of one).
Common practice, no source.
"""

from __future__ import annotations

import re

import numpy as np
from numpy.typing import NDArray

FRACTION = re.compile(r"^([+-]?)(\d{1,6})(['^-])(\d{1,3})(\.\d+)?$")
QUARTERS = {0: 0.0, 1: 0.125, 2: 0.25, 3: 0.375, 5: 0.5, 6: 0.625, 7: 0.75, 8: 0.875}
LEAST_SHARE = 0.5  # of prices in that form; whole numbers may stand without a fraction
PARTS = (0, 8, 32, 64)


def parts_in(texts: list[str]) -> int:
    """Into how many parts of one the prices of columns are divided: 8, 32 or 64; 0 where they are no fractions."""
    shown = [t.strip() for t in texts if t.strip()]
    found = [m for t in shown if (m := FRACTION.match(t))]
    if not found or len(found) < LEAST_SHARE * len(shown):
        return 0
    tails = [m[4] for m in found]
    sizes = set(map(len, tails))
    if sizes == {1}:
        return 8 if max(map(int, tails)) < 8 else 0
    if 1 in sizes:
        return 0
    two = max(int(t[:2]) for t in tails)
    thirds = {int(t[2]) for t in tails if len(t) == 3}
    if sizes == {3} and all(m[3] == "'" for m in found) and (
            any(m[5] for m in found) or two > 31 or not thirds <= {0, 2, 5, 7}):
        return 0  # thousands parted by an apostrophe
    if two < 32 and thirds <= set(QUARTERS):
        return 32
    return 64 if two < 64 and thirds <= {0, 5} else 0


def price_of(text: str, parts: int) -> float:
    """A price in fractions as a number; NaN where it is none."""
    found = FRACTION.match(text)
    if not found:
        try:
            return float(text)
        except ValueError:
            return float("nan")
    sign, whole, _, tail, rest = found.groups()
    if parts == 8:
        part = float(tail + (rest or ""))
    elif len(tail) == 3:
        third = int(tail[2])
        part = int(tail[:2]) + (QUARTERS.get(third, float("nan")) if parts == 32 else third / 10)
    else:
        part = float(tail + (rest or ""))
    value = int(whole) + part / parts if part < parts else float("nan")
    return -value if sign == "-" else value


def prices_of(texts: NDArray[np.object_], parts: int) -> NDArray[np.float64]:
    """float64[n] of texts, each different one worked out once."""
    different, at = np.unique(texts.astype(str), return_inverse=True)
    return np.array([price_of(t.strip(), parts) for t in different])[at]
