"""Comparisons turned into flags. A comparison with NaN on either side is never true."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Flags = NDArray[np.uint8]

_PLAIN: dict[str, np.ufunc] = {
    "above": np.greater, "below": np.less, "at or above": np.greater_equal, "at or below": np.less_equal}
# A crossing is "beyond now, not beyond one bar before".
_CROSSING = {"crosses above": ("above", "at or below"), "crosses below": ("below", "at or above")}


def _earlier(column: Floats) -> Floats:
    return column if len(column) == 1 else column[:-1]


def compare(left: Floats, right: Floats, operation: str, size: int) -> Flags:
    """uint8[size]: 1 where `left operation right` holds.

    left, right: float64[size], or float64[1] standing for all bars.
    """
    out = np.empty(size, np.bool_)
    if operation in _PLAIN:
        _PLAIN[operation](left, right, out=out)
    elif max(len(left), len(right)) == 1:
        out[:] = False  # two numbers never cross
    else:
        now, before = _CROSSING[operation]
        _PLAIN[now](left, right, out=out)
        out[0] = False
        out[1:] &= _PLAIN[before](_earlier(left), _earlier(right))
    return out.view(np.uint8)


@njit(cache=True, nogil=True)
def first_finite(column: Floats, start: int) -> int:
    """First index at or after `start` where the column has a value; its length if none."""
    for i in range(start, len(column)):
        if np.isfinite(column[i]):
            return i
    return len(column)


def pack(flags: tuple[Flags | None, ...], size: int) -> Flags:
    """Up to eight flag arrays as bits 0, 1, 2 .. of one uint8[size]; None stands for "never"."""
    out = np.zeros(size, np.uint8)
    for bit, one in enumerate(flags):
        if one is not None:
            out |= one << np.uint8(bit)
    return out
