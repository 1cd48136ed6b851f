"""What a damaged project needs before it can be opened: tables that are missing, settings that cannot be read.

Nothing is guessed that could open a seal: settings come from the newest copy that has them; else the border is set no later
than the day after the last that any search has seen. Where a table of the book is missing, everything found before counts as
having seen sealed bars. The database as it was found is kept in `copies/found`.
"""

from __future__ import annotations

import datetime as dt
import json
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from functools import cache
from pathlib import Path

from wolbrin.core.errors import EnvironmentTrouble
from wolbrin.core.store.aside import UNREADABLE, Aside, why
from wolbrin.core.store.copies import CannotWriteError, copies_of, make_copy, reader
from wolbrin.core.store.schema import migrate, newest_tables, tables_of
from wolbrin.core.store.settings import Settings

FOUND = "copies/found"
BOOK = ("openings", "judged", "borders", "searches", "evidence")
ASK = "SELECT value FROM settings WHERE key = 'project'"
BROKEN = "project that could not be read"


@cache
def statements() -> dict[str, tuple[str, list[str]]]:
    """For every table of the present schema: the statement that makes it, and those of its indices."""
    with closing(sqlite3.connect(":memory:", isolation_level=None)) as fresh:
        fresh.row_factory = sqlite3.Row
        migrate(fresh, "memory")
        rows = fresh.execute("SELECT type, tbl_name, sql FROM sqlite_master WHERE sql IS NOT NULL").fetchall()
    tables = {r["tbl_name"]: r["sql"] for r in rows if r["type"] == "table"}
    return {t: (sql, [r["sql"] for r in rows if r["type"] == "index" and r["tbl_name"] == t]) for t, sql in tables.items()}


def copy_found(db: sqlite3.Connection, folder: Path) -> Path | None:
    """Keep a damaged database as it was found. Raises CannotWriteError where that cannot be."""
    try:
        return make_copy(db, folder, to=FOUND)
    except (OSError, sqlite3.Error) as err:
        raise CannotWriteError(f"this project is damaged and cannot be copied before it is mended ({err})", str(folder),
                              "Free some space, or put a copy back with `wolbrin check FOLDER --restore`.") from None


def mend(db: sqlite3.Connection, folder: Path, aside: Aside) -> None:
    """Make missing tables anew, empty, and those whose columns are others, with what they hold; and name them.

    Raises:
        CannotWriteError: the database as it is cannot be copied first; nothing was changed.
    """
    there, newest = tables_of(db), newest_tables()
    gone = [t for t in newest if t not in there]
    odd = [t for t, columns in newest.items() if t in there and there[t] != columns]
    settings = "settings" in gone or ("settings" not in odd and _unreadable(db))
    if not gone and not settings and not odd:
        return
    kept = copy_found(db, folder)
    db.execute("PRAGMA foreign_keys = OFF")
    db.execute("PRAGMA legacy_alter_table = ON")  # other tables go on naming the one that is made anew
    db.execute("BEGIN IMMEDIATE")
    try:
        for name in gone:
            aside.add(f"the table of {name}", f"it was missing and is empty now; the database as it was is in {kept}")
            _make(db, name)
        for name in odd:
            aside.add(f"the table of {name}", f"its columns were others; the database as it was is in {kept}")
            _make_anew(db, name)
        if settings or ("settings" in odd and _unreadable(db)):
            replace_settings(db, folder, aside)
        if any(name in BOOK for name in (*gone, *odd)):
            spend(db, [n for n in (*gone, *odd) if n in BOOK])
        db.execute("COMMIT")
    except BaseException:
        if db.in_transaction:
            db.execute("ROLLBACK")
        raise
    finally:
        db.execute("PRAGMA legacy_alter_table = OFF")


def _columns(db: sqlite3.Connection, table: str) -> dict[str, tuple[str, bool]]:
    """Columns of a table but for those of measures, with type and whether something must stand there."""
    return {str(r[1]): (str(r[2]), bool(r[3])) for r in db.execute(f'PRAGMA table_info("{table}")')
            if not str(r[1]).startswith("m_")}


def _make(db: sqlite3.Connection, name: str) -> None:
    """Make a table and its indices; an index of such a name may have gone along with something else."""
    table, indices = statements()[name]
    db.execute(table)
    for sql in indices:
        db.execute(f"DROP INDEX IF EXISTS {sql.split()[2]}")
        db.execute(sql)


def _make_anew(db: sqlite3.Connection, name: str) -> None:
    """Make a table whose columns are others with those it should have. A column that is missing takes the values of the one
    that stands in its place, if only names differ; else values that are wrong, so that they are told."""
    there = list(_columns(db, name))
    old = f"found_{name}"
    db.execute(f"DROP TABLE IF EXISTS {old}")
    db.execute(f"ALTER TABLE {name} RENAME TO {old}")
    _make(db, name)
    wanted = _columns(db, name)
    lost, more = [c for c in wanted if c not in there], [c for c in there if c not in wanted]
    told = dict(zip(lost, more)) if len(lost) == len(more) else {}
    none = {"INTEGER": "-1", "REAL": "'none'", "BLOB": "'none'", "TEXT": "x''"}
    values = [c if c in there else f'"{told[c]}"' if c in told else none.get(kind, "x''") if needed else "NULL"
              for c, (kind, needed) in wanted.items()]
    db.execute(f"INSERT OR IGNORE INTO {name} ({', '.join(wanted)}) SELECT {', '.join(values)} FROM {old}")
    db.execute(f"DROP TABLE {old}")


def check_ours(db: sqlite3.Connection, path: Path) -> None:
    """Raises EnvironmentTrouble where tables stand in a database and none of them is a project's."""
    there = {r[0] for r in db.execute("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'")}
    if there and not there & {"settings", "markets", "strategies", "searches", "candidates"}:
        raise EnvironmentTrouble("this is the database of another program", str(path),
                                 "Choose a project's folder; nothing was changed.")


def drop_foreign(db: sqlite3.Connection, aside: Aside) -> None:
    """Take out what would act by itself inside a database: projects have no triggers and no views."""
    for kind, name in db.execute("SELECT type, name FROM sqlite_master WHERE type IN ('trigger', 'view')").fetchall():
        quoted = str(name).replace('"', '""')
        db.execute(f'DROP {kind.upper()} "{quoted}"')
        aside.add(f'the {kind} "{str(name)[:40]}"', "a project has none; it was taken out before it did anything")


def _stored(db: sqlite3.Connection) -> str | None:
    found = db.execute(ASK).fetchone()
    return None if found is None else str(found[0])


def _unreadable(db: sqlite3.Connection) -> bool:
    """Whether there are settings, and they cannot be read."""
    try:
        text = _stored(db)
        if text is not None:
            Settings.model_validate_json(text)
    except (sqlite3.Error, *UNREADABLE):
        return True
    return False


def _earlier(folder: Path) -> Iterator[tuple[Path, Settings]]:
    for copy in copies_of(folder):
        try:
            with closing(reader(copy)) as db:
                text = _stored(db)
            if text is not None:
                yield copy, Settings.model_validate_json(text)
        except (sqlite3.Error, *UNREADABLE):
            continue


def replace_settings(db: sqlite3.Connection, folder: Path, aside: Aside) -> None:
    """Put readable settings in the place of those that are not."""
    copy, settings = next(_earlier(folder), (None, Settings()))
    days = []
    for ask in ("SELECT max(seen) FROM searches", "SELECT max(new) FROM borders"):
        try:
            day = db.execute(ask).fetchone()[0]
            days += [dt.date.fromisoformat(day)] if day else []
        except (sqlite3.Error, *UNREADABLE):
            continue
    if copy is None and days:
        border = min(settings.holdout_first, max(days) + dt.timedelta(days=1))
        settings = settings.model_copy(update={"holdout_first": border})
    try:
        old = _stored(db) or ""
    except sqlite3.Error as err:
        old = f"unreadable: {why(err)}"
    db.execute("INSERT OR REPLACE INTO settings VALUES (?, ?)", (BROKEN, json.dumps(old)))
    db.execute("INSERT OR REPLACE INTO settings VALUES ('project', ?)", (settings.model_dump_json(),))
    aside.add("the project's settings", f"those of the copy {copy.name} hold now" if copy else
              f"the usual ones hold now, with the border on {settings.holdout_first}; look at them before you go on")


def spend(db: sqlite3.Connection, gone: list[str], how: str = "lacked its table of",
          why: str = "the table of {} was missing") -> None:
    """What was found before can no longer stand: nothing tells any more what it has seen."""
    border = Settings.model_validate_json(_stored(db) or Settings().model_dump_json()).holdout_first
    now = dt.datetime.now(dt.UTC).isoformat(timespec="seconds")
    reason = (f"Seen: on {now[:10]} the project's database {how} {', '.join(gone)}, so that nothing tells what "
              "was opened before.")
    db.execute("INSERT INTO borders (created, old, new, why, candidates) SELECT ?, ?, ?, ?, coalesce(max(id), 0) FROM "
               "candidates", (now, str(border), str(border), why.format(", ".join(gone))))
    db.execute("INSERT INTO judged (created, market, hash, name, verdict, reason) SELECT DISTINCT ?, c.market, c.hash, "
               "c.name, 'falls', ? FROM candidates AS c WHERE NOT EXISTS (SELECT 1 FROM judged AS j WHERE "
               "j.market = c.market AND j.hash = c.hash)", (now, reason))
    db.execute("UPDATE candidates SET stands = NULL")
