"""A table of numbers that lie in one array, of which there may be hundreds of thousands: sorted and filtered whole."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.app.tables.model import Column, TableModel
from wolbrin.app.theme.theme import Theme
from wolbrin.core.measures.ranges import range_of

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Sieve:
    """A filter of one column: its text, how the column shows a number, and whether its values are sizes of losses."""

    column: int
    text: str
    shown: Callable[[float], str]
    losses: bool = False

    def holds(self, values: Floats) -> NDArray[np.bool_]:
        """Which values pass: those in the range that the text describes; else those whose shown text holds it."""
        found = range_of(self.text, self.losses)
        if found is not None:
            return found.holds(values)
        text = self.text.strip().casefold()
        known, where = np.unique(values, return_inverse=True)
        return np.array([text in self.shown(float(v)).casefold() for v in known], bool)[where]


@dataclass(frozen=True)
class Arrangement:
    """How rows are filtered and sorted. column: sorted by, -1 for none. pins: a column whose rows above zero come first and
    pass every filter, -1 for none."""

    sieves: tuple[Sieve, ...] = ()
    column: int = -1
    down: bool = False
    pins: int = -1

    def of(self, values: Floats) -> NDArray[np.int64]:
        """Rows that pass, in order; those without a value come last, whichever way is sorted. Pure: any thread."""
        passing = np.ones(len(values), bool)
        for sieve in self.sieves:
            passing[passing] = sieve.holds(values[passing, sieve.column])
        pinned = values[:, self.pins] > 0 if 0 <= self.pins < values.shape[1] else np.zeros(len(values), bool)
        rows = np.flatnonzero(passing | pinned)
        if len(rows) and 0 <= self.column < values.shape[1]:
            key = values[rows, self.column]
            rows = rows[np.argsort(-key if self.down else key, kind="stable")]
        return np.concatenate([rows[pinned[rows]], rows[~pinned[rows]]]) if pinned.any() else rows

    def same(self, other: Arrangement) -> bool:
        """Whether both come to the same rows."""
        mine, its = ([(s.column, s.text) for s in one.sieves] for one in (self, other))
        return (self.column, self.down, self.pins, mine) == (other.column, other.down, other.pins, its)


class MatrixModel(TableModel):
    """Column i shows column i of the array; a row is made of it, by `made`, when it is looked at."""

    def __init__(self, columns: Sequence[Column], theme: Theme, made: Callable[[Floats], Any], pins: int = -1) -> None:
        super().__init__(columns, theme)
        self.pins = pins
        self.values: Floats = np.zeros((0, 0))
        self._made = made

    def arrangement(self) -> Arrangement:
        """How rows are arranged now."""
        sieves = (Sieve(c, text, _text_of(self.columns[c]), self.columns[c].losses) for c, text in self.filters.items())
        return Arrangement(tuple(sieves), self.sort_column, self.sort_down, self.pins)

    def set_values(self, values: Floats, order: NDArray[np.int64], arranged: Arrangement) -> None:
        """Show these rows, float64[n, columns], in an order that was worked out elsewhere; if they are to be arranged
        otherwise by now, it is worked out again."""
        self.beginResetModel()
        self.values, self.shown = values, order  # type: ignore[assignment]
        if not self.arrangement().same(arranged):
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
