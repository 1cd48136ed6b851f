"""Money figures of a run in other units: points of one contract, percent of the capital, R."""

from __future__ import annotations

import math
from typing import Literal

import numpy as np

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.run import Run

MoneyUnit = Literal["money", "points", "percent", "R"]


def per_money(run: Run, unit: MoneyUnit) -> float:
    """What one unit of account money is in `unit`, NaN where it has no value: points of the mean quantity of the run's
    trades, R of their mean initial risk."""
    if unit == "percent":
        return 100.0 / run.brief.capital
    if unit == "points":
        mean = float(run.unit.mean()) if len(run) else 0.0
        return run.bars.terms.tick_size / mean if mean else math.nan
    if unit == "R":
        risk = run.trades_f[:, k.F_RISK]
        known = risk[np.isfinite(risk)]
        return 1.0 / float(known.mean()) if len(known) else math.nan
    return 1.0
