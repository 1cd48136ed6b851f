"""Shelf: everything kept, from any place; found, marked, compared, and taken to the places that follow."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import QComboBox, QFileDialog, QLineEdit, QListWidget, QListWidgetItem, QMenu, QStackedWidget, QWidget

from wolbrin.app.candidates import Found
from wolbrin.app.parts import Empty, button, column, label, link, row
from wolbrin.app.places.place import Place
from wolbrin.app.places.shelf.asking import LinePopup, NotePopup
from wolbrin.app.places.shelf.compare import Compare
from wolbrin.app.places.shelf.state import GROUPS, ShelfState
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.kept import (
    family_column,
    figure,
    figures,
    naming,
    record_column,
    tried_column,
    verdict_column,
    words_column,
)
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.paged import PagedModel
from wolbrin.app.tables.view import Table
from wolbrin.core.figures.searches import FINDS
from wolbrin.core.measures.wording import number
from wolbrin.core.store.shelf import Line
from wolbrin.core.work.grouping import MOST_BESIDE

EVERYTHING = "everything"
SIDE = 190  # pixels of the list of groups
WORDS_WAIT = 250  # milliseconds


def _star(record: Line) -> str:
    return "\u2605" if record.marks.star else ""


class ShelfPlace(Place):
    key = "shelf"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        self.state = ShelfState(s)
        columns = [
            Column("", lambda r: r.ticked, width=26, kind="tick", key="ticked",
                   tip="tick for Proving, Overlap and Portfolio"),
            Column("\u2605", lambda r: r.marks.star, _star, width=30, key="star", tip="star"),
            *naming(name_width=230), verdict_column(), *(figure(key) for key in figures()), tried_column(),
            Column("tags", lambda r: r.tags, width=90, key="tags"),
            Column("idea", lambda r: r.family, width=84, key="family", tip="the kind of indicator its first entry row is on"),
            Column("behaves as", lambda r: r.marks.cluster or 0, lambda r: number(r.marks.cluster) if r.marks.cluster else "",
                   "right", 74, key="cluster", tip="group by behavior: Group by, behavior", figure=FINDS["find.cluster"],
                   rank=4),
            family_column(),
            Column("stands for", lambda r: r.marks.alike, lambda r: number(r.marks.alike), "right", 76, key="alike",
                   figure=FINDS["find.alike"], rank=3),
            Column("from", lambda r: r.origin, width=70, key="origin", rank=2),
            Column("notes", lambda r: r.marks.notes, lambda r: r.marks.notes.replace("\n", " "), width=140, key="notes"),
            Column("kept", lambda r: r.created[:10], width=80, key="created"), words_column(), record_column()]
        self.rows = PagedModel(columns, s.theme, self.state.lines)
        self.table = Table(columns, s.theme, "Shelf", filters=True, multi=True, model=self.rows)
        self.title = label("", "heading")
        self.rows.tick = self._tick
        self.view = QComboBox()
        self.view.setAccessibleName("saved view")
        self.view.setMinimumContentsLength(9)
        self.view.activated.connect(lambda _: self.state.show_view(self.view.currentText()
                                                                   if self.view.currentIndex() else ""))
        self.starred = link("\u2605 only", self._starred, role="choice", tip="Show only what has a star")
        self.starred.setCheckable(True)
        self.words = QLineEdit()
        self.words.setPlaceholderText("Rules hold \u2026 such as RSI stop")
        self.words.setAccessibleName("search in rules")
        self.words.setClearButtonEnabled(True)
        self.words.setMinimumWidth(120)
        self.words.setMaximumWidth(260)
        self.words.textChanged.connect(self.state.hold_words)
        self.group = QComboBox()
        self.group.setAccessibleName("group by")
        for key, text in GROUPS.items():
            self.group.addItem(text, key)
        self.group.activated.connect(lambda _: self.state.group_by(self.group.currentData()))
        self.groups = QListWidget()
        self.groups.setAccessibleName("groups")
        self.groups.setFixedWidth(SIDE)
        self.groups.hide()
        self.groups.itemClicked.connect(self._pick_group)
        self.groups.itemActivated.connect(self._pick_group)
        self.more = link("More", self._open_more, tip="What else can be done")
        bar = row(self.title, None, button("Compare", self.compare, tip="C: two to six marked ones side by side"),
                  button("Sweep", self.sweep, tip="S"), button("Tag", self.tag, tip="T"), button("Note", self.note, tip="N"),
                  button("Remove", self.remove), self.more,
                  button("Prove ticked", lambda: s.place_wanted.emit("proving"), main=True), margins=(0, 0, 8, 0), spacing=5)
        second = row(self.view, link("Save", self.save_view, tip="Keep filters and order under a name"), self.starred,
                     self.words, None, label("group by", "muted"), self.group, margins=(0, 0, 8, 0), spacing=6)
        full = QWidget()
        inner = row(self.groups, self.table, spacing=8)
        inner.setStretch(1, 1)
        full.setLayout(column(bar, second, inner, spacing=6))
        self.empty = Empty("The Shelf holds every strategy worth a second look. Let Discover find some, keep one from "
                           "Backtest, keep a set from a sweep, or drop strategy files here.", "Go to Discover",
                           lambda: s.place_wanted.emit("discover"))
        self.beside = Compare(s, self.show_list)
        self.stack = QStackedWidget()
        for page in (self.empty, full, self.beside):
            self.stack.addWidget(page)
        self.setLayout(column(self.stack, margins=(20, 10, 0, 6)))
        self.setAcceptDrops(True)
        self.table.chosen.connect(lambda r: self.state.show(r.id))
        self.table.opened.connect(lambda _: self.open_chosen())
        self.rows.asked.connect(lambda: self.state.ask(*self.rows.wanted()))
        self.state.moved.connect(self._moved)
        self.state.grouped.connect(self._show_groups)
        self.state.compared.connect(self._show_beside)
        self.state.viewed.connect(self._show_view)
        self.state.views_moved.connect(self._fill_views)
        s.shelf_changed.connect(lambda: self.refresh(came=True))
        for signal in (s.evidence_changed, s.selection_changed):
            signal.connect(self.refresh)
        self._fill_views()

    def actions_offered(self) -> list[Action]:
        some = lambda: self.stack.currentIndex() == 1 and bool(self.table.marked())  # noqa: E731
        beside = lambda: self.stack.currentIndex() == 2  # noqa: E731
        st = self.state
        return [Action("shelf.tick", "Tick every candidate shown", st.tick_shown, "Ctrl+Shift+T", "shelf"),
                Action("shelf.open", "Open the chosen candidate in Rules", self.open_chosen, "", "shelf", some),
                Action("shelf.sweep", "Take the chosen candidate to Sweep", self.sweep, "S", "shelf", some),
                Action("shelf.exits", "Search around the chosen candidate: other exits", lambda: self.around("entry"), "E",
                       "shelf", some),
                Action("shelf.entry", "Search around the chosen candidate: another entry", lambda: self.around("exits"), "",
                       "shelf", some),
                Action("shelf.filter", "Search around the chosen candidate: a filter", lambda: self.around("both"), "F",
                       "shelf", some),
                Action("shelf.compare", "Compare the marked candidates side by side", self.compare, "C", "shelf", some),
                Action("shelf.list", "Back from the comparison", self.show_list, "Esc", "shelf", beside),
                Action("shelf.star", "Give the marked candidates a star, or take it away", self.star, "*", "shelf", some),
                Action("shelf.tag", "Tag the marked candidates", self.tag, "T", "shelf", some),
                Action("shelf.untag", "Take a tag off the marked candidates", self.untag, "", "shelf", some),
                Action("shelf.note", "Write a note beside the chosen candidate", self.note, "N", "shelf", some),
                Action("shelf.rename", "Rename the chosen candidate", self.rename, "F2", "shelf", some),
                Action("shelf.prove", "Tick the marked candidates and go to Proving", self.prove, "", "shelf", some),
                Action("shelf.export", "Export candidates as files", self.export, "", "shelf"),
                Action("shelf.import", "Import strategy files", self.import_files, "", "shelf"),
                Action("shelf.view", "Save this view", self.save_view, "", "shelf"),
                Action("shelf.unview", "Remove the saved view that is shown", self.remove_view, "", "shelf",
                       lambda: self.view.currentIndex() > 0),
                Action("shelf.remove", "Remove the marked candidates", self.remove, "Del", "shelf", some)]

    def activate(self) -> None:
        self.state.look()

    def refresh(self, came: bool = False) -> None:
        if self.isVisible():
            self.state.soon(came)

    def _open_more(self) -> None:
        """All that can be done here, as in the palette."""
        menu = QMenu(self)
        for action in self.actions_offered():
            if action.enabled():
                menu.addAction(action.title, action.act)
        menu.addAction("Untick all", self.state.untick_all)
        menu.popup(self.more.mapToGlobal(self.more.rect().bottomLeft()))

    # What is shown

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
        if self.stack.currentIndex() != 2:
            self.stack.setCurrentIndex(1 if found.total else 0)
        shown = f"{number(len(found.ids))} of " if len(found.ids) < found.total else ""
        self.title.setText(f"{shown}{number(found.total)} kept, {number(found.ticked)} ticked")

    def _show_groups(self, groups: list[tuple[str, str, int]]) -> None:
        self.groups.clear()
        self.groups.setVisible(bool(groups))
        for value, text, count in groups:
            item = QListWidgetItem(f"{text}  {number(count)}")
            item.setData(Qt.ItemDataRole.UserRole, value)
            item.setToolTip(text)
            self.groups.addItem(item)

    def _pick_group(self, item: QListWidgetItem) -> None:
        self.state.pick_group(str(item.data(Qt.ItemDataRole.UserRole)))

    def _fill_views(self) -> None:
        self.view.clear()
        self.view.addItems([EVERYTHING, *self.state.views()])

    def _show_view(self) -> None:
        """Stand as the state does after another view was chosen."""
        wanted = self.state.wanted
        self.starred.setChecked(wanted.starred)
        for at, one in enumerate(self.rows.columns):
            self.rows.filters.pop(at, None)
            text = wanted.filters.get(one.key, "") if one.key and one.key != "words" else ""
            if text:
                self.rows.filters[at] = text
        blocked = self.words.blockSignals(True)
        self.words.setText(wanted.filters.get("words", ""))
        self.words.blockSignals(blocked)
        self.table.show_filters()

    def _starred(self) -> None:
        self.state.only_starred(self.starred.isChecked())

    def show_list(self) -> None:
        self.stack.setCurrentIndex(1)
        self.table.grid.setFocus()

    def _show_beside(self, made: Any) -> None:
        self.beside.show_beside(made)
        self.stack.setCurrentIndex(2)

    # What is done

    def _tick(self, record: Line, on: bool) -> None:
        self.state.tick(record.id, on)
        self.rows.again()

    def _chosen(self) -> Any:
        record: Line | None = self.table.current()
        if record is None:
            self.session.note("Choose a candidate in the table first.", "caution")
        return record

    def _marked(self) -> list[int]:
        ids = [r.id for r in self.table.marked()]
        if not ids:
            self.session.note("Mark candidates in the table first.", "caution")
        return ids

    def open_chosen(self) -> None:
        """Make the chosen candidate the current strategy."""
        if (record := self._chosen()) is not None:
            self.state.open(record.id)

    def sweep(self) -> None:
        """Take the chosen candidate to Sweep."""
        if (record := self._chosen()) is not None:
            self.state.open(record.id, "sweep")

    def around(self, keep: str) -> None:
        """Lay a search around the chosen candidate."""
        if (record := self._chosen()) is not None:
            self.state.around(record.id, keep)

    def compare(self) -> None:
        """Compare the marked candidates."""
        ids = self._marked()
        if ids and not 2 <= len(ids) <= MOST_BESIDE:
            self.session.note(f"Mark 2 to {MOST_BESIDE} candidates to compare; {number(len(ids))} are marked.", "caution")
        elif ids:
            self.state.compare(ids)

    def star(self) -> None:
        """Give the marked ones a star; take it away where all have one."""
        marked = self.table.marked()
        if marked:
            self.state.star([r.id for r in marked], not all(r.marks.star for r in marked))

    def tag(self) -> None:
        """Tag the marked candidates."""
        if ids := self._marked():
            LinePopup(self, "Tags, by spaces", "", lambda text: self.state.tag(ids, text.split()),
                      self.session.shelf.tags()).open_under(self.title)

    def untag(self) -> None:
        """Take tags off the marked candidates."""
        if ids := self._marked():
            had = sorted({t for r in self.table.marked() for t in r.tags.split()})
            LinePopup(self, "Take these tags away, by spaces", " ".join(had),
                      lambda text: self.state.tag(ids, text.split(), remove=True), had).open_under(self.title)

    def note(self) -> None:
        """Write a note beside the chosen candidate."""
        if (record := self._chosen()) is not None:
            NotePopup(self, f"Note on {record.name}", record.marks.notes,
                      lambda text: self.state.note(record.id, text)).open_under(self.title)

    def rename(self) -> None:
        """Rename the chosen candidate."""
        if (record := self._chosen()) is not None:
            LinePopup(self, "Name", record.name, lambda text: self.state.rename(record.id, text)).open_under(self.title)

    def prove(self) -> None:
        """Tick the marked candidates and go to Proving."""
        if ids := self._marked():
            self.session.select(ids)
            self.session.place_wanted.emit("proving")

    def save_view(self) -> None:
        """Keep filters and order under a name."""
        def done(name: str) -> None:
            if self.state.save_view(name):
                self.view.setCurrentText(" ".join(name.split()))
        LinePopup(self, "Name of this view", "", done, list(self.state.views())).open_under(self.view)

    def remove_view(self) -> None:
        """Forget the saved view that is shown; its candidates stay."""
        self.state.remove_view(self.view.currentText())

    def remove(self) -> None:
        """Remove the marked candidates; undo brings them back."""
        if gone := self._marked():
            self.state.remove(gone)

    def export(self) -> None:
        """Write what is marked, or all that is shown, as files."""
        folder = QFileDialog.getExistingDirectory(self, "Folder for the candidates' files")
        if folder:
            self.state.export([r.id for r in self.table.marked()] or self.rows.shown.tolist(), Path(folder))

    def import_files(self) -> None:
        """Read strategy files, test them, put them on the Shelf."""
        names, _ = QFileDialog.getOpenFileNames(self, "Strategy files", "", "Strategies (*.json *.txt)")
        if names:
            self.state.take_files([Path(n) for n in names])

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(u.toLocalFile()) for u in event.mimeData().urls() if u.isLocalFile()]
        if paths:
            event.acceptProposedAction()
            self.state.take_files(paths)
