"""What is wrong with a project on disk: database, files, digests, references. Looks only; changes nothing unless told."""

from __future__ import annotations

import datetime as dt
import json
import os
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.market.importing.layout import Layout
from wolbrin.core.market.terms import Terms
from wolbrin.core.market.treatment import Treatment
from wolbrin.core.portfolio.plan import Plan
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.aside import UNREADABLE, why
from wolbrin.core.store.book_journal import PROJECT_ID
from wolbrin.core.store.book_kept import carry_book
from wolbrin.core.store.book_lines import JOURNAL, key_of, lines_of, state_folder
from wolbrin.core.store.copies import copies_of, reader
from wolbrin.core.store.database import DATABASE, is_there, with_marks
from wolbrin.core.store.holding import alone, copy_elsewhere
from wolbrin.core.store.journal import Journal
from wolbrin.core.store.results import RESULTS
from wolbrin.core.store.schema import SCHEMA_VERSION, newest_tables, tables_of, version_of
from wolbrin.core.store.settings import Settings
from wolbrin.core.store.sources import HISTORY
from wolbrin.core.store.tables import read_table
from wolbrin.core.store.typed import LEFT, Row, prepare, rows_left, wrong_settings, wrong_values
from wolbrin.core.written import as_written, inside, sync_folder

IMPORT, AGAIN = "Import that market again, or restore the file from a backup.", "Run that work again, or restore the file."


@dataclass(frozen=True)
class Wrong:
    """One thing that is wrong: what, where, and what to do, in words."""

    what: str
    where: str
    remedy: str

    def sentence(self) -> str:
        return f"{self.where}: {self.what}. {self.remedy}"


def check_project(folder: Path) -> list[Wrong]:
    """All that is wrong with a project's folder; nothing where it is sound.

    Raises:
        UserError: there is no project there.
    """
    path = folder / DATABASE
    if not is_there(path):
        raise UserError("there is no project in this folder", str(folder), "Choose a folder that holds project.sqlite.")
    restore = "Restore the newest copy with --restore." if copies_of(folder) else "Restore it from a backup."
    if not path.stat().st_size:
        return [Wrong("the database is empty", str(path), restore)]
    found = _looked(folder, path, restore)
    if len(found) == 1 and "unable to open" in found[0].what:  # on a disk that cannot be written not even a look is had
        try:
            with copy_elsewhere(folder, DATABASE) as home:
                found = _looked(folder, Path(home) / DATABASE, restore)
        except OSError as err:
            found = [Wrong(f"the database cannot be read ({err.strerror or err})", str(path), restore)]
    return found


def _looked(folder: Path, at: Path, restore: str) -> list[Wrong]:
    """What is wrong with a project's folder, whose database is read where it stands or in a copy elsewhere, `at`."""
    path = folder / DATABASE
    try:
        with closing(reader(at)) as db:
            db.text_factory = with_marks  # what is no text is told by its column
            prepare(db)
            said = [r[0] for r in db.execute("PRAGMA integrity_check(20)")]
            found = [Wrong(f"the database is damaged ({text})", str(path), restore) for text in said if text != "ok"]
            found += list(_schema(db, str(path), restore))
            if not found:
                found += [Wrong(f"a row of {r[0]} refers to one of {r[2]} that is gone", str(path), restore)
                          for r in db.execute("PRAGMA foreign_key_check")]
                found += [*_values(db, str(path)), *_rows(db, str(path)), *_histories(db, folder), *_results(db, folder),
                          *_journal(db, folder)]
            return found
    except (sqlite3.Error, *UNREADABLE) as err:
        return [Wrong(f"the database cannot be read ({why(err)})", str(path), restore)]


def restore_copy(folder: Path) -> tuple[Path, Path]:
    """Put the newest sound copy in the place of the database, which is kept beside it under another name. Returns the copy,
    and where the old database went. Never over a sound database: a copy knows less of what was opened and judged, and what
    fell since would be sealed again. Over a damaged one the book is carried over (`book_kept`).

    Raises:
        UserError: there is no copy that is sound, or the database is, or some program has the project open.
    """
    with alone(folder):
        return _put_back(folder)


def _put_back(folder: Path) -> tuple[Path, Path]:
    """As `restore_copy` says, in a folder that nobody else has open."""
    if (folder / DATABASE).is_file() and not any(w.where == str(folder / DATABASE) for w in check_project(folder)):
        raise UserError("nothing is wrong with this project, and an older copy in its place would forget what was opened and "
                        "judged since", str(folder), "Keep it as it is; to look at a copy, open it in a folder of its own.")
    for copy in copies_of(folder):
        try:
            with closing(reader(copy)) as db:
                if [r[0] for r in db.execute("PRAGMA integrity_check(1)")] == ["ok"]:
                    break
        except sqlite3.Error:
            continue
    else:
        raise UserError("there is no sound copy of this project's database", str(folder), "Restore it from a backup.")
    path = folder / DATABASE
    aside = path.with_name(f"{DATABASE}.damaged-{dt.datetime.now(dt.UTC):%Y%m%dT%H%M%S}")
    made = path.with_name(DATABASE + ".restored")
    try:
        made.write_bytes(copy.read_bytes())
        if path.is_file():
            carry_book(path, made)
        with made.open("rb+") as handle:
            os.fsync(handle.fileno())
        for ending in ("-wal", "-shm"):  # they belong to the old one
            beside = path.with_name(DATABASE + ending)
            if beside.exists():
                os.replace(beside, aside.with_name(aside.name + ending))
        os.replace(path, aside)
        os.replace(made, path)
        sync_folder(folder)
    except (OSError, sqlite3.Error) as err:
        raise EnvironmentTrouble(f"the copy cannot be put back ({getattr(err, 'strerror', None) or err})", str(folder),
                                 "Free some space or check the folder's permissions.") from None
    return copy, aside


def _schema(db: sqlite3.Connection, where: str, restore: str) -> Iterator[Wrong]:
    """Tables and columns that this version of the schema has, and the database has not."""
    said, version = version_of(db)
    if version > SCHEMA_VERSION:
        yield Wrong(f"it has schema {version}, newer than this program knows ({SCHEMA_VERSION})", where,
                    "Check it with a newer Wolbrin.")
        return
    if said != version or version < 0:
        tables = f", and its tables are those of {version}" if version >= 0 else ""
        yield Wrong(f"it says that its schema is {said}{tables}", where,
                    "Open the project: the number is put right then." if version >= 0 else restore)
    if version < SCHEMA_VERSION:
        return  # it is brought up to date, after a copy, when it is opened
    wanted, known = newest_tables(), tables_of(db)
    for kind, name in db.execute("SELECT type, name FROM sqlite_master WHERE type IN ('trigger', 'view')"):
        yield Wrong(f'there is a {kind} "{name}", which no project has', where, "Open the project: it is taken out then.")
    for table, columns in wanted.items():
        if table not in known:
            yield Wrong(f"the table {table} is missing", where, restore)
        elif columns - known[table]:
            yield Wrong(f"the table {table} lacks {', '.join(sorted(columns - known[table]))}", where, restore)


def _values(db: sqlite3.Connection, where: str) -> Iterator[Wrong]:
    """Values that are not what their column, or their key, holds."""
    remedy = "Open the project: what can be told otherwise is put right then, all else is left aside."
    for one in wrong_values(db):
        yield Wrong(f"{one.row}: {one.words}", where, remedy)
    for key, fault in wrong_settings(db):
        yield Wrong(f'the remembered "{key}" cannot be read ({fault})', where, remedy)


def left_before(folder: Path) -> list[tuple[str, str, str, Row]]:
    """What was left aside of a project at any time, newest first: when, what, why and the row as it was found. Nothing where
    that cannot be read."""
    try:
        with closing(reader(folder / DATABASE)) as db:
            return rows_left(db.execute(LEFT))
    except sqlite3.Error:
        return []


def _rows(db: sqlite3.Connection, where: str) -> Iterator[Wrong]:
    """Rows whose text cannot be read as what it should be."""
    asked: list[tuple[str, str, type[BaseModel], str]] = [
        ("SELECT name, body FROM strategies", "strategy", Strategy, "Delete it, or restore a copy."),
        ("SELECT code, terms FROM markets", "market", Terms, "Import it again, or restore a copy."),
        ("SELECT market || ' ' || name, treatment FROM sources", "source", Treatment, "Import it again, or restore a copy."),
        ("SELECT name, body FROM layouts", "layout", Layout, "Delete it, or restore a copy."),
        ("SELECT c.name, b.body FROM candidates c JOIN bodies b ON b.candidate = c.id", "candidate", Strategy,
         "Remove it from the Shelf, or restore a copy."),
        ("SELECT name, plan FROM portfolios WHERE plan IS NOT NULL", "portfolio", Plan, "Forget it, or restore a copy."),
        ("SELECT 'the project', value FROM settings WHERE key = 'project'", "settings of", Settings, "Restore a copy.")]
    for sql, what, model, remedy in asked:
        for name, text in db.execute(sql):
            if fault := _fault(partial(model.model_validate_json, text or "null")):
                yield Wrong(f'the {what} "{name}" cannot be read ({fault})', where, remedy)


def _fault(read: Callable[[], Any]) -> str:
    """What reading says against it, shortly; "" for nothing."""
    try:
        read()
    except UNREADABLE as err:
        return why(err)
    return ""


def _journal(db: sqlite3.Connection, folder: Path) -> Iterator[Wrong]:
    """Breaks in the journals of openings, and what they know beyond the database."""
    if version_of(db)[1] < SCHEMA_VERSION:
        return
    own, users = Journal(folder / JOURNAL), Journal(state_folder() / JOURNAL)
    here = _value(db, PROJECT_ID)
    for journal in (own, users):
        if wrong := journal.read()[1]:
            yield Wrong(f"the journal of openings has a gap ({wrong})", str(journal.path), "What can be read of it "
                        "counts all the same. Put the file back from a backup, or move it away: it is written anew when the "
                        "project is opened.")
    mine, theirs = ([e for e in lines_of(j) if e.project == here] for j in (own, users))
    asked = {"opened": "SELECT DISTINCT batch, hash, market, created FROM openings WHERE kind = 'opened'",
             "verdict": "SELECT DISTINCT verdict, hash, market, created FROM judged",
             "moved": "SELECT DISTINCT old, new, created FROM borders"}
    for kind, sql in asked.items():
        known = len({key_of(e) for e in (*mine, *theirs) if e.kind == kind})
        stored = len(db.execute(sql).fetchall())
        what = "moved" if kind == "moved" else "opened or judged"
        if known > stored:
            yield Wrong(f"the journal knows {known} lines of what was {what}, the database {stored}: some were "
                        "lost", str(folder / DATABASE), "Open the project: they hold again.")
        in_own = len({key_of(e) for e in mine if e.kind == kind})
        if in_own < max(known, stored):
            yield Wrong(f"the journal in the project lacks {max(known, stored) - in_own} lines of what was {what}",
                        str(own.path), "Open the project: they are written again.")


def _value(db: sqlite3.Connection, key: str) -> Any:
    found = db.execute("SELECT value FROM settings WHERE key = ?", (f"value:{key}",)).fetchone()
    try:
        return json.loads(found[0]) if found else None
    except UNREADABLE:
        return None


def _histories(db: sqlite3.Connection, folder: Path) -> Iterator[Wrong]:
    for market, name, *files in db.execute("SELECT market, name, file, ticks FROM sources"):
        for file in filter(None, files):
            path, whose = folder / HISTORY / str(file)[:60].replace("\0", ""), f"the history of {market} {name}"
            try:
                path = inside(folder / HISTORY, str(file))
                if not as_written(path):
                    yield Wrong(f"{whose} is not the file that was written", str(path), IMPORT)
                elif fault := _parquet(path):
                    yield Wrong(f"{whose} cannot be read ({fault})", str(path), IMPORT)
            except FileNotFoundError:
                yield Wrong(f"{whose} is missing", str(path), IMPORT)
            except EnvironmentTrouble as err:
                yield Wrong(f"{whose}: {err.what}", str(path), IMPORT)
            except OSError as err:
                yield Wrong(f"{whose} cannot be read ({err.strerror or err})", str(path), IMPORT)


def _parquet(path: Path) -> str:
    import pyarrow as pa  # late
    import pyarrow.parquet as pq  # late

    try:
        pq.read_table(path, page_checksum_verification=True)
    except (OSError, pa.ArrowException, UnicodeDecodeError) as err:
        return str(err).splitlines()[0][:120]
    return ""


def _results(db: sqlite3.Connection, folder: Path) -> Iterator[Wrong]:
    for owner, file, digest in db.execute("SELECT owner, file, digest FROM parts"):
        try:
            read_table(inside(folder / RESULTS, str(file)), digest, ())
        except EnvironmentTrouble as err:
            yield Wrong(f"results of {owner}: {err.what}", str(folder / RESULTS), AGAIN)
