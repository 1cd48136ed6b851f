"""Daily results of several runs side by side, and their correlation."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.run import Run
from wolbrin.core.portfolio.correlating import pearson

Floats = NDArray[np.float64]


def daily_matrix(runs: Sequence[Run]) -> tuple[NDArray[np.int32], Floats]:
    """Daily P/L of runs side by side; see `daily_table`."""
    return daily_table([run.daily for run in runs])


def daily_table(series: Sequence[tuple[NDArray[np.int32], Floats]]) -> tuple[NDArray[np.int32], Floats]:
    """Trading dates (int32[d], days since 1970) of any series and daily P/L, float64[d, len(series)]; 0 on dates on which
    one has no bars. series: dates and P/L each."""
    dates = np.unique(np.concatenate([s[0] for s in series])) if series else np.zeros(0, np.int32)
    table = np.zeros((len(dates), len(series)))
    for column, (days, profit) in enumerate(series):
        table[np.searchsorted(dates, days), column] = profit
    return dates, table


def correlation(table: Floats) -> Floats:
    """Pearson correlation of the columns, float64[c, c]; NaN for a column that never moves."""
    return pearson(np.ascontiguousarray(table.T))[0]
