"""A portfolio over time: results by month, what is in the market and in margin, how alike its members are lately."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.market.sessions import NS_A_DAY
from wolbrin.core.market.zones import to_local
from wolbrin.core.measures.catalogue import buy_and_hold
from wolbrin.core.measures.facts import Facts
from wolbrin.core.portfolio.combine import correlation
from wolbrin.core.portfolio.played import Played

Floats = NDArray[np.float64]
WINDOW, STEP = 120, 21  # trading dates: of the correlation inside, and between two of its points
TIGHTEST = 10


def month_grid(dates: NDArray[np.int32], profit: Floats) -> tuple[list[int], Floats]:
    """Years, and P/L by year and month, float64[years, 12], NaN where there are no dates. dates: days since 1970."""
    if not len(dates):
        return [], np.zeros((0, 12))
    months = dates.astype("datetime64[D]").astype("datetime64[M]").astype(np.int64) + 1970 * 12
    years = list(range(int(months[0]) // 12, int(months[-1]) // 12 + 1))
    grid = np.full((len(years), 12), np.nan)
    for month in np.unique(months):
        grid[month // 12 - years[0], month % 12] = profit[months == month].sum()
    return years, grid


@dataclass(frozen=True)
class Tight:
    """A moment at which much was in use. at: UTC ns; margin: money; share: of the account's equity then; held: positions."""

    at: int
    margin: float
    share: float
    held: int


@dataclass(frozen=True)
class Use:
    """hours: by hour of the account's clock, mean positions open and largest margin over equity, float64[24] each (NaN where
    no bar ends). tightest: the moments of the largest margin over equity, one a day."""

    positions: Floats
    margin: Floats
    tightest: tuple[Tight, ...]


def use_of(made: Played) -> Use:
    """How much of the account is in use, and when most."""
    zone = made.plan.zone
    local = to_local(made.instants, zone)
    hour = (local - 1) % NS_A_DAY // (NS_A_DAY // 24)  # a bar that ends on the hour belongs to the one before
    share = np.divide(made.margin, made.equity, out=np.zeros(len(local)), where=made.equity > 0)
    positions, most = np.full(24, np.nan), np.full(24, np.nan)
    for h in range(24):
        here = hour == h
        if here.any():
            positions[h], most[h] = made.held[here].mean(), share[here].max()
    found: list[Tight] = []
    days: set[int] = set()
    for at in np.argsort(-share, kind="stable")[:20 * TIGHTEST * 24].tolist():
        day = int((local[at] - 1) // NS_A_DAY)
        if share[at] <= 0 or len(found) == TIGHTEST:
            break
        if day not in days:
            days.add(day)
            found.append(Tight(int(made.instants[at]), float(made.margin[at]), float(share[at]), int(made.held[at])))
    return Use(positions, most, tuple(found))


def correlation_inside(made: Played) -> tuple[NDArray[np.int32], Floats]:
    """Mean correlation of the members' daily results over the last WINDOW dates: int32[k] dates, float64[k]."""
    dates, table = made.table
    if table.shape[1] < 2 or len(dates) < WINDOW:
        return dates[:0], np.zeros(0)
    upper = np.triu_indices(table.shape[1], 1)
    stops = np.arange(WINDOW, len(dates) + 1, STEP)
    out = np.full(len(stops), np.nan)
    for i, stop in enumerate(stops):
        found = correlation(table[stop - WINDOW:stop])[upper]
        if np.isfinite(found).any():
            out[i] = np.nanmean(found)
    return dates[stops - 1], out


def held_throughout(made: Played, markets: Sequence[str] = ()) -> Floats:
    """float64[t]: P/L of buying and holding, on the same capital and instants: it is shared equally among the markets of the
    members (or those named among them), bought in full value without borrowing at the first open; costs once, all financing.
    A market whose price is not above zero counts one contract."""
    runs = {run.bars.terms.code: run for run in made.runs if run.last > run.first}
    wanted = [m for m in (markets or runs) if m in runs]
    out = np.zeros(len(made.instants))
    for code in wanted:
        run = runs[code]
        bars = run.bars
        value = float(bars.o[run.first]) * run.tick_value * run.first_rate
        contracts = made.capital / len(wanted) / value if value > 0 else 1.0
        close = bars.c[run.first:run.last].astype(np.float64)
        rates = run.rates if len(run.rates) > 1 else np.full(len(close), run.rates[0])
        path = (close - float(bars.o[run.first])) * run.tick_value * rates
        # Costs and financing are those of the measure, spread over the way.
        whole = buy_and_hold(Facts.of(run))
        if whole == whole:
            path = path + (whole - path[-1]) * np.linspace(0.0, 1.0, len(path))
        at = np.searchsorted(bars.end[run.first:run.last], made.instants, "right") - 1
        out += np.where(at >= 0, path[np.maximum(at, 0)], 0.0) * contracts
    return out
