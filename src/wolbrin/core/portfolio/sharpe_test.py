"""Whether one Sharpe ratio is better than another beyond noise: the studentized circular block bootstrap of their difference
(Ledoit & Wolf 2008).

The standard error of the sample is of Newey & West (Bartlett weights, the lag of the t of daily results), that of each draw
the natural one of its blocks, as there.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.measures.sums import lag_of

Floats = NDArray[np.float64]
REPS = 999
LEAST_BLOCKS = 10


def _moments(x: Floats) -> Floats:
    """float64[..., d, 4] of float64[..., d, 2]: both results and their squares."""
    return np.concatenate([x, x * x], axis=-1)


def _difference(v: Floats) -> tuple[Floats, Floats]:
    """Difference of the two Sharpe ratios by their four moments, float64[..., 4], and its gradient."""
    a, b, c, d = (v[..., i] for i in range(4))
    one, two = np.maximum(c - a * a, 1e-300), np.maximum(d - b * b, 1e-300)
    slope = np.stack([c / one**1.5, -d / two**1.5, -0.5 * a / one**1.5, 0.5 * b / two**1.5], axis=-1)
    return a / np.sqrt(one) - b / np.sqrt(two), slope


def sharpe_difference_p(one: Floats, two: Floats, seed: int = 1, reps: int = REPS, block: int | None = None) -> float:
    """Two-sided p of equal Sharpe ratios of two series of the same days, float64[d]; NaN where one never moves, both are the
    same, or there are too few days for LEAST_BLOCKS blocks."""
    x = np.stack([one, two], axis=1)
    days = len(x)
    scale = x.std(axis=0)
    size = max(2, round(days ** (1 / 3))) if block is None else block
    if days < LEAST_BLOCKS * size or not (scale > 0).all():
        return math.nan
    x = x / scale  # a Sharpe ratio does not change, and rounding is the same for all
    if np.allclose(x[:, 0], x[:, 1], atol=1e-9):
        return math.nan
    y = _moments(x)
    mean = y.mean(axis=0)
    found, slope = _difference(mean)
    off = y - mean
    spread = off.T @ off / days
    lags = min(lag_of(days), days - 1)
    for lag in range(1, lags + 1):
        part = off[lag:].T @ off[:-lag] / days
        spread += (1.0 - lag / (lags + 1.0)) * (part + part.T)
    error = math.sqrt(max(float(slope @ spread @ slope), 1e-300) / days)
    rng = np.random.default_rng(seed)
    count = days // size
    places = (rng.integers(0, days, (reps, count))[:, :, None] + np.arange(size)) % days
    drawn = y[places]  # reps, blocks, days of each, moments
    middle = drawn.mean(axis=(1, 2))
    there, slopes = _difference(middle)
    zeta = (drawn - middle[:, None, None, :]).sum(axis=2) / math.sqrt(size)
    along = np.einsum("rbm,rm->rb", zeta, slopes)
    errors = np.sqrt(np.maximum((along**2).mean(axis=1), 1e-300) / (count * size))
    above = np.abs(there - found) / errors >= abs(float(found)) / error
    return float((1 + above.sum()) / (1 + reps))
