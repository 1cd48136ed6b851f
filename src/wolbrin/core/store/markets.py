"""The list of a project's markets: terms, the source each is tested on, what its history looks like."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import UserError
from wolbrin.core.market.terms import Terms
from wolbrin.core.store.database import Database


@dataclass(frozen=True)
class MarketEntry:
    """A market of the project. silhouette: float32[] closes evenly spaced in time."""

    code: str
    terms: Terms
    source: str
    file: str
    minutes: int
    bars: int
    first: str
    last: str
    left_out: int
    off_grid: int
    hash: str
    silhouette: NDArray[np.float32]


class Markets:
    """Reads the markets in a project's database."""

    def __init__(self, db: Database) -> None:
        self.db = db

    def all(self) -> list[MarketEntry]:
        """In the order in which they came."""
        return self.db.aside.readable(self.db.table("markets", "position, code"), self._made,
                                      lambda r: f"the market {r['code']}")

    @staticmethod
    def _made(r: Any) -> MarketEntry:
        return MarketEntry(r["code"], Terms.model_validate_json(r["terms"]), r["source"], r["file"], r["minutes"],
                           r["bars"], r["first"], r["last"], r["left_out"], r["off_grid"], r["hash"],
                           np.frombuffer(r["silhouette"], np.float32))

    def get(self, code: str) -> MarketEntry:
        """A market by its code. Raises UserError where there is none."""
        every = self.all()
        found = [m for m in every if m.code == code]
        if not found:
            known = ", ".join(m.code for m in every) or "none"
            raise UserError(f'there is no market "{code}" in this project', str(self.db.folder), f"Known are {known}.")
        return found[0]
