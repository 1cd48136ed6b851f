"""Several runs as one: daily correlation and the equal-weight combination."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.run import Run
from wolbrin.core.errors import UserError
from wolbrin.core.measures.facts import Facts

Floats = NDArray[np.float64]
# Common practice, no source: 0.4 is notable, 0.7 very strong.
NOTABLE, STRONG = 0.4, 0.7


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
    deviation = table - table.mean(axis=0)
    scale = np.sqrt((deviation**2).sum(axis=0))
    with np.errstate(invalid="ignore", divide="ignore"):
        matrix = np.where(np.outer(scale, scale) > 0, deviation.T @ deviation / np.outer(scale, scale), np.nan)
    matrix = np.clip(matrix, -1.0, 1.0)
    np.fill_diagonal(matrix, np.where(scale > 0, 1.0, np.nan))
    return matrix


def distinct_subset(matrix: Floats, rank: list[float], limit: float = STRONG) -> list[int]:
    """Columns that are different bets: best rank first, one is taken when its correlation with all taken so far is
    below `limit`. A column that never moves (NaN) is left out."""
    taken: list[int] = []
    for column in sorted(range(len(rank)), key=lambda i: (-rank[i], i)):
        if np.isfinite(matrix[column, column]) and all(matrix[column, t] < limit for t in taken):
            taken.append(column)
    return sorted(taken)


@dataclass(frozen=True)
class Combination:
    """An equal-weight combination: every part traded at `weight` of its size on the same capital.

    times: int64[n] UTC ns, all bar ends of all parts. equity: float64[n] net. parts: float64[n, p] net equity of
    each part at full size, for comparison.
    """

    runs: tuple[Run, ...]
    weight: float
    times: NDArray[np.int64]
    equity: Floats
    parts: Floats
    facts: Facts

    @property
    def daily(self) -> tuple[NDArray[np.int32], Floats]:
        """Trading dates and daily P/L of the whole."""
        dates, table = daily_matrix(self.runs)
        return dates, table.sum(axis=1) * self.weight


def equal_weight(runs: list[Run]) -> Combination:
    """Combine runs that share one starting capital, each at 1/p of its size."""
    if not runs:
        raise UserError("a portfolio needs at least one strategy", "portfolio", "Select candidates first.")
    capital = runs[0].brief.capital
    live = [r for r in runs if r.last > r.first]
    if not live:
        raise UserError("none of the selected strategies has bars in this span", "portfolio", "Choose a longer span.")
    weight = 1.0 / len(runs)
    times = np.unique(np.concatenate([r.bars.end[r.first:r.last] for r in live]))
    parts = np.empty((len(times), len(runs)))
    exposed = np.zeros(len(times), bool)
    for column, run in enumerate(runs):
        at = np.searchsorted(run.bars.end[run.first:run.last], times, "right") - 1
        parts[:, column] = np.where(at >= 0, run.net[np.maximum(at, 0)] if len(run.net) else capital, capital)
        if len(run.position):
            exposed |= np.where(at >= 0, run.position[np.maximum(at, 0)] != 0, False)
    equity = capital + weight * (parts - capital).sum(axis=1)
    order = np.argsort(np.concatenate([r.exit_time for r in runs]), kind="stable")
    each = [Facts.of(r) for r in runs]
    profits = np.concatenate([f.profits for f in each])[order] * weight
    _, table = daily_matrix(runs)
    facts = Facts(capital, profits, np.concatenate([f.r for f in each])[order],
                  np.concatenate([f.risk_share for f in each])[order] * weight,
                  np.concatenate([f.exit_year for f in each])[order], equity, times,
                  min(int(r.bars.time[r.first]) for r in live), table.sum(axis=1) * weight, int(exposed.sum()),
                  len(times), pooled=len(runs) > 1)
    return Combination(tuple(runs), weight, times, equity, parts, facts)


