"""How trades developed: open profit bar by bar, and what another stop or target would have done."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.run import Run

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class OpenProfit:
    """Money in account currency at the exit's rate, before costs, for each bar held: float64[bars]. close: at the bar's
    close, the last one at the exit; best, worst: at its extremes, cut at the trade's own excursions."""

    bar: NDArray[np.int64]
    close: Floats
    best: Floats
    worst: Floats


def open_profit(run: Run, index: int) -> OpenProfit:
    """How one trade developed."""
    t = run.trades_i[index]
    first = int(t[k.T_ENTRY_BAR]) + (1 if t[k.T_ENTRY_AT] == k.AT_CLOSE else 0)
    bar = np.arange(min(first, int(t[k.T_EXIT_BAR])), int(t[k.T_EXIT_BAR]) + 1)
    side, entry, unit = int(t[k.T_SIDE]), int(t[k.T_ENTRY]), float(run.unit[index])
    up = run.bars.h[bar] if side > 0 else run.bars.l[bar]
    down = run.bars.l[bar] if side > 0 else run.bars.h[bar]
    close = side * (run.bars.c[bar].astype(np.float64) - entry)
    close[-1] = side * (int(t[k.T_EXIT]) - entry)
    best = np.minimum(side * (up.astype(np.float64) - entry), t[k.T_BEST])
    worst = np.maximum(side * (down.astype(np.float64) - entry), t[k.T_WORST])
    return OpenProfit(bar, close * unit, np.maximum(best, close) * unit, np.minimum(worst, close) * unit)


@dataclass(frozen=True)
class WhatIf:
    """ticks: distances from the entry, float64[d]. stop, target: net profit of the run had every trade had a stop or a
    target that far away, all else equal, float64[d]. net: the run's own."""

    ticks: Floats
    stop: Floats
    target: Floats
    net: float


def what_if(run: Run, points: int = 60) -> WhatIf:
    """What another stop or target would have done to these trades.

    A trade whose worst excursion reaches the distance would have been stopped there (with slippage), one whose best
    reaches it would have left at the target. Entries that would have come in between are not known, nor which of the two
    came first; distances wider than the stop that stood cannot be judged from its trades and show the run's own result.
    """
    t = run.trades_i
    if not len(t):
        return WhatIf(np.zeros(0), np.zeros(0), np.zeros(0), 0.0)
    worst, best = -t[:, k.T_WORST].astype(np.float64), t[:, k.T_BEST].astype(np.float64)
    top = float(max(np.percentile(worst, 95), np.percentile(best, 95), 1.0))
    ticks = np.unique(np.maximum(1.0, np.round(np.linspace(top / points, top, points))))
    costs = run.trades_f[:, k.F_GROSS] - run.profits
    slip = run.brief.paid.slippage_ticks * run.unit
    by_target = t[:, k.T_REASON] == k.TARGET
    stopped_costs = costs + slip * by_target
    spared_costs = costs - slip * ~by_target
    stop = np.array([np.where(worst >= d, -d * run.unit - stopped_costs, run.profits).sum() for d in ticks])
    target = np.array([np.where(best >= d, d * run.unit - spared_costs, run.profits).sum() for d in ticks])
    return WhatIf(ticks, stop, target, float(run.profits.sum()))
