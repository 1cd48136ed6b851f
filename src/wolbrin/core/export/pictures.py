"""Pictures of a run for paper, drawn with matplotlib's object interface, which is safe off the main thread."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.run import Run
from wolbrin.core.measures.breakdown import MONTHS, month_grid
from wolbrin.core.measures.costs import waterfall
from wolbrin.core.measures.drawdown import depth_below_peak

INK, GAIN, LOSS, MUTED, HAIR = "#23282D", "#1D6F86", "#B4552D", "#6B6A63", "#D9D2C3"
POINTS = 2400


def words_as_they_are() -> None:
    """No text is mathematics: a name may hold dollar signs."""
    import matplotlib as mpl  # late

    mpl.rcParams["text.parse_math"] = False


def plain_figure(width: float, height: float, rows: int = 1, ratios: list[int] | None = None,
                 columns: int = 1) -> tuple[Any, Any]:
    """A figure and its axes in the plain look, inches. ratios: heights of rows that share one axis of time."""
    from matplotlib.figure import Figure  # late

    words_as_they_are()
    figure = Figure(figsize=(width, height), layout="constrained")
    axes = figure.subplots(rows, columns, sharex=rows > 1, gridspec_kw={"height_ratios": ratios or [1] * rows})
    for one in np.atleast_1d(axes):
        one.spines[["top", "right"]].set_visible(False)
        one.grid(axis="y", color=HAIR, linewidth=0.6)
        one.tick_params(labelsize=8, colors=MUTED)
    return figure, axes


def equity_picture(run: Run, currency: str) -> Any:
    """Equity before and after costs, and depth below the peak."""
    figure, (top, low) = plain_figure(9.5, 4.2, 2, [3, 1])
    step = max(1, len(run.net) // POINTS)
    time = run.bars.end[run.first:run.last][::step].view("datetime64[ns]")
    capital = run.brief.capital
    top.plot(time, (run.gross - capital)[::step], color=MUTED, linewidth=0.8, label="before costs")
    top.plot(time, (run.net - capital)[::step], color=INK, linewidth=1.4, label="net")
    top.legend(frameon=False, fontsize=8, loc="upper left")
    top.set_ylabel(currency, fontsize=8)
    low.fill_between(time, depth_below_peak(run.net, capital)[::step], color=LOSS, alpha=0.35, linewidth=0)
    low.set_ylabel("below peak", fontsize=8)
    return figure


def months_picture(run: Run) -> Any:
    """Net profit by year and month."""
    return grid_picture(*month_grid(run))


def grid_picture(years: list[int], grid: NDArray[np.float64]) -> Any:
    """Money by year and month, float64[years, 12]."""
    from matplotlib.colors import LinearSegmentedColormap  # late

    figure, axis = plain_figure(9.5, max(1.4, 0.36 * len(years) + 0.7))
    axis.grid(visible=False)
    top = float(np.nanmax(np.abs(grid))) if len(years) else 1.0
    colors = LinearSegmentedColormap.from_list("ramp", [LOSS, "#FBF9F4", GAIN])
    if len(years):
        axis.imshow(grid, cmap=colors, vmin=-top, vmax=top, aspect="auto")
    axis.set_xticks(range(12), MONTHS)
    axis.set_yticks(range(len(years)), [str(y) for y in years])
    for (row, column), value in np.ndenumerate(grid):
        if np.isfinite(value):
            axis.text(column, row, f"{value:,.0f}".replace("-", "\u2212"), ha="center", va="center", fontsize=7, color=INK)
    return figure


def costs_picture(run: Run, currency: str) -> Any:
    """From gross to net."""
    figure, axis = plain_figure(9.5, 2.6)
    at = 0.0
    for place, (name, amount) in enumerate(waterfall(run).steps()):
        base = 0.0 if name in ("gross", "net") else at
        axis.bar(place, amount, bottom=base, color=GAIN if amount >= 0 else LOSS, width=0.6)
        at = amount if name == "gross" else at + amount
    axis.set_xticks(range(6), [name for name, _ in waterfall(run).steps()])
    axis.axhline(0, color=INK, linewidth=0.8)
    axis.set_ylabel(currency, fontsize=8)
    return figure


def results_picture(run: Run, currency: str) -> Any:
    """Distribution of trade results."""
    figure, axis = plain_figure(9.5, 2.4)
    x = run.profits
    if len(x):
        counts, edges = np.histogram(x, bins=min(60, max(8, len(x) // 8)))
        middle = (edges[1:] + edges[:-1]) / 2
        axis.bar(middle, counts, width=np.diff(edges) * 0.9, color=[GAIN if m > 0 else LOSS for m in middle])
    axis.set_xlabel(f"net result of a trade, {currency}", fontsize=8)
    return figure
