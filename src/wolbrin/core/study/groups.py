"""The moves of a study by when and in which market its condition fired."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.market.bars import day_of
from wolbrin.core.market.terms import WEEKDAYS
from wolbrin.core.study.forward import Study, clock_of
from wolbrin.core.study.spread import Floats, Spread, spread


@dataclass(frozen=True)
class Groups:
    """Statistics of the moves of a study at one bar by a property of their firings."""

    title: str
    names: tuple[str, ...]
    spreads: tuple[Spread, ...]


QUARTERS = ("quietest quarter", "second quarter", "third quarter", "wildest quarter")


def _grouped(title: str, names: list[str], label: NDArray[np.integer], moves: Floats) -> Groups:
    return Groups(title, tuple(names), tuple(spread(moves[label == i]) for i in range(len(names))))


def groups(history: Prepared, made: Study, bars_after: int) -> list[Groups]:
    """The moves of a study at one bar by hour, weekday, year and volatility quarter of their firings.

    Hours are the exchange's own, at the firing bar's close. Volatility: ATR(14) over the close at the firing, its
    quarters taken over the firings themselves.
    """
    column = made.moves[:, bars_after - 1]
    known = np.isfinite(column)
    at, moves = made.at[known], column[known]
    hours = (clock_of(history, at) // 60).astype(int)
    found = [_grouped("hour", [f"{h:02d}" for h in np.unique(hours)], np.searchsorted(np.unique(hours), hours), moves)]
    date = history.bars.trading_date[at].astype(np.int64)
    weekday = (date + 3) % 7
    days = np.unique(weekday)
    found.append(_grouped("weekday", [WEEKDAYS[d] for d in days], np.searchsorted(days, weekday), moves))
    year = np.array([day_of(int(d)).year for d in date], np.int64)
    years = np.unique(year)
    found.append(_grouped("year", [str(y) for y in years], np.searchsorted(years, year), moves))
    atr = history.columns.atr_ticks(14)[at] * history.bars.terms.tick_size / np.abs(history.bars.close[at])
    borders = np.nanpercentile(atr, (25, 50, 75)) if np.isfinite(atr).any() else np.zeros(3)
    found.append(_grouped("volatility", list(QUARTERS), np.searchsorted(borders, atr), moves))
    return found
