"""Maps of a measure over the numbers that were varied."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def heat(settings: Floats, values: Floats, across: tuple[float, ...], up: tuple[float, ...], x: int, y: int) -> Floats:
    """A measure over two numbers: the median over all others.

    Args:
        settings: float64[n, numbers]. values: float64[n], the measure. across, up: the values that numbers x and y take, in
            order. x == y: one row.
    Returns:
        float64[len(up), len(across)], NaN where nothing is known.
    """
    out = np.full((len(up), len(across)), np.nan)
    known = np.isfinite(values)
    settings, values = settings[known], values[known]
    if not len(values):
        return out
    columns = np.searchsorted(across, settings[:, x])
    rows = np.searchsorted(up, settings[:, y]) if x != y else np.zeros(len(settings), np.int64)
    cells = rows * len(across) + columns
    order = np.lexsort((values, cells))
    cells, values = cells[order], values[order]
    first = np.flatnonzero(np.diff(cells, prepend=-1))
    count = np.diff(np.append(first, len(cells)))
    middle = 0.5 * (values[first + (count - 1) // 2] + values[first + count // 2])
    out.flat[cells[first]] = middle
    return out
