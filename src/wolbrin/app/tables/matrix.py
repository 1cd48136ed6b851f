"""A table of numbers that lie in one array, of which there may be hundreds of thousands: sorted and filtered whole."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
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


@dataclass(frozen=True)
class Arrangement:
    """How rows are filtered and sorted: filters as (column, text, how it shows a number); column sorted by, -1 for none."""

    filters: tuple[tuple[int, str, Callable[[float], str]], ...] = ()
    column: int = -1
    down: bool = False

    def of(self, values: Floats) -> NDArray[np.int64]:
        """Rows that pass, in order; those without a value come last, whichever way is sorted. Pure: any thread."""
        rows = np.arange(len(values))
        for c, text, shown in self.filters:
            rows = rows[fits(values[rows, c], text, shown)]
        if len(rows) and 0 <= self.column < values.shape[1]:
            key = values[rows, self.column]
            rows = rows[np.argsort(-key if self.down else key, kind="stable")]
        return rows


class MatrixModel(TableModel):
    """Column i shows column i of the array; a row is made of it, by `made`, when it is looked at."""

    def __init__(self, columns: Sequence[Column], theme: Theme, made: Callable[[Floats], Any]) -> None:
        super().__init__(columns, theme)
        self.values: Floats = np.zeros((0, 0))
        self._made = made

    def arrangement(self) -> Arrangement:
        """How rows are arranged now."""
        return Arrangement(tuple((c, text, _text_of(self.columns[c])) for c, text in self.filters.items()), self.sort_column,
                           self.sort_down)

    def set_values(self, values: Floats, order: NDArray[np.int64], arranged: Arrangement) -> None:
        """Show these rows, float64[n, columns], in an order that was worked out elsewhere; if they are to be arranged
        otherwise by now, it is worked out again."""
        self.beginResetModel()
        self.values, self.shown = values, order  # type: ignore[assignment]
        now = self.arrangement()
        if (now.column, now.down, [f[:2] for f in now.filters]) != (
                arranged.column, arranged.down, [f[:2] for f in arranged.filters]):
            self._arrange()
        self.endResetModel()

    def set_columns(self, columns: Sequence[Column], sort: int = -1, down: bool = False) -> None:
        self.values = np.zeros((0, len(columns)))
        super().set_columns(columns, sort, down)

    def record(self, row: int) -> Any:
        return self._made(self.values[self.shown[row]])

    def _arrange(self) -> None:
        self.shown = self.arrangement().of(self.values)  # type: ignore[assignment] # indexed like a list


def _text_of(column: Column) -> Callable[[float], str]:
    """How a column shows one of its numbers. Its functions take a record; here the number stands for it."""
    assert column.number is not None
    return column.number
