"""A damaged database made anew from what can be read of it; the damaged one is kept beside it."""

from __future__ import annotations

import datetime as dt
import os
import sqlite3
from collections.abc import Iterator
from contextlib import closing, suppress
from pathlib import Path
from typing import Any

from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.store.aside import Aside
from wolbrin.core.store.copies import copies_of
from wolbrin.core.store.holding import alone
from wolbrin.core.store.mending import BOOK, replace_settings, spend, statements
from wolbrin.core.store.schema import SCHEMA_VERSION, migrate, version_of
from wolbrin.core.written import sync_folder

MOST_GAPS = 2000
DAMAGE = ("malformed", "not a database", "corrupt")


def is_damage(err: BaseException) -> bool:
    """Whether the database says by this, or by what it comes from, that it is damaged."""
    return isinstance(err, sqlite3.Error) and any(word in str(err) for word in DAMAGE) and "JSON" not in str(err)


def recover(path: Path, aside: Aside) -> Path:
    """Copy every row that can be read into a new database and put it in the place of the old one. Returns where that is kept
    now. aside: takes the names of the tables that are not whole.

    Raises:
        EnvironmentTrouble: nothing of it can be read, another program has it open, or there is no room. Nothing was changed.
    """
    made = path.with_name(path.name + ".recovered")
    old = path.with_name(f"{path.name}.damaged-{dt.datetime.now(dt.UTC):%Y%m%dT%H%M%S%f}")
    try:
        with alone(path.parent), closing(sqlite3.connect(path, isolation_level=None, timeout=1.0)) as db:
            if (version := _alone(db)) != SCHEMA_VERSION:
                raise sqlite3.DatabaseError(f"its schema is {version}, not {SCHEMA_VERSION}")
            made.unlink(missing_ok=True)
            with closing(sqlite3.connect(made, isolation_level=None)) as new:
                _fill(db, new, path, aside)
            with made.open("rb+") as handle:
                os.fsync(handle.fileno())
            for ending in ("-wal", "-shm"):  # they belong to the old one
                if (beside := path.with_name(path.name + ending)).exists():
                    os.replace(beside, old.with_name(old.name + ending))
            os.replace(path, old)
            os.replace(made, path)
            sync_folder(path.parent)
    except (OSError, sqlite3.Error, UserError) as err:
        with suppress(OSError):
            made.unlink(missing_ok=True)
        err = sqlite3.DatabaseError(err.what) if isinstance(err, UserError) else err
        aside.found.clear()
        copies = copies_of(path.parent)
        remedy = (f"Put the newest copy back with `wolbrin check {path.parent} --restore`." if copies else
                  "Restore it from a backup.")
        raise EnvironmentTrouble(f"this project's database is damaged, and nothing could be saved out of it ({err})",
                                 str(path), f"{remedy} Nothing was changed.") from None
    aside.add("part of the database", f"it was damaged; what could be read is in a new one, the old one is now {old.name}")
    return old


def _alone(db: sqlite3.Connection) -> int:
    """Make sure that no other program has it open; its schema."""
    db.execute("PRAGMA locking_mode = EXCLUSIVE")
    db.execute("BEGIN EXCLUSIVE")
    db.execute("ROLLBACK")
    return version_of(db)[1]


def _fill(db: sqlite3.Connection, new: sqlite3.Connection, path: Path, aside: Aside) -> None:
    """Move over what can be read, table by table."""
    migrate(new, str(path))
    db.text_factory = lambda data: data.decode("utf-8", "replace")
    broken: list[str] = []
    new.execute("BEGIN IMMEDIATE")
    for table in statements():
        columns = [r[1] for r in new.execute(f'PRAGMA table_info("{table}")')]
        there = [r[1] for r in db.execute(f'PRAGMA table_info("{table}")')]
        shared = [c for c in columns if c in there]
        faults: list[str] = []
        count = 0
        sql = f"INSERT OR IGNORE INTO {table} ({', '.join(shared)}) VALUES ({', '.join('?' * len(shared))})"
        for row in readable_rows(db, table, shared, faults) if shared else ():
            count += new.execute(sql, row).rowcount
        if faults or not shared:
            broken.append(table)
            aside.add(f"part of the {table}", f"{faults[0] if faults else 'the table is missing'}; {count:,} rows were read")
    if not new.execute("SELECT 1 FROM settings WHERE key = 'project'").fetchone():
        replace_settings(new, path.parent, aside)
    if lost := [t for t in broken if t in BOOK]:
        spend(new, lost)
    new.execute("COMMIT")


def readable_rows(db: sqlite3.Connection, table: str, columns: list[str], faults: list[str]) -> Iterator[tuple[Any, ...]]:
    """Rows of a table, around whatever cannot be read: from both ends, then from within the gaps."""
    names, seen = ", ".join(columns), set[int]()

    def run(low: int, high: int, down: bool) -> Iterator[tuple[Any, ...]]:
        """Rows from one end of a span of row numbers, until something cannot be read."""
        try:
            for at, *row in db.execute(f"SELECT rowid, {names} FROM {table} WHERE rowid > ? AND rowid < ? ORDER BY rowid "
                                       f"{'DESC' if down else 'ASC'}", (low, high)):
                reached[down] = at
                if at not in seen:
                    seen.add(at)
                    yield tuple(row)
            reached[down] = low if down else high
        except sqlite3.Error as err:
            faults.append(str(err))

    try:
        db.execute(f"SELECT rowid FROM {table} LIMIT 0")
    except sqlite3.Error:  # a table without row numbers: small, in one piece
        try:
            yield from db.execute(f"SELECT {names} FROM {table}").fetchall()
        except sqlite3.Error as err:
            faults.append(str(err))
        return
    gaps, tried = [(-(2**62), 2**62)], 0
    while gaps and tried < MOST_GAPS:
        low, high = gaps.pop()
        tried += 1
        reached = {False: low, True: high}
        yield from run(low, high, False)
        if reached[False] >= high:
            continue
        yield from run(low, high, True)
        low, high = reached[False], reached[True]
        if high - low > 1 and seen:
            middle = (low + high) // 2
            if abs(low) < 2**61 and abs(high) < 2**61:
                gaps += [(low, middle + 1), (middle, high)]
