"""Two sweeps beside each other: do they agree on which sets are good?"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from wolbrin.core.errors import UserError
from wolbrin.core.measures.wording import number
from wolbrin.core.search.basket import ranks
from wolbrin.core.store.project import Project
from wolbrin.core.work.sweep_reading import Reading, read
from wolbrin.core.work.sweep_results import read_sweep


@dataclass(frozen=True)
class Comparison:
    """titles: of both. shared: sets that both have. agreement: rank correlation of their scores (Spearman 1904). places:
    where the set that one recommends stands in the other, 0 the last and 1 the first; NaN where it is not there."""

    titles: tuple[str, str]
    shared: int
    agreement: float
    centers: tuple[str, str]
    places: tuple[float, float]
    objective: str

    def lines(self) -> list[str]:
        """A sentence each."""
        out = [f"{number(self.shared)} sets in common, by {self.objective}."]
        if math.isfinite(self.agreement):
            out.append(f"Their ranks agree with a correlation of {number(self.agreement, 2)} (1 the same order, 0 none).")
        for k in (0, 1):
            if self.centers[k]:
                place = self.places[k]
                known = math.isfinite(place)
                where = f"better than {100 * place:.0f} of 100 sets there" if known else "not among the sets there"
                out.append(f"What {self.titles[k]} recommends ({self.centers[k]}) is in {self.titles[1 - k]}: {where}.")
        return out


def _center(reading: Reading) -> int:
    return reading.center if reading.center >= 0 else reading.best


def compare_sweeps(project: Project, one: int, other: int) -> Comparison:
    """Compare what both varied. Raises UserError where they varied different numbers."""
    a, b = (read(read_sweep(project, n)) for n in (one, other))
    keys = [x.key for x in a.request.axes]
    theirs = [x.key for x in b.request.axes]
    if sorted(keys) != sorted(theirs):
        raise UserError("these sweeps vary different numbers", f"{a.request.title} and {b.request.title}",
                        "Choose two that vary the same ones.")
    order = [theirs.index(k) for k in keys]
    at_b = {tuple(np.round(v, 9).tolist()): i for i, v in enumerate(b.settings[:, order])}
    pairs = [(i, at_b[key]) for i, v in enumerate(a.settings) if (key := tuple(np.round(v, 9).tolist())) in at_b]
    mine, its = np.array([p[0] for p in pairs], int), np.array([p[1] for p in pairs], int)
    agreement = math.nan
    if len(pairs) > 2:
        x, y = ranks(a.score[mine]), ranks(b.score[its])
        if x.std() > 0 and y.std() > 0:
            agreement = float(np.corrcoef(x, y)[0, 1])
    places = []
    for r, rows, s, others in ((a, mine, b, its), (b, its, a, mine)):
        here = np.flatnonzero(rows == _center(r))
        places.append(float(ranks(s.score)[others[here[0]]]) if len(here) else math.nan)
    centers = tuple(r.request.space.words(r.values(_center(r))) if _center(r) >= 0 else "" for r in (a, b))
    return Comparison((f"sweep {one}", f"sweep {other}"), len(pairs), agreement, (centers[0], centers[1]),
                      (places[0], places[1]), a.request.objective.words())
