"""The pieces of a scan in their order: rows tile by tile, then pairs draw by draw."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
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
    """What came of a unit. elsewhere: hashes of the other markets' bars that its rows read, see `Columns.elsewhere_read`."""

    unit: PairUnit | TileUnit
    tile: Tile | None = None
    strength: NDArray[np.float32] | None = None  # float32[GROUPS, draws]
    seen: Pairs | None = None
    elsewhere: dict[str, str] = field(default_factory=dict)


def _blocks(first: int, stop: int) -> list[tuple[int, ...]]:
    """Draws from one to another in blocks."""
    return [tuple(range(i, min(i + BLOCK, stop))) for i in range(first, stop, BLOCK)]


class ScanSource:
    """rows: of each place; tiles: of each place; luck: of each place, which this fills. done: pieces told before."""

    def __init__(self, rows: Sequence[int], sizes: Sequence[int], luck: Sequence[Luck], pairs: bool, draws: int,
                 done: tuple[int, int] = (0, 0)) -> None:
        self.luck, self.draws = list(luck), draws
        # Place by place, so that little of each need be at hand; but a first answer on all of them comes before the rest.
        self._tiles = [(TileUnit(p, at // size), min(size, rows[p] - at)) for p, size in enumerate(sizes)
                       for at in range(0, rows[p], size)]
        first: list[tuple[int, ...]] = [(SEEN,), *_blocks(0, min(FIRST, draws))]
        self._pairs = [(p, block) for blocks in (first, _blocks(FIRST, draws)) for p in range(len(rows))
                       for block in blocks] if pairs else []
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
        known = np.stack([np.isfinite(x.pairs).all(axis=0) for x in self.luck]).all(axis=0)
        return self.draws if known.all() else int(known.argmin())

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
