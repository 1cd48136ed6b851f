"""A table model over any list of records: columns described once, sorted and filtered without copying rows."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt, Signal

from wolbrin.app.parts import as_tip
from wolbrin.app.theme.theme import Theme
from wolbrin.app.theme.tokens import text_token
from wolbrin.core.figures.figure import Figure
from wolbrin.core.measures.ranges import range_of

Index = QModelIndex | QPersistentModelIndex
SPARK = Qt.ItemDataRole.UserRole + 1
# What is answered; views ask for much more, for every cell at every painting.
ASKED = frozenset(int(r) for r in (
    Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.CheckStateRole, Qt.ItemDataRole.TextAlignmentRole,
    Qt.ItemDataRole.ForegroundRole, Qt.ItemDataRole.ToolTipRole, SPARK))


@dataclass(frozen=True)
class Column:
    """One column: `value` is what is sorted and filtered, `text` what is shown, `tint` a theme color by meaning. key: by
    which a model that does not hold its records has them sorted and filtered; number: how a model of numbers shows one.
    losses: values are sizes of losses, whose limits may be written with a minus. hover: what a cell says when it is pointed
    at. figure: what its numbers are; a column of numbers must say it. rank: 0 for one that is always shown; where there
    is no room for all, the highest is left out first (the column chooser shows it all the same)."""

    title: str
    value: Callable[[Any], Any]
    text: Callable[[Any], str] | None = None
    align: Literal["left", "right"] = "left"
    width: int = 90
    tint: Callable[[Any], str | None] | None = None
    tip: str = ""
    kind: Literal["text", "spark", "tick"] = "text"
    bold: bool = False
    key: str = ""
    number: Callable[[float], str] | None = None
    losses: bool = False
    hover: Callable[[Any], str] | None = None
    figure: Figure | None = None
    rank: int = 0

    def __post_init__(self) -> None:
        if self.align == "right" and self.figure is None:
            raise ValueError(f'the column "{self.title}" shows numbers and does not say what they are')

    @property
    def about(self) -> str:
        """What its heading says when it is pointed at."""
        said = self.figure.tip if self.figure is not None else ""
        return "\n".join(part for part in (self.tip, said) if part)


def matches(column: Column, record: Any, wanted: str) -> bool:
    """Whether a record passes a filter: a range of numbers (see ranges.range_of), else a part of the shown text."""
    value = column.value(record)
    found = range_of(wanted, column.losses)
    if found is not None and isinstance(value, int | float):
        return bool(found.holds(np.array([float(value)]))[0])
    shown = column.text(record) if column.text else str(value)
    return wanted.strip().casefold() in shown.casefold()


def _sort_key(value: Any, down: bool) -> tuple[int, Any]:
    """Records without a value come last, whichever way is sorted."""
    missing = value is None or (isinstance(value, float) and math.isnan(value))
    if missing:
        return (-1 if down else 1), 0
    return 0, value.casefold() if isinstance(value, str) else value


class TableModel(QAbstractTableModel):
    """Rows are records; `shown` maps table rows to records after sort and filter."""

    ticked = Signal()

    def __init__(self, columns: Sequence[Column], theme: Theme) -> None:
        super().__init__()
        self.columns = list(columns)
        self.records: Sequence[Any] = []
        self.shown: Sequence[int] = []
        self.theme = theme
        self.filters: dict[int, str] = {}
        self.sort_column = -1
        self.sort_down = False
        self.tick: Callable[[Any, bool], None] | None = None

    def set_records(self, records: Sequence[Any]) -> None:
        self.beginResetModel()
        self.records = records
        self._arrange()
        self.endResetModel()

    def set_record(self, at: int, record: Any) -> None:
        """Another record at a place of `records`, painted alone where rows are neither sorted nor filtered."""
        if self.filters or self.sort_column >= 0:
            self.set_records([record if i == at else r for i, r in enumerate(self.records)])
            return
        self.records = [record if i == at else r for i, r in enumerate(self.records)]
        self.dataChanged.emit(self.index(at, 0), self.index(at, len(self.columns) - 1))

    def set_columns(self, columns: Sequence[Column], sort: int = -1, down: bool = False) -> None:
        """Take other columns, without rows and filters."""
        self.beginResetModel()
        self.columns = list(columns)
        self.records, self.shown = [], []
        self.filters.clear()
        self.sort_column, self.sort_down = sort, down
        self.endResetModel()

    def set_filter(self, column: int, text: str) -> None:
        self.beginResetModel()
        if text.strip():
            self.filters[column] = text
        else:
            self.filters.pop(column, None)
        self._arrange()
        self.endResetModel()

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        self.layoutAboutToBeChanged.emit()
        self.sort_column, self.sort_down = column, order == Qt.SortOrder.DescendingOrder
        self._arrange()
        self.layoutChanged.emit()

    def _arrange(self) -> None:
        wanted = [(self.columns[c], text) for c, text in self.filters.items()]
        rows = [i for i, record in enumerate(self.records) if all(matches(c, record, t) for c, t in wanted)]
        if 0 <= self.sort_column < len(self.columns):
            value = self.columns[self.sort_column].value
            rows.sort(key=lambda i: _sort_key(value(self.records[i]), self.sort_down), reverse=self.sort_down)
        self.shown = rows

    def record(self, row: int) -> Any:
        return self.records[self.shown[row]]

    def rowCount(self, parent: Index | None = None) -> int:
        return 0 if parent is not None and parent.isValid() else len(self.shown)

    def columnCount(self, parent: Index | None = None) -> int:
        return 0 if parent is not None and parent.isValid() else len(self.columns)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role not in ASKED or not index.isValid() or index.row() >= len(self.shown):
            return None
        column, record = self.columns[index.column()], self.record(index.row())
        if record is None:
            return None
        if role == Qt.ItemDataRole.DisplayRole:
            return self.text(column, record) if column.kind == "text" else None
        if role == Qt.ItemDataRole.CheckStateRole and column.kind == "tick":
            return Qt.CheckState.Checked if column.value(record) else Qt.CheckState.Unchecked
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if column.align == "right" else Qt.AlignmentFlag.AlignLeft
            return int(side | Qt.AlignmentFlag.AlignVCenter)
        if role == Qt.ItemDataRole.ForegroundRole and column.tint:
            token = column.tint(record)
            return self.theme.color(text_token(token)) if token else None
        if role == SPARK and column.kind == "spark":
            return column.value(record)
        if role == Qt.ItemDataRole.ToolTipRole:
            return as_tip(column.hover(record)) if column.hover is not None else column.tip or None
        return None

    @staticmethod
    def text(column: Column, record: Any) -> str:
        return column.text(record) if column.text else str(column.value(record))

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        column = self.columns[index.column()]
        if role == Qt.ItemDataRole.CheckStateRole and column.kind == "tick" and self.tick is not None:
            self.tick(self.record(index.row()), Qt.CheckState(value) == Qt.CheckState.Checked)
            self.dataChanged.emit(index, index, [role])
            self.ticked.emit()
            return True
        return False

    def flags(self, index: Index) -> Qt.ItemFlag:
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        if index.isValid() and self.columns[index.column()].kind == "tick":
            flags |= Qt.ItemFlag.ItemIsUserCheckable
        return flags

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal or section >= len(self.columns):
            return None
        column = self.columns[section]
        if role == Qt.ItemDataRole.DisplayRole:
            return column.title
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if column.align == "right" else Qt.AlignmentFlag.AlignLeft
            return int(side | Qt.AlignmentFlag.AlignVCenter)
        if role == Qt.ItemDataRole.ToolTipRole:
            return column.about or None
        return None
