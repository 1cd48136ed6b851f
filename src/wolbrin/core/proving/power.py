"""With what chance a holdout would show an edge, said before it is opened, from training alone.

Whoever is kept because a t passed a bar shows too large a t: the bias is taken out by conditional likelihood (Zhong &
Prentice 2008, Biostatistics 9, 621-634, from memory). What is left is what training says of the mean, as uncertain as
training is long; the holdout's own chance comes on top.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from wolbrin.core.measures.inference import NORMAL

FAR = 38.0  # beyond it a normal tail is no number any more


def expected_t(t: float, passed_at: float, luck: float = 0.0) -> float:
    """The t that training would have without selection, at least 0: the mu that solves
    mu + phi(c - mu) / (1 - Phi(c - mu)) = t, times (1 - luck).

    t: of training daily results; NaN gives 0. passed_at: c, the t from which it was kept; -inf where nothing was asked.
    luck: share of finds as strong that luck brings, 0 to 1.
    """
    if not t > 0:
        return 0.0
    if _kept_mean(0.0, passed_at) >= t:
        return 0.0
    low, high = 0.0, t
    for _ in range(60):  # the kept mean rises with mu, and is never below it
        middle = 0.5 * (low + high)
        low, high = (middle, high) if _kept_mean(middle, passed_at) < t else (low, middle)
    return 0.5 * (low + high) * (1.0 - min(1.0, max(0.0, luck if luck == luck else 1.0)))


def _kept_mean(mu: float, c: float) -> float:
    """Mean of a normal t around mu among those that are above c."""
    gap = c - mu
    if gap > FAR:
        return c
    tail = NORMAL.cdf(-gap)
    return mu + (NORMAL.pdf(gap) / tail if tail > 0 else gap)


@dataclass(frozen=True)
class Reach:
    """What t the holdout will have: normal, with this mean and spread."""

    mean: float
    spread: float

    @classmethod
    def of(cls, expected: float, training: int, sealed: int) -> Reach:
        """expected: `expected_t`. training, sealed: days. The mean grows with the root of the days; the spread is that of the
        holdout and of training, from which the mean is known."""
        share = sealed / training if training > 0 else 0.0
        return cls(expected * math.sqrt(share), math.sqrt(1.0 + share))

    def chance(self, needed: float) -> float:
        """Of reaching a t."""
        return NORMAL.cdf((self.mean - needed) / self.spread)


def chance_of_sharpe(sharpe: float, days: int, needed: float, year: float = 252.0) -> float:
    """Chance that one candidate of a true yearly Sharpe ratio reaches a t in so many sealed days, common practice: t of a
    mean is the Sharpe ratio times the root of the years (Lo 2002, Financial Analysts Journal 58(4), without
    autocorrelation)."""
    return NORMAL.cdf(sharpe * math.sqrt(days / year) - needed)
