"""How much of each: schemes of weights from daily results. All weights are 0 or more and sum to 1.

Covariances are shrunk toward a multiple of the identity (Ledoit & Wolf 2004), so that they can be inverted and do not promise
what the sample happens to show.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import UserError
from wolbrin.core.portfolio.limits import Bounds, Label, Limits, bounds_of, least, nearest

Floats = NDArray[np.float64]
WEEK = 5  # trading days, by which the best return over drawdown is searched
LEAST_DAYS = 20
SWEEPS = 10_000


def covariance(daily: Floats) -> Floats:
    """float64[n, n]: covariance of the columns of float64[d, n], shrunk toward a multiple of the identity (Ledoit & Wolf
    2004, section 3.3). Columns are divided by their own deviation before and multiplied after, so that none is shrunk because
    it is traded in larger amounts."""
    deviation = daily.std(axis=0)
    x = (daily - daily.mean(axis=0)) / deviation
    days, n = x.shape
    sample = x.T @ x / days
    mean = float(np.trace(sample)) / n
    off = sample - mean * np.eye(n)
    distance = float((off * off).sum()) / n
    # How far the sample is from itself: the mean over days of |x x' - S|^2 is that of |x|^4, less |S|^2.
    noise = (float(((x * x).sum(axis=1) ** 2).mean()) - float((sample * sample).sum())) / n / days
    shrunk = min(max(noise / distance, 0.0), 1.0) if distance > 0 else 1.0
    return ((1.0 - shrunk) * sample + shrunk * mean * np.eye(n)) * np.outer(deviation, deviation)


def equal(daily: Floats, bounds: Bounds) -> Floats:
    """The same of each."""
    n = daily.shape[1]
    return nearest(np.full(n, 1.0 / n), bounds)


def by_volatility(daily: Floats, bounds: Bounds) -> Floats:
    """In inverse proportion to the deviation of daily results."""
    w = 1.0 / daily.std(axis=0)
    return nearest(w / w.sum(), bounds)


def least_variance(daily: Floats, bounds: Bounds) -> Floats:
    """Minimum variance (Markowitz 1952) without short positions."""
    from scipy.optimize import nnls  # late

    sigma = covariance(daily)
    sigma = sigma / np.trace(sigma) * len(sigma)
    # min w'Sw + (1'w - 1)^2 over w >= 0 has the same conditions as minimum variance, up to the length of w.
    root = np.linalg.cholesky(sigma).T
    w = nnls(np.vstack([root, np.ones((1, len(sigma)))]), np.append(np.zeros(len(sigma)), 1.0))[0]
    w = w / w.sum()
    if bounds.held(w):
        return w
    return least(lambda x: float(x @ sigma @ x), lambda x: 2.0 * (sigma @ x), nearest(w, bounds), bounds)


def risk_parity(sigma: Floats) -> Floats:
    """Weights at which each contributes the same to the variance (Maillard, Roncalli & Teiletche 2010), by cyclical
    coordinate descent (Griveau-Billion, Richard & Roncalli 2013)."""
    n = len(sigma)
    w = 1.0 / np.sqrt(np.diag(sigma))
    w = w / np.sqrt(w @ sigma @ w)
    for _ in range(SWEEPS):
        before = w.copy()
        for i in range(n):
            a = float(sigma[i] @ w) - sigma[i, i] * w[i]
            w[i] = (-a + np.sqrt(a * a + 4.0 * sigma[i, i] / n)) / (2.0 * sigma[i, i])
        if np.abs(w - before).max() <= 1e-13 * w.max():
            break
    return w / w.sum()


def equal_risk(daily: Floats, bounds: Bounds) -> Floats:
    """Equal risk contribution."""
    return nearest(risk_parity(covariance(daily)), bounds)


def hierarchical_weights(sigma: Floats, matrix: Floats) -> Floats:
    """Hierarchical risk parity (Lopez de Prado 2016): members in the order of a tree, variance halved between its branches.

    sigma: covariance, matrix: correlation, float64[n, n]. The tree is of single linkage over the distances between columns of
    sqrt((1 - correlation) / 2); lists are halved in the middle, the larger half last.
    """
    from scipy.cluster.hierarchy import leaves_list, linkage  # late
    from scipy.spatial.distance import pdist  # late

    n = len(sigma)
    if n == 1:
        return np.ones(1)
    near = np.sqrt(np.maximum((1.0 - matrix) / 2.0, 0.0))
    order = leaves_list(linkage(pdist(near), "single")).tolist()
    weights = np.ones(n)

    def variance(part: list[int]) -> float:
        cut = sigma[np.ix_(part, part)]
        inverse = 1.0 / np.diag(cut)
        inverse /= inverse.sum()
        return float(inverse @ cut @ inverse)

    parts = [order]
    while parts:
        parts = [half for p in parts if len(p) > 1 for half in (p[:len(p) // 2], p[len(p) // 2:])]
        for left, right in zip(parts[::2], parts[1::2]):
            a, b = variance(left), variance(right)
            weights[left] *= 1.0 - a / (a + b)
            weights[right] *= a / (a + b)
    return weights / weights.sum()


def hierarchical(daily: Floats, bounds: Bounds) -> Floats:
    """Hierarchical risk parity on the shrunk covariance."""
    sigma = covariance(daily)
    deviation = np.sqrt(np.diag(sigma))
    return nearest(hierarchical_weights(sigma, sigma / np.outer(deviation, deviation)), bounds)


def best_return_drawdown(daily: Floats, bounds: Bounds) -> Floats:
    """The mix with the largest net over its maximum drawdown, exactly, by a linear program (as Chekhlov, Uryasev & Zabarankin
    2005): least drawdown at a net of 1. Equity is looked at once in WEEK days. Equal weights where no mix earns."""
    from scipy.optimize import linprog  # late
    from scipy.sparse import csr_array, hstack, identity, vstack  # late

    n = daily.shape[1]
    path = np.cumsum(daily, axis=0)
    scale = float(np.abs(path[-1]).max()) or 1.0
    path = path[np.append(np.arange(WEEK - 1, len(path) - 1, WEEK), len(path) - 1)] / scale
    rows = len(path)
    none, eye = csr_array((rows, 1)), identity(rows, format="csr")
    # Unknown: weights, peaks, drawdown. Peaks never fall, lie at or above equity, and equity at most the drawdown below.
    above = hstack([csr_array(path), -eye, none])
    rising = hstack([csr_array((rows - 1, n)), eye[:-1] - eye[1:], none[:-1]]) if rows > 1 else None
    deep = hstack([csr_array(-path), eye, csr_array(-np.ones((rows, 1)))])
    caps = [csr_array(np.hstack([bounds.groups - bounds.caps[:, None], np.zeros((len(bounds.caps), rows + 1))]))] if len(
        bounds.caps) else []
    if bounds.most < 1.0:
        caps.append(csr_array(np.hstack([np.eye(n) - bounds.most, np.zeros((n, rows + 1))])))
    every = vstack([part for part in (above, rising, deep, *caps) if part is not None])
    net = np.concatenate([path[-1], np.zeros(rows + 1)])
    found = linprog(np.append(np.zeros(n + rows), 1.0), A_ub=every, b_ub=np.zeros(every.shape[0]), A_eq=net[None, :],
                    b_eq=[1.0], bounds=(0.0, None), method="highs")
    if found.status != 0 or found.x[:n].sum() <= 0:
        return equal(daily, bounds)
    return nearest(found.x[:n] / found.x[:n].sum(), bounds)


@dataclass(frozen=True)
class Scheme:
    """A way to find weights. key: on the command line. fit(daily, bounds): float64[d, n] -> float64[n]."""

    key: str
    title: str
    words: str
    fit: Callable[[Floats, Bounds], Floats]


SCHEMES: list[Scheme] = [
    Scheme("equal", "equal", "the same of each", equal),
    Scheme("volatility", "by volatility", "in inverse proportion to how much each moves a day", by_volatility),
    Scheme("variance", "least variance", "the calmest mix, on shrunk covariances", least_variance),
    Scheme("erc", "equal risk", "each contributes the same to the variance", equal_risk),
    Scheme("hrp", "hierarchical", "variance halved along a tree of correlations", hierarchical),
    Scheme("drawdown", "return over drawdown", "the largest net over drawdown that the past allowed", best_return_drawdown),
]
BY_SCHEME = {s.key: s for s in SCHEMES}
EQUAL, OWN = "equal", "own"


def scheme(key: str) -> Scheme:
    """Raises UserError: there is none of that key."""
    if key not in BY_SCHEME:
        raise UserError(f'"{key}" is no way to find weights', "weights", f"Known are {', '.join(BY_SCHEME)}, {OWN}.")
    return BY_SCHEME[key]


def fitted(key: str, daily: Floats, labels: Sequence[Label], limits: Limits, names: Sequence[str] = ()) -> Floats:
    """Weights of members by a scheme, float64[n], within the limits.

    daily: float64[d, n] results of each at its own size.
    Raises:
        UserError: too few days, a member that never moves, or limits that cannot be kept.
    """
    found = scheme(key)
    check_moves(daily, names)
    return found.fit(daily, bounds_of(limits, labels))


def check_moves(daily: Floats, names: Sequence[str] = ()) -> None:
    """Refuse what no weights can be found from. Raises UserError."""
    if len(daily) < LEAST_DAYS:
        raise UserError(f"{len(daily)} trading dates are too few to find weights from", "weights",
                        f"Take a span of at least {LEAST_DAYS}, or set weights of your own.")
    still = np.flatnonzero(~(np.ptp(daily, axis=0) > 0))
    if len(still):
        who = names[still[0]] if len(names) else f"member {still[0] + 1}"
        raise UserError(f"{who} never makes or loses anything in this span, so that it has no risk to weigh", "weights",
                        "Leave it out, or give it a weight of your own.")


def risk_shares(daily: Floats, weights: Floats) -> Floats:
    """float64[n]: share of each in the variance of the whole (sums to 1), by the sample's covariance; NaN where nothing
    moves.
    Euler's decomposition, as in Maillard, Roncalli & Teiletche 2010."""
    sigma = np.cov(daily, rowvar=False).reshape(len(weights), len(weights))
    total = float(weights @ sigma @ weights)
    return weights * (sigma @ weights) / total if total > 0 else np.full(len(weights), np.nan)
