"""Dated numbers of a strategy: values in force from dates on, what they were fitted to, when the next fit is due.

A schedule is data of the strategy it belongs to and is stored, exchanged and hashed with it; `dated` reads it.
"""

from __future__ import annotations

import datetime as dt
from itertools import pairwise
from typing import Any

from pydantic import Field, model_validator

from wolbrin.core.models import Model, Name

MOST_SPELLS = 1001  # the folds of the longest walk, and the numbers in force after it


class Spell(Model):
    """Numbers that decide from a trading date on, until the next spell. values: in the order of the schedule's keys; empty
    where nothing could be fitted, so that nothing is entered. fitted_first, fitted_last: the training span behind them."""

    first: dt.date
    values: tuple[float, ...] = ()
    fitted_first: dt.date
    fitted_last: dt.date

    @model_validator(mode="after")
    def _sane(self) -> Spell:
        if not self.fitted_first <= self.fitted_last < self.first:
            raise ValueError("dated numbers are fitted on days before the first on which they decide")
        return self


class Schedule(Model):
    """Dated numbers. keys, titles: of the numbers (see `Tunable.key`). due: the day on which they are to be fitted again;
    None where that is so many trades ahead (due_after). market, interval, rules: what they were fitted on, and the hash of
    the rules without them. procedure: how each fit is made, frozen with the strategy (`work.walk_request`)."""

    keys: tuple[str, ...] = Field(min_length=1, max_length=60)
    titles: tuple[Name, ...]
    spells: tuple[Spell, ...] = Field(min_length=1, max_length=MOST_SPELLS)
    due: dt.date | None = None
    due_after: Name = Field("", max_length=40)
    market: Name = Field(max_length=40)
    interval: int = Field(ge=1)
    rules: str = Field(pattern=r"^[0-9a-f]{16}$")
    procedure: dict[str, Any] = {}

    @model_validator(mode="after")
    def _sane(self) -> Schedule:
        if len(self.titles) != len(self.keys):
            raise ValueError("every dated number needs a title")
        if len(set(self.keys)) != len(self.keys):
            raise ValueError("a number is dated twice")
        if any(one.values and len(one.values) != len(self.keys) for one in self.spells):
            raise ValueError(f"{len(self.keys)} numbers are dated: every spell gives all of them, or none")
        if any(b.first <= a.first for a, b in pairwise(self.spells)):
            raise ValueError("spells stand in the order of their dates")
        return self

    @property
    def now(self) -> Spell:
        """The numbers in force at the end."""
        return self.spells[-1]
