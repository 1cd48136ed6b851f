"""What scans of a market count for, for everything that is judged on it later.

A scan is worth as many tries as its own draws say (`luck.tries_worth`). Scans of one market read the same signs, so that
several are one larger scan: each draw's strongest is the largest of theirs. What another scan adds to those before it is
its own count, so that the sum over all searches of a market is what all its scans are worth together.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.scan.luck import LEVEL, passed_in, tries_worth
from wolbrin.core.store.database import Database
from wolbrin.core.store.same import codes_of

KIND, PART = "scan", "scan place"
INFORMED = "discover"  # kind of the searches that look first
MOST = "most"  # in a scan's cursor: of each market the strongest |t| of each draw
Floats = NDArray[np.float64]


def joined(draws: Sequence[Floats]) -> Floats:
    """Each draw's strongest over several scans, as far as all of them were drawn."""
    length = min((len(d) for d in draws), default=0)
    return np.maximum.reduce([np.asarray(d, np.float64)[:length] for d in draws]) if length else np.zeros(0)


def scanned_on(db: Database, market: str) -> int:
    """How many of the tries on a market scans count for."""
    codes = sorted(codes_of(db, market))
    return int(db.rows("SELECT coalesce(sum(tried), 0) n FROM searches WHERE kind IN (?, ?) AND market IN "
                       f"({', '.join('?' * len(codes))})", KIND, PART, *codes)[0]["n"])


@dataclass(frozen=True)
class Scanned:
    """One scan of a market: its number, what it asked, and the strongest |t| of each draw there."""

    search: int
    kind: str
    request: dict[str, Any]
    most: Floats


def scans_on(db: Database, market: str, before: int) -> list[Scanned]:
    """Scans of a market, those of searches that looked first among them, with smaller numbers than this."""
    codes, out = set(codes_of(db, market)), []
    for row in db.rows("SELECT id, kind, request, cursor FROM searches WHERE kind IN (?, ?) AND id < ? AND cursor IS NOT "
                       "NULL AND json_valid(cursor) AND json_valid(request) ORDER BY id", KIND, INFORMED, before):
        kept = json.loads(row["cursor"]).get(MOST)
        found = kept if isinstance(kept, Mapping) else {}
        mine = [np.array(v, np.float64) for k, v in found.items() if k in codes and isinstance(v, list) and len(v)]
        if mine:
            out.append(Scanned(int(row["id"]), row["kind"], json.loads(row["request"]), joined(mine)))
    return out


def worth(db: Database, market: str, most: Floats, scan: int, owner: int) -> int:
    """What a scan adds to the tries of a market: those of all its scans together, less what the others count already. scan,
    owner: numbers of the scan, and of the search that counts it on this market."""
    codes = set(codes_of(db, market))
    others: list[Floats] = []
    for row in db.rows("SELECT cursor FROM searches WHERE kind IN (?, ?) AND id != ? AND cursor IS NOT NULL "
                       "AND json_valid(cursor)", KIND, INFORMED, scan):
        kept = json.loads(row["cursor"]).get(MOST)
        found = kept if isinstance(kept, Mapping) else {}
        others += [np.array(v, np.float64) for k, v in found.items() if k in codes and isinstance(v, list) and len(v)]
    marks = ", ".join("?" * len(codes))
    counted = db.rows("SELECT coalesce(sum(tried), 0) n FROM searches WHERE kind IN (?, ?) AND id != ? "
                      f"AND market IN ({marks})", KIND, PART, owner, *sorted(codes))[0]["n"]
    return max(0, tries_worth(passed_in(joined([most, *others]), LEVEL)) - int(counted))
