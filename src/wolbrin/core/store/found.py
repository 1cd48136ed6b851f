"""Finds of a search as they are told apart, and which of them represents its family."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from wolbrin.core.store.database import Database


@dataclass(frozen=True)
class Find:
    """What tells the finds of a search apart: t of daily results, NaN without; packed: its daily results; body: its rules as
    JSON."""

    id: int
    name: str
    hash: str
    market: str
    interval: int
    t: float
    packed: bytes
    body: str


def finds_of(db: Database, search: int, most: int) -> list[Find]:
    """The strongest finds of a search that are on the Shelf and whose daily results are kept."""
    rows = db.read("SELECT c.id, c.name, c.hash, c.market, c.interval, c.m_t_daily t, b.daily, b.body FROM candidates c JOIN "
                   "bodies b ON b.candidate = c.id WHERE c.search = ? AND b.daily IS NOT NULL "
                   "ORDER BY c.m_t_daily DESC, c.id LIMIT ?", search, most)
    return [Find(r["id"], r["name"], r["hash"], r["market"], r["interval"], math.nan if r["t"] is None else float(r["t"]),
                 r["daily"], r["body"]) for r in rows]


def variants_of_ticked(db: Database) -> list[int]:
    """Ids of candidates that a ticked one represents, and that are not ticked themselves."""
    return [int(r["id"]) for r in db.read("SELECT c.id FROM candidates c JOIN candidates r ON r.id = c.leads WHERE r.ticked "
                                          "AND NOT c.ticked ORDER BY c.id")]


def set_families(db: Database, families: Mapping[int, Sequence[int]]) -> None:
    """Write down who represents whom, where that is not said already: ids of each family by that of its representative."""
    told = [(leads, (len(members) - 1) * (i == leads), i) for leads, members in families.items() for i in members]
    with db.transaction() as connection:
        connection.executemany("UPDATE candidates SET leads = ?1, behind = ?2 WHERE id = ?3 AND (leads IS NOT ?1 OR "
                               "behind != ?2)", told)
