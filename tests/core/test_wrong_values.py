"""One wrong character in a database: each column of each table with every kind of wrong value."""

from __future__ import annotations

import shutil
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tests.core.full_project import make_full, read_all
from wolbrin.core.store.check import check_project
from wolbrin.core.store.columns import COLUMNS
from wolbrin.core.store.database import DATABASE
from wolbrin.core.store.project import Project
from wolbrin.core.store.typed import prepare, wrong_values

NOT_TEXT = "CAST(x'6100ff41' AS TEXT)"
KINDS: dict[str, str] = {  # SQL of what is put into a column
    "a letter in a number": "'1o'", "a letter in a date": "'2o24-01-05'", "no such day": "'2024-02-30'", "bytes": "x'ff00fe'",
    "no text": NOT_TEXT, "below zero": "-3", "too large": "9223372036854775807", "infinite": "9e999", "a fraction": "0.5",
    "empty": "''", "a list": "'[5]'", "an object": "'{\"x\": 1}'", "very long": "hex(zeroblob(50000))", "nothing": "NULL",
    "zero": "0", "a NUL": "'a' || char(0) || 'b'", "text for a number": "'12'"}
EVERY = [(table, column) for table, columns in COLUMNS.items() for column in columns]


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    with pytest.MonkeyPatch.context() as own:
        own.setenv("XDG_STATE_HOME", str(tmp_path_factory.mktemp("state")))
        return make_full(tmp_path_factory.mktemp("full") / "p")


def put(folder: Path, table: str, column: str, sql: str) -> bool:
    """Put something into one row of a column; whether the database took it."""
    with closing(sqlite3.connect(folder / DATABASE, isolation_level=None)) as db:
        db.execute("PRAGMA foreign_keys = OFF")
        key = "rowid" if table != "marks" else "mark"
        keys = [r[0] for r in db.execute(f"SELECT {key} FROM {table} ORDER BY 1")]
        if table == "settings":
            keys = [r[0] for r in db.execute("SELECT rowid FROM settings WHERE key LIKE 'value:%'")]
        assert keys, f"{table} has no row to try"
        try:
            db.execute(f"UPDATE {table} SET {column} = {sql} WHERE {key} = ?", (keys[int(np.random.randint(len(keys)))],))
        except sqlite3.IntegrityError:
            return False
        return True


def wrong_in(folder: Path) -> list[Any]:
    with closing(sqlite3.connect(folder / DATABASE)) as db:
        prepare(db)
        return list(wrong_values(db))


def try_one(made: Path, folder: Path, table: str, column: str, kind: str, before: dict[str, Any]) -> str:
    """Damage a copy and read all of it. Returns what is wrong with how that went, "" for nothing."""
    shutil.copyfile(made / DATABASE, folder / DATABASE)
    for ending in ("-wal", "-shm"):
        (folder / (DATABASE + ending)).unlink(missing_ok=True)
    if not put(folder, table, column, KINDS[kind]):
        return ""
    wrong = wrong_in(folder)
    told = [w.sentence() for w in check_project(folder)]
    if any(one.words not in " ".join(told) for one in wrong):
        return f"check does not name it: {told}"
    project = Project(folder)
    try:
        if wrong and not project.aside.found:
            return "nothing was named"
        after = read_all(project)
        named = any(any(one.row in what for what in project.aside.found) for one in wrong) if wrong else True
        left = wrong_in(folder)
        less = [k for k in ("tried", "openings", "number", "unseen") if wrong and after[k] < before[k]]
        less += ["falls"] if wrong and not before["falls"] <= after["falls"] else []
        less += ["border"] if after["border"] > before["border"] else []
        grown = [h for h, s in after["stands"].items() if s == "stands" and before["stands"].get(h) != "stands"]
        return "; ".join(filter(None, ("" if named else f"not named: {project.aside.found}", f"still wrong: {left}" if left
                                       else "", f"less: {less}" if less else "", f"stands now: {grown}" if grown else "")))
    finally:
        project.close()


@pytest.fixture
def folder(made: Path, tmp_path: Path) -> Path:
    return Path(shutil.copytree(made, tmp_path / "p"))


@pytest.mark.parametrize("table", COLUMNS)
def test_no_wrong_value_in_any_column_stops_a_project(made: Path, folder: Path, table: str) -> None:
    """Each column with kinds of wrong values drawn anew at every run: `check` names what is wrong, the project opens, all of
    it can be read, and nothing is forgotten that was tried, opened or judged."""
    with closing(Project(folder)) as project:
        before = read_all(project)
    faults = []
    for column in COLUMNS[table]:
        for kind in np.random.permutation(list(KINDS))[:2]:
            try:
                fault = try_one(made, folder, table, column, str(kind), before)
            except Exception as err:
                fault = f"{type(err).__name__}: {err}"
            faults += [f"{table}.{column}, {kind}: {fault}"] if fault else []
    assert not faults, "\n".join(faults)


@pytest.mark.parametrize("table", COLUMNS)
def test_tables_of_another_form_are_made_anew(made: Path, folder: Path, table: str) -> None:
    """A column under another name comes back with its values; one that is gone, or a view in the place of the table, is told,
    and where it belongs to the book everything found before is spent."""
    with closing(Project(folder)) as project:
        before = read_all(project)
    rows = f"SELECT * FROM {table} ORDER BY 1, 2"
    column = str(np.random.choice([c for c in COLUMNS[table] if not c.startswith("m_")]))
    harms = ([f"ALTER TABLE {table} RENAME COLUMN {column} TO odd_{column}"],
             [f"ALTER TABLE {table} RENAME TO moved_{table}", f"CREATE VIEW {table} AS SELECT * FROM moved_{table}"],
             [f"PRAGMA user_version = {int(np.random.choice([-7, 0, 1, 4, 8, -2**31, 2**31 - 1, 1000]))}"])
    for at, harm in enumerate(harms):
        shutil.copyfile(made / DATABASE, folder / DATABASE)
        with closing(sqlite3.connect(folder / DATABASE, isolation_level=None)) as db:
            whole = db.execute(rows).fetchall()
            db.execute("PRAGMA foreign_keys = OFF")
            db.execute("PRAGMA legacy_alter_table = ON")
            for sql in harm:
                db.execute(sql)
        assert check_project(folder)
        with closing(Project(folder)) as project:
            assert at == 2 or any(table in what for what in project.aside.found), project.aside.found
            after = read_all(project)
            assert after["openings"] >= before["openings"]
            assert before["falls"] <= after["falls"]
            found = [tuple(r) for r in project.rows(rows)]
            assert at == 1 or [r for r in whole if r not in found] == [] or table in ("settings", "candidates", "left_aside")


def test_every_column_says_what_may_stand_in_it(folder: Path) -> None:
    """A column that is added without a word fails here."""
    with closing(sqlite3.connect(folder / DATABASE)) as db:
        tables = [r[0] for r in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
        assert {t: {r[1] for r in db.execute(f"PRAGMA table_info({t})")} for t in tables} == {
            t: set(c) for t, c in COLUMNS.items()}
    assert wrong_in(folder) == []
    assert check_project(folder) == []
