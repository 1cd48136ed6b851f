"""Which rows of the Shelf are wanted, in which order: as people ask, and as the database is asked."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.ranges import range_of
from wolbrin.core.store.same import SAME

# Searches by market, those on other markets that hold the same bars (store.same) among them.
TRIED_BY_NOW = ("LEFT JOIN (SELECT g.market, sum(s.tried) n FROM (SELECT market, market code FROM searches UNION SELECT "
                "k.key, e.value FROM settings v, json_each(v.value) k, json_each(k.value) e WHERE v.key = "
                f"'value:{SAME}') g JOIN searches s ON s.market = g.code AND s.kind != 'study' GROUP BY g.market) t "
                "ON t.market = c.market")
TRIED = "max(c.tried, coalesce(t.n, 0))"
# What rows can be sorted and filtered by: text, then numbers.
TEXTS = {"name": "c.name", "market": "c.place", "stands": "c.stands", "origin": "c.origin", "tags": "c.tags",
         "words": "c.words", "made": "c.made", "created": "c.created", "notes": "c.notes", "family": "c.family"}
NUMBERS = {"id": "c.id", "interval": "c.interval", "tried": TRIED, "ticked": "c.ticked", "star": "c.star",
           "cluster": "c.cluster", "alike": "c.alike", "leads": "c.leads", "behind": "c.behind"}


@dataclass(frozen=True)
class Wanted:
    """Which rows, in which order. sort: a key of TEXTS, NUMBERS or SUMMARY. filters: key to text, as people write them
    (part of a text, or a comparison such as "> 2"). ticked, starred, search, stands: only those ticked, starred, of a search,
    that stand so; representatives: of a family only the one that represents it, or, where that is not among them, all."""

    sort: str = "id"
    down: bool = False
    filters: Mapping[str, str] = field(default_factory=dict)
    ticked: bool = False
    search: int | None = None
    stands: str = ""
    starred: bool = False
    representatives: bool = False


EVERYTHING = Wanted()


def column_of(key: str) -> str:
    """The SQL of a key."""
    if key in TEXTS:
        return TEXTS[key]
    return NUMBERS.get(key, f"c.m_{key}")


def conditions(key: str, text: str) -> list[tuple[str, Any]]:
    """What a filter asks of a column, with its value."""
    between = range_of(text, key in BY_KEY and BY_KEY[key].better < 0) if key not in TEXTS else None
    if between is not None:
        column = column_of(key)
        low, high = (">" if between.open_low else ">="), ("<" if between.open_high else "<=")
        asked = [(f"{column} {low} ?", between.low), (f"{column} {high} ?", between.high)]
        return [(sql, limit) for sql, limit in asked if math.isfinite(limit)]
    # Every word must be there, in any order.
    found = []
    for word in text.split():
        plain = word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
        found.append((f"{column_of(key)} LIKE ? ESCAPE '\\'", f"%{plain}%"))
    return found


def where(wanted: Wanted) -> tuple[str, list[Any]]:
    parts: list[str] = []
    values: list[Any] = []
    if wanted.ticked:
        parts.append("c.ticked")
    if wanted.starred:
        parts.append("c.star")
    if wanted.search is not None:
        parts.append("c.search = ?")
        values.append(wanted.search)
    if wanted.stands:
        parts.append("c.stands = ?")
        values.append(wanted.stands)
    if wanted.representatives:
        ticked = " AND r.ticked" if wanted.ticked else ""
        parts.append("(c.leads IS NULL OR c.leads = c.id OR NOT EXISTS (SELECT 1 FROM candidates r WHERE r.id = c.leads"
                     f"{ticked}))")
    several = len([text for text in wanted.filters.values() if text.strip()]) > 1
    for key, text in wanted.filters.items():
        if text.strip():
            for sql, value in conditions(key, text):
                # One pass over all rows is quicker than an index that half of them pass, each looked up for the rest.
                parts.append(f"+{sql}" if several else sql)
                values.append(value)
    return ("WHERE " + " AND ".join(parts) if parts else ""), values


def table(wanted: Wanted) -> str:
    """The table to look in, with what is tried by now where that is asked for."""
    return f"candidates c {TRIED_BY_NOW}" if "tried" in wanted.filters else "candidates c"
