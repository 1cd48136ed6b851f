"""Schemes of weights against each other, where none has seen what it is judged on: walked forward inside training.

Every scheme is fitted on the days before each period and held through it. Equal weights are beside them in the same table,
and are recommended unless another is better beyond noise: by the difference of Sharpe ratios (Ledoit & Wolf 2008), and still
after allowing for how many schemes were looked at (Hansen 2005).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.measures.drawdown import largest_fall
from wolbrin.core.measures.wording import number
from wolbrin.core.portfolio.limits import Bounds, Label, Limits, bounds_of
from wolbrin.core.portfolio.sharpe_test import sharpe_difference_p
from wolbrin.core.portfolio.weights import BY_SCHEME, LEAST_DAYS, OWN, SCHEMES, check_moves, risk_shares
from wolbrin.core.search.superior import superior

Floats = NDArray[np.float64]
TRAINING, HELD = 500, 63  # trading dates that a fit sees at most, and through which its weights are held
FIRST = 250  # that the first fit sees
NO_LIMITS = Limits()
BEYOND = 0.05  # p from which on a difference is noise
DAYS_A_YEAR = 252


@dataclass(frozen=True)
class Weighed:
    """A scheme in the table. weights: fitted on all of training, float64[n]; risk: share of each in the variance. walked:
    daily results on days that no fit had seen, float64[k]; sharpe, net, drawdown, return_drawdown: of those. turnover: mean
    share that changes at a fit. p: of its Sharpe ratio against that of equal weights, NaN for those themselves."""

    key: str
    title: str
    weights: Floats
    risk: Floats
    walked: Floats
    sharpe: float
    net: float
    drawdown: float
    return_drawdown: float
    turnover: float
    p: float


@dataclass(frozen=True)
class Table:
    """All schemes, equal weights first. begin: place of the first walked day; fits: how many; p_best: whether any is better
    than equal weights, allowing for all; recommended: key; why: in words."""

    rows: tuple[Weighed, ...]
    begin: int
    fits: int
    p_best: float
    recommended: str
    why: str

    def of(self, key: str) -> Weighed:
        """The row of a scheme."""
        return next(r for r in self.rows if r.key == key)


Fit = Callable[[Floats, Bounds], Floats]


def _walk(daily: Floats, fit: Fit, bounds: Bounds, begin: int) -> tuple[Floats, float]:
    """Daily results on days that no fit had seen, and the mean share that changed at a fit."""
    days, n = daily.shape
    out, before, changed = np.zeros(days - begin), None, []
    for first in range(begin, days, HELD):
        seen = daily[max(0, first - TRAINING):first]
        moves = np.ptp(seen, axis=0) > 0
        # What has not traded yet has nothing to be weighed by, and waits; unless limits need it.
        weights = np.zeros(n)
        part = Bounds(bounds.groups[:, moves], bounds.caps, bounds.most)
        if moves.all():
            weights = fit(seen, bounds)
        elif moves.any() and _kept_by(part):
            weights[moves] = fit(seen[:, moves], part)
        else:
            weights = BY_SCHEME["equal"].fit(daily, bounds)
        last = min(first + HELD, days)
        out[first - begin:last - begin] = daily[first:last] @ weights
        if before is not None:
            changed.append(float(np.abs(weights - before).sum()) / 2.0)
        before = weights
    return out, float(np.mean(changed)) if changed else 0.0


def _kept_by(bounds: Bounds) -> bool:
    """Whether equal shares of those left keep within the limits, which is enough."""
    n = bounds.groups.shape[1]
    return bounds.held(np.full(n, 1.0 / n))


def _row(key: str, title: str, weights: Floats, daily: Floats, walked: Floats, turnover: float, p: float) -> Weighed:
    spread = float(walked.std(ddof=1)) if len(walked) > 1 else 0.0
    net, fall = float(walked.sum()), float(largest_fall(np.cumsum(walked), 0.0)) if len(walked) else 0.0
    return Weighed(key, title, weights, risk_shares(daily, weights), walked,
                   float(walked.mean()) / spread * math.sqrt(DAYS_A_YEAR) if spread > 0 else math.nan, net, fall,
                   net / fall if fall > 0 else math.nan, turnover, p)


def weigh(daily: Floats, labels: Sequence[Label], limits: Limits = NO_LIMITS, names: Sequence[str] = (),
          own: Floats | None = None, seed: int = 1) -> Table:
    """All schemes, fitted on the whole and walked forward.

    daily: float64[d, n], training results of each member at its own size. own: weights of the user's, float64[n], held
    through.
    Raises:
        UserError: too few days, a member that never moves, or limits that cannot be kept.
    """
    check_moves(daily, names)
    bounds = bounds_of(limits, labels)
    days = len(daily)
    begin = min(FIRST, max(LEAST_DAYS, days // 2))
    walks: dict[str, tuple[str, Floats, Floats, float]] = {}
    for s in SCHEMES:
        walks[s.key] = s.title, s.fit(daily, bounds), *_walk(daily, s.fit, bounds, begin)
    if own is not None:
        walks[OWN] = "own", own, daily[begin:] @ own, 0.0
    base = walks["equal"][2]
    rows = [_row(key, title, w, daily, walked, turnover,
                 math.nan if key == "equal" else sharpe_difference_p(walked, base, seed))
            for key, (title, w, walked, turnover) in walks.items()]
    fits = len(range(begin, days, HELD))
    p_best = _reality(rows, seed)
    best = max(rows, key=lambda r: (r.sharpe if r.sharpe == r.sharpe else -math.inf, r.key == "equal"))
    return Table(tuple(rows), begin, fits, p_best, *_advice(rows[0], best, p_best))


def _reality(rows: Sequence[Weighed], seed: int) -> float:
    """p of the best scheme against equal weights among all: the mean of the differences of results of the same deviation."""
    base = rows[0].walked
    if not base.std() > 0:
        return math.nan
    others = [r.walked / r.walked.std() - base / base.std() for r in rows[1:] if r.walked.std() > 0]
    return superior(np.array(others), seed).best if others else math.nan


def _advice(equal_: Weighed, best: Weighed, p_best: float) -> tuple[str, str]:
    said = f"Sharpe ratio {number(best.sharpe, 2)} against {number(equal_.sharpe, 2)} of equal weights, walked forward"
    if best.key == "equal":
        return "equal", "Equal weights did best on days that no fit had seen."
    if best.p < BEYOND and p_best < BEYOND:
        return best.key, (f"{best.title.capitalize()}: {said}; better beyond noise (p {number(best.p, 3)}, allowing for all "
                          f"schemes {number(p_best, 3)}).")
    return "equal", (f"Equal weights: the best other, {best.title}, shows a {said}, which is within noise (p "
                     f"{number(best.p, 2)}, allowing for all schemes {number(p_best, 2)}).")
