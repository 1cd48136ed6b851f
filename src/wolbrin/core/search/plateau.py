"""Plateau scores: how well the sets around a set do, so that a broad hill is told from a lucky peak.

The score of a set is the median, and beside it the worst, over the sets within one step on every axis (Chebyshev distance 1),
the set itself included. Neighbors that the constraints or the model refuse, that fail a floor or have no value count as the
worst value of all sets simulated. At the end of a range there are the neighbors that there are.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit
from wolbrin.core.search.space import Space

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
SLAB = 2_000_000  # neighbors looked at together
REFUSED, UNKNOWN, OUTSIDE = -1, -2, -3


@njit(cache=True, nogil=True)
def scores(value: Floats, around: Ints, bad: float, out: Floats) -> None:
    """Median and worst around each set.

    value: float64[m] of the sets known. around: int64[n, k], places in `value`, or REFUSED (counts as `bad`), UNKNOWN (no
    score then) or OUTSIDE (is none). out: float64[n, 2].
    """
    found = np.empty(around.shape[1])
    for i in range(len(around)):
        count = 0
        known = True
        for k in range(around.shape[1]):
            at = around[i, k]
            if at == -3:
                continue
            if at == -2:
                known = False
                break
            found[count] = bad if at == -1 else value[at]
            count += 1
        if not known or count == 0:
            out[i, 0] = np.nan
            out[i, 1] = np.nan
            continue
        part = np.sort(found[:count])
        out[i, 0] = 0.5 * (part[(count - 1) // 2] + part[count // 2])
        out[i, 1] = part[0]


class Surroundings:
    """Which rows lie around each row. at: int64[n], numbers of the sets simulated. refused: of sets that the model does not
    take. complete: whether a set of the grid that is in neither was refused (else it is not known)."""

    def __init__(self, space: Space, at: Ints, refused: Ints, complete: bool) -> None:
        self._space, self._at, self._complete = space, at, complete
        self._order = np.argsort(at, kind="stable")
        self._sorted = at[self._order]
        self._refused = np.sort(refused)

    @property
    def known(self) -> bool:
        """Whether neighbors can be looked at."""
        return self._space.has_plateaus

    @property
    def width(self) -> int:
        """Neighbors of a row, itself included."""
        return self._space.most_neighbors

    def of(self, rows: Ints) -> Ints:
        """int64[n, k]: as `scores` wants them, for these rows."""
        near = self._space.neighbors(self._at[rows])
        flat = near.ravel()
        out = np.full(len(flat), OUTSIDE, np.int64)
        inside = flat >= 0
        asked = flat[inside]
        place = np.minimum(np.searchsorted(self._sorted, asked), len(self._sorted) - 1)
        known = self._sorted[place] == asked
        found = np.where(known, self._order[place], REFUSED if self._complete else UNKNOWN)
        if not self._complete:
            rest = ~known
            gone = ~self._space.allowed(asked[rest])
            if len(self._refused):
                where = np.minimum(np.searchsorted(self._refused, asked[rest]), len(self._refused) - 1)
                gone |= self._refused[where] == asked[rest]
            found[rest] = np.where(gone, REFUSED, UNKNOWN)
        out[inside] = found
        return out.reshape(near.shape)


@dataclass(frozen=True)
class Plateaus:
    """median, worst: float64[n], NaN where not all neighbors are known. floor: what stands for those refused. center: the
    row of the best plateau among those that pass, -1 for none."""

    median: Floats
    worst: Floats
    floor: float
    center: int


def plateaus(around: Surroundings, score: Floats, passes: NDArray[np.bool_]) -> Plateaus:
    """Plateau scores of all sets simulated.

    score: float64[n], higher is better, NaN for none. passes: bool[n], which meet the floors.
    """
    n = len(score)
    known = score[np.isfinite(score)]
    bad = float(known.min()) if len(known) else np.nan
    counted = np.where(passes & np.isfinite(score), score, bad)
    out = np.full((n, 2), np.nan)
    if len(known) and around.known:
        slab = max(1, SLAB // around.width)
        for first in range(0, n, slab):
            rows = np.arange(first, min(first + slab, n), dtype=np.int64)
            scores(counted, around.of(rows), bad, out[first:first + slab])
    return Plateaus(out[:, 0], out[:, 1], bad, best_plateau(out[:, 0], out[:, 1], score, passes))


def best_plateau(median: Floats, worst: Floats, score: Floats, passes: NDArray[np.bool_]) -> int:
    """The row with the best median; among equals the one whose worst is best, then whose own value is. -1 for none."""
    fit = np.flatnonzero(passes & np.isfinite(median) & np.isfinite(score))
    if not len(fit):
        return -1
    order = np.lexsort((-score[fit], -worst[fit], -median[fit]))
    return int(fit[order[0]])
