"""Which candidates are the same bet: correlation of their daily results, and the ones that differ."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.measures.inference import effective_bets
from wolbrin.core.portfolio.combine import correlation, daily_table, distinct_subset

Floats = NDArray[np.float64]
Daily = tuple[NDArray[np.int32], Floats]


@dataclass(frozen=True)
class Overlap:
    """matrix: Pearson correlation of daily P/L, float64[n, n], NaN for one that never moves. dates: trading dates that any of
    them has. bets: how many different ones they are worth."""

    matrix: Floats
    dates: int
    bets: float

    @classmethod
    def of(cls, series: Sequence[Daily]) -> Overlap:
        dates, table = daily_table(series)
        matrix = correlation(table)
        return cls(matrix, len(dates), effective_bets(matrix))

    def distinct(self, rank: Sequence[float], limit: float) -> list[int]:
        """Positions of those that are different bets below a correlation of `limit`, best rank first."""
        return distinct_subset(self.matrix, list(rank), limit)

    def closest(self, at: int) -> tuple[float, int] | None:
        """The largest correlation that one has with another, and with which; None where it has none."""
        row = self.matrix[at].copy()
        row[at] = np.nan
        return (float(np.nanmax(row)), int(np.nanargmax(row))) if np.isfinite(row).any() else None
