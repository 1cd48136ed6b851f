"""How large is too large: the size at which the account would have grown fastest, as a ceiling.

Kelly 1956; on results as they were, rather than on a model of them, Vince 1990. Growth is of daily results over the capital,
kept in proportion to it. The size is a ceiling because it is the best of the past: beyond it more risk brings less.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
MOST = 1_000.0  # times the present size


def growth_optimal(daily: Floats, capital: float) -> float:
    """By what the present size is to be multiplied for the fastest growth; 0 where the mean is not above zero, NaN where
    nothing moves. daily: float64[d] money at the present size."""
    from scipy.optimize import minimize_scalar  # late

    r = daily / capital
    if not len(r) or not np.ptp(r) > 0:
        return math.nan
    if r.mean() <= 0:
        return 0.0
    most = min(MOST, -1.0 / float(r.min())) if r.min() < 0 else MOST
    found = minimize_scalar(lambda f: -float(np.log1p(f * r).mean()), bounds=(0.0, most * (1.0 - 1e-9)), method="bounded",
                            options={"xatol": 1e-10 * most})
    return float(found.x)
