"""A table of rows that lie in a database: it holds their ids in order, and reads what is looked at, a page at a time."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QModelIndex, Qt, Signal

from wolbrin.app.tables.model import Column, TableModel
from wolbrin.app.theme.theme import Theme

PAGE = 100
HELD = 4_000  # rows that stay in memory

Ids = NDArray[np.int64]
NONE: Ids = np.zeros(0, np.int64)


class PagedModel(TableModel):
    """load(ids): the rows of these ids, in order, those gone left out; each has an `id`. asked: sorted or filtered otherwise;
    whoever hears it finds the new order and calls `set_order`."""

    asked = Signal()

    def __init__(self, columns: Sequence[Column], theme: Theme, load: Callable[[list[int]], Sequence[Any]]) -> None:
        super().__init__(columns, theme)
        self.shown: Any = NONE
        self._load = load
        self._held: OrderedDict[int, Any] = OrderedDict()

    def wanted(self) -> tuple[str, bool, dict[str, str]]:
        """Key sorted by ("" for none), whether downwards, and filters by key."""
        sort = self.columns[self.sort_column].key if 0 <= self.sort_column < len(self.columns) else ""
        return sort, self.sort_down, {self.columns[c].key: text for c, text in self.filters.items() if self.columns[c].key}

    def set_order(self, ids: Ids) -> None:
        """Show these rows in this order; they are read again when looked at."""
        self.beginResetModel()
        self.shown = ids
        self._held.clear()
        self.endResetModel()

    def add_beyond(self, ids: Ids, first: int, last: int) -> bool:
        """Take an order in which more rows have come, none of them among rows first to last, which are in view: nothing is
        painted. False, and nothing done, where that is not so."""
        old = self.shown
        if np.array_equal(ids, old):
            self._held.clear()  # read again when they are painted next
            return True
        if len(ids) <= len(old) or not np.array_equal(ids[first:last + 1], old[first:last + 1]):
            return False
        self.beginInsertRows(QModelIndex(), len(old), len(ids) - 1)
        self.shown = ids
        self._held.clear()
        self.endInsertRows()
        return True

    def row_of(self, id: int) -> int | None:
        """Where a row is shown; None where it is not."""
        at = np.flatnonzero(self.shown == id)
        return int(at[0]) if len(at) else None

    def again(self) -> None:
        """Read what is shown again: its order stays, what it says may have changed."""
        self._held.clear()
        if len(self.shown):
            self.dataChanged.emit(self.index(0, 0), self.index(len(self.shown) - 1, len(self.columns) - 1))

    def record(self, row: int) -> Any:
        id = int(self.shown[row])
        if id not in self._held:
            first = row - row % PAGE
            wanted = [i for i in self.shown[first:first + PAGE].tolist() if i not in self._held]
            self._held.update(dict.fromkeys(wanted))
            for line in self._load(wanted):
                self._held[line.id] = line
            while len(self._held) > HELD:
                self._held.popitem(last=False)
        return self._held.get(id)

    def set_filter(self, column: int, text: str) -> None:
        if text.strip():
            self.filters[column] = text
        else:
            self.filters.pop(column, None)
        self.asked.emit()

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        if 0 <= column < len(self.columns) and self.columns[column].key:
            self.sort_column, self.sort_down = column, order == Qt.SortOrder.DescendingOrder
            self.asked.emit()
