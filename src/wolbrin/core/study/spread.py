"""Statistics of a sample of moves."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Spread:
    """count, mean, median, sd (n - 1), skew (population, m3 / m2^1.5), t of the mean against zero, share of moves above
    zero in percent. NaN where there are too few values."""

    count: int
    mean: float
    median: float
    sd: float
    skew: float
    t: float
    up: float


def spread(moves: Floats) -> Spread:
    """Statistics of moves, float64[n] without NaN."""
    n = len(moves)
    if n < 2:
        only = float(moves[0]) if n else math.nan
        return Spread(n, only, only, math.nan, math.nan, math.nan, 100.0 * (only > 0) if n else math.nan)
    mean, sd = float(moves.mean()), float(moves.std(ddof=1))
    m2 = float(((moves - mean) ** 2).mean())
    # A sample without spread has neither skew nor t; rounding of its mean must not invent them.
    still = m2 <= (1e-12 * max(abs(mean), 1e-300)) ** 2
    skew = math.nan if still else float(((moves - mean) ** 3).mean()) / m2**1.5
    return Spread(n, mean, float(np.median(moves)), sd, skew, math.nan if still else mean / (sd / math.sqrt(n)),
                  100.0 * float((moves > 0).mean()))


@dataclass(frozen=True)
class Ordeal:
    """What firings went through within some bars. best: median of the best move, worst: of the worst before it; first: share
    that went further against first, percent. NaN without firings."""

    best: float
    worst: float
    first: float


def ordeal(heat: Floats, best: Floats) -> Ordeal:
    """heat: float64[n], worst move before the best one; best: float64[n]."""
    if not len(best):
        return Ordeal(math.nan, math.nan, math.nan)
    return Ordeal(float(np.median(best)), float(np.median(heat)), 100.0 * float(np.mean(np.abs(heat) > best)))


def normal_overlay(moves: Floats, edges: Floats) -> Floats:
    """How many of the moves a normal distribution of their mean and deviation puts between the edges, float64[m - 1]."""
    made = spread(moves)
    if not made.sd > 0:
        return np.zeros(max(0, len(edges) - 1))
    z = (np.asarray(edges) - made.mean) / (made.sd * math.sqrt(2.0))
    below = np.array([0.5 * (1.0 + math.erf(x)) for x in z])
    return np.diff(below) * len(moves)
