"""Pictures of a portfolio for paper."""

from __future__ import annotations

from typing import Any

import numpy as np

from wolbrin.core.export.pictures import GAIN, INK, LOSS, MUTED, POINTS, grid_picture, plain_figure
from wolbrin.core.measures.drawdown import depth_below_peak
from wolbrin.core.portfolio.chances import LOSSES
from wolbrin.core.portfolio.over_time import month_grid
from wolbrin.core.portfolio.told import Told


def equity_picture(told: Told, currency: str) -> Any:
    """The whole, its members, buying and holding, and depth below the peak."""
    made = told.played
    figure, (top, low) = plain_figure(9.5, 4.4, 2, [3, 1])
    step = max(1, len(made.instants) // POINTS)
    time = made.instants[::step].view("datetime64[ns]")
    for column in range(made.each.shape[1]):
        top.plot(time, made.each[::step, column], color=MUTED, linewidth=0.6, label="members" if not column else None)
    top.plot(time, told.holding[::step], color=LOSS, linewidth=0.8, linestyle="--", label="buy and hold")
    top.plot(time, (made.equity - made.capital)[::step], color=INK, linewidth=1.5, label="portfolio")
    top.legend(frameon=False, fontsize=8, loc="upper left")
    top.set_ylabel(currency, fontsize=8)
    low.fill_between(time, depth_below_peak(made.equity, made.capital)[::step], color=LOSS, alpha=0.35, linewidth=0)
    low.set_ylabel("below peak", fontsize=8)
    return figure


def months_picture(told: Told, currency: str) -> Any:
    """P/L by year and month."""
    return grid_picture(*month_grid(*told.played.daily))


def chances_picture(told: Told, currency: str) -> Any:
    """The fan of days drawn anew, and the chance of losing so much of the capital."""
    figure, (left, right) = plain_figure(9.5, 2.9, 1, columns=2)
    fan = told.chances.fan
    if fan:
        left.fill_between(fan["trade"], fan["p5"], fan["p95"], color=GAIN, alpha=0.15, linewidth=0)
        left.fill_between(fan["trade"], fan["p25"], fan["p75"], color=GAIN, alpha=0.25, linewidth=0)
        left.plot(fan["trade"], fan["p50"], color=GAIN, linewidth=1.0)
        left.plot(fan["trade"], fan["actual"], color=INK, linewidth=1.0)
    left.set_xlabel("trading days", fontsize=8)
    left.set_ylabel(f"net, {currency}", fontsize=8)
    right.plot(100 * np.array(LOSSES), 100 * told.chances.ruin, color=LOSS, linewidth=1.2)
    right.set_xlabel("percent of the capital lost at some time", fontsize=8)
    right.set_ylabel("chance, percent", fontsize=8)
    return figure


def use_picture(told: Told, currency: str) -> Any:
    """Margin over equity and positions by the hour, largest and mean."""
    figure, (left, right) = plain_figure(9.5, 2.4, 1, columns=2)
    hours = np.arange(24)
    left.bar(hours, 100 * np.nan_to_num(told.use.margin), color=MUTED, width=0.7)
    left.set_ylabel("margin, % of equity, largest", fontsize=8)
    right.bar(hours, np.nan_to_num(told.use.positions), color=GAIN, width=0.7)
    right.set_ylabel("positions open, mean", fontsize=8)
    for axis in (left, right):
        axis.set_xlabel(f"hour, {told.played.plan.zone}", fontsize=8)
    return figure
