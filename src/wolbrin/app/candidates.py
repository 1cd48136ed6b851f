"""Candidates as a place lists them: which, in which order, found beside the window. Knows no widget."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, Signal

from wolbrin.app.session import Session
from wolbrin.app.soon import Soon
from wolbrin.app.unsaved import Change
from wolbrin.core.errors import UserError
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.store.shelf import Kept, Line
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

    def only_representatives(self, on: bool) -> None:
        """Show of each family only the one that represents it, or all."""
        self._base = replace(self._base, representatives=on)
        self.wanted = replace(self.wanted, representatives=on)
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

    def _kept(self, id: int) -> Kept | None:
        kept = self.session.shelf.body(id)
        if kept is None:
            self.session.note("This candidate is not on the Shelf any more.", "caution")
        return kept

    def open(self, id: int, place: str = "rules") -> None:
        """Make a candidate the current strategy, and show it in Rules or another place."""
        if (kept := self._kept(id)) is not None:
            c = kept.candidate
            strategy = c.strategy.model_copy(update={"name": c.name})
            there = [e.id for e in self.session.project.strategies() if (e.market, e.interval) == (c.market, c.interval)
                     and strategy_hash(e.strategy) == kept.hash]
            if there:
                self.session.open_strategy(there[-1])
            else:
                self.session.add_strategy(strategy, c.market, c.interval, own=kept.own)
            self.session.place_wanted.emit(place)

    def around(self, id: int, keep: str) -> None:
        """Set up a search around a candidate, on its market. keep: what of it is kept (see search.limits.KEEP_WORDS)."""
        if (kept := self._kept(id)) is not None:
            c = kept.candidate
            s = self.session
            s.laid.around = c.strategy.model_copy(update={"name": c.name}), keep
            s.look_at(c.market, c.interval)
            s.place_wanted.emit("discover")

    def show(self, id: int) -> None:
        """Show a candidate's dossier."""
        kept = self.session.shelf.body(id)
        if kept is not None:
            self.session.show_subject(Subject.of(kept))

    def change(self, text: str, ids: list[int], act: Callable[[], None], written: str = "") -> None:
        """Change what is noted beside candidates; undo brings back what was there. written: by the user, which is not lost
        with a candidate that another program has removed."""
        s = self.session
        before = [(k.id, k.tags, k.marks, k.candidate.name) for k in s.shelf.bodies(ids)]
        if len(before) < len(ids):
            mine = f' You wrote: "{written}"' if written else ""
            s.note(f"{len(ids) - len(before)} of {len(ids)} are not on the Shelf any more: another program has removed "
                   f"them.{mine}", "caution")
            if not before:
                return

        def put_back() -> None:
            with s.project.transaction():
                for id, tags, marks, name in before:
                    s.shelf.put_marks(id, tags, marks, name)

        def keep(change: Callable[[], None]) -> None:
            def done() -> None:
                change()
                s.shelf_changed.emit()
                self.look()

            title = f"{text}, {before[0][3]}" + (f" and {len(before) - 1} more" if len(before) > 1 else "")
            words = json.dumps({"candidate": before[0][3], text: written}) if written else ""
            s.unsaved.keep((text, tuple(ids)), Change(title, written, done, text, words))

        s.do(text, lambda: keep(act), lambda: keep(put_back))

    def star(self, ids: list[int], on: bool) -> None:
        """Give stars, or take them away."""
        self.change("star" if on else "take the star away", ids, lambda: self.session.shelf.star(ids, on))

    def tag(self, ids: list[int], tags: list[str], remove: bool = False) -> None:
        """Add tags, or take them away."""
        self.change("tag", ids, lambda: self.session.shelf.add_tags(ids, tags, remove))

    def note(self, id: int, text: str) -> None:
        self.change("note", [id], lambda: self.session.shelf.note(id, text), text)

    def rename(self, id: int, name: str) -> None:
        self.change("rename", [id], lambda: self._rename(id, name), name)

    def _rename(self, id: int, name: str) -> None:
        try:
            self.session.shelf.rename(id, name)
        except UserError as err:
            self.session.note(err.sentence(), "error")

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
