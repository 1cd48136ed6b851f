"""Blocks of sets from a planner, as a source that jobs ask; it goes on from what was stored."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.jobs import Chunk
from wolbrin.core.search.planners import Planner

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
BLOCK = 20


@dataclass(frozen=True)
class Stored:
    """What is known of sets by their numbers. at: int64[n], sorted. figures: float64[n, measures]."""

    at: Ints
    figures: Floats

    @classmethod
    def of(cls, at: Ints, figures: Floats) -> Stored:
        order = np.argsort(at, kind="stable")
        return cls(at[order], figures[order])

    def of_sets(self, at: Ints) -> Floats:
        """float64[k, measures]; NaN for those that the model refused."""
        out = np.full((len(at), self.figures.shape[1]), np.nan)
        if len(self.at):
            place = np.minimum(np.searchsorted(self.at, at), len(self.at) - 1)
            known = self.at[place] == at
            out[known] = self.figures[place[known]]
        return out


class SetSource:
    """Asks a planner batch by batch and cuts each into blocks of one place. inner: sets in a place. first: blocks that were
    told before; what came of them is in `stored`."""

    def __init__(self, planner: Planner, inner: int, stored: Stored, first: int = 0) -> None:
        self._planner, self._inner = planner, inner
        self._queue: deque[Ints] = deque()
        self._told = self._under_way = 0
        self._ended = False
        self.done = 0
        while self._told < first and (chunk := self.ask()) is not None:
            self._take(chunk, stored.of_sets(chunk.argument))

    @property
    def total(self) -> int:
        return self._planner.total

    @property
    def over(self) -> bool:
        return self._ended and not self._queue and not self._under_way

    def ask(self) -> Chunk | None:
        if not self._queue and not self._under_way and not self._ended:
            self._fill()
        if not self._queue:
            return None
        self._under_way += 1
        block = self._queue.popleft()
        return Chunk(block, len(block))

    def _fill(self) -> None:
        batch = self._planner.plan()
        if batch is None:
            self._ended = True
            return
        batch = batch[np.argsort(batch // self._inner, kind="stable")]
        for part in np.split(batch, np.flatnonzero(np.diff(batch // self._inner)) + 1):
            self._queue.extend(part[i:i + BLOCK] for i in range(0, len(part), BLOCK))

    def _take(self, chunk: Chunk, figures: Floats) -> None:
        self._planner.tell(chunk.argument, figures)
        self._told += 1
        self._under_way -= 1
        self.done += chunk.units
        if not self._queue and not self._under_way:
            self._fill()

    def tell(self, chunk: Chunk, result: Any) -> None:
        """result: what `sweeping.evaluate_block` gives."""
        figures = np.full((len(chunk.argument), result.figures.shape[1]), np.nan)
        figures[result.kept] = result.figures
        self._take(chunk, figures)

    def state(self) -> dict[str, Any]:
        return {"first": self._told}
