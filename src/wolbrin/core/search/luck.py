"""How many finds luck brings: the same search on shuffled histories beside the real one.

Kept counts vary more than independent draws would, since candidates resemble each other; so the interval comes from the
spread over the controls, on square roots of counts (Bartlett 1936). A few controls tell little of their spread: what is usual
stands beside it with the weight of PRIOR controls (normal model with a scaled inverse chi-squared prior; Gelman and others
2013, Bayesian Data Analysis, 3.3).
"""

from __future__ import annotations

import math
from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.measures.wording import number

Floats = NDArray[np.float64]
POISSON = 0.25  # variance of the square root of a Poisson count
LEAST_USUAL, PER_FIND, MOST_USUAL = 1.5, 1 / 25, 12.0  # times as much do kept counts usually vary, by their size
PRIOR = 4
USUAL_SPREAD = 0.4  # standard deviation of the strongest t of a search on noise
LEVELS = 24


@dataclass(frozen=True)
class Luck:
    """kept: by the search; controls: by each of the same on a shuffled history. low, high: where 95 of 100 further controls
    lie; limit: what 95 of 100 stay below or at, beyond which a count says more than luck; sure: what 99 of 100 do. NaN
    without controls."""

    kept: int
    controls: tuple[int, ...]
    expected: float
    low: float
    high: float
    limit: float
    sure: float = math.nan

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
    from scipy.special import stdtrit  # late

    roots = np.sqrt(np.array(controls, np.float64))
    degrees = PRIOR + m - 1
    usual = min(MOST_USUAL, LEAST_USUAL + PER_FIND * float(np.mean(controls)))
    variance = (PRIOR * usual * POISSON + float(((roots - roots.mean()) ** 2).sum())) / degrees
    middle, spread = float(roots.mean()), math.sqrt(max(variance, POISSON) * (1 + 1 / m))
    wide, one, sure = (float(stdtrit(degrees, q)) * spread for q in (0.975, 0.95, 0.99))
    return Luck(kept, tuple(int(c) for c in controls), float(np.mean(controls)), max(0.0, middle - wide) ** 2,
                (middle + wide) ** 2, (middle + one) ** 2, (middle + sure) ** 2)


@dataclass(frozen=True)
class Strength:
    """By strength of finds, float64[LEVELS] each: at least this strong, so many found, so many by a control on average, and
    the share of finds this strong that luck brings, which never rises with strength (Storey & Tibshirani 2003). strongest: of
    the search, NaN without finds; by_luck: the strongest of each control; limit: what 95 of 100 further ones stay below,
    sure: what 99 do. of: strength of each find, by whatever names it."""

    level: Floats
    found: Floats
    expected: Floats
    share: Floats
    strongest: float = math.nan
    by_luck: tuple[float, ...] = ()
    limit: float = math.nan
    sure: float = math.nan
    of: Mapping[Hashable, float] = field(default_factory=dict)

    @property
    def beyond(self) -> bool:
        """Whether the strongest find is stronger than luck finds in 95 of 100 searches."""
        return self.strongest > self.limit

    @property
    def words(self) -> str:
        """Such as "Strongest 13.1; by luck 3.3, seldom above 4.1: stronger than luck brings"."""
        if not self.by_luck or not math.isfinite(self.strongest):
            return ""
        verdict = "stronger than luck brings" if self.beyond else "no stronger than luck may bring"
        return (f"Strongest t {number(self.strongest, 1)}; by luck {number(float(np.mean(self.by_luck)), 1)}, seldom above "
                f"{number(self.limit, 1)}: {verdict}")

    def share_of(self, name: Hashable) -> float:
        """The share that luck brings of finds as strong as one; NaN where it is not known."""
        return self.at(self.of.get(name, math.nan))

    def at(self, value: float) -> float:
        """The share that luck brings of finds as strong as this; NaN where it is not known."""
        if not len(self.level) or not math.isfinite(value):
            return math.nan
        return float(self.share[max(0, int(np.searchsorted(self.level, value, "right")) - 1)])


def strength_of(found: Floats, controls: Sequence[Floats]) -> Strength:
    """The curve over the finds of a search and of its controls."""
    found = np.sort(found[np.isfinite(found)])
    nothing = np.zeros(0)
    strongest = float(found[-1]) if len(found) else math.nan
    best = tuple(float(np.nanmax(c)) for c in controls if np.isfinite(c).any())
    limit, sure = _limits_of(best)
    if not len(found) or not controls:
        return Strength(nothing, nothing, nothing, nothing, strongest, best, limit, sure)
    level = np.unique(np.quantile(found, np.linspace(0, 1, LEVELS), method="lower"))
    count = len(found) - np.searchsorted(found, level, "left")
    whole = np.sort(np.concatenate([c[np.isfinite(c)] for c in controls]))
    expected = (len(whole) - np.searchsorted(whole, level, "left")) / len(controls)
    # One more than was seen, so that a level no control reached is not said to be free of luck.
    share = np.minimum(1.0, (expected + 1.0 / len(controls)) / np.maximum(count, 1))
    return Strength(level, count.astype(np.float64), expected, np.minimum.accumulate(share), strongest, best, limit, sure)


def _limits_of(best: Sequence[float]) -> tuple[float, float]:
    """What the strongest find of another control stays below in 95 and in 99 of 100, from those of some; NaN without any.
    Their usual spread stands beside them as for counts (see `luck_of`)."""
    from scipy.special import stdtrit  # late

    m = len(best)
    if not m:
        return math.nan, math.nan
    degrees = PRIOR + m - 1
    middle = float(np.mean(best))
    variance = (PRIOR * USUAL_SPREAD**2 + float(((np.array(best) - middle) ** 2).sum())) / degrees
    spread = math.sqrt(variance * (1 + 1 / m))
    return middle + float(stdtrit(degrees, 0.95)) * spread, middle + float(stdtrit(degrees, 0.99)) * spread
