"""Whose evidence is looked at or added to."""

from __future__ import annotations

from dataclasses import dataclass

from wolbrin.core.engine.record import Record
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.settings import OwnSpan
from wolbrin.core.store.shelf import Kept


@dataclass(frozen=True)
class Subject:
    """What is proved: a strategy on a market at an interval. tried: alternatives looked at on that market. record: under
    which a candidate was kept, which is what it is judged under; None for a strategy under the present brief. own: its own
    training span. kept: its id on the Shelf. search, number: what found it, and its draw there. since: when it was kept, ""
    for now."""

    strategy: Strategy
    market: str
    interval: int
    tried: int = 1
    record: Record | None = None
    own: OwnSpan | None = None
    kept: int | None = None
    search: int | None = None
    number: int | None = None
    since: str = ""

    @classmethod
    def of(cls, kept: Kept) -> Subject:
        c = kept.candidate
        return cls(c.strategy, c.market, c.interval, c.tried, c.record, kept.own, kept.id, kept.search, kept.marks.number,
                   kept.created)

    @property
    def key(self) -> tuple[str, str, int]:
        return strategy_hash(self.strategy), self.market, self.interval
