"""Which candidates are the same bet: how alike they earn, in clusters, and when they lose together."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.measures.inference import effective_bets
from wolbrin.core.portfolio.correlating import correlate, effective_periods, p_values
from wolbrin.core.portfolio.sampling import Sampled, Sampling, Series, Table, depth_of, sampled

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
# Common practice, no source: 0.4 is notable, 0.7 very strong.
NOTABLE, STRONG = 0.4, 0.7
WORST = 0.05  # share of the days that are the worst
DEEP = 0.5  # of its own deepest drawdown, from which on one is deep in it
ORDERED = 250  # leaves, up to which the tree is turned so that neighbors are alike
USUAL = Sampling()
ROLLING = {"day": 120, "week": 52, "month": 24}  # periods of the rolling correlation


def _both_of_either(flags: NDArray[np.bool_]) -> Floats:
    """float64[n, n]: days that both have over days that either has; NaN where neither has any."""
    x = flags.astype(np.float32)
    both = (x @ x.T).astype(np.float64)
    each = np.diag(both)
    either = each[:, None] + each[None, :] - both
    return np.divide(both, either, out=np.full_like(both, np.nan), where=either > 0)


@dataclass(frozen=True)
class Overlap:
    """How alike several series are. table: their daily results on one calendar; sample: what is correlated; matrix:
    float64[n, n] correlations, NaN for one that never moves; periods: int64[n, n] that each is of."""

    how: Sampling
    table: Table
    sample: Sampled
    matrix: Floats
    periods: Ints

    @classmethod
    def of(cls, series: Sequence[Series], how: Sampling = USUAL, capital: float = 1.0) -> Overlap:
        """Raises UserError: there is no span to compare them over."""
        table = Table.of(series, how.span)
        sample = sampled(table, how, capital)
        return cls(how, table, sample, *correlate(sample, how.rank))

    @cached_property
    def p(self) -> Floats:
        """Chance of a correlation as far from zero where there is none, autocorrelation allowed for, float64[n, n]."""
        return p_values(self.matrix, effective_periods(self.sample, self.periods))

    @cached_property
    def bets(self) -> float:
        """How many different bets they are worth."""
        return effective_bets(self.matrix)

    @cached_property
    def average(self) -> Floats:
        """float64[n]: mean correlation of each with the others, NaN where it has none: a hint for its weight."""
        off = self.matrix.copy()
        np.fill_diagonal(off, np.nan)
        known = np.isfinite(off)
        count = known.sum(axis=1)
        return np.divide(np.where(known, off, 0.0).sum(axis=1), count, out=np.full(len(off), np.nan), where=count > 0)

    @cached_property
    def tree(self) -> Floats:
        """Linkage matrix of scipy, float64[n - 1, 4]: average linkage (Sokal & Michener 1958) of the distances 1 -
        correlation; what never moves is as far as what is uncorrelated."""
        from scipy.cluster.hierarchy import linkage  # late

        n = len(self.matrix)
        if n < 2:
            return np.zeros((0, 4))
        far = 1.0 - np.nan_to_num(self.matrix, nan=0.0)
        return linkage(far[np.triu_indices(n, 1)], "average", optimal_ordering=n <= ORDERED)

    @cached_property
    def order(self) -> Ints:
        """int64[n]: places in the order of the tree's leaves."""
        from scipy.cluster.hierarchy import leaves_list  # late

        n = len(self.matrix)
        return leaves_list(self.tree).astype(np.int64) if n > 1 else np.arange(n)

    def clusters(self, cut: float) -> Ints:
        """int64[n]: number of each one's cluster, from 1 along the tree, where it is cut at a mean correlation of `cut`."""
        from scipy.cluster.hierarchy import fcluster  # late

        n = len(self.matrix)
        if n < 2:
            return np.ones(n, np.int64)
        raw = fcluster(self.tree, 1.0 - cut, "distance")
        seen: dict[int, int] = {}
        for at in self.order:
            seen.setdefault(int(raw[at]), len(seen) + 1)
        return np.array([seen[int(c)] for c in raw], np.int64)

    @cached_property
    def together(self) -> Floats:
        """Days on which both held a position over days on which either did, float64[n, n]."""
        return _both_of_either(self.table.traded)

    @cached_property
    def joint_losses(self) -> Floats:
        """Of the worst 5% of the days of one, the share that is among the other's too, float64[n, n]; independent ones share
        5%. A worst day is a loss: one that seldom loses has fewer."""
        profit = self.table.profit
        worst = np.zeros(profit.shape, np.float32)
        for row, x in enumerate(profit):
            count = math.ceil(WORST * int(self.table.own[row].sum()))
            lost = int((x < 0).sum())
            if min(count, lost):
                worst[row, np.argpartition(x, min(count, lost) - 1)[:min(count, lost)]] = 1.0
        both = (worst @ worst.T).astype(np.float64)
        least = np.minimum.outer(np.diag(both), np.diag(both))
        return np.divide(both, least, out=np.full_like(both, np.nan), where=least > 0)

    @cached_property
    def deep_together(self) -> Floats:
        """Days on which both are deeper than half of their own deepest drawdown over days on which either is."""
        depth = depth_of(self.table.profit)
        deepest = depth.max(axis=1, keepdims=True, initial=0.0)
        return _both_of_either((depth >= DEEP * deepest) & (deepest > 0))

    def closest(self, at: int) -> tuple[float, int] | None:
        """The largest correlation that one has with another, and with which; None where it has none."""
        row = self.matrix[at].copy()
        row[at] = np.nan
        return (float(np.nanmax(row)), int(np.nanargmax(row))) if np.isfinite(row).any() else None

    def rolling(self, a: int, b: int) -> tuple[NDArray[np.int32], Floats]:
        """Pearson's correlation of a pair over the last ROLLING periods: int32[k] the period's first date, float64[k]."""
        size = min(ROLLING[self.how.by], max(len(self.sample.starts) // 3, 3))
        if len(self.sample.starts) < size:
            return self.sample.starts[:0], np.zeros(0)
        views = [np.lib.stride_tricks.sliding_window_view(self.sample.values[i], size) for i in (a, b)]
        off = [v - v.mean(axis=1, keepdims=True) for v in views]
        scale = np.sqrt((off[0] ** 2).sum(axis=1) * (off[1] ** 2).sum(axis=1))
        top = (off[0] * off[1]).sum(axis=1)
        return self.sample.starts[size - 1:], np.divide(top, scale, out=np.full(len(top), np.nan), where=scale > 0)

    def equity(self, at: int) -> Floats:
        """float64[d]: running sum of one's daily results."""
        return np.cumsum(self.table.profit[at])
