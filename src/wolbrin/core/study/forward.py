"""What price does after a condition fires, before any exit blurs the picture."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Span
from wolbrin.core.rules.decide import used_columns, warm_up
from wolbrin.core.rules.evaluate import condition_flags, operands
from wolbrin.core.rules.model import Condition

Floats = NDArray[np.float64]
LARGEST_HORIZON = 500


@dataclass(frozen=True)
class Study:
    """Moves after a firing, in price points, positive in the studied direction. Index h is h + 1 bars after.

    firings: bars on which the condition held. counted: int64[N] firings with h + 1 bars left. mean, median: float64[N].
    low, high: float64[N] bootstrap band of the mean (`confidence`). baseline: float64[N], the same mean over all bars.
    moves: float64[firings, N], NaN where bars are missing.
    """

    firings: int
    bars: int
    counted: NDArray[np.int64]
    mean: Floats
    median: Floats
    low: Floats
    high: Floats
    baseline: Floats
    moves: Floats
    confidence: float
    resamples: int

    def at(self, bars_after: int) -> Floats:
        """Moves `bars_after` bars after the firing, float64[<= firings]."""
        column = self.moves[:, bars_after - 1]
        return column[np.isfinite(column)]


def forward_moves(history: Prepared, at: NDArray[np.int64], horizon: int, side: int, inside_session: bool,
                  stop: int) -> Floats:
    """Price from the next bar's open to the close h bars after bar `at`, for h = 1..horizon: float64[len(at), horizon].

    NaN where that bar does not exist before `stop` or, with `inside_session`, lies in another session.
    """
    bars = history.bars
    out = np.full((len(at), horizon), np.nan)
    entry = at + 1
    start = bars.open[np.minimum(entry, stop - 1)]
    for h in range(1, horizon + 1):
        later = at + h
        ok = later < stop
        safe = np.minimum(later, stop - 1)
        if inside_session:
            ok &= bars.session[safe] == bars.session[at]
        out[:, h - 1] = np.where(ok, side * (bars.close[safe] - start), np.nan)
    return out


def _mean(moves: Floats) -> tuple[Floats, NDArray[np.int64]]:
    counted = np.isfinite(moves).sum(axis=0)
    total = np.nansum(moves, axis=0)
    with np.errstate(invalid="ignore"):
        return np.where(counted > 0, total / np.maximum(counted, 1), np.nan), counted


def day_bootstrap(moves: Floats, day: NDArray[np.integer], resamples: int, confidence: float,
                  seed: int) -> tuple[Floats, Floats]:
    """Percentile band of the mean, whole trading dates drawn with replacement.

    Drawing dates, not firings, keeps overlapping moves of one day together (Efron & Tibshirani 1993, ch. 8 and 13).
    moves: float64[f, N]; day: int[f]. Returns two float64[N].
    """
    _, group = np.unique(day, return_inverse=True)
    days = int(group.max()) + 1 if len(group) else 0
    horizon = moves.shape[1]
    if days < 2:
        return np.full(horizon, np.nan), np.full(horizon, np.nan)
    sums = np.zeros((days, horizon))
    sizes = np.zeros((days, horizon))
    np.add.at(sums, group, np.nan_to_num(moves))
    np.add.at(sizes, group, np.isfinite(moves).astype(float))
    weights = np.random.default_rng(seed).multinomial(days, np.full(days, 1.0 / days), size=resamples).astype(float)
    count = weights @ sizes
    with np.errstate(invalid="ignore", divide="ignore"):
        means = np.where(count > 0, (weights @ sums) / count, np.nan)
    tail = 50.0 * (1.0 - confidence)
    if np.isnan(means).all(axis=0).any():
        means = np.nan_to_num(means, nan=0.0)
    return np.nanpercentile(means, tail, axis=0), np.nanpercentile(means, 100.0 - tail, axis=0)


def study(history: Prepared, condition: Condition, side: int, span: Span, *, horizon: int = 40,
          inside_session: bool = True, resamples: int = 1000, confidence: float = 0.95, seed: int = 1) -> Study:
    """Study an entry condition on the bars of `span`.

    side: +1 studies rises, -1 falls. Raises UserError for an empty condition or an impossible horizon.
    """
    if not condition.active:
        raise UserError("there is no condition to study", "entry", "Add a row to the entry first.")
    if not 1 <= horizon <= LARGEST_HORIZON:
        raise UserError(f"the horizon must lie between 1 and {LARGEST_HORIZON} bars", "horizon", "Enter another.")
    first, stop = history.bars.range_of(span)
    first = max(first, warm_up(len(history.bars), used_columns(history.columns, operands(condition))))
    flags = condition_flags(history.columns, condition)[first:stop]
    at = np.flatnonzero(flags) + first
    everywhere = np.arange(first, max(first, stop), dtype=np.int64)
    moves = forward_moves(history, at, horizon, side, inside_session, stop)
    mean, counted = _mean(moves)
    median = np.array([np.median(c[np.isfinite(c)]) if np.isfinite(c).any() else np.nan for c in moves.T])
    low, high = day_bootstrap(moves, history.bars.trading_date[at], resamples, confidence, seed)
    baseline, _ = _mean(forward_moves(history, everywhere, horizon, side, inside_session, stop))
    return Study(len(at), len(everywhere), counted, mean, median, low, high, baseline, moves, confidence, resamples)
