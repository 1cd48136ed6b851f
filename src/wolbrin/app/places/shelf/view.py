"""Shelf: everything kept, from any place; sort, filter, tick for the places that follow."""

from __future__ import annotations

from PySide6.QtWidgets import QStackedWidget, QWidget

from wolbrin.app.candidates import Candidates, Found
from wolbrin.app.parts import Empty, button, column, label, row
from wolbrin.app.places.place import Place
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.kept import figure, figures, naming, record_column, tried_column, verdict_column, words_column
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.paged import PagedModel
from wolbrin.app.tables.view import Table
from wolbrin.core.measures.wording import number
from wolbrin.core.store.shelf import Line


class ShelfPlace(Place):
    key = "shelf"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        self.state = Candidates(s, "Shelf")
        columns = [
            Column("", lambda r: r.ticked, width=26, kind="tick", key="ticked",
                   tip="tick for Proving, Overlap and Portfolio"),
            *naming(), verdict_column(), *(figure(key) for key in figures()), tried_column(),
            Column("from", lambda r: r.origin, width=70, key="origin"),
            Column("kept", lambda r: r.created[:10], width=80, key="created"), words_column(), record_column()]
        self.rows = PagedModel(columns, s.theme, self.state.lines)
        self.table = Table(columns, s.theme, "Shelf", filters=True, multi=True, model=self.rows)
        self.title = label("", "heading")
        self.rows.tick = self._tick
        bar = row(self.title, None, button("Tick shown", self.state.tick_shown, tip="Tick every row shown"),
                  button("Untick all", self.state.untick_all), button("Open in Rules", self.open_chosen),
                  button("Remove", self.remove), button("Prove ticked", lambda: s.place_wanted.emit("proving"), main=True),
                  margins=(0, 0, 8, 0))
        full = QWidget()
        full.setLayout(column(bar, self.table, spacing=6))
        self.empty = Empty("The Shelf holds every strategy worth a second look. Let Discover find some, keep one from "
                           "Backtest, or keep a set from a sweep.", "Go to Discover",
                           lambda: s.place_wanted.emit("discover"))
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(full)
        self.setLayout(column(self.stack, margins=(20, 10, 0, 6)))
        self.table.chosen.connect(lambda r: self.state.show(r.id))
        self.table.opened.connect(lambda _: self.open_chosen())
        self.rows.asked.connect(lambda: self.state.ask(*self.rows.wanted()))
        self.state.moved.connect(self._moved)
        s.shelf_changed.connect(lambda: self.refresh(came=True))
        for signal in (s.evidence_changed, s.selection_changed):
            signal.connect(self.refresh)

    def actions_offered(self) -> list[Action]:
        return [Action("shelf.tick", "Tick every candidate shown", self.state.tick_shown, "Ctrl+Shift+T", "shelf"),
                Action("shelf.open", "Open the chosen candidate in Rules", self.open_chosen, "", "shelf"),
                Action("shelf.remove", "Remove the marked candidates", self.remove, "Del", "shelf",
                       lambda: bool(self.table.marked()))]

    def activate(self) -> None:
        self.state.look()

    def refresh(self, came: bool = False) -> None:
        if self.isVisible():
            self.state.soon(came)

    def _moved(self, found: Found) -> None:
        if found.same and self.rows.add_beyond(found.ids, *self.table.in_view()):
            self._say(found)
            return

        def change() -> int | None:
            chosen = self.table.current()
            self.rows.set_order(found.ids)
            return self.rows.row_of(chosen.id) if chosen is not None else None

        self.table.keep_place(change)
        self._say(found)

    def _say(self, found: Found) -> None:
        self.stack.setCurrentIndex(1 if found.total else 0)
        shown = f"{number(len(found.ids))} of " if len(found.ids) < found.total else ""
        self.title.setText(f"{shown}{number(found.total)} kept, {number(found.ticked)} ticked")

    def _tick(self, record: Line, on: bool) -> None:
        self.state.tick(record.id, on)
        self.rows.again()

    def open_chosen(self) -> None:
        """Make the chosen candidate the current strategy."""
        record: Line | None = self.table.current()
        if record is None:
            self.session.note("Choose a candidate in the table first.", "caution")
            return
        self.state.open(record.id)

    def remove(self) -> None:
        """Remove the marked candidates; undo brings them back."""
        gone = [r.id for r in self.table.marked()]
        if not gone:
            self.session.note("Mark the candidates to remove first.", "caution")
            return
        self.state.remove(gone)
