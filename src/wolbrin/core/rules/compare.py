"""Comparisons turned into flags. A comparison with NaN on either side is never true."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit

Floats = NDArray[np.float64]
Flags = NDArray[np.uint8]

_PLAIN: dict[str, np.ufunc] = {
    "above": np.greater, "below": np.less, "at or above": np.greater_equal, "at or below": np.less_equal,
    "equals": np.equal}


# A crossing is "beyond now, not beyond one bar before". One pass over the columns: NumPy would need four.
@njit(cache=True, nogil=True)
def _cross_lines(x: Floats, y: Floats, out: Flags) -> None:
    """Where x crosses above y."""
    out[0] = 0
    for i in range(1, len(out)):
        out[i] = np.uint8(x[i] > y[i]) & np.uint8(x[i - 1] <= y[i - 1])


@njit(cache=True, nogil=True)
def _cross_level(x: Floats, level: float, up: bool, out: Flags) -> None:
    """Where x crosses above (up) or below a fixed level."""
    out[0] = 0
    if up:
        for i in range(1, len(out)):
            out[i] = np.uint8(x[i] > level) & np.uint8(x[i - 1] <= level)
    else:
        for i in range(1, len(out)):
            out[i] = np.uint8(x[i] < level) & np.uint8(x[i - 1] >= level)


def compare(left: Floats, right: Floats, operation: str, size: int) -> Flags:
    """uint8[size]: 1 where `left operation right` holds.

    left, right: float64[size], or float64[1] standing for all bars.
    """
    out = np.empty(size, np.uint8)
    if operation in _PLAIN:
        _PLAIN[operation](left, right, out=out.view(np.bool_))
        return out
    up = operation == "crosses above"
    fixed_left, fixed_right = len(left) < size, len(right) < size
    if fixed_left and fixed_right:
        out[:] = 0  # two numbers never cross
    elif fixed_right:
        _cross_level(left, float(right[0]), up, out)
    elif fixed_left:  # a number above a line is a line below a number
        _cross_level(right, float(left[0]), not up, out)
    elif up:
        _cross_lines(left, right, out)
    else:
        _cross_lines(right, left, out)
    return out


@njit(cache=True, nogil=True)
def first_finite(column: Floats, start: int) -> int:
    """First index at or after `start` where the column has a value; its length if none."""
    for i in range(start, len(column)):
        if np.isfinite(column[i]):
            return i
    return len(column)


@njit(cache=True, nogil=True)
def where_set(bits: Flags, mask: int) -> NDArray[np.int64]:
    """Indices of the entries that share a bit with `mask`, in order. Eight bytes are passed over at a time; NumPy's nonzero
    is ten times slower on bytes."""
    n = len(bits)
    words = bits[:n // 8 * 8].view(np.uint64)
    wide = np.uint64(mask & 255) * np.uint64(0x0101010101010101)
    found = np.empty(n, np.int64)
    count = 0
    for w in range(len(words)):
        if words[w] & wide != 0:
            for i in range(8 * w, 8 * w + 8):
                if bits[i] & mask != 0:
                    found[count] = i
                    count += 1
    for i in range(8 * len(words), n):
        if bits[i] & mask != 0:
            found[count] = i
            count += 1
    return found[:count].copy()
