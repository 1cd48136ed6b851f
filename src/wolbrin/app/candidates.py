"""Candidates as a place lists them: which, in which order, found beside the window. Knows no widget."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, Signal

from wolbrin.app.session import Session
from wolbrin.app.soon import Soon
from wolbrin.core.store.shelf import Line
from wolbrin.core.store.wanted import Wanted
from wolbrin.core.work.standing import restand
from wolbrin.core.work.subject import Subject

REST = 400  # milliseconds between two looks while candidates arrive
Ids = NDArray[np.int64]


@dataclass(frozen=True)
class Found:
    """Ids in order, how many there are without filters, and how many of all candidates are ticked. same: those that were
    there before say what they said."""

    ids: Ids
    total: int
    ticked: int
    same: bool = False


class Candidates(QObject):
    """A view of the Shelf. moved: the order is there, a `Found`; changed: rows say something else, their order stands."""

    moved = Signal(object)
    changed = Signal()

    def __init__(self, session: Session, name: str, wanted: Wanted | None = None) -> None:
        super().__init__(session)
        wanted = wanted or Wanted()
        self.session = session
        self.wanted = wanted
        self.found = Found(np.zeros(0, np.int64), 0, 0)
        self._name = name
        self._base = wanted
        self._same = False  # since the last look, rows came and went, and no row says anything else
        self._soon = Soon(self, REST, self._look)

    def ask(self, sort: str, down: bool, filters: dict[str, str]) -> None:
        """Sort and filter otherwise."""
        self.wanted = replace(self._base, sort=sort or self._base.sort, down=down if sort else self._base.down,
                              filters=filters)
        self.look()

    def of_search(self, search: int | None) -> None:
        """Show the finds of another search."""
        self._base = replace(self._base, search=search)
        self.wanted = replace(self.wanted, search=search)
        self.look()

    def soon(self, came: bool = False) -> None:
        """Look again, at most every REST milliseconds however often this is asked. came: candidates may have come; what is
        there says what it said."""
        self._same = self._same and came
        self._soon.ask()

    def look(self) -> None:
        """Find the order anew, beside the window; every row may say something else."""
        self._same = False
        self._soon.now()

    def _look(self) -> None:
        project, shelf, wanted = self.session.project, self.session.shelf, self.wanted
        same, self._same = self._same, True

        def work() -> Found:
            restand(project)
            bare = replace(wanted, filters={})
            return Found(shelf.ids(wanted), shelf.count(bare), shelf.count(Wanted(ticked=True)), same)

        def done(found: Found) -> None:
            self.found = found
            self.moved.emit(found)

        self.session.compute(self._name, work, done, self._name)

    def lines(self, ids: Iterable[int]) -> list[Line]:
        """Rows of these ids."""
        return self.session.shelf.lines(ids)

    # What is done with them

    def tick(self, id: int, on: bool) -> None:
        """Tick one, or take its tick away."""
        self.session.tick([id], on)

    def tick_shown(self) -> None:
        """Tick all that are shown, beside those that are ticked."""
        self.session.shelf.tick_all(self.wanted)
        self.session.selection_changed.emit()

    def untick_all(self) -> None:
        self.session.select([])

    def open(self, id: int) -> None:
        """Make a candidate the current strategy, and show it in Rules."""
        kept = self.session.shelf.body(id)
        if kept is None:
            self.session.note("This candidate is not on the Shelf any more.", "caution")
            return
        c = kept.candidate
        self.session.add_strategy(c.strategy, c.market, c.interval, own=kept.own)
        self.session.place_wanted.emit("rules")

    def show(self, id: int) -> None:
        """Show a candidate's dossier."""
        kept = self.session.shelf.body(id)
        if kept is not None:
            self.session.show_subject(Subject.of(kept))

    def remove(self, ids: list[int]) -> None:
        """Take candidates off the Shelf; undo brings them back."""
        s = self.session
        gone = s.shelf.bodies(ids)

        def told() -> None:
            s.shelf_changed.emit()
            s.counts_changed.emit()

        def act() -> None:
            s.shelf.remove(ids)
            told()

        def back() -> None:
            s.shelf.restore(gone)
            told()

        s.do(f"remove {len(gone)} from the Shelf", act, back)
        s.note(f"{len(gone)} removed; Ctrl+Z brings them back.")
