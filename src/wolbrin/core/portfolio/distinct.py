"""A subset of different bets: as good or as many as can be, with no two alike."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.portfolio.overlap import STRONG

Floats = NDArray[np.float64]
Want = Literal["best", "largest"]
SECONDS = 5.0  # that the exact search may take


@dataclass(frozen=True)
class Dropped:
    """One that is left out. for_: the one that is taken, to which it is most alike; None for one that never moves.
    correlation: with it."""

    at: int
    for_: int | None
    correlation: float


@dataclass(frozen=True)
class Distinct:
    """chosen: places, rising. dropped: the others, with what they were dropped for. exact: it is proven that none is better.
    score: sum of the scores of the chosen."""

    chosen: tuple[int, ...]
    dropped: tuple[Dropped, ...]
    exact: bool
    score: float


def distinct_subset(matrix: Floats, rank: Sequence[float], limit: float = STRONG) -> list[int]:
    """Places that are different bets, found greedily: best rank first, one is taken when its correlation with all taken so
    far is below `limit`. One that never moves (NaN) is left out."""
    open_ = np.isfinite(np.diag(matrix))
    alike = matrix >= limit
    taken: list[int] = []
    for at in np.argsort(-np.asarray(rank, np.float64), kind="stable").tolist():
        if open_[at]:
            taken.append(at)
            open_ &= ~alike[:, at]
    return sorted(taken)


def _told(matrix: Floats, chosen: Sequence[int], scores: Sequence[float], exact: bool) -> Distinct:
    kept = np.array(sorted(chosen), np.int64)
    out = np.setdiff1d(np.arange(len(matrix)), kept)
    near = matrix[np.ix_(out, kept)] if len(kept) else np.full((len(out), 1), np.nan)
    near = np.where(np.isfinite(near), near, -np.inf)
    closest, most = near.argmax(axis=1).tolist(), near.max(axis=1, initial=-np.inf)
    dropped = [Dropped(at, int(kept[where]), value) if known else Dropped(at, None, float("nan"))
               for at, where, value, known in zip(out.tolist(), closest, most.tolist(), np.isfinite(most).tolist())]
    return Distinct(tuple(kept.tolist()), tuple(dropped), exact, float(sum(scores[i] for i in chosen)))


def greedily(matrix: Floats, scores: Sequence[float], limit: float = STRONG) -> Distinct:
    """The subset of `distinct_subset`, with what was dropped for what."""
    return _told(matrix, distinct_subset(matrix, scores, limit), scores, False)


def exactly(matrix: Floats, scores: Sequence[float], limit: float = STRONG, want: Want = "best",
            seconds: float = SECONDS) -> Distinct:
    """The subset with the largest sum of scores (or of most members; of those the best), no two of which have a correlation
    of `limit` or more: an independent set of greatest weight, by integer programming (scipy.optimize.milp). Where time runs
    out, the better of what was found and the greedy one; `exact` says which.

    scores: one that is not above zero is not taken for "best".
    """
    from scipy.optimize import Bounds, LinearConstraint, milp  # late
    from scipy.sparse import csr_array  # late

    n = len(matrix)
    moves = np.isfinite(np.diag(matrix))
    score = np.nan_to_num(np.asarray(scores, np.float64), nan=0.0)
    span = float(np.ptp(score)) or 1.0
    # Among subsets of as many members the scores decide: all of them together weigh less than one member more.
    weight = score if want == "best" else 1.0 + (score - score.min()) / (span * (n + 1.0))
    alike = np.nan_to_num(matrix, nan=-1.0) >= limit
    np.fill_diagonal(alike, False)
    greedy = greedily(matrix, weight.tolist(), limit)
    groups = _cliques(alike & moves[:, None] & moves[None, :])
    rows = np.repeat(np.arange(len(groups)), [len(g) for g in groups])
    held = csr_array((np.ones(len(rows)), (rows, np.concatenate(groups) if groups else rows)), shape=(len(groups), n))
    upper = (moves & (weight > 0)).astype(np.float64)
    best = milp(-weight, integrality=np.ones(n), bounds=Bounds(0, upper), options={"time_limit": float(seconds)},
                constraints=LinearConstraint(held, -np.inf, 1.0) if groups else ())
    chosen = np.flatnonzero(best.x > 0.5).tolist() if best.x is not None else []
    taken = [i for i in greedy.chosen if weight[i] > 0]
    if float(weight[chosen].sum()) < float(weight[taken].sum()) - 1e-12:
        chosen = taken
    return _told(matrix, chosen, score.tolist(), best.status == 0)


def _cliques(alike: NDArray[np.bool_]) -> list[NDArray[np.int64]]:
    """Groups of which all are alike, that hold every alike pair: one bound for each group is tighter than one a pair."""
    left, groups = np.triu(alike), []
    for i in range(len(alike)):
        while left[i].any():
            group = [i, int(np.flatnonzero(left[i])[0])]
            candidates = alike[i] & alike[group[1]]
            while candidates.any():
                # Those first whose pair with the first one is still open.
                open_ = candidates & left[i]
                nxt = int(np.flatnonzero(open_ if open_.any() else candidates)[0])
                group.append(nxt)
                candidates &= alike[nxt]
            members = np.array(sorted(group), np.int64)
            left[np.ix_(members, members)] = False
            groups.append(members)
    return groups
