"""The pieces of a scan in their order: rows tile by tile, then pairs draw by draw."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.jobs import Chunk
from wolbrin.core.scan.luck import Luck
from wolbrin.core.scan.scanner import Pairs, Tile
from wolbrin.core.scan.signs import FIRST

BLOCK = 5  # draws of pairs that are worked out together
WEIGHT = 10  # rows that the pairs of one draw count for
SEEN = -1


@dataclass(frozen=True)
class PairUnit:
    """Pairs of some draws on one place; draws: their numbers, or SEEN. rows, horizons: int32[k, draws]."""

    place: int
    draws: tuple[int, ...]
    rows: NDArray[np.int32]
    horizons: NDArray[np.int32]


@dataclass(frozen=True)
class TileUnit:
    place: int
    tile: int


@dataclass(frozen=True)
class Piece:
    """What came of a unit."""

    unit: PairUnit | TileUnit
    tile: Tile | None = None
    strength: NDArray[np.float32] | None = None  # float32[GROUPS, draws]
    seen: Pairs | None = None


class ScanSource:
    """rows: of each place; tiles: of each place; luck: of each place, which this fills. done: pieces told before."""

    def __init__(self, rows: Sequence[int], sizes: Sequence[int], luck: Sequence[Luck], pairs: bool, draws: int,
                 done: tuple[int, int] = (0, 0)) -> None:
        self.luck, self.draws = list(luck), draws
        most = max((-(-r // s) for r, s in zip(rows, sizes)), default=0)
        self._tiles = [(TileUnit(p, t), min(size, rows[p] - t * size)) for t in range(most)
                       for p, size in enumerate(sizes) if t * size < rows[p]]
        blocks: list[tuple[int, ...]] = [(SEEN,)]
        blocks += [tuple(range(i, min(i + BLOCK, draws))) for i in range(0, draws, BLOCK)]
        self._pairs = [(p, block) for block in blocks for p in range(len(rows))] if pairs else []
        self._asked = self._told = done[0]
        self._pairs_asked = self._pairs_told = done[1]
        self.total = sum(n for _, n in self._tiles) + WEIGHT * sum(len(b) for _, b in self._pairs)
        self.done = sum(n for _, n in self._tiles[:done[0]]) + WEIGHT * sum(len(b) for _, b in self._pairs[:done[1]])

    @property
    def rows_over(self) -> bool:
        """Whether all rows were looked at."""
        return self._told >= len(self._tiles)

    @property
    def over(self) -> bool:
        return self.rows_over and self._pairs_told >= len(self._pairs)

    @property
    def draws_known(self) -> int:
        """Draws of which all is known; 0 while rows are looked at, or pairs of the first ones."""
        if not self.rows_over:
            return 0
        if not self._pairs:
            return self.draws
        return min(int(np.isfinite(x.pairs).all(axis=0).argmin()) if not np.isfinite(x.pairs).all() else self.draws
                   for x in self.luck)

    @property
    def first_answer(self) -> bool:
        """Whether enough is known for a first answer."""
        return self.draws_known >= min(FIRST, self.draws)

    def ask(self) -> Chunk | None:
        if self._asked < len(self._tiles):
            unit, rows = self._tiles[self._asked]
            self._asked += 1
            return Chunk(unit, rows)
        if not self.rows_over or self._pairs_asked >= len(self._pairs):
            return None
        place, block = self._pairs[self._pairs_asked]
        self._pairs_asked += 1
        columns = [d + 1 for d in block]
        luck = self.luck[place]
        there = luck.top_strength[:, columns[0]] > 0 if len(columns) == 1 else np.ones(len(luck.top_row), bool)
        return Chunk(PairUnit(place, block, luck.top_row[there][:, columns], luck.top_horizon[there][:, columns]),
                     WEIGHT * len(block))

    def tell(self, chunk: Chunk, result: Piece) -> None:
        unit = result.unit
        luck = self.luck[unit.place]
        if isinstance(unit, TileUnit):
            assert result.tile is not None
            luck.take(result.tile)
            self._told += 1
        else:
            self._pairs_told += 1
            if result.strength is not None:
                luck.pairs[:, list(unit.draws)] = result.strength
        self.done += chunk.units

    def state(self) -> dict[str, Any]:
        return {"tiles": self._told, "pairs": self._pairs_told}
