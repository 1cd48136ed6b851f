"""What price does after a condition fires, before any exit blurs the picture."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Span
from wolbrin.core.market.sessions import NS_A_DAY, NS_A_MINUTE
from wolbrin.core.market.zones import to_local
from wolbrin.core.rules.decide import used_columns, warm_up
from wolbrin.core.rules.evaluate import condition_flags, operands
from wolbrin.core.rules.model import Condition, PositionOperand
from wolbrin.core.study.spread import Spread, spread

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Unit = Literal["points", "ATR", "money"]
LARGEST_HORIZON = 500
ATR_LENGTH = 14


@dataclass(frozen=True)
class Study:
    """Moves after a firing, positive in the studied direction, in `unit`. Index h is h + 1 bars after.

    firings: bars on which the condition held. at: int64[f], those that are counted, `left_out` because they lay inside the
    horizon of the one before (only where overlaps are to be avoided); overlapping: how many of those counted do.
    counted: int64[N] firings with h + 1 bars left. mean, median, lower, upper (quartiles): float64[N].
    low, high: float64[N] bootstrap band of the mean (`confidence`). baseline: float64[N], the same mean over all bars;
    clock: over all bars at the same times of day, weighted as the firings are. moves, against, favour: float64[f, N], NaN
    where bars are missing: the move, and the worst and best excursion so far (against <= 0 <= favour).
    """

    name: str
    side: int
    unit: Unit
    firings: int
    bars: int
    at: Ints
    left_out: int
    overlapping: int
    counted: Ints
    mean: Floats
    median: Floats
    lower: Floats
    upper: Floats
    low: Floats
    high: Floats
    baseline: Floats
    clock: Floats
    moves: Floats
    against: Floats
    favour: Floats
    confidence: float
    resamples: int

    def at_bar(self, bars_after: int) -> Floats:
        """Moves `bars_after` bars after the firing, float64[<= firings]."""
        column = self.moves[:, bars_after - 1]
        return column[np.isfinite(column)]

    def spread(self, bars_after: int) -> Spread:
        """Mean, spread, skew and t of the moves at one bar."""
        return spread(self.at_bar(bars_after))

    @property
    def best(self) -> int:
        """The bar after the firing with the largest mean less baseline, 1 or more; 0 without firings. It is the best of
        len(mean) that were looked at, so that some of its lead is luck."""
        lead = self.mean - self.baseline
        return int(np.nanargmax(lead)) + 1 if np.isfinite(lead).any() else 0

    @property
    def typical_excursions(self) -> tuple[Floats, Floats]:
        """Median worst and best excursion so far, bar by bar: two float64[N]."""
        found = [np.full(len(self.mean), np.nan) for _ in range(2)]
        for out, table in zip(found, (self.against, self.favour)):
            for h, column in enumerate(table.T):
                if np.isfinite(column).any():
                    out[h] = np.nanmedian(column)
        return found[0], found[1]

    def heat_before_best(self, bars_after: int) -> tuple[Floats, Floats]:
        """How far each firing went against before it went furthest in favour, within so many bars: float64[f] both."""
        favour, against = self.favour[:, :bars_after], self.against[:, :bars_after]
        known = np.isfinite(favour[:, 0])
        favour, against = favour[known], against[known]
        top = np.nanmax(favour, axis=1) if favour.size else np.zeros(0)
        where = np.argmax(np.nan_to_num(favour, nan=-np.inf) >= top[:, None], axis=1) if favour.size else np.zeros(0, int)
        return against[np.arange(len(favour)), where], top


def forward_moves(history: Prepared, at: Ints, horizon: int, side: int, inside_session: bool, stop: int) -> Floats:
    """Price from the next bar's open to the close h bars after bar `at`, for h = 1..horizon: float64[len(at), horizon].

    NaN where that bar does not exist before `stop` or, with `inside_session`, lies in another session.
    """
    bars = history.bars
    out = np.full((len(at), horizon), np.nan)
    start = bars.open[np.minimum(at + 1, stop - 1)]
    for h in range(1, horizon + 1):
        later = at + h
        ok = later < stop
        safe = np.minimum(later, stop - 1)
        if inside_session:
            ok &= bars.session[safe] == bars.session[at]
        out[:, h - 1] = np.where(ok, side * (bars.close[safe] - start), np.nan)
    return out


def excursions(history: Prepared, at: Ints, horizon: int, side: int, known: NDArray[np.bool_]) -> tuple[Floats, Floats]:
    """Worst and best price so far since the next bar's open, against <= 0 <= favour: two float64[len(at), horizon].

    known: bool[len(at), horizon], bars that count (see `forward_moves`)."""
    bars = history.bars
    against, favour = np.full(known.shape, np.nan), np.full(known.shape, np.nan)
    if not len(at):
        return against, favour
    last = len(bars) - 1
    start = bars.open[np.minimum(at + 1, last)]
    worst, best = np.zeros(len(at)), np.zeros(len(at))
    for h in range(1, horizon + 1):
        safe = np.minimum(at + h, last)
        up, down = side * (bars.high[safe] - start), side * (bars.low[safe] - start)
        ok = known[:, h - 1]
        worst = np.where(ok, np.minimum(worst, np.minimum(up, down)), worst)
        best = np.where(ok, np.maximum(best, np.maximum(up, down)), best)
        against[:, h - 1] = np.where(ok, worst, np.nan)
        favour[:, h - 1] = np.where(ok, best, np.nan)
    return against, favour


def _mean(moves: Floats, weights: Floats | None = None) -> tuple[Floats, Ints]:
    known = np.isfinite(moves)
    counted = known.sum(axis=0)
    if weights is None:
        total, size = np.nansum(moves, axis=0), counted.astype(np.float64)
    else:
        total, size = weights @ np.nan_to_num(moves), weights @ known
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(size > 0, total / size, np.nan), counted


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
    low, high = np.full(horizon, np.nan), np.full(horizon, np.nan)
    # A bar that no firing reaches has no band, and takes nothing from the others.
    told = np.isfinite(means).any(axis=0)
    if told.any():
        low[told] = np.nanpercentile(means[:, told], tail, axis=0)
        high[told] = np.nanpercentile(means[:, told], 100.0 - tail, axis=0)
    return low, high


def apart(at: Ints, horizon: int) -> Ints:
    """Of firings, int64[n] by bar, those of which none lies within `horizon` bars of the one kept before it.

    >>> apart(np.array([0, 2, 4, 9]), 4).tolist()
    [0, 4, 9]
    """
    kept: list[int] = []
    for bar in at.tolist():
        if not kept or bar - kept[-1] >= horizon:
            kept.append(bar)
    return np.array(kept, np.int64)


def clock_of(history: Prepared, at: Ints) -> Ints:
    """int64[n]: minutes since midnight, on the exchange's clock, at which the bars of int64[n] close."""
    bars = history.bars
    return to_local(bars.end[at], bars.terms.time_zone) % NS_A_DAY // NS_A_MINUTE


def scale_of(history: Prepared, at: Ints, unit: Unit) -> Floats:
    """What a move in points is worth in the unit, float64[len(at)]: 1, 1 / ATR(14) at the firing, or money a contract."""
    if unit == "points":
        return np.ones(len(at))
    if unit == "ATR":
        atr = history.columns.atr_ticks(ATR_LENGTH)[at] * history.bars.terms.tick_size
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(atr > 0, 1.0 / atr, np.nan)
    rate = history.conversion[1]
    return history.bars.terms.point_value * (rate[at] if len(rate) > 1 else np.full(len(at), rate[0]))


def study(history: Prepared, condition: Condition, side: int, span: Span, *, name: str = "entry", horizon: int = 40,
          inside_session: bool = True, unit: Unit = "points", overlapping: bool = True, resamples: int = 1000,
          confidence: float = 0.95, seed: int = 1) -> Study:
    """Study a condition on the bars of `span`.

    side: +1 studies rises, -1 falls. overlapping: count every firing; else only those a horizon apart.
    Raises UserError for an empty condition, one on the state of a position, or an impossible horizon.
    """
    if not condition.active:
        raise UserError("there is no condition to study", name, "Add a row to the entry first.")
    if any(isinstance(r.left, PositionOperand) for r in condition.leaves):
        raise UserError("a condition on the state of the position has nothing to study: no position is held here", name,
                        "Switch that row off, or study another condition.")
    if not 1 <= horizon <= LARGEST_HORIZON:
        raise UserError(f"the horizon must lie between 1 and {LARGEST_HORIZON} bars", "horizon", "Enter another.")
    first, stop = history.bars.range_of(span)
    first = max(first, warm_up(len(history.bars), used_columns(history.columns, operands(condition))))
    every = np.flatnonzero(condition_flags(history.columns, condition)[first:stop]) + first
    at = every if overlapping else apart(every, horizon)
    everywhere = np.arange(first, max(first, stop), dtype=np.int64)
    scale = scale_of(history, at, unit)[:, None]
    raw = forward_moves(history, at, horizon, side, inside_session, stop)
    moves = raw * scale
    against, favour = (x * scale for x in excursions(history, at, horizon, side, np.isfinite(raw)))
    mean, counted = _mean(moves)
    quarters = np.full((3, horizon), np.nan)
    for h, column in enumerate(moves.T):
        if np.isfinite(column).any():
            quarters[:, h] = np.nanpercentile(column, (25, 50, 75))
    low, high = day_bootstrap(moves, history.bars.trading_date[at], resamples, confidence, seed)
    all_moves = forward_moves(history, everywhere, horizon, side, inside_session, stop)
    all_moves *= scale_of(history, everywhere, unit)[:, None]
    baseline, _ = _mean(all_moves)
    # Bars at the same times of day: each time of day counts as often as the condition fires there.
    slots, slot = np.unique(clock_of(history, everywhere), return_inverse=True)
    share = np.bincount(np.searchsorted(slots, clock_of(history, at)), minlength=len(slots)) / np.bincount(
        slot, minlength=len(slots)) if len(slots) else np.zeros(0)
    clock, _ = _mean(all_moves, share[slot]) if len(slots) else (baseline, counted)
    close_by = int(np.count_nonzero(np.diff(at) < horizon))
    return Study(name, side, unit, len(every), len(everywhere), at, len(every) - len(at), close_by, counted, mean,
                 quarters[1], quarters[0], quarters[2], low, high, baseline, clock, moves, against, favour, confidence,
                 resamples)
