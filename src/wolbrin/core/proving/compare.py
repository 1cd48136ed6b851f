"""Training against holdout: every measure side by side, and how much of a decline selection and chance explain.

Whoever keeps the best of many keeps those whose luck was good, so that they do worse afterwards even where they are real
(regression to the mean). How much, is told by the t at which luck's gate let it pass, and by the share of finds as
strong that luck brings (`power.expected_t`).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.measures.catalogue import MEASURES, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.wording import number
from wolbrin.core.proving.power import Reach

# Of which a decline says something whatever the length of the span.
RATES = ("profit_factor", "win_rate", "average", "payoff", "expectancy", "sharpe", "trades_per_year", "sortino", "cagr")
SURE = 1.96
Columns = dict[str, NDArray]
Daily = tuple[NDArray[np.int32], NDArray[np.float64]]


@dataclass(frozen=True)
class Decline:
    """Of the Sharpe ratio from training to holdout, percent of training. selection: what keeping the best explains of it;
    most: with chance added, in 97.5 of 100. power: chance that the holdout shows what selection leaves of training."""

    decline: float
    selection: float
    most: float
    power: float

    @property
    def words(self) -> str:
        """In one sentence; "" where training says nothing."""
        if not math.isfinite(self.decline):
            return ""
        told = f"Sharpe ratio {number(abs(self.decline))}% {'below' if self.decline >= 0 else 'above'} training"
        verdict = "as they may" if self.decline <= self.most else "more than they can explain"
        return (f"{told} (selection explains {number(self.selection)}%, with chance up to {number(self.most)}%: {verdict}); "
                f"chance to show what selection leaves: {number(100 * self.power)}%")


def decline_of(expected: float, training: dict[str, float], holdout: dict[str, float], days: tuple[int, int],
               t_needed: float) -> Decline:
    """expected: the t that training has without selection (`power.expected_t`). training, holdout: figures, with `sharpe`
    and `t_daily`. days: of each."""
    t = training["t_daily"]
    gone = 100.0 * (1.0 - holdout["sharpe"] / training["sharpe"]) if training["sharpe"] > 0 else math.nan
    if not (t > 0 and min(days)):
        return Decline(gone, math.nan, math.nan, math.nan)
    share = 1.0 - min(expected, t) / t
    reach = Reach.of(expected, *days)
    most = share + SURE * reach.spread / (t * math.sqrt(days[1] / days[0]))
    return Decline(gone, 100.0 * share, 100.0 * most, reach.chance(t_needed))


def side_by_side(training: Facts, holdout: Facts) -> Columns:
    """Every measure of both, and the decline in percent where the length of the span does not matter: columns of shape
    [measures]."""
    first, second = measure(training), measure(holdout)
    keys = [m.key for m in MEASURES]
    decline = [100.0 * (1.0 - second[key] / first[key]) if key in RATES and first[key] > 0 else math.nan for key in keys]
    return {"measure": np.array(keys), "training": np.array([first[key] for key in keys]),
            "holdout": np.array([second[key] for key in keys]), "decline": np.array(decline)}


def joined_equity(training: Daily, holdout: Daily) -> Columns:
    """Sum of daily results by trading date (days since 1970), through training and on through the holdout: columns of shape
    [days]. Each: trading dates and daily P/L, money."""
    days = np.concatenate([training[0], holdout[0]]).astype(np.float64)
    return {"day": days, "net": np.cumsum(np.concatenate([training[1], holdout[1]])),
            "sealed": np.repeat([0.0, 1.0], [len(training[0]), len(holdout[0])])}
