"""What was opened and judged outlives a copy that is put back: the book of the database that it replaces is carried over."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

from wolbrin.core.store.copies import to_read
from wolbrin.core.store.mending import spend
from wolbrin.core.store.recovering import readable_rows
from wolbrin.core.store.schema import migrate

KEPT = ("openings", "judged", "borders")
BESIDE = ("plans", "answers")  # without which the book still tells everything
VALUES = ("openings reserved", "verdicts on portfolios")


def carry_book(old: Path, made: Path) -> tuple[int, list[str]]:
    """Add to a copy, `made`, what the book of the database that it replaces, `old`, holds beyond it. Returns how many rows,
    and the tables of which not everything could be read: then nobody knows what was opened since the copy, and all that was
    found before is spent."""
    lost: list[str] = []
    count = 0
    with closing(sqlite3.connect(made, isolation_level=None)) as new:
        migrate(new, str(made))
        new.execute("BEGIN IMMEDIATE")
        with closing(sqlite3.connect(to_read(old), uri=True, isolation_level=None)) as db:
            db.text_factory = lambda data: data.decode("utf-8", "replace")
            for table in (*KEPT, *BESIDE):
                added = _carry(db, new, table)
                if added is None and table in KEPT:
                    lost.append(table)
                count += added or 0
            try:
                rows = db.execute(f"SELECT key, value FROM settings WHERE key IN ({', '.join('?' * len(VALUES))})", VALUES)
                new.executemany("INSERT OR REPLACE INTO settings (key, value) VALUES (?, ?)", rows.fetchall())
            except sqlite3.Error:
                lost.append("settings")
        if lost:
            spend(new, lost)
        elif count:
            new.execute("UPDATE candidates SET stands = NULL")
        new.execute("COMMIT")
    return count, lost


def _carry(db: sqlite3.Connection, new: sqlite3.Connection, table: str) -> int | None:
    """Rows of one table that are not in the new database yet; None where not all could be read."""
    columns = [r[1] for r in new.execute(f'PRAGMA table_info("{table}")') if r[1] != "id"]
    try:
        there = {r[1] for r in db.execute(f'PRAGMA table_info("{table}")')}
    except sqlite3.Error:
        return None
    if not set(columns) <= there:
        return None
    faults: list[str] = []
    known = {tuple(r) for r in new.execute(f"SELECT {', '.join(columns)} FROM {table}")}
    more = [row for row in readable_rows(db, table, columns, faults) if row not in known]
    new.executemany(f"INSERT INTO {table} ({', '.join(columns)}) VALUES ({', '.join('?' * len(columns))})", more)
    return len(more) if not faults else None
