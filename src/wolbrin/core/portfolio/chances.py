"""How else it could have gone: whole days drawn anew, so that what lost together loses together."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.portfolio.growth import growth_optimal
from wolbrin.core.proving.monte_carlo import Paths, block_length, capital_for, fan_of, risk_of_ruin, simulate_paths

Floats = NDArray[np.float64]
PATHS = 10_000
# Shares of the capital whose loss is told.
LOSSES = (0.01, 0.02, 0.03, 0.05, 0.075, 0.1, 0.15, 0.2, 0.25, 0.3, 0.4, 0.5, 0.75, 1.0)
RISKS = (0.01, 0.05, 0.1)
SELDOM = 95  # percentile of the drawdown that is asked to keep within what is chosen
LEAST_DAYS = 20


@dataclass(frozen=True)
class Chances:
    """Simulated years of the whole. fan: named columns by day. ruin: share of paths that ever lost each of LOSSES. capital:
    that keeps the loss of half of it below each of RISKS. drawdown: median and 95th percentile, money. block: mean days that
    were drawn together. optimal: by what the present size is to be multiplied for the fastest growth, a ceiling (see
    `growth`)."""

    fan: dict[str, Floats]
    ruin: Floats
    capital: Floats
    drawdown: tuple[float, float]
    block: float
    optimal: float
    start: float

    def size_for(self, drawdown: float) -> float:
        """By what the present size may be multiplied for a drawdown that stays within so much money in 95 of 100 paths."""
        return drawdown / self.drawdown[1] if self.drawdown[1] > 0 else math.nan


def chances(daily: Floats, capital: float, paths: int = PATHS, seed: int = 1) -> Chances:
    """daily: float64[d], results of the whole by trading date (money), drawn in blocks (Politis & Romano 1994), their
    members' days together."""
    days = np.ascontiguousarray(daily, np.float64)
    if len(days) < LEAST_DAYS:
        nan = np.full
        return Chances({}, nan(len(LOSSES), math.nan), nan(len(RISKS), math.nan), (math.nan, math.nan), math.nan, math.nan,
                       capital)
    block = block_length(days)
    drawn: Paths = simulate_paths(days, capital, paths, replace=True, block=block, seed=seed)
    ruin = np.array([risk_of_ruin(drawn, capital * (1.0 - share)) for share in LOSSES])
    needed = np.array([capital_for(drawn, capital, 0.5, risk) for risk in RISKS])
    middle, seldom = (float(x) for x in np.percentile(drawn.drawdown, (50, SELDOM)))
    optimal = growth_optimal(days, capital)
    return Chances(fan_of(drawn, days, capital), ruin, needed, (middle, seldom), block, optimal, capital)
