"""Automatic copies of a project's database, beside it in `copies/`: whole or not at all, the newest few kept."""

from __future__ import annotations

import datetime as dt
import os
import re
import sqlite3
import stat
import time
from contextlib import suppress
from pathlib import Path
from urllib.parse import quote

from wolbrin.core.errors import EnvironmentTrouble
from wolbrin.core.written import PARTIAL, sync_folder

COPIES = "copies"
KEPT_COPIES = 3
NAME = re.compile(r"\d{8}T\d{12}\.sqlite")


class CannotWriteError(EnvironmentTrouble):
    """The database cannot be written where it stands, or cannot be kept as it is before it is changed."""


def copies_of(folder: Path) -> list[Path]:
    """Automatic copies of a project's database, newest first."""
    return _ours(folder / COPIES)


def _ours(folder: Path) -> list[Path]:
    """What was copied into a folder, newest first; other files that stand there are none of ours."""
    return sorted((p for p in folder.glob("*.sqlite") if NAME.fullmatch(p.name) and _is_file(p)), reverse=True)


def _is_file(path: Path) -> bool:
    """Whether an ordinary file stands there, and no link to one."""
    try:
        return stat.S_ISREG(path.lstat().st_mode)
    except OSError:
        return False


def copies_at(folder: Path) -> str:
    """Where to get back what a database held."""
    found = copies_of(folder)
    return (f"Restore the newest copy, {found[0]}." if found else "Restore it from a backup.")


def to_read(path: Path) -> str:
    """The address of a database that is only read; the names on the way to it need be no text."""
    return f"file:{quote(os.fsencode(path))}?mode=ro"


def reader(path: Path) -> sqlite3.Connection:
    """A connection that cannot change a database."""
    return sqlite3.connect(to_read(path), uri=True)


def make_copy(db: sqlite3.Connection, folder: Path, least: float = 0.0, to: str = COPIES) -> Path | None:
    """Copy a database beside itself with SQLite's own backup, whole or not at all; the newest KEPT_COPIES are kept.

    least: seconds since the newest one, before which none is made. to: where in the folder.
    Raises:
        OSError, sqlite3.Error: it cannot be written; nothing is left behind.
    """
    known = copies_of(folder)
    if known and least and time.time() - known[0].stat().st_mtime < least:
        return None
    made = folder / to / f"{dt.datetime.now(dt.UTC):%Y%m%dT%H%M%S%f}.sqlite"
    partial = made.with_name(made.name + PARTIAL)
    if any(p.is_symlink() for p in (made.parent, folder / COPIES)):
        raise OSError(f"{made.parent} leads elsewhere")  # whose files are not ours to thin out
    made.parent.mkdir(parents=True, exist_ok=True)
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
        for ending in ("", "-journal", "-wal", "-shm"):  # of a copy that was cut short
            with suppress(OSError):
                partial.with_name(partial.name + ending).unlink(missing_ok=True)
        raise
    for old in _ours(made.parent)[KEPT_COPIES:]:
        old.unlink(missing_ok=True)
    return made
