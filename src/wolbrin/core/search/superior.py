"""Whether any of all that was tried is better than nothing: Hansen's test of superior predictive ability, stepwise.

Every series is divided by its own long-run deviation before they are compared, so that no loud one decides (Hansen 2005);
steps as Romano & Wolf 2005 with Hansen's recentring as Hsu, Hsu & Kuan 2010. The universe is all that was tried: among
survivors alone the best of noise looks significant.
"""

from __future__ import annotations

import hashlib
import math
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
REPS = 2_000
LEAST_DAYS = 30
AT_ONCE = 2_000  # series whose draws are computed together


@dataclass(frozen=True)
class Superior:
    """statistic: of each series that moves, largest first, float64[k]; p: of each with the chance that luck alone brings one
    as large among all (and not among those above it that were rejected), never falling. block: mean length of drawn blocks,
    days. tried: series, those that never move too. places: of each series among these, by what `_name` gives it."""

    statistic: Floats
    p: Floats
    block: float
    days: int
    tried: int
    places: Mapping[bytes, int] = field(default_factory=dict, repr=False)

    @property
    def best(self) -> float:
        """p of Hansen's test: whether the best of all is better than nothing; NaN where nothing moves."""
        return float(self.p[0]) if len(self.p) else math.nan

    def of(self, daily: Floats) -> tuple[float, float]:
        """Statistic and p of a series, float64[d]; of fewer days where its run began later. It is looked up as the universe
        keeps it; one that is not in there has the p of the next weaker one. NaN where it never moves."""
        whole = np.concatenate([np.zeros(max(0, self.days - len(daily))), np.nan_to_num(daily)])
        at = self.places.get(_name(whole))
        if at is not None:
            return float(self.statistic[at]), float(self.p[at])
        if len(whole) != self.days or not np.ptp(whole) > 0 or not len(self.p):
            return math.nan, math.nan
        statistic = float(statistics_of(whole[None, :], self.block)[0])
        return statistic, self.at(statistic)

    def at(self, statistic: float) -> float:
        """p of the strongest series that is no stronger than this, 1 where all are; NaN without a statistic."""
        if not len(self.p) or not math.isfinite(statistic):
            return math.nan
        weaker = int(np.searchsorted(-self.statistic, -statistic, "left"))
        return float(self.p[weaker]) if weaker < len(self.p) else 1.0


def _name(daily: Floats) -> bytes:
    """What names a series: its results as they are kept, in single precision."""
    return hashlib.blake2b((daily.astype(np.float32) + np.float32(0.0)).tobytes(), digest_size=16).digest()


def usual_block(days: int) -> float:
    """Mean length of blocks that grows with the third root of the days, as it should (Politis & White 2004)."""
    return max(2.0, float(round(days ** (1 / 3))))


def long_run_deviations(daily: Floats, block: float) -> Floats:
    """float64[n]: deviation of a day of each row that the stationary bootstrap sees (Politis & Romano 1994, equation 7)."""
    days = daily.shape[1]
    off = daily - daily.mean(axis=1, keepdims=True)
    spectrum = np.fft.rfft(off, 2 * days, axis=1)
    covariances = np.fft.irfft(np.abs(spectrum) ** 2, axis=1)[:, :days] / days
    i, stay = np.arange(days), 1.0 - 1.0 / block
    weight = 2.0 * ((1.0 - i / days) * stay**i + (i / days) * stay ** (days - i))
    weight[0] = 1.0
    return np.sqrt(np.maximum(covariances @ weight, 0.0))


def drawn_order(days: int, block: float, rng: np.random.Generator) -> NDArray[np.int64]:
    """int64[days]: places of the days of one stationary bootstrap sample (Politis & Romano 1994)."""
    at = np.arange(days)
    fresh = rng.random(days) < 1.0 / block
    fresh[0] = True
    began = np.maximum.accumulate(np.where(fresh, at, 0))
    return (rng.integers(0, days, days)[began] + at - began) % days


def draws(days: int, block: float, reps: int, seed: int) -> NDArray[np.float32]:
    """float32[reps, days]: how often each day comes in a stationary bootstrap sample, divided by the days."""
    rng = np.random.default_rng(seed)
    out = np.empty((reps, days), np.float32)
    for r in range(reps):
        out[r] = np.bincount(drawn_order(days, block, rng), minlength=days)
    return out / np.float32(days)


def statistics_of(daily: Floats, block: float) -> Floats:
    """float64[n]: mean over its long-run standard error, NaN of a row that never moves."""
    deviation = long_run_deviations(daily, block)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(deviation > 0, math.sqrt(daily.shape[1]) * daily.mean(axis=1) / deviation, math.nan)


def superior(daily: Floats, seed: int = 1, reps: int = REPS, block: float | None = None) -> Superior:
    """The test over a universe. daily: float64[n, d], results of everything that was tried, on the same days."""
    tried, days = daily.shape
    block = usual_block(days) if block is None else block
    moving = daily[np.ptp(daily, axis=1) > 0].astype(np.float64) if tried else daily
    if not len(moving) or days < LEAST_DAYS:
        return Superior(np.zeros(0), np.zeros(0), block, days, tried)
    statistic = statistics_of(moving, block)
    order = np.argsort(-statistic, kind="stable")
    moving, statistic = moving[order], statistic[order]
    scaled = moving / long_run_deviations(moving, block)[:, None]
    # What is clearly worse than nothing keeps its own mean, and so does not stand in the way of the others.
    worse = statistic < -math.sqrt(2.0 * math.log(math.log(days)))
    means = np.where(worse, 0.0, scaled.mean(axis=1))
    weights = draws(days, block, reps, seed)
    above = np.zeros(len(moving))
    running: Floats = np.full(reps, -np.inf)
    for last in range(len(moving), 0, -AT_ONCE):  # from the weakest, so that each step looks at what is left
        first = max(0, last - AT_ONCE)
        drawn = math.sqrt(days) * (weights @ scaled[first:last].T.astype(np.float32) - means[first:last].astype(np.float32))
        drawn = np.maximum(np.maximum.accumulate(drawn[:, ::-1], axis=1)[:, ::-1], running[:, None])
        running = drawn[:, 0].copy()
        above[first:last] = (drawn >= statistic[first:last]).sum(axis=0)
    p = np.maximum.accumulate((1.0 + above) / (1.0 + reps))
    return Superior(statistic, p, block, days, tried, {_name(row): at for at, row in enumerate(moving)})
