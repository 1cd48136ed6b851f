"""Columns of the Shelf's table that follow from its bodies: figures, words, places; and rows of an older version."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from typing import Any

from wolbrin.core.engine.record import Record, read_record
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.naming import family_of
from wolbrin.core.rules.words import describe
from wolbrin.core.store.database import Database


def encode(values: dict[str, Any]) -> str:
    """JSON with NaN written as null, for measures without a value."""
    return json.dumps({k: None if isinstance(v, float) and not math.isfinite(v) else v for k, v in values.items()})


def decode(text: str) -> dict[str, float]:
    """What `encode` gave."""
    return {k: math.nan if v is None else v for k, v in json.loads(text).items()}


def plain(value: float | None) -> float | None:
    """A figure as the database keeps it: nothing where it has no value."""
    return None if value is None or value != value else value


def record_in(r: Any) -> Record:
    """The record of a row."""
    return read_record(json.loads(r["record"] or "{}"), "candidate")


def made_words(record: Record) -> str:
    """What made a candidate's figures; how many were tried is told beside it, as of now."""
    return record.words().rpartition(", ")[0] if record.whole else record.words()


def write_figures(db: Database, id: int, summary: Mapping[str, float]) -> None:
    """Write the figures of a candidate into its columns."""
    with db.transaction() as connection:
        connection.execute(f"UPDATE candidates SET {', '.join(f'm_{key} = ?' for key in SUMMARY)} WHERE id = ?",
                           (*(plain(summary.get(key)) for key in SUMMARY), id))


def complete(db: Database) -> None:
    """Give the table of candidates a column and an index for every figure of SUMMARY that has none, filled from the bodies,
    and words to rows that an older version kept. Does nothing where all is there."""
    there = {r["name"] for r in db.rows("PRAGMA table_info(candidates)")}
    new = [key for key in SUMMARY if f"m_{key}" not in there]
    bare = db.rows("SELECT id FROM candidates WHERE words = '' COLLATE NOCASE UNION "
                   "SELECT id FROM candidates WHERE family IS NULL")
    if not new and not bare:
        return
    with db.transaction() as connection:
        for key in new:
            connection.execute(f"ALTER TABLE candidates ADD COLUMN m_{key} REAL")
            connection.execute(f"CREATE INDEX IF NOT EXISTS candidates_m_{key} ON candidates (m_{key})")
        for name in ("name", "place", "origin", "tags", "words", "made"):
            connection.execute(f"CREATE INDEX IF NOT EXISTS candidates_{name} ON candidates ({name} COLLATE NOCASE)")
        def fill(r: Any) -> None:
            write_figures(db, r["id"], decode(r["summary"]))
            strategy = Strategy.model_validate_json(r["body"])
            connection.execute("UPDATE candidates SET words = ?, made = ?, family = ? WHERE id = ?",
                               (describe(strategy), made_words(record_in(r)), family_of(strategy), r["id"]))

        bodies = connection.execute("SELECT c.id, c.name, b.body, b.record, b.summary FROM bodies b JOIN candidates c ON "
                                    "c.id = b.candidate").fetchall()
        db.aside.readable(bodies, fill, lambda r: f'the candidate "{r["name"]}"')
        for r in connection.execute("SELECT id, market, interval FROM candidates WHERE place = ''").fetchall():
            connection.execute("UPDATE candidates SET place = ? WHERE id = ?",
                               (f"{r['market']} {interval_words(r['interval'])}", r["id"]))
