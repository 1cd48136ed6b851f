"""How likely a best Sharpe ratio is more than luck's best: probabilistic and deflated Sharpe ratio.

All ratios are per day and not annualized; kurtosis is the raw one (3 for a normal distribution), as the papers' formulas ask.
The hurdle is what luck's best comes to, by the controls of the search, or by the number tried where none ran; never the
spread of what was tried, which holds costs and real edges. Bailey & Lopez de Prado 2012 and 2014.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.measures.inference import NORMAL, sharpe_of_days
from wolbrin.core.measures.wording import number

Floats = NDArray[np.float64]
EULER = 0.5772156649015329
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


@dataclass(frozen=True)
class Hurdle:
    """The best daily Sharpe ratio that luck comes to. tried: alternatives among which the best was chosen; controls: whose
    best ones it is the mean of, 0 where none ran and it follows from the number tried."""

    value: float
    tried: int
    controls: int = 0

    @classmethod
    def of(cls, best: Sequence[float], tried: int, days: int) -> Hurdle:
        """best: the best daily Sharpe ratio of each control, among all it tried with as many trades as the floors ask. Where
        no control ran: of so many independent tries over so many days that are worth nothing."""
        known = [b for b in best if math.isfinite(b)]
        if known:
            return cls(float(np.mean(known)), tried, len(known))
        return cls(expected_best(tried, 1.0 / days) if days > 0 else math.nan, tried)

    def words(self) -> str:
        """Whose best it is."""
        if self.controls:
            return f"the best of {number(self.controls)} control{'s' if self.controls != 1 else ''}"
        return f"the best to expect by luck of {number(self.tried)} tries"


@dataclass(frozen=True)
class Deflated:
    """sharpe: a day's, of the set looked at. hurdle: the best that luck comes to. chance: that the true one is above the
    hurdle. above_zero: that it is above nothing. days: there are; needed: to be sure that it is above the hurdle."""

    sharpe: float
    hurdle: Hurdle
    chance: float
    above_zero: float
    days: int
    needed: float

    def words(self) -> str:
        """In one sentence."""
        if not math.isfinite(self.chance):
            return "The probabilistic Sharpe ratio has no value: the results never move."
        return (f"Probabilistic Sharpe ratio against luck: with {100 * self.chance:.1f}% probability the true Sharpe ratio "
                f"is above {self.hurdle.words()}.")


def deflated(daily: Floats, hurdle: Hurdle) -> Deflated:
    """Of one set's daily results, float64[d]."""
    daily = np.ascontiguousarray(daily, np.float64)
    sharpe = sharpe_of_days(daily)
    skew, kurtosis = shape_of(daily)
    if not math.isfinite(sharpe):
        return Deflated(sharpe, hurdle, math.nan, math.nan, len(daily), math.nan)
    return Deflated(sharpe, hurdle, probabilistic(sharpe, hurdle.value, len(daily), skew, kurtosis),
                    probabilistic(sharpe, 0.0, len(daily), skew, kurtosis), len(daily),
                    least_days(sharpe, hurdle.value, skew, kurtosis))
