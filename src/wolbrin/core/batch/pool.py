"""What many candidates read, on one history, each computed once: conditions as packed bits, and the columns that orders need.

A row of the pool is a condition: where it holds (bits), and from where on every indicator it reads has a value. Candidates
name rows by number. The memory is bounded and stated; once it is full, `FullError` says so and a new pool takes over.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable
from threading import Lock
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.bits import Words, pack, words_of
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import UserError
from wolbrin.core.indicators.columns import Columns
from wolbrin.core.indicators.model import Floats
from wolbrin.core.rules.decide import Used, used_columns
from wolbrin.core.rules.evaluate import operands, truth
from wolbrin.core.rules.filters import blocked_bars
from wolbrin.core.rules.model import Condition, Filters, Row

Ints32 = NDArray[np.int32]
ROOM = 192 * 1024**2  # bytes of bits a pool may take by default
MOST = 40_000  # rows
COLUMN_ROOM = 96 * 1024**2  # bytes of columns


class FullError(Exception):
    """The pool's memory is used up."""


class Held(NamedTuple):
    """The pool as kernels read it. words: uint64[rows, words of n]. known: int64[rows], the first bar at which all that a row
    reads has a value, n if there is none; hole: int32[rows], the row of `holes` that says at which later bars it has, -1
    where at all. columns, column_known, column_hole: the same of columns, float64[c, n]."""

    words: Words
    known: NDArray[np.int64]
    hole: Ints32
    columns: Floats
    column_known: NDArray[np.int64]
    column_hole: Ints32
    holes: Words


class Pool:
    """Rows and columns of one history; threads may share it. room: bytes of bits at most."""

    def __init__(self, history: Prepared, room: int = ROOM, column_room: int = COLUMN_ROOM) -> None:
        size = len(history.bars)
        self.history, self._wide = history, words_of(size)
        self.most = min(MOST, room // (8 * self._wide)) if self._wide else 0
        if self.most < 1:
            raise UserError(f"{room:,} bytes do not hold one condition of {size:,} bars", "memory for conditions",
                            f"Give at least {8 * self._wide:,} bytes.")
        most_columns = min(MOST, max(4, column_room // max(8, 8 * size)))
        # Memory that is not written to is not taken.
        self._words = np.empty((self.most, self._wide), np.uint64)
        self._known, self._hole = np.empty(self.most, np.int64), np.full(self.most, -1, np.int32)
        self._columns = np.empty((most_columns, size))
        self._column_known, self._column_hole = np.empty(most_columns, np.int64), np.full(most_columns, -1, np.int32)
        self._holes = np.empty((self.most + most_columns, self._wide), np.uint64)
        self._rows: dict[Hashable, int] = {}
        self._column_rows: dict[Hashable, int] = {}
        self._hole_rows: dict[bytes, int] = {}
        self._lock = Lock()

    def __len__(self) -> int:
        return len(self._rows)

    @property
    def columns(self) -> Columns:
        return self.history.columns

    @property
    def held(self) -> Held:
        """What is there so far; numbers given out stay what they are."""
        return Held(self._words, self._known, self._hole, self._columns, self._column_known, self._column_hole, self._holes)

    def row(self, node: Row | Condition) -> int:
        """The number of a condition that does not ask the state of the position. Raises FullError."""
        key = node.model_dump_json()
        with self._lock:
            at = self._rows.get(key, -1)
        if at >= 0:
            return at
        flags = truth(self.columns, node)
        asked = operands(node) if isinstance(node, Condition) else list(node.asked)
        return self._add(key, flags, used_columns(self.columns, asked))

    def blocked(self, filters: Filters) -> int:
        """The number of the bars at which filters let nothing in, -1 where they never do."""
        key = ("blocked", filters.windows, filters.weekdays, filters.last_minutes, filters.oversized)
        with self._lock:
            at = self._rows.get(key, -1)
        if at >= 0:
            return at
        flags, used = blocked_bars(self.columns, filters)
        return -1 if flags is None else self._add(key, flags, tuple((x, 0) for x in used))

    def edges(self) -> int:
        """The number of the bars at which a session begins or ends."""
        return self._add("edges", self.history.bars.edges, ())

    def _add(self, key: Hashable, flags: NDArray[np.uint8], used: Used) -> int:
        bits = pack((flags,), len(flags))[:, 0]
        known, there = self._known_of(used)
        with self._lock:
            if key in self._rows:
                return self._rows[key]
            at = len(self._rows)
            if at >= self.most:
                raise FullError
            self._words[at], self._known[at], self._hole[at] = bits, known, self._hole_of(there)
            self._rows[key] = at
            return at

    def column(self, key: Hashable, make: Callable[[], Floats]) -> int:
        """The number of a column that orders need. Raises FullError."""
        with self._lock:
            at = self._column_rows.get(key, -1)
        if at >= 0:
            return at
        made = make()
        known, there = self._known_of(((made, 0),))
        with self._lock:
            if key in self._column_rows:
                return self._column_rows[key]
            at = len(self._column_rows)
            if at >= len(self._columns):
                raise FullError
            self._columns[at], self._column_known[at], self._column_hole[at] = made, known, self._hole_of(there)
            self._column_rows[key] = at
            return at

    def _known_of(self, used: Used) -> tuple[int, Words | None]:
        """From which bar on all columns have a value; packed bits of where, uint64[w], if they do not have one throughout."""
        size = len(self.history.bars)
        begins, whole = 0, True
        masks = []
        for column, ago in used:
            finite = np.isfinite(column)
            first = int(np.argmax(finite)) if finite.any() else size
            begins = max(begins, min(size, first + ago))
            masks.append((finite, ago))
            whole = whole and bool(finite[first:].all())
        if whole or begins >= size:
            return begins, None
        there = np.ones(size, np.uint8)
        for finite, ago in masks:
            there[:ago] = 0
            there[ago:] &= finite[:size - ago].view(np.uint8)
        return (int(np.argmax(there)) if there.any() else size), pack((there,), size)[:, 0]

    def _hole_of(self, there: Words | None) -> int:
        """The row of `holes` that says so; alike ones share it. There is room: each row and column adds one at most."""
        if there is None:
            return -1
        at = self._hole_rows.setdefault(there.tobytes(), len(self._hole_rows))
        self._holes[at] = there
        return at
