"""Inference from daily results: t with autocorrelation allowed for, the Sharpe ratio of days, the number of real bets."""

from __future__ import annotations

import math
from dataclasses import dataclass
from statistics import NormalDist

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
NORMAL = NormalDist()  # its inverse is algorithm AS 241 (Wichura 1988), good to 16 digits
SAME = 1e-9  # amounts closer than this share of the largest in their sum count as equal


def newey_west_lag(n: int) -> int:
    """Lags that count: floor(4 (n / 100)^(2/9)) (Newey & West 1994, as commonly used with Bartlett weights)."""
    return int(4.0 * (n / 100.0) ** (2.0 / 9.0)) if n > 0 else 0


def t_of_mean(x: Floats) -> float:
    """t of the mean of a series against zero, its standard error with Bartlett weights (Newey & West 1987).

    x: float64[n], one value a day, in order. NaN with fewer than two values, or where they are all equal.
    """
    n = len(x)
    if n < 2:
        return math.nan
    mean = float(x.mean())
    e = x - mean
    if not np.abs(e).max() > SAME * max(float(np.abs(x).max()), 1e-300):
        return math.nan
    lags = min(newey_west_lag(n), n - 1)
    total = float(e @ e)
    for lag in range(1, lags + 1):
        total += 2.0 * (1.0 - lag / (lags + 1.0)) * float(e[lag:] @ e[:-lag])
    variance = total / n / n
    return mean / math.sqrt(variance) if variance > 0 else math.nan


def sharpe_of_days(x: Floats) -> float:
    """Mean over standard deviation (n - 1) of daily results, not annualized; NaN as in `t_of_mean`."""
    if len(x) < 2 or not float(x.max() - x.min()) > SAME * max(float(np.abs(x).max()), 1e-300):
        return math.nan
    return float(x.mean()) / float(x.std(ddof=1))


def p_above(t: float) -> float:
    """Chance of a t so large or larger where the true mean is zero (normal; days are many). NaN stays NaN."""
    return 0.5 * math.erfc(t / math.sqrt(2.0)) if t == t else math.nan


def t_needed(p: float) -> float:
    """The t whose `p_above` is p."""
    return -NORMAL.inv_cdf(p)


def effective_bets(matrix: Floats) -> float:
    """How many different bets the columns of a correlation matrix are worth: (sum of eigenvalues)^2 / sum of squares.

    Columns without a value (NaN) are left out; NaN when none has one.
    """
    known = np.isfinite(np.diag(matrix))
    part = matrix[np.ix_(known, known)]
    if not len(part):
        return math.nan
    # The sum of squared eigenvalues of a symmetric matrix is the sum of its squared entries.
    return float(np.trace(part) ** 2 / (part**2).sum())


@dataclass(frozen=True)
class Tally:
    """Count, mean and summed squared deviations of a figure over what was tried, added up block by block (Chan, Golub &
    LeVeque 1983), so that the outcome depends on the order of the blocks only."""

    count: int = 0
    mean: float = 0.0
    m2: float = 0.0

    @classmethod
    def of(cls, values: Floats) -> Tally:
        """The tally of the values that are numbers."""
        known = values[np.isfinite(values)]
        if not len(known):
            return cls()
        mean = float(known.mean())
        return cls(len(known), mean, float(((known - mean) ** 2).sum()))

    def with_(self, other: Tally) -> Tally:
        """Both together."""
        count = self.count + other.count
        if not other.count or not self.count:
            return other if other.count else self
        gap = other.mean - self.mean
        return Tally(count, self.mean + gap * other.count / count,
                     self.m2 + other.m2 + gap * gap * self.count * other.count / count)

    @property
    def variance(self) -> float:
        """With n - 1; NaN for fewer than two."""
        return self.m2 / (self.count - 1) if self.count > 1 else math.nan
