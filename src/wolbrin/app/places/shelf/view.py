"""Shelf: everything kept, from any place; sort, filter, tick for the places that follow."""

from __future__ import annotations

from PySide6.QtWidgets import QStackedWidget, QWidget

from wolbrin.app.parts import Empty, button, column, label, row
from wolbrin.app.places.place import Place
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.kept import FIGURES, Standing, figure, naming, record_column, stand_tint, tried_column, words_column
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.measures.wording import number
from wolbrin.core.work.standing import Standings
from wolbrin.core.work.subject import Subject


class ShelfPlace(Place):
    key = "shelf"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        get = lambda r: r.kept  # noqa: E731
        self.table = Table([
            Column("", lambda r: r.ticked, width=26, kind="tick", tip="tick for Proving, Overlap and Portfolio"),
            *naming(get), Column("verdict", lambda r: r.stands, width=128, tint=lambda r: stand_tint(r.stands)),
            *(figure(key, get) for key in FIGURES), tried_column(get),
            Column("from", lambda r: r.kept.candidate.origin, width=70),
            Column("kept", lambda r: r.kept.created[:10], width=80), words_column(get), record_column(get)],
            s.theme, "Shelf", filters=True, multi=True)
        self.title = label("", "heading")
        self.table.model.tick = self._tick
        bar = row(self.title, None, button("Tick shown", self.tick_shown, tip="Tick every row shown"),
                  button("Untick all", lambda: s.select([])), button("Open in Rules", self.open_chosen),
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
        self.table.chosen.connect(lambda r: s.show_subject(Subject.of(r.kept)))
        self.table.opened.connect(lambda _: self.open_chosen())
        for signal in (s.shelf_changed, s.evidence_changed, s.selection_changed):
            signal.connect(self.refresh)

    def actions_offered(self) -> list[Action]:
        return [Action("shelf.tick", "Tick every candidate shown", self.tick_shown, "Ctrl+Shift+T", "shelf"),
                Action("shelf.open", "Open the chosen candidate in Rules", self.open_chosen, "", "shelf"),
                Action("shelf.remove", "Remove the marked candidates", self.remove, "Del", "shelf",
                       lambda: bool(self.table.marked()))]

    def activate(self) -> None:
        self.refresh()

    def refresh(self) -> None:
        if not self.isVisible():
            return
        s = self.session
        standings, ticked = Standings(s.project), set(s.selection)
        records = []
        for kept in s.dossiers.shelf():
            place = standings.of(kept)
            records.append(Standing(kept, place.evidence, place.stands, kept.id in ticked))
        self.table.set_records(records)
        self.stack.setCurrentIndex(1 if records else 0)
        self.title.setText(f"{number(len(records))} kept, {number(sum(r.ticked for r in records))} ticked")

    def _tick(self, record: Standing, on: bool) -> None:
        s = self.session
        s.select([*s.selection, record.kept.id] if on else [i for i in s.selection if i != record.kept.id])

    def tick_shown(self) -> None:
        model = self.table.model
        self.session.select([*self.session.selection, *(model.record(i).kept.id for i in range(model.rowCount()))])

    def open_chosen(self) -> None:
        """Make the chosen candidate the current strategy."""
        record: Standing | None = self.table.current()
        if record is None:
            self.session.note("Choose a candidate in the table first.", "caution")
            return
        c = record.kept.candidate
        self.session.add_strategy(c.strategy, c.market, c.interval, own=record.kept.own)
        self.session.place_wanted.emit("rules")

    def remove(self) -> None:
        """Remove the marked candidates; undo brings them back."""
        s = self.session
        gone = [r.kept for r in self.table.marked()]
        if not gone:
            s.note("Mark the candidates to remove first.", "caution")
            return
        ids = [k.id for k in gone]

        def act() -> None:
            s.dossiers.remove(ids)
            s.shelf_changed.emit()
            s.counts_changed.emit()

        def back() -> None:
            s.dossiers.restore(gone)
            s.shelf_changed.emit()
            s.counts_changed.emit()

        s.do(f"remove {len(gone)} from the Shelf", act, back)
        s.note(f"{len(gone)} removed; Ctrl+Z brings them back.")
