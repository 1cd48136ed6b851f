"""Maps of a measure over the numbers that were varied: over two, over four (two inside two), and along one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


def _medians(cells: Ints, values: Floats, count: int) -> Floats:
    """float64[count]: median of the values in each cell, NaN where none is known."""
    out = np.full(count, np.nan)
    known = np.isfinite(values) & (cells >= 0)
    cells, values = cells[known], values[known]
    if not len(values):
        return out
    order = np.lexsort((values, cells))
    cells, values = cells[order], values[order]
    first = np.flatnonzero(np.diff(cells, prepend=-1))
    size = np.diff(np.append(first, len(cells)))
    out[cells[first]] = 0.5 * (values[first + (size - 1) // 2] + values[first + size // 2])
    return out


def _place(levels: Sequence[float], values: Floats) -> Ints:
    """Which level each value is, -1 for none."""
    known = np.asarray(levels, np.float64)
    near = np.clip(np.searchsorted(known, values - 1e-9 * np.maximum(1.0, np.abs(values))), 0, len(known) - 1)
    return np.where(np.abs(known[near] - values) <= 1e-9 * np.maximum(1.0, np.abs(values)), near, -1)


@dataclass(frozen=True)
class MapSide:
    """What one side of a map shows: an axis of the settings, and one around it, with the values that they take in order.
    -1 for none."""

    axis: int = -1
    levels: tuple[float, ...] = ()
    outer: int = -1
    outer_levels: tuple[float, ...] = ()

    @property
    def size(self) -> int:
        return max(1, len(self.levels)) * max(1, len(self.outer_levels))

    def places(self, settings: Floats) -> Ints:
        """int64[n]: which row or column each set falls in, -1 for none."""
        inner = _place(self.levels, settings[:, self.axis]) if self.axis >= 0 else np.zeros(len(settings), np.int64)
        if self.outer < 0:
            return inner
        outer = _place(self.outer_levels, settings[:, self.outer])
        return np.where((inner >= 0) & (outer >= 0), outer * max(1, len(self.levels)) + inner, -1)


def cells_of(settings: Floats, across: MapSide, up: MapSide) -> Ints:
    """int64[n]: the cell of a map each set falls in, row by row; -1 for none."""
    columns, rows = across.places(settings), up.places(settings)
    return np.where((columns >= 0) & (rows >= 0), rows * across.size + columns, -1)


def map_of(settings: Floats, values: Floats, across: MapSide, up: MapSide) -> Floats:
    """float64[up.size, across.size]: the median of a measure over all sets in a cell, NaN where nothing is known."""
    return _medians(cells_of(settings, across, up), values, across.size * up.size).reshape(up.size, across.size)


def binned(column: Floats, levels: Sequence[float], most: int) -> tuple[Floats, tuple[float, ...]]:
    """Values of an axis in at most so many groups of neighbors, each standing for its middle one: float64[n], and the
    middles. As they are where there are few."""
    known = np.asarray(levels, np.float64)
    if len(known) <= most:
        return column, tuple(known.tolist())
    group = np.arange(len(known)) * most // len(known)
    middles = np.array([known[group == g][(group == g).sum() // 2] for g in range(most)])
    place = _place(levels, column)
    return np.where(place >= 0, middles[group[np.maximum(place, 0)]], np.nan), tuple(middles.tolist())


def line_through(settings: Floats, row: int, axis: int) -> Ints:
    """Rows that differ from one in this number only, in its order, itself included."""
    others = np.delete(settings, axis, axis=1)
    same = np.flatnonzero((others == others[row]).all(axis=1))
    return same[np.argsort(settings[same, axis], kind="stable")]


def edges_of(levels: Sequence[float]) -> Floats:
    """float64[n + 1]: borders of cells that stand for values: half way between them."""
    known = np.asarray(levels, np.float64)
    if len(known) < 2:
        return np.array([known[0] - 0.5, known[0] + 0.5])
    middle = (known[1:] + known[:-1]) / 2.0
    return np.concatenate([[2 * known[0] - middle[0]], middle, [2 * known[-1] - middle[-1]]])
