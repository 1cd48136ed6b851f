"""How likely a best Sharpe ratio is more than the best of so many: probabilistic and deflated Sharpe ratio.

All ratios are per day and not annualized; kurtosis is the raw one (3 for a normal distribution), as the papers' formulas ask.
Trials are grouped by a cut of their correlation; the number and the variance of trials both come from the groups.
Bailey & Lopez de Prado 2012 and 2014; Lopez de Prado & Lewis 2019.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.measures.inference import NORMAL, sharpe_of_days

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
EULER = 0.5772156649015329
CUT = 0.5  # mean correlation below which two groups are different
MOST = 1_500  # trials that are grouped at most; a larger number is thinned evenly
CONFIDENT = 0.95


def shape_of(daily: Floats) -> tuple[float, float]:
    """Skewness and raw kurtosis of daily results; NaN where all are equal."""
    off = daily - daily.mean() if len(daily) else daily
    sd = math.sqrt(float((off**2).mean())) if len(off) else 0.0
    if not sd > 0:
        return math.nan, math.nan
    return float((off**3).mean()) / sd**3, float((off**4).mean()) / sd**4


def probabilistic(sharpe: float, hurdle: float, days: int, skew: float, kurtosis: float) -> float:
    """Chance that the true Sharpe ratio is above a hurdle (Bailey & Lopez de Prado 2012, equation 11)."""
    spread = 1.0 - skew * sharpe + (kurtosis - 1.0) / 4.0 * sharpe**2
    if not spread > 0 or days < 2:
        return math.nan
    return NORMAL.cdf((sharpe - hurdle) * math.sqrt(days - 1.0) / math.sqrt(spread))


def expected_best(trials: int, variance: float) -> float:
    """The best Sharpe ratio to expect of so many trials that are worth nothing (2014, equation 1); 0 of a single one."""
    if trials < 2 or not variance > 0:
        return 0.0
    return math.sqrt(variance) * ((1.0 - EULER) * NORMAL.inv_cdf(1.0 - 1.0 / trials)
                                  + EULER * NORMAL.inv_cdf(1.0 - 1.0 / (trials * math.e)))


def least_days(sharpe: float, hurdle: float, skew: float, kurtosis: float, sure: float = CONFIDENT) -> float:
    """Days a track record needs until the Sharpe ratio is above the hurdle with this confidence (2012, minimum track record
    length); NaN where it is not above it at all."""
    if not sharpe > hurdle:
        return math.nan
    spread = 1.0 - skew * sharpe + (kurtosis - 1.0) / 4.0 * sharpe**2
    return 1.0 + spread * (NORMAL.inv_cdf(sure) / (sharpe - hurdle)) ** 2 if spread > 0 else math.nan


def correlations(daily: Floats) -> Floats:
    """float64[n, n] of the rows' daily results; 0 with a row that never moves."""
    off = daily - daily.mean(axis=1, keepdims=True)
    size = np.sqrt((off**2).sum(axis=1))
    unit = off / np.where(size > 0, size, 1.0)[:, None]
    found = np.clip(unit @ unit.T, -1.0, 1.0)
    np.fill_diagonal(found, 1.0)
    return found


def groups_of(daily: Floats) -> Ints:
    """int64[n]: the group of each trial. Trials are joined while the mean correlation between two groups is above CUT.

    A cut keeps independent trials apart, where silhouettes, which find no clear clusters among them, would merge them and
    make the number of trials too small."""
    from scipy.cluster.hierarchy import fcluster, linkage  # late
    from scipy.spatial.distance import squareform  # late

    if len(daily) < 2:
        return np.zeros(len(daily), np.int64)
    apart = 1.0 - correlations(daily)
    np.fill_diagonal(apart, 0.0)
    tree = linkage(squareform(np.maximum(apart, 0.0), checks=False), "average")
    return np.asarray(fcluster(tree, 1.0 - CUT, "distance"), np.int64) - 1


def group_results(daily: Floats, groups: Ints) -> Floats:
    """float64[groups, d]: each group as one strategy, its members by inverse variance (Lopez de Prado & Lewis 2019)."""
    out = []
    for g in range(int(groups.max()) + 1 if len(groups) else 0):
        part = daily[groups == g]
        variance = part.var(axis=1)
        weight = np.where(variance > 0, 1.0 / np.where(variance > 0, variance, 1.0), 0.0)
        out.append(weight @ part / weight.sum() if weight.sum() > 0 else np.zeros(part.shape[1]))
    return np.array(out).reshape(-1, daily.shape[1])


@dataclass(frozen=True)
class Trials:
    """What is known of the trials: how many, how many groups they make, the variance of the groups' daily Sharpe ratios."""

    count: int
    groups: int
    variance: float

    @classmethod
    def of(cls, daily: Floats, count: int) -> Trials:
        """daily: float64[n, d], P/L of trials, all or an even part of `count`. Trials that never trade are none."""
        moving = daily[np.ptp(daily, axis=1) > 0] if daily.size else daily
        if len(moving) > MOST:
            moving = moving[np.linspace(0, len(moving) - 1, MOST).astype(int)]
        if not len(moving):
            return cls(count, 0, math.nan)
        moving = moving.astype(np.float64)
        results = group_results(moving, groups_of(moving))
        sharpes = np.array([sharpe_of_days(r) for r in results])
        sharpes = sharpes[np.isfinite(sharpes)]
        return cls(count, len(sharpes), float(sharpes.var(ddof=1)) if len(sharpes) > 1 else 0.0)


@dataclass(frozen=True)
class Deflated:
    """sharpe: a day's, of the set looked at. hurdle: the best to expect by luck. chance: that the true one is above the
    hurdle. above_zero: that it is above nothing. days: there are; needed: to be sure that it is above the hurdle."""

    sharpe: float
    hurdle: float
    chance: float
    above_zero: float
    days: int
    needed: float
    trials: Trials

    def words(self) -> str:
        """In one sentence."""
        t = self.trials
        if not math.isfinite(self.chance):
            return "The deflated Sharpe ratio has no value: the results never move."
        return (f"Deflated Sharpe ratio: with {100 * self.chance:.1f}% probability the true Sharpe ratio is above the best "
                f"to expect by luck of {t.groups:,} different {'trial' if t.groups == 1 else 'trials'} "
                f"({t.count:,} sets grouped by correlation).")


def deflated(daily: Floats, trials: Trials) -> Deflated:
    """Of one set's daily results, float64[d]."""
    daily = np.ascontiguousarray(daily, np.float64)
    sharpe = sharpe_of_days(daily)
    skew, kurtosis = shape_of(daily)
    hurdle = expected_best(trials.groups, trials.variance)
    if not math.isfinite(sharpe):
        return Deflated(sharpe, hurdle, math.nan, math.nan, len(daily), math.nan, trials)
    return Deflated(sharpe, hurdle, probabilistic(sharpe, hurdle, len(daily), skew, kurtosis),
                    probabilistic(sharpe, 0.0, len(daily), skew, kurtosis), len(daily),
                    least_days(sharpe, hurdle, skew, kurtosis), trials)
