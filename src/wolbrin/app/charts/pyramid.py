"""Highs and lows of a long history at several coarsenesses, so that drawing costs what the screen can show."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
FACTOR = 32


class Pyramid:
    """Made once a history: level k holds highest high and lowest low of each FACTOR**k bars."""

    def __init__(self, high: Floats, low: Floats) -> None:
        self.levels: list[tuple[int, Floats, Floats]] = [(1, high, low)]
        size = 1
        while len(self.levels[-1][1]) > 2 * FACTOR:
            _, top, bottom = self.levels[-1]
            at = np.arange(0, len(top), FACTOR)
            size *= FACTOR
            self.levels.append((size, np.maximum.reduceat(top, at), np.minimum.reduceat(bottom, at)))

    def columns(self, first: int, stop: int, most: int) -> tuple[Floats, Floats, Floats]:
        """Bars [first, stop) in at most `most` + 1 columns: middle bar, high, low, float64 each. Columns begin at
        multiples of their width, so that they stand still while one pans."""
        width = max(1, -(-(stop - first) // most))
        size, top, bottom = next(level for level in reversed(self.levels) if level[0] <= width)
        width = -(-width // size) * size
        begin = first // width * width
        edges = np.arange(begin, stop, width)
        at = edges // size
        end = min(-(-stop // size), len(top))
        at = at[at < end]
        middle = (at * size + (width - 1) / 2.0).astype(np.float64)
        return middle, np.maximum.reduceat(top[:end], at), np.minimum.reduceat(bottom[:end], at)

    def extent(self, first: int, stop: int) -> tuple[float, float]:
        """Lowest low and highest high of bars [first, stop)."""
        size, top, bottom = self.levels[1 if len(self.levels) > 1 and stop - first > 8 * FACTOR else 0]
        a, b = -(-first // size), stop // size
        _, high, low = self.levels[0]
        if size == 1 or b <= a:
            return float(low[first:stop].min()), float(high[first:stop].max())
        parts = [(bottom[a:b], top[a:b])]
        if first < a * size:
            parts.append((low[first:a * size], high[first:a * size]))
        if b * size < stop:
            parts.append((low[b * size:stop], high[b * size:stop]))
        return min(float(x.min()) for x, _ in parts), max(float(y.max()) for _, y in parts)
