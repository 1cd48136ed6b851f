"""What a number is: the one type behind measures, gate figures, columns and benchmark values."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from fnmatch import fnmatchcase


@dataclass(frozen=True)
class Figure:
    """One figure. Keys stand for what is seen at one place under one name; "net_*" stands for all that begin so.

    unit: "money" (of the account), "percent", "ratio", "count", "days", "R", "ticks" ... definition: with its formula,
    a phrase without a stop at its end. better: 1 where more is, -1 where less is, 0 where neither. digits: decimals shown,
    None for those of its unit. source: paper or handbook, "" where it is plain arithmetic. also: other names it is asked by.
    """

    key: str
    title: str
    unit: str
    definition: str
    better: int = field(default=0, kw_only=True)
    digits: int | None = field(default=None, kw_only=True)
    source: str = field(default="", kw_only=True)
    also: tuple[str, ...] = field(default=(), kw_only=True)

    @property
    def tip(self) -> str:
        """Title, definition and source, as one reads them when the figure is pointed at."""
        text = self.definition[:1].upper() + self.definition[1:]
        return f"{text}." + (f" Source: {self.source}." if self.source else "")

    def as_key(self, key: str) -> Figure:
        """The same figure under another key."""
        return replace(self, key=key)

    def named(self, name: str) -> bool:
        """Whether it is this one that somebody asks for."""
        wanted = name.strip().casefold()
        return wanted in (self.title.casefold(), *(a.casefold() for a in self.also)) or fnmatchcase(wanted,
                                                                                                  self.key.casefold())


def by_key(figures: Iterable[Figure]) -> dict[str, Figure]:
    """Figures by their keys. Raises ValueError where two share one."""
    made: dict[str, Figure] = {}
    for one in figures:
        if one.key in made:
            raise ValueError(f"two figures are called {one.key}")
        made[one.key] = one
    return made
