"""A table of numbers that lie in one array, of which there may be hundreds of thousands: sorted and filtered whole."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.app.tables.model import COMPARISON, Column, TableModel
from wolbrin.app.theme.theme import Theme
from wolbrin.core.measures.wording import MINUS

Floats = NDArray[np.float64]


def fits(values: Floats, wanted: str, shown: Callable[[float], str]) -> NDArray[np.bool_]:
    """Which values pass a filter: "> 2", "<= 0.5", "= 3"; anything else is part of the shown text."""
    found = COMPARISON.match(wanted)
    if not found:
        text = wanted.strip().casefold()
        known, where = np.unique(values, return_inverse=True)
        return np.array([text in shown(float(v)).casefold() for v in known], bool)[where]
    limit = float(found.group(2).replace(MINUS, "-").replace(",", ""))
    with np.errstate(invalid="ignore"):
        return {"<": values < limit, ">": values > limit, "<=": values <= limit, ">=": values >= limit,
                "=": values == limit}[found.group(1)]


class MatrixModel(TableModel):
    """Column i shows column i of the array; a row is made of it, by `made`, when it is looked at."""

    def __init__(self, columns: Sequence[Column], theme: Theme, made: Callable[[Floats], Any]) -> None:
        super().__init__(columns, theme)
        self.values: Floats = np.zeros((0, 0))
        self._made = made

    def set_values(self, values: Floats) -> None:
        """Show these rows, float64[n, columns]."""
        self.beginResetModel()
        self.values = values
        self._arrange()
        self.endResetModel()

    def set_columns(self, columns: Sequence[Column], sort: int = -1, down: bool = False) -> None:
        self.values = np.zeros((0, len(columns)))
        super().set_columns(columns, sort, down)

    def record(self, row: int) -> Any:
        return self._made(self.values[self.shown[row]])

    def _arrange(self) -> None:
        rows = np.arange(len(self.values))
        for c, text in self.filters.items():
            column = self.columns[c]
            rows = rows[fits(self.values[rows, c], text, _text_of(column))]
        if len(rows) and 0 <= self.sort_column < len(self.columns):
            key = self.values[rows, self.sort_column]
            # Rows without a value come last, whichever way is sorted.
            rows = rows[np.argsort(-key if self.sort_down else key, kind="stable")]
        self.shown = rows  # type: ignore[assignment] # indexed like a list, and never changed in place


def _text_of(column: Column) -> Callable[[float], str]:
    """How a column shows one of its numbers. Its functions take a record; here the number stands for it."""
    assert column.number is not None
    return column.number
