"""What a job asks for its next piece of work, and tells what came of it.

A source may decide by results (generations, folds, early ends). It is told them in the order in which it gave the pieces,
whatever finished first, so that it comes to the same pieces on one worker as on many. To hold that, an answer to `ask` may
depend on what was told, and on nothing else; where too little was told yet, the answer is None, and it is asked again.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Protocol


@dataclass(frozen=True)
class Chunk:
    """One piece of work: an argument for the job's function and how many units it counts for."""

    argument: Any
    units: int = 1


class Source(Protocol):
    """Where pieces come from."""

    @property
    def total(self) -> int:
        """Units in all, those done before a restart included, as far as is known."""
        ...

    @property
    def done(self) -> int:
        """Units whose results were told, in this job or before it."""
        ...

    @property
    def over(self) -> bool:
        """Whether nothing further is wanted. What was begun beyond that is dropped untold."""
        ...

    def ask(self) -> Chunk | None:
        """The next piece; None where there is none until more results are told."""
        ...

    def tell(self, chunk: Chunk, result: Any) -> None:
        """What came of a piece."""
        ...

    def state(self) -> dict[str, Any]:
        """Where this stands, as JSON: all that is needed to go on from here."""
        ...


class Listed:
    """A plain list of pieces. first: number of the piece to begin with, when going on."""

    def __init__(self, chunks: Sequence[Chunk], first: int = 0) -> None:
        self._chunks = chunks
        self._asked = first
        self._told = first
        self.total = sum(c.units for c in chunks)
        self.done = sum(c.units for c in chunks[:first])

    @property
    def over(self) -> bool:
        return self._told >= len(self._chunks)

    def ask(self) -> Chunk | None:
        if self._asked >= len(self._chunks):
            return None
        self._asked += 1
        return self._chunks[self._asked - 1]

    def tell(self, chunk: Chunk, result: Any) -> None:
        self._told += 1
        self.done += chunk.units

    def state(self) -> dict[str, Any]:
        return {"first": self._told}


class Until:
    """The same piece again and again until `enough` says so, asked after each result. counted: units of a result; total:
    units there may be."""

    def __init__(self, total: int, enough: Callable[[], bool], counted: Callable[[Any], int]) -> None:
        self.total = total
        self.done = 0
        self.over = False
        self._enough = enough
        self._counted = counted

    def ask(self) -> Chunk | None:
        return Chunk(None)

    def tell(self, chunk: Chunk, result: Any) -> None:
        self.done += self._counted(result)
        self.over = self._enough()

    def state(self) -> dict[str, Any]:
        return {}
