"""The table every place uses: dense rows, sort by header, filter row, column chooser, copy as TSV, save as CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PySide6.QtWidgets import (
    QAbstractItemView,
    QFileDialog,
    QHeaderView,
    QLineEdit,
    QMenu,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from wolbrin.app.tables.cells import CellDelegate, SparkDelegate
from wolbrin.app.tables.fitting import shared
from wolbrin.app.tables.model import Column, Index, TableModel
from wolbrin.app.theme.theme import Theme, font
from wolbrin.app.theme.tokens import SMALL
from wolbrin.core.cells import plain
from wolbrin.core.written import write_text

ROW = 26


class _Grid(QTableView):
    copied = Signal()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Copy):
            self.copied.emit()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.currentIndex().isValid():
            self.activated.emit(self.currentIndex())
        else:
            super().keyPressEvent(event)


class Table(QWidget):
    """A `TableModel` with its view and filter row. `chosen` gives the record of the current row, `opened` one that was
    double-clicked or entered."""

    chosen = Signal(object)
    opened = Signal(object)

    def __init__(self, columns: list[Column], theme: Theme, name: str, *, filters: bool = False,
                 multi: bool = False, stretch: int = -1, model: TableModel | None = None) -> None:
        super().__init__()
        self.model = model if model is not None else TableModel(columns, theme)
        self.grid = _Grid()
        self.name = name
        self._theme = theme
        self.grid.setAccessibleName(name)
        self.grid.setModel(self.model)
        self.grid.setShowGrid(False)
        self.grid.setWordWrap(False)
        self.grid.verticalHeader().hide()
        self.grid.verticalHeader().setDefaultSectionSize(ROW)
        self.grid.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        self.grid.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.grid.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection if multi
                                   else QAbstractItemView.SelectionMode.SingleSelection)
        self.grid.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.grid.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.grid.setTabKeyNavigation(False)
        header = self.grid.horizontalHeader()
        header.setSectionsClickable(True)
        header.setHighlightSections(False)
        header.setSortIndicatorShown(False)
        header.setMinimumSectionSize(30)
        header.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        header.customContextMenuRequested.connect(lambda at: self.menu().popup(header.mapToGlobal(at)))
        header.sectionClicked.connect(self.sort_by)
        self.grid.setItemDelegate(CellDelegate(theme, self.grid))
        spark = SparkDelegate(theme, self.grid)
        for i, column in enumerate(columns):
            header.resizeSection(i, column.width)
            if column.kind == "spark":
                self.grid.setItemDelegateForColumn(i, spark)
        if stretch >= 0:
            header.setSectionResizeMode(stretch, QHeaderView.ResizeMode.Stretch)
        self._stretch, self._fits = stretch, False
        self._fixed: dict[int, int] = {}
        self._said: dict[int, bool] = {}
        header.sectionResized.connect(self._by_hand)
        self.grid.copied.connect(self.copy)
        self.grid.activated.connect(lambda index: self.opened.emit(self.model.record(index.row())))
        self.grid.selectionModel().currentRowChanged.connect(self._current)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(0)
        self._filters: list[QLineEdit] = []
        self._bar = QWidget()
        self._bar.setFixedHeight(26)
        if not filters:
            self._bar.hide()  # shown before it has a parent, it would be a window of its own
        self._with_filters = filters
        if filters:
            self.remake_filters()
            header.sectionResized.connect(lambda *_: self._place_filters())
            header.geometriesChanged.connect(self._place_filters)
            self.grid.horizontalScrollBar().valueChanged.connect(lambda *_: self._place_filters())
            box.addWidget(self._bar)
        box.addWidget(self.grid)

    def remake_filters(self) -> None:
        """Make the filter row anew for the model's present columns."""
        for edit in self._filters:
            edit.hide()
            edit.deleteLater()
        self._filters = []
        for i, column in enumerate(self.model.columns):
            edit = QLineEdit(self._bar)
            first = next((n for n, c in enumerate(self.model.columns) if c.kind == "text"), 0)
            edit.setPlaceholderText("filter" if i == first else "")
            edit.setToolTip("Part of the text, or a range such as > 2, at most 9,000, 10 to 20")
            edit.setFont(font(SMALL))
            edit.setAccessibleName(f"{self.name}: filter {column.title}")
            edit.textChanged.connect(lambda text, c=i: self.model.set_filter(c, text))
            self._filters.append(edit)
        self._place_filters()

    def set_filter(self, column: int, text: str) -> None:
        """Write a filter, as if it were typed."""
        if column < len(self._filters):
            self._filters[column].setText(text)

    def show_filters(self) -> None:
        """Write the model's filters into the row, without asking again."""
        for at, edit in enumerate(self._filters):
            blocked = edit.blockSignals(True)
            edit.setText(self.model.filters.get(at, ""))
            edit.blockSignals(blocked)

    def resizeEvent(self, event: Any) -> None:
        super().resizeEvent(event)
        self.fit()
        self._place_filters()

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        self.fit()
        self._place_filters()

    def _by_hand(self, column: int, _: int, size: int) -> None:
        """A width that the user has drawn stays."""
        if not self._fits and QGuiApplication.mouseButtons() & Qt.MouseButton.LeftButton and size:
            self._fixed[column] = size

    def fit(self) -> None:
        """Share the width: headings whole, names as long as there is room, what matters least left out."""
        header, columns = self.grid.horizontalHeader(), self.model.columns
        width = self.grid.viewport().width()
        if not self.isVisible() or width < 60 or header.count() != len(columns):
            return
        metrics = header.fontMetrics()
        sizes = shared(columns, width, lambda i: metrics.horizontalAdvance(columns[i].title), self.grid.sizeHintForColumn,
                       self._said.get, self._fixed)
        self._fits = True
        for i in range(len(columns)):
            self.grid.setColumnHidden(i, i not in sizes)
            if i in sizes and i != self._stretch and header.sectionSize(i) != sizes[i]:
                header.resizeSection(i, sizes[i])
        self._fits = False

    def _place_filters(self) -> None:
        header = self.grid.horizontalHeader()
        for i, edit in enumerate(self._filters):
            edit.setGeometry(header.sectionViewportPosition(i) + 2, 1, max(10, header.sectionSize(i) - 4), 23)
            edit.setVisible(not header.isSectionHidden(i) and self.model.columns[i].kind == "text")

    def sort_by(self, column: int) -> None:
        down = not self.model.sort_down if self.model.sort_column == column else (
            self.model.columns[column].align == "right")
        self.model.sort(column, Qt.SortOrder.DescendingOrder if down else Qt.SortOrder.AscendingOrder)

    def _current(self, index: Index, _: Index) -> None:
        record = self.model.record(index.row()) if index.isValid() and index.row() < len(self.model.shown) else None
        if record is not None:
            self.chosen.emit(record)

    def set_records(self, records: Any) -> None:
        """Show other records; the current row stays where it was."""
        row, at = self.grid.currentIndex().row(), self.grid.verticalScrollBar().value()
        blocked = self.grid.selectionModel().blockSignals(True)
        self.model.set_records(records)
        if 0 <= row < self.model.rowCount():
            self.grid.setCurrentIndex(self.model.index(row, 0))
        self.grid.selectionModel().blockSignals(blocked)
        self.grid.verticalScrollBar().setValue(at)
        self.fit()

    def in_view(self) -> tuple[int, int]:
        """The first and the last row that can be seen."""
        first = self.grid.rowAt(0)
        return max(0, first), max(0, first) + self.grid.viewport().height() // ROW + 1

    def keep_place(self, change: Callable[[], int | None]) -> None:
        """Let the model change its rows; the scroll position stays, and the current row becomes the one `change` gives."""
        at = self.grid.verticalScrollBar().value()
        blocked = self.grid.selectionModel().blockSignals(True)
        row = change()
        if row is not None and 0 <= row < self.model.rowCount():
            self.grid.setCurrentIndex(self.model.index(row, 0))
        self.grid.selectionModel().blockSignals(blocked)
        self.grid.verticalScrollBar().setValue(at)

    def set_columns(self, columns: list[Column], sort: int = -1, down: bool = False) -> None:
        """Show other columns, without rows and filters."""
        self.model.set_columns(columns, sort, down)
        if self._with_filters:
            self.remake_filters()
        header = self.grid.horizontalHeader()
        self._fixed, self._said = {}, {}
        for i, c in enumerate(columns):
            header.resizeSection(i, c.width)
        self.fit()

    def choose(self, row: int) -> None:
        """Make table row `row` the current one and bring it into view."""
        if 0 <= row < self.model.rowCount():
            self.grid.setCurrentIndex(self.model.index(row, 0))
            self.grid.scrollTo(self.model.index(row, 0))

    def current(self) -> Any:
        index = self.grid.currentIndex()
        return self.model.record(index.row()) if index.isValid() and index.row() < len(self.model.shown) else None

    def marked(self) -> list[Any]:
        """Records of all selected rows."""
        found = (self.model.record(i.row()) for i in self.grid.selectionModel().selectedRows())
        return [r for r in found if r is not None]

    def _cells(self, rows: list[int]) -> list[list[str]]:
        columns = [c for i, c in enumerate(self.model.columns) if c.kind == "text" and self._said.get(i) is not False]
        records = (self.model.record(r) for r in rows)
        shown = [[TableModel.text(c, r) for c in columns] for r in records if r is not None]
        return [[c.title for c in columns], *shown]

    def copy(self) -> None:
        """Copy the selected rows, or all when none is selected, as tab-separated text."""
        rows = sorted(i.row() for i in self.grid.selectionModel().selectedRows())
        cells = self._cells(rows or list(range(self.model.rowCount())))
        QGuiApplication.clipboard().setText("\n".join("\t".join(plain(cell) for cell in line) for line in cells))

    def write_csv(self, path: Path) -> None:
        """Write what is shown, in its present order."""
        held = io.StringIO(newline="")
        csv.writer(held).writerows([plain(cell) for cell in line] for line in self._cells(list(range(self.model.rowCount()))))
        write_text(path, held.getvalue(), "table")

    def save_csv(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, f"Save {self.name}", f"{self.name}.csv", "CSV (*.csv)")
        if name:
            self.write_csv(Path(name))

    def menu(self) -> QMenu:
        """Column chooser, copy and save."""
        made = QMenu(self)
        made.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        header = self.grid.horizontalHeader()
        for i, column in enumerate(self.model.columns):
            if column.title:
                act = made.addAction(column.title)
                act.setCheckable(True)
                act.setChecked(not header.isSectionHidden(i))
                act.toggled.connect(self._shower(i))
        made.addSeparator()
        made.addAction("Copy as TSV", self.copy)
        made.addAction("Save as CSV \u2026", self.save_csv)
        return made

    def _shower(self, column: int) -> Callable[[bool], None]:
        def show(on: bool) -> None:
            self._said[column] = on
            self.grid.setColumnHidden(column, not on)
            self.fit()
            self._place_filters()
        return show
