"""Inference from daily results: t with autocorrelation allowed for, the Sharpe ratio of days, the number of real bets."""

from __future__ import annotations

import math
from dataclasses import dataclass
from statistics import NormalDist

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.measures.sums import sharpe_of, t_of_days

Floats = NDArray[np.float64]
NORMAL = NormalDist()  # its inverse is algorithm AS 241 (Wichura 1988), good to 16 digits


def t_of_mean(x: Floats) -> float:
    """t of the mean of float64[n] against zero, autocorrelation allowed for, see `sums.t_of_days`."""
    return float(t_of_days(np.ascontiguousarray(x, np.float64)))


def sharpe_of_days(x: Floats) -> float:
    """Mean over standard deviation (n - 1) of daily results, float64[days], not annualized; NaN as in `t_of_mean`."""
    return float(sharpe_of(np.ascontiguousarray(x, np.float64)))


def p_above(t: float) -> float:
    """Chance of a t so large or larger where the true mean is zero (normal; days are many). NaN stays NaN."""
    return 0.5 * math.erfc(t / math.sqrt(2.0)) if t == t else math.nan


def t_needed(p: float) -> float:
    """The t whose `p_above` is p."""
    return -NORMAL.inv_cdf(p)


def effective_bets(matrix: Floats) -> float:
    """How many different bets the columns of a correlation matrix, float64[n, n], are worth: (sum of eigenvalues)^2 / sum of
    squares.

    Columns without a value (NaN) are left out; NaN when none has one.

    >>> effective_bets(np.eye(4)), effective_bets(np.ones((4, 4)))
    (4.0, 1.0)
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
        """The tally of those of float64[n] that are numbers."""
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
