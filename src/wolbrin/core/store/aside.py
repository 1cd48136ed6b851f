"""What of a project cannot be read: named and left aside, so that all else works."""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterable
from typing import Any, TypeVar

from pydantic import ValidationError

from wolbrin.core.errors import WolbrinError

T = TypeVar("T")
UNREADABLE = (WolbrinError, ValueError, TypeError, KeyError, AttributeError, IndexError, OverflowError, RecursionError,
              zlib.error)


def why(err: BaseException) -> str:
    """What reading said against something, shortly."""
    if isinstance(err, ValidationError):
        first = err.errors()[0]
        return f"{'.'.join(map(str, first['loc']))}: {first['msg']}"[:120]
    if isinstance(err, WolbrinError):
        return err.what[:160]
    return next(iter(str(err).splitlines()), type(err).__name__)[:120]


class Aside:
    """Things that were left aside, each with what is wrong with it. told: called with each new one, on any thread."""

    def __init__(self) -> None:
        self.found: dict[str, str] = {}
        self.told: Callable[[str, str], None] = lambda what, wrong: None

    def add(self, what: str, wrong: str) -> None:
        """Name a thing that cannot be read."""
        if what not in self.found:
            self.found[what] = wrong
            self.told(what, wrong)

    def readable(self, rows: Iterable[Any], make: Callable[[Any], T], what: Callable[[Any], str]) -> list[T]:
        """What can be made of rows; what cannot is left aside under its name."""
        made: list[T] = []
        for row in rows:
            try:
                made.append(make(row))
            except UNREADABLE as err:
                self.add(what(row), why(err))
        return made

    def words(self, most: int = 3) -> str:
        """All of them, as the end of a sentence."""
        shown = "; ".join(f"{what} ({wrong})" for what, wrong in list(self.found.items())[:most])
        return shown + (f"; and {len(self.found) - most} more" if len(self.found) > most else "")
