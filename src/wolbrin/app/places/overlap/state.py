"""What the Overlap place is about: how alike the ticked candidates earn. Knows no widget."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QObject, Signal

from wolbrin.app.session import Session
from wolbrin.core.portfolio.overlap import Overlap
from wolbrin.core.store.shelf import Kept, Line
from wolbrin.core.store.wanted import Wanted
from wolbrin.core.work.combining import Series, series_job
from wolbrin.core.work.standing import proved_ids

MOST = 40


class OverlapState(QObject):
    """emptied: fewer than two are ticked; shown: another overlap is there; picked: other ones are distinct."""

    emptied = Signal()
    shown = Signal()
    picked = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.lines: list[Line] = []
        self.series: list[Series] = []
        self.overlap: Overlap | None = None
        self.distinct: set[int] = set()
        self.more = 0
        self.limit = 0.5
        self._wanted: Any = None

    def look(self) -> None:
        """Work out the overlap of the ticked candidates, unless it is shown."""
        s = self.session
        ids = s.shelf.ids(Wanted("return_drawdown", True, ticked=True)).tolist()
        if len(ids) < 2:
            self._wanted = None
            self.emptied.emit()
            return
        best = s.shelf.lines(ids[:MOST])  # however many are ticked, only those shown are read
        wanted = tuple(line.id for line in best), s.settings.model_dump_json()
        if wanted == self._wanted:
            return
        self._wanted = wanted
        kept = s.shelf.bodies(wanted[0])

        def there(series: list[Series]) -> None:
            s.compute("Overlap", lambda: Overlap.of([one.daily for one in series]), lambda made: self._show(
                wanted, best, kept, series, made, len(ids) - len(best)), "overlap")

        s.start(series_job(s.project, kept, s.on_ui(there)), "now", quiet=len(kept) < 8)

    def _show(self, wanted: Any, lines: list[Line], kept: list[Kept], series: list[Series], made: Overlap, more: int) -> None:
        if wanted != self._wanted:
            return
        self.lines, self.series, self.overlap, self.more = lines, series, made, more
        self.shown.emit()
        self.pick()

    def pick(self, limit: float | None = None) -> None:
        """Find the distinct ones below a correlation."""
        if limit is not None:
            self.limit = limit
        if self.overlap is None:
            return
        chosen = self.overlap.distinct([_rank(line) for line in self.lines], self.limit)
        self.distinct = {self.lines[i].id for i in chosen}
        self.session.remember("distinct", sorted(self.distinct))
        self.session.counts_changed.emit()
        self.picked.emit()

    def closest(self, id: int) -> tuple[float, Line] | None:
        """To whom a candidate is closest, with the correlation."""
        at = next((i for i, line in enumerate(self.lines) if line.id == id), None)
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
