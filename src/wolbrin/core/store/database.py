"""A project's database: one writer, readers beside it, every change a transaction, and troubles as sentences."""

from __future__ import annotations

import datetime as dt
import json
import logging
import os
import sqlite3
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from threading import RLock
from typing import Any, TypeVar
from urllib.parse import quote

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.store.files import PARTIAL, sync_folder
from wolbrin.core.store.schema import SCHEMA_VERSION, migrate

T = TypeVar("T")
log = logging.getLogger("wolbrin")
DATABASE = "project.sqlite"
READER_CACHE = 16_000  # kB that one reader keeps
COPIES = "copies"
KEPT_COPIES = 3
A_DAY = 86_400.0
PATIENCE = 20.0  # seconds that a change waits for another program's


def now() -> str:
    return dt.datetime.now(dt.UTC).isoformat(timespec="seconds")


def trouble(err: sqlite3.Error, path: object) -> EnvironmentTrouble:
    """What the database said, as a sentence."""
    text = str(err)
    if "full" in text:
        return EnvironmentTrouble("the disk is full: this change was not kept", str(path),
                                  "Free some space and try again; what was kept before is unharmed.")
    if "locked" in text or "busy" in text:
        return EnvironmentTrouble("another program holds this project's database: this change was not kept", str(path),
                                  "Close the other program or wait, and try again; what was kept before is unharmed.")
    if "readonly" in text or "read-only" in text:
        return EnvironmentTrouble("this project's database cannot be written: its folder or file is read-only", str(path),
                                  "Change the permissions, or copy the project to another folder.")
    return EnvironmentTrouble(f"this project's database cannot be used ({text})", str(path),
                              "Restore it from a backup; nothing was changed.")


def copies_of(folder: Path) -> list[Path]:
    """Automatic copies of a project's database, newest first."""
    return sorted((folder / COPIES).glob("*.sqlite"), reverse=True)


def _copies_at(folder: Path) -> str:
    found = copies_of(folder)
    return (f"Restore the newest copy, {found[0]}." if found else "Restore it from a backup.")


def make_copy(db: sqlite3.Connection, folder: Path, least: float = 0.0) -> Path | None:
    """Copy a database beside itself with SQLite's own backup, whole or not at all; the newest KEPT_COPIES are kept.

    least: seconds since the newest one, before which none is made.
    Raises:
        OSError, sqlite3.Error: it cannot be written; nothing is left behind.
    """
    known = copies_of(folder)
    if known and least and time.time() - known[0].stat().st_mtime < least:
        return None
    made = folder / COPIES / f"{dt.datetime.now(dt.UTC):%Y%m%dT%H%M%S%f}.sqlite"
    partial = made.with_name(made.name + PARTIAL)
    made.parent.mkdir(exist_ok=True)
    try:
        target = sqlite3.connect(partial)
        try:
            db.backup(target)
        finally:
            target.close()
        with partial.open("rb+") as handle:
            os.fsync(handle.fileno())
        os.replace(partial, made)
        sync_folder(made.parent)
    except BaseException:
        partial.unlink(missing_ok=True)
        raise
    for old in copies_of(folder)[KEPT_COPIES:]:
        old.unlink(missing_ok=True)
    return made


class Database:
    """An open database in a project's folder. Safe to use from several threads.

    Raises:
        UserError: the folder is not a project. EnvironmentTrouble: the database is damaged, newer, or not writable.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._lock = RLock()
        self._depth = 0
        self._owner = 0  # the thread whose transaction is open
        self._free: list[sqlite3.Connection] = []
        self.path = folder / DATABASE
        if not self.path.is_file():
            raise UserError("there is no project in this folder", str(folder),
                            "Choose a folder that holds project.sqlite, or start with --demo.")
        if not self.path.stat().st_size:
            raise EnvironmentTrouble("this project's database is empty: what it held is gone from this file", str(self.path),
                                     f"{_copies_at(folder)} Opening it would make a new project over the old one.")
        try:
            self._db = sqlite3.connect(self.path, isolation_level=None, check_same_thread=False, timeout=PATIENCE)
            self._db.row_factory = sqlite3.Row
            self._db.execute("PRAGMA journal_mode = WAL")
            self._db.execute("PRAGMA foreign_keys = ON")
            self._copy()
            migrate(self._db, str(self.path))
        except sqlite3.Error as err:
            raise trouble(err, self.path) from None

    def _copy(self) -> None:
        """Keep a copy: once a day, and before the schema changes. That a copy cannot be made is no reason to stay shut, but
        for a change of the schema it is."""
        version = int(self._db.execute("PRAGMA user_version").fetchone()[0])
        if not version:
            return  # a project that is being made
        older = version < SCHEMA_VERSION
        try:
            make_copy(self._db, self.folder, 0.0 if older else A_DAY)
        except (OSError, sqlite3.Error) as err:
            if older:
                raise EnvironmentTrouble("this project is of an older version and cannot be copied before it is changed "
                                         f"({err})", str(self.folder), "Free some space or check the folder's permissions; "
                                         "nothing was changed.") from None
            log.warning("no copy of %s could be made: %s", self.path, err)

    def close(self) -> None:
        with self._lock:
            while self._free:
                self._free.pop().close()
            self._db.close()

    @contextmanager
    def transaction(self) -> Iterator[sqlite3.Connection]:
        """All changes inside are kept together or not at all; transactions nest into the outermost.

        Raises:
            EnvironmentTrouble: they could not be kept.
        """
        with self._lock:
            outer = self._depth == 0
            try:
                if outer:
                    self._db.execute("BEGIN IMMEDIATE")
                    self._owner = threading.get_ident()
                self._depth += 1
                try:
                    yield self._db
                finally:
                    self._depth -= 1
                if outer:
                    self._db.execute("COMMIT")
                    self._owner = 0
            except BaseException as err:
                if outer:
                    self._owner = 0
                    if self._db.in_transaction:
                        self._db.execute("ROLLBACK")
                if isinstance(err, sqlite3.OperationalError | sqlite3.DatabaseError) and not isinstance(
                        err, sqlite3.IntegrityError | sqlite3.ProgrammingError):
                    raise trouble(err, self.path) from err
                raise

    def rows(self, sql: str, *values: Any) -> list[sqlite3.Row]:
        """Rows as they are: inside a transaction with its changes, else as they were last committed, without waiting for
        whoever changes something."""
        if self._owner == threading.get_ident() or sql.startswith("PRAGMA"):
            with self._lock:
                return self._told(lambda: self._db.execute(sql, values).fetchall())
        return self.read(sql, *values)

    def read(self, sql: str, *values: Any) -> list[sqlite3.Row]:
        """Rows as they were last committed, beside whatever writes: never waits for a change or for another reader."""
        try:
            reader = self._free.pop()
        except IndexError:
            reader = self._told(self._new_reader)
        try:
            return self._told(lambda: reader.execute(sql, values).fetchall())
        finally:
            self._free.append(reader)

    def read_ids(self, sql: str, *values: Any) -> NDArray[np.int64]:
        """The column `id` of what `read` would give, int64[n], in its order; for very many rows.

        It comes as one text, a third of the time of as many rows. The limit keeps the order of the inner query.
        """
        found = self.read(f"SELECT group_concat(id) ids FROM ({sql} LIMIT -1)", *values)[0]["ids"]
        return np.fromstring(found, np.int64, sep=",") if found is not None else np.zeros(0, np.int64)

    def _told(self, act: Callable[[], T]) -> T:
        """What `act` gives; what the database says against it as a sentence. Our own mistakes stay what they are."""
        try:
            return act()
        except (sqlite3.OperationalError, sqlite3.DatabaseError) as err:
            if isinstance(err, sqlite3.ProgrammingError) or "syntax" in str(err):
                raise
            raise trouble(err, self.path) from err

    def _new_reader(self) -> sqlite3.Connection:
        reader = sqlite3.connect(f"file:{quote(self.path.as_posix())}?mode=ro", uri=True, isolation_level=None,
                                 check_same_thread=False, timeout=PATIENCE)
        reader.row_factory = sqlite3.Row
        reader.execute(f"PRAGMA cache_size = -{READER_CACHE}")
        return reader

    def get_value(self, key: str, default: Any = None) -> Any:
        """A small piece of remembered state (window layout, last place)."""
        found = self.rows("SELECT value FROM settings WHERE key = ?", f"value:{key}")
        return json.loads(found[0]["value"]) if found else default

    def set_value(self, key: str, value: Any) -> None:
        with self.transaction() as db:
            db.execute("INSERT OR REPLACE INTO settings VALUES (?, ?)", (f"value:{key}", json.dumps(value)))


def unsettle(db: sqlite3.Connection, hash: str = "", market: str = "") -> None:
    """Where candidates stand is worked out anew: those of some rules on a market, or all. Whoever writes a verdict calls
    this in the same transaction."""
    if hash:
        db.execute("UPDATE candidates SET stands = NULL WHERE hash = ? AND market = ?", (hash, market))
    else:
        db.execute("UPDATE candidates SET stands = NULL")


def this_program() -> str:
    """Who this is, so that another program can tell whether it still lives: process id and when it began."""
    return f"{os.getpid()} {_began(os.getpid())}"


def lives(program: str) -> bool:
    """Whether the program that `this_program` named is still running."""
    id, _, began = program.partition(" ")
    return id.isdigit() and bool(began) and _began(int(id)) == began


def _began(id: int) -> str:
    """When a process began, in ticks since the machine did; "" where there is none."""
    try:
        return Path(f"/proc/{id}/stat").read_text().rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""
