"""What a run earned beyond the drift of its market: a rule that is long in a rising market earns without knowing anything."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.run import Run
from wolbrin.core.measures.inference import t_of_mean

Floats = NDArray[np.float64]


def mean_moves(run: Run) -> tuple[float, float]:
    """Ticks that the market moves on average inside a session from one bar's close to the next, and from one session's last
    close to the next one's first open."""
    part = slice(run.first, run.last)
    o, c = run.bars.o[part].astype(np.float64), run.bars.c[part].astype(np.float64)
    if len(o) < 2:
        return 0.0, 0.0
    begins = np.diff(run.bars.session[part]) != 0
    gaps = (o[1:] - c[:-1])[begins]
    inside = (c[-1] - o[0] - gaps.sum()) / len(o)
    return float(inside), float(gaps.mean()) if len(gaps) else 0.0


def drift_of(run: Run) -> Floats:
    """float64[m]: account money that each trade's bars earn at the market's mean moves, costs apart."""
    t = run.trades_i
    if not len(t):
        return np.zeros(0)
    inside, gap = mean_moves(run)
    first, last = t[:, k.T_ENTRY_BAR], t[:, k.T_EXIT_BAR]
    bars = last - first + 1 - (t[:, k.T_ENTRY_AT] == k.AT_CLOSE) - (t[:, k.T_EXIT_AT] == k.AT_OPEN)
    nights = run.bars.session[last] - run.bars.session[first]
    return t[:, k.T_SIDE] * (inside * np.maximum(bars, 0) + gap * nights) * run.unit


def above_drift(run: Run | None) -> float:
    """t of daily results (autocorrelation allowed for) less what the market's mean moves earned on the bars held; NaN where
    there is no run behind, or no trade."""
    if run is None or not len(run):
        return float("nan")
    days, profit = run.daily
    at = np.searchsorted(days, run.bars.trading_date[run.trades_i[:, k.T_EXIT_BAR]])
    less = np.zeros(len(days))
    np.add.at(less, np.minimum(at, len(days) - 1), drift_of(run))
    return float(t_of_mean(profit - less))
