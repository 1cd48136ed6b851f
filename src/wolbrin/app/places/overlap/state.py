"""What the Overlap place is about: how alike the ticked candidates earn. Knows no widget."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, QTimer, Signal

from wolbrin.app.session import Session
from wolbrin.core.portfolio.distinct import Distinct, Dropped, exactly, greedily
from wolbrin.core.portfolio.overlap import NOTABLE, STRONG, Overlap
from wolbrin.core.portfolio.sampling import Sampling
from wolbrin.core.store.shelf import Line
from wolbrin.core.store.wanted import Wanted
from wolbrin.core.work.combining import Known, series_job
from wolbrin.core.work.price_overlap import price_overlap
from wolbrin.core.work.standing import proved_ids

MOST = 2_000
AT_ONCE = 800  # candidates, among which the greedy subset is found without leaving the window
HOW = "overlap is compared"
Way = Literal["greedy", "best", "largest"]


@dataclass(frozen=True)
class Pair:
    """Two candidates that were chosen, by their places."""

    a: int
    b: int


class OverlapState(QObject):
    """emptied: fewer than two are ticked; shown: another overlap is there; picked: other ones are distinct; cut: the tree is
    cut elsewhere; paired: another pair is chosen; failed: there is no overlap, with the reason."""

    emptied = Signal()
    shown = Signal()
    picked = Signal()
    cut = Signal()
    paired = Signal()
    failed = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.lines: list[Line] = []
        self.known: list[Known] = []
        self.overlap: Overlap | None = None
        self.prices: tuple[list[str], Overlap] | None = None
        self.found: Distinct | None = None
        self.clusters: NDArray[np.int64] = np.zeros(0, np.int64)
        self._place: dict[int, int] = {}
        self._dropped: dict[int, Dropped] = {}
        self.distinct: set[int] = set()
        self.more = 0
        self.limit = 0.5
        self.marks = (NOTABLE, STRONG)
        self.apart = False
        self.cut_at = NOTABLE
        self.way: Way = "greedy"
        self.pair: Pair | None = None
        self.of_prices = False
        self._wanted: Any = None
        self._then = QTimer(self, singleShot=True, interval=15)  # once the matrix is painted: the window answers in between
        self._then.timeout.connect(self.pick)
        try:
            self.how = Sampling.model_validate(session.project.get_value(HOW, {}))
        except ValueError:
            self.how = Sampling()

    def look(self) -> None:
        """Work out the overlap of the ticked candidates, unless it is shown."""
        s = self.session
        ids = s.shelf.ids(Wanted("return_drawdown", True, ticked=True)).tolist()
        if len(ids) < 2:
            self._wanted = None
            self.emptied.emit()
            return
        wanted = tuple(ids[:MOST]), s.settings.model_dump_json()
        if wanted == self._wanted:
            return
        self._wanted = wanted

        def show(known: list[Known], lines: list[Line]) -> None:
            if wanted == self._wanted:
                self.lines = lines
                self._place = {line.id: i for i, line in enumerate(self.lines)}
                self.known, self.more, self.pair = known, len(ids) - len(known), None
                self._compare()

        shown = s.on_ui(show)

        def there(known: list[Known]) -> None:
            shown(known, s.shelf.lines([k.id for k in known]))  # many rows are read beside the window

        s.start(series_job(s.project, wanted[0], there), "now", quiet=len(ids) < 200)

    def compare(self, **changes: Any) -> None:
        """Compare them otherwise: fields of Sampling."""
        self.how = Sampling.model_validate(self.how.model_dump() | changes)
        self.session.remember(HOW, self.how.model_dump())
        if self.known:
            self._compare()

    def show_prices(self, on: bool) -> None:
        """Show how the markets move instead."""
        self.of_prices = on
        if self.known:
            self._compare()

    def _compare(self) -> None:
        s, how, known = self.session, self.how, self.known

        def work() -> tuple[Overlap, tuple[list[str], Overlap]]:
            made = Overlap.of([k.series for k in known], how, s.settings.capital)
            _ = made.order, made.p, made.bets, made.average, made.together, made.joint_losses, made.deep_together
            prices = price_overlap(s.project, [(k.market, k.interval) for k in known], how)
            _ = prices[1].order, prices[1].p
            return made, prices

        def show(made: tuple[Overlap, tuple[list[str], Overlap]]) -> None:
            self.overlap, self.prices = made
            self.clusters = self.overlap.clusters(self.cut_at)
            self._alike()
            self.shown.emit()
            self._then.start()

        s.compute("Overlap", work, show, "overlap", lambda err: self.failed.emit(err.sentence()))

    def _alike(self) -> None:
        """Look at the two most alike, until others are chosen."""
        if self.pair is None and self.overlap is not None:
            off = np.where(np.isfinite(self.overlap.matrix), self.overlap.matrix, -2.0)
            np.fill_diagonal(off, -3.0)
            a, b = np.unravel_index(int(np.argmax(off)), off.shape)
            self.pair = Pair(int(a), int(b)) if a != b else None

    def pick(self, limit: float | None = None, way: Way | None = None) -> None:
        """Find the distinct ones below a correlation: greedily at once, or the best or largest subset beside the window."""
        self.limit = self.limit if limit is None else limit
        self.way = self.way if way is None else way
        if self.overlap is None:
            return
        matrix, scores, below = self.overlap.matrix, [_rank(line) for line in self.lines], self.limit
        if self.way == "greedy" and len(scores) <= AT_ONCE:
            self._take(greedily(matrix, scores, below))
            return
        want: Literal["best", "largest"] = "largest" if self.way == "largest" else "best"
        work = (partial(greedily, matrix, scores, below) if self.way == "greedy" else
                partial(exactly, matrix, scores, below, want))
        self.session.compute("Distinct subset", work, self._take, "distinct")

    def _take(self, found: Distinct) -> None:
        if len(found.chosen) + len(found.dropped) != len(self.lines):
            return  # others were ticked meanwhile
        self.found = found
        self._dropped = {d.at: d for d in found.dropped}
        self.distinct = {self.lines[i].id for i in found.chosen}
        self.session.remember("distinct", sorted(self.distinct))
        self.session.counts_changed.emit()
        self.picked.emit()

    def cut_tree(self, correlation: float) -> None:
        """Cut the tree at a mean correlation."""
        self.cut_at = correlation
        if self.overlap is not None:
            self.clusters = self.overlap.clusters(correlation)
        self.cut.emit()

    def mark(self, marks: tuple[float, float], apart: bool) -> None:
        """Mark correlations from other values on; apart: large negative ones too."""
        self.marks, self.apart = marks, apart
        if self.overlap is not None:
            self.shown.emit()
            self.picked.emit()

    def choose_pair(self, a: int, b: int) -> None:
        """Look at two candidates closely, by their places."""
        self.pair = Pair(a, b) if a != b else None
        self.paired.emit()

    def place_of(self, id: int) -> int | None:
        """Where a candidate stands among those compared."""
        return self._place.get(id)

    def cluster_of(self, id: int) -> int:
        """Number of a candidate's cluster where the tree is cut; 0 for none."""
        at = self.place_of(id)
        return int(self.clusters[at]) if at is not None and at < len(self.clusters) else 0

    def dropped_for(self, id: int) -> tuple[float, Line] | None:
        """For whom a candidate was left out, with their correlation; None for one that is taken or stands alone."""
        at = self.place_of(id)
        found = self._dropped.get(at) if at is not None else None
        if found is None or found.for_ is None:
            return None
        return found.correlation, self.lines[found.for_]

    def closest(self, id: int) -> tuple[float, Line] | None:
        """To whom a candidate is closest, with the correlation."""
        at = self.place_of(id)
        found = self.overlap.closest(at) if self.overlap is not None and at is not None else None
        return (found[0], self.lines[found[1]]) if found is not None else None

    def tick_proved(self) -> None:
        s = self.session
        ids = proved_ids(s.project)
        if len(ids) < 2:
            s.note("Fewer than two candidates are proved; prove some, or tick them on the Shelf.", "caution")
            s.place_wanted.emit("proving")
            return
        s.select(ids)

    def tick_distinct(self) -> None:
        """Leave only the distinct candidates ticked."""
        if self.distinct:
            self.session.select([line.id for line in self.lines if line.id in self.distinct])
            self.session.note(f"{len(self.distinct)} distinct candidates stay ticked; Portfolio combines them.")


def _rank(line: Line) -> float:
    value = line.figures.get("return_drawdown", 0.0)
    return value if value == value else 0.0
