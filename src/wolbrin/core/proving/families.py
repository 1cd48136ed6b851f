"""What is opened together is grouped by how it earned in training: near-twins are one bet, not many."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.rules.model import Strategy

Floats = NDArray[np.float64]
Daily = tuple[NDArray[np.int32], Floats]
CUT = 0.5  # average correlation of training days from which two groups are one family (common practice, no source)


def parts_of(strategy: Strategy) -> int:
    """How many rows and ways out some rules have; of two that are as strong the simpler represents a family."""
    rows = sum(len(c.rows) for side in (strategy.long, strategy.short) for c in (side.entry, side.exit) if c is not None)
    return rows + sum(x is not None for x in (strategy.stop, strategy.target, strategy.trail, strategy.break_even))


@dataclass(frozen=True)
class Bet:
    """One candidate as training shows it. daily: trading dates and results of training under its own brief. t: of daily
    results in training; expected: without what selection adds (`power.expected_t`). parts: how many rows and exits its rules
    have, by which of two as strong the simpler represents."""

    name: str
    hash: str
    market: str
    daily: Daily
    t: float
    expected: float
    parts: int = 1

    @property
    def deviation(self) -> float:
        """Of its daily results in training; 0 where they never move."""
        return float(self.daily[1].std(ddof=1)) if len(self.daily[1]) > 1 else 0.0


@dataclass(frozen=True)
class Family:
    """Candidates that are one bet, by their places; the first of them represents it: the strongest by training, of those
    nearly as strong the simplest."""

    members: tuple[int, ...]

    @property
    def representative(self) -> int:
        return self.members[0]


def side_by_side(series: Sequence[Daily]) -> tuple[NDArray[np.int32], Floats]:
    """Trading dates that any of them has, and float64[days, n]: results of each, 0 where it has none."""
    days = np.unique(np.concatenate([s[0] for s in series])) if series else np.zeros(0, np.int32)
    out = np.zeros((len(days), len(series)))
    for at, (when, what) in enumerate(series):
        out[np.searchsorted(days, when), at] = what
    return days, out


def correlations(series: Sequence[Daily]) -> Floats:
    """float64[n, n] of daily results over the dates that any has; 0 beside one that never moves."""
    _, table = side_by_side(series)
    table = table - table.mean(axis=0) if len(table) else table
    size = np.sqrt((table * table).sum(axis=0))
    table = np.divide(table, size, out=np.zeros_like(table), where=size > 0)
    out = np.clip(table.T @ table, -1.0, 1.0)
    np.fill_diagonal(out, 1.0)
    return out


def families_of(bets: Sequence[Bet], cut: float = CUT) -> tuple[Family, ...]:
    """Grouped by average linkage on the correlation of training days (Sokal & Michener 1958); the strongest first.

    Two groups are one as long as the correlations between their members are at least `cut` on average.
    """
    from scipy.cluster.hierarchy import average, fcluster  # late
    from scipy.spatial.distance import squareform  # late

    if not bets:
        return ()
    groups = np.ones(len(bets), np.int64)
    if len(bets) > 1:
        apart = 1.0 - correlations([b.daily for b in bets])
        apart = np.maximum(0.5 * (apart + apart.T), 0.0)
        np.fill_diagonal(apart, 0.0)
        groups = fcluster(average(squareform(apart, checks=False)), 1.0 - cut + 1e-12, "distance")
    found = [_family(bets, np.flatnonzero(groups == g).tolist()) for g in np.unique(groups)]
    return tuple(sorted(found, key=lambda f: _rank(bets, f.representative)))


NEARLY = 0.9  # of the strongest's expected t, from which the simpler one represents


def _family(bets: Sequence[Bet], members: list[int]) -> Family:
    most = max(bets[i].expected for i in members)
    near = [i for i in members if bets[i].expected >= most - (1.0 - NEARLY) * abs(most)]
    first = min(near, key=lambda i: (bets[i].parts, *_rank(bets, i)))
    rest = sorted((i for i in members if i != first), key=lambda i: _rank(bets, i))
    return Family((first, *rest))


def _rank(bets: Sequence[Bet], at: int) -> tuple[float, float, str]:
    """The strongest first; ties by what does not depend on the order they are given in."""
    b = bets[at]
    return -b.expected, -b.t if b.t == b.t else 0.0, b.hash + b.market
