"""How many finds luck brings: the same search on shuffled histories beside the real one.

Kept counts vary more than independent draws would, since candidates resemble each other; so the interval comes from the
spread over the controls, on square roots of counts (Bartlett 1936). A few controls tell little of their spread: what is usual
stands beside it with the weight of PRIOR controls (normal model with a scaled inverse chi-squared prior; Gelman and others
2013, Bayesian Data Analysis, 3.3).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.measures.wording import number

Floats = NDArray[np.float64]
POISSON = 0.25  # variance of the square root of a Poisson count
LEAST_USUAL, PER_FIND, MOST_USUAL = 1.5, 1 / 25, 12.0  # times as much do kept counts usually vary, by their size
PRIOR = 4


@dataclass(frozen=True)
class Luck:
    """kept: by the search; controls: by each of the same on a shuffled history. low, high: where 95 of 100 further controls
    lie; limit: what 95 of 100 stay below or at, beyond which a count says more than luck; chance: that luck keeps as many or
    more. NaN without controls."""

    kept: int
    controls: tuple[int, ...]
    expected: float
    low: float
    high: float
    limit: float
    chance: float = math.nan

    @property
    def beyond(self) -> bool:
        """Whether more was kept than luck keeps in 95 of 100 searches."""
        return self.kept > self.limit

    @property
    def share(self) -> float:
        """What share of the kept ones luck brings as well, at most 1; NaN without any, or without controls."""
        return min(1.0, self.expected / self.kept) if self.kept and self.controls else math.nan

    @property
    def words(self) -> str:
        """Such as "236 kept; by luck 212 (190 to 240)"."""
        text = f"{number(self.kept)} kept"
        if not self.controls:
            return f"{text}; no control ran, so what luck keeps is not known"
        some = f"by luck {number(self.expected, 0 if self.expected >= 10 else 1)}"
        some += f" ({number(math.ceil(self.low))} to {number(math.floor(self.high))})"
        verdict = "more than luck brings" if self.beyond else "no more than luck may bring"
        return f"{text}; {some}: {verdict}"


def luck_of(kept: int, controls: Sequence[int]) -> Luck:
    """What so many controls say of a count."""
    m = len(controls)
    if not m:
        return Luck(kept, (), math.nan, math.nan, math.nan, math.nan)
    from scipy.special import stdtr, stdtrit  # late

    roots = np.sqrt(np.array(controls, np.float64))
    degrees = PRIOR + m - 1
    usual = min(MOST_USUAL, LEAST_USUAL + PER_FIND * float(np.mean(controls)))
    variance = (PRIOR * usual * POISSON + float(((roots - roots.mean()) ** 2).sum())) / degrees
    middle, spread = float(roots.mean()), math.sqrt(max(variance, POISSON) * (1 + 1 / m))
    wide, one = (float(stdtrit(degrees, q)) * spread for q in (0.975, 0.95))
    return Luck(kept, tuple(int(c) for c in controls), float(np.mean(controls)), max(0.0, middle - wide) ** 2,
                (middle + wide) ** 2, (middle + one) ** 2, float(stdtr(degrees, (middle - math.sqrt(kept)) / spread)))
