"""A search on one history that looks first: it scans, and builds from what it saw."""

from __future__ import annotations

from threading import Lock

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import UserError
from wolbrin.core.rules.model import Condition
from wolbrin.core.scan.evidence import BEYOND, NEAR, Evidence, Looking
from wolbrin.core.scan.informed_drawing import InformedDrawer
from wolbrin.core.scan.rows import at_bar, says_when, unanchored
from wolbrin.core.search.drawing import Drawer
from wolbrin.core.search.explorer import Explorer
from wolbrin.core.search.genotype import Plan, turned
from wolbrin.core.search.ingredients import AT, MOST_AT, NOT, PLAIN, ROWS, TURNED, Node, Pantry

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]
COUNT = 2_400  # rows that are looked at
COLUMN_BYTES = 40 * 1024**2  # indicator columns at hand: several histories are searched beside each other
SHARES = (0.60, 0.25, 0.15)  # of the draws: beyond luck, near it, all others
STRONG = 0.6  # of the pool at most are rows beyond luck and near it
OF_ONE = 0.12  # of the pool at most are strong rows of one ingredient


class InformedExplorer(Explorer):
    """As `Explorer`; rows carry the bar at which alone they are read, and whether they are turned over or denied."""

    def __init__(self, history: Prepared, brief: Brief, plan: Plan, pantry: Pantry, seed: int, count: int = COUNT,
                 room: int | None = None, levels: Explorer | None = None) -> None:
        super().__init__(history, brief, plan, pantry, seed, room, levels, COLUMN_BYTES)
        self._count = count
        self._looking: Looking | None = None
        self._looked_over = False
        self.evidence: Evidence | None = None
        self.seen_rows = 0
        self.unseen = ""  # why nothing could be looked at
        self._begin = Lock()

    def _read_row(self, code: int) -> Node | None:
        made = self.pantry.node(code & PLAIN, self._level)
        if made is None:
            return None
        series = unanchored(made)
        if series is not None and says_when(series):
            return None  # a scan leaves it out: such a level says when in the history it is
        bar = (code >> AT) & MOST_AT
        made = at_bar(made, bar)
        if code & TURNED:
            made = turned(made)
        return Condition(match="none", rows=(made,)) if code & NOT else made

    def prepare(self) -> Drawer:
        if self._leader is not self:
            return self._leader.prepare()
        self._look()
        return super().prepare()

    def _look(self) -> None:
        """Scan, together with all threads that ask. A history that is too short for it tells nothing, and is searched
        without."""
        with self._begin:
            if self._looked_over:
                return
            if self._looking is None:
                try:
                    self._looking = Looking(self.history, self.pantry, self.brief.span, self.plan.limits.flat, self._count,
                                            self.seed)
                except UserError as err:
                    self._looked_over, self.unseen = True, err.what
                    return
            looking = self._looking
        found = looking.evidence(self._tell)
        with self._begin:
            self.evidence, self._looked_over = found, True
            self._looking = None

    def read_elsewhere(self) -> dict[str, str]:
        seen = self.evidence
        return super().read_elsewhere() | (seen.elsewhere if seen is not None else {})

    def doing(self) -> str:
        if not self._looked_over and self._looking is not None:
            return f"Looking at rows first: {self.seen_rows:,} of {len(self._looking.choice):,}"
        return super().doing()

    def _tell(self, rows: int) -> None:
        self.seen_rows += rows

    def _first_rows(self, count: int) -> dict[int, float]:
        seen = self.evidence
        if seen is None or not len(seen.codes):
            return super()._first_rows(count)
        return asked_by(seen, count, self.seed)

    def _drawn_from(self, codes: Ints, asked: Floats, firing: NDArray[np.bool_]) -> Drawer:
        seen = self.evidence
        if seen is None or not len(seen.codes):
            return super()._drawn_from(codes, asked, firing)
        at = np.array([seen.of(int(c)) for c in codes])
        return InformedDrawer(self.plan, codes, asked, firing, seen.every[at], seen.levels, seen.state[at], seen.clock[at],
                              seen.session)


def asked_by(seen: Evidence, count: int, seed: int) -> dict[int, float]:
    """At most so many rows, each with how often it is asked: those beyond luck most, those near it some, all others still a
    little. Of one ingredient come few strong ones, and share how often they are asked, since they say much the same."""
    rng = np.random.default_rng((seed, 36))
    order = np.argsort(-seen.strength, kind="stable")
    most, of_one = int(STRONG * count), max(2, int(OF_ONE * count))
    picked: list[int] = []
    per: dict[int, int] = {}
    for i in order.tolist():
        if seen.strength[i] < NEAR or len(picked) >= most:
            break
        item = _item(seen, i)
        if per.get(item, 0) < of_one:
            per[item] = per.get(item, 0) + 1
            picked.append(i)
    weak = np.flatnonzero(seen.strength < NEAR)
    others = np.sort(rng.permutation(weak)[:count - len(picked)])
    strong = [i for i in picked if seen.strength[i] >= BEYOND]
    near = [i for i in picked if seen.strength[i] < BEYOND]
    out: dict[int, float] = {}
    for share, some in zip(SHARES, (strong, near, others.tolist())):
        weight = {i: (seen.strength[i] ** 4 if seen.strength[i] >= NEAR else 0.2 + seen.strength[i] ** 2)
                  / np.sqrt(per.get(_item(seen, i), 1)) for i in some}
        total = sum(weight.values())
        out |= {int(seen.codes[i]): share * float(w) / total for i, w in weight.items()}
    return out


def _item(seen: Evidence, at: int) -> int:
    """The ingredient of a row."""
    return (int(seen.codes[at]) & PLAIN) >> ROWS
