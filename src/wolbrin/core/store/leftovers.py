"""Files in a project's folders that nothing refers to any more. They are listed, and removed only when somebody says so."""

from __future__ import annotations

import time
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from wolbrin.core.errors import EnvironmentTrouble
from wolbrin.core.store.copies import COPIES
from wolbrin.core.store.database import Database
from wolbrin.core.store.results import RESULTS, files_named
from wolbrin.core.store.sources import HISTORY
from wolbrin.core.store.typed import LEFT, rows_left
from wolbrin.core.written import PARTIAL

YOUNG = 60.0  # seconds; a file this new may be one that is being written


@dataclass(frozen=True)
class Leftover:
    """One file. why: what it was, in words. size: bytes."""

    path: Path
    size: int
    why: str


def leftovers(db: Database, younger: bool = False) -> list[Leftover]:
    """All files that nothing refers to, by folder and name. younger: those of the last minute too, when nothing runs."""
    named = files_named(db)
    for r in db.rows("SELECT file, ticks FROM sources UNION SELECT file, NULL FROM markets"):
        named |= {db.folder / HISTORY / f for f in (r["file"], r["ticks"]) if f}
    for *_, left in rows_left(db.rows(LEFT)):  # what was left aside may be put right one day
        row = left.get("row", {})
        named |= {db.folder / f / str(row[key]) for f in (HISTORY, RESULTS) for key in ("file", "ticks") if row.get(key)}
    found = []
    for folder, what in ((HISTORY, "history of a source that was replaced or removed"),
                         (RESULTS, "results that no search or verdict names")):
        if (db.folder / folder).is_symlink():
            continue  # it leads elsewhere: what stands there is not ours to remove
        for path in sorted((db.folder / folder).glob("*")):
            if not path.is_file() or path in named:
                continue
            about = path.stat()
            if younger or time.time() - about.st_mtime > YOUNG:
                why = "begun and never finished" if path.name.endswith((PARTIAL, ".partial")) else what
                found.append(Leftover(path, about.st_size, why))
    begun = [p for where, form in ((db.folder, f"*{PARTIAL}"), (db.folder, "*.restored*"), (db.folder, "*.recovered*"),
                                   (db.folder / COPIES, f"*{PARTIAL}*")) if not where.is_symlink() for p in where.glob(form)]
    for path in sorted(begun):
        about = path.stat()
        if path.is_file() and not path.is_symlink() and (younger or time.time() - about.st_mtime > YOUNG):
            found.append(Leftover(path, about.st_size, "begun and never finished"))
    return found


def sweep_out(files: Iterable[Leftover]) -> int:
    """Remove leftovers. Returns the bytes freed. Raises EnvironmentTrouble where one cannot be removed."""
    freed = 0
    for one in files:
        try:
            one.path.unlink(missing_ok=True)
        except OSError as err:
            raise EnvironmentTrouble(f"this file cannot be removed ({err.strerror})", str(one.path),
                                     "Check the folder's permissions.") from None
        freed += one.size
    return freed
