"""Values that are not what their column holds: found, mended where something else tells them, else left aside with their row.

In this order a wrong value is replaced by: what the newest copy of the database holds in the same row, where all else of that
row is as it is; what the journal says of the same event of the book; what can mislead nobody (see `columns`). A row for which
none of that is to be had leaves its table, so that nothing stumbles over it. All such rows stand as they were in the table
`left_aside`, so that nothing is lost.
"""

from __future__ import annotations

import base64
import datetime as dt
import json
import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import closing, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from wolbrin.core.store.aside import UNREADABLE, Aside, why
from wolbrin.core.store.book_lines import code_digest, told_rows
from wolbrin.core.store.columns import BOOK, COLUMNS, NAMED_BY, TEXT, named
from wolbrin.core.store.copies import copies_of, reader
from wolbrin.core.store.values import BINDING, check_value

MOST_ROWS = 500  # of one table that are looked at together
TORN = "the other half of it is not there"
LARGE = ("candidates", "bodies", "evidence", "parts", "pending", "marks")  # which take time to look through
LEFT = "SELECT created, what, why, body FROM left_aside ORDER BY id DESC"
Row = dict[str, Any]


@dataclass(frozen=True)
class WrongValue:
    """One value that is not what its column holds. at: SQL that finds its row again, with values."""

    table: str
    column: str
    row: str
    value: Any
    at: tuple[str, tuple[Any, ...]]

    @property
    def words(self) -> str:
        """What is wrong with it, without a full stop."""
        return (f'its {self.column.replace("_", " ")} is {shown(self.value)}, where {COLUMNS[self.table][self.column].words} '
                "must stand")

    @property
    def place(self) -> str:
        """Where it stands."""
        return f'{self.column.replace("_", " ")} of {self.row}'


def shown(value: Any) -> str:
    """A value in a sentence."""
    text = "nothing" if value is None else f"{len(value)} bytes" if isinstance(value, bytes) else repr(value)
    return text if len(text) <= 40 else f"{text[:40]}..."


def prepare(db: sqlite3.Connection) -> None:
    """Give a connection the functions by which `columns` asks."""
    db.create_function("is_text", 1, _is_text, deterministic=True)
    db.create_function("told", 1, _told, deterministic=True)


def _is_text(data: Any) -> bool:
    if not isinstance(data, bytes):
        return False
    try:
        return "\0" not in data.decode("utf-8")
    except UnicodeDecodeError:
        return False


def _told(value: Any) -> str:
    """A text in the place of something that is none."""
    text = value.decode("utf-8", "replace") if isinstance(value, bytes) else "" if value is None else str(value)
    return text.replace("\0", "\ufffd")[:2_000]


def _key(db: sqlite3.Connection, table: str) -> tuple[str, ...]:
    """Columns by which a row is found again."""
    try:
        db.execute(f"SELECT rowid FROM {table} LIMIT 0")
        return ("rowid",)
    except sqlite3.OperationalError:
        return tuple(f"CAST({r[1]} AS BLOB)" for r in db.execute(f'PRAGMA table_info("{table}")') if r[5])


def _there(db: sqlite3.Connection, table: str) -> list[str]:
    """Declared columns that a table has by now; those of measures come later."""
    there = {str(r[1]) for r in db.execute(f'PRAGMA table_info("{table}")')}
    return [n for n in COLUMNS[table] if n in there]


def wrong_values(db: sqlite3.Connection, tables: Iterable[str] = COLUMNS) -> Iterator[WrongValue]:
    """Every wrong value of some tables. db: a connection that was `prepare`d; tables that are not there are passed over."""
    for table in tables:
        asked = {name: COLUMNS[table][name].condition(name) for name in _there(db, table)}
        if not asked:
            continue
        key = _key(db, table)
        flags = ", ".join(f"NOT {sql}" for sql in asked.values())
        name = NAMED_BY.get(table, "NULL")
        rows = db.execute(f"SELECT {', '.join(key)}, told(CAST({name} AS BLOB)), {name} IS NULL, {flags} FROM {table} WHERE "
                          f"NOT ({_at_once(table, asked)}) LIMIT {MOST_ROWS}").fetchall()
        for row in rows:
            at = " AND ".join(f"{k} IS ?" for k in key), tuple(row[:len(key)])
            label = named(table, row[0], None if row[len(key) + 1] else row[len(key)])
            for column, wrong in zip(asked, row[len(key) + 2:]):
                if wrong:
                    yield WrongValue(table, column, label, _raw(db, table, column, at), at)


def _at_once(table: str, asked: dict[str, str]) -> str:
    """SQL that is true for a row whose values are all right: its texts are looked at together, which takes a third of the
    time. The separator keeps halves of a character in two columns apart."""
    texts = [n for n in asked if COLUMNS[table][n].right == TEXT]
    if len(texts) < 2:
        return " AND ".join(asked.values())
    kinds = [f"typeof({n}) IN ('text', 'null')" if COLUMNS[table][n].nothing else f"typeof({n}) = 'text'" for n in texts]
    together = " || char(1) || ".join(f"coalesce({n}, '')" if COLUMNS[table][n].nothing else n for n in texts)
    return " AND ".join([*(sql for n, sql in asked.items() if n not in texts), *kinds, f"is_text(CAST({together} AS BLOB))"])


def wrong_settings(db: sqlite3.Connection) -> Iterator[tuple[str, str]]:
    """Keys of small values that are not what stands under them, each with what is wrong."""
    for key, text in db.execute("SELECT told(CAST(key AS BLOB)), CAST(value AS BLOB) FROM settings").fetchall():
        if key.startswith("value:") and text is not None:
            try:
                check_value(key.removeprefix("value:"), json.loads(bytes(text)))
            except UNREADABLE as err:
                yield key.removeprefix("value:"), why(err)


def torn(db: sqlite3.Connection) -> list[tuple[str, tuple[str, tuple[Any, ...]], str]]:
    """Candidates without a body and bodies without a candidate, where they are few: table, row and its name."""
    found = []
    for table, key, other, its in (("candidates", "id", "bodies", "candidate"), ("bodies", "candidate", "candidates", "id")):
        rows = db.execute(f"SELECT {key} FROM {table} WHERE {key} NOT IN (SELECT {its} FROM {other}) LIMIT "
                          f"{MOST_ROWS + 1}").fetchall()
        if len(rows) <= MOST_ROWS:  # else the other table is gone, which was told
            found += [(table, (f"{key} IS ?", (r[0],)), f"one half of the candidate {r[0]}") for r in rows]
    return found


def _raw(db: sqlite3.Connection, table: str, column: str, at: tuple[str, tuple[Any, ...]]) -> Any:
    """A value as it is; text that is none as bytes."""
    kind, value = db.execute(f"SELECT typeof({column}), CASE typeof({column}) WHEN 'text' THEN CAST({column} AS BLOB) ELSE "
                             f"{column} END FROM {table} WHERE {at[0]}", at[1]).fetchone()
    if kind == "text":
        with suppress(UnicodeDecodeError):
            return bytes(value).decode("utf-8")
    return value


class Mending:
    """The wrong values of a database and what becomes of them. book: rows of the book that were left aside, which the journal
    has to tell again; entries: rows of markets that have to be made anew from their source."""

    def __init__(self, db: sqlite3.Connection, home: Path, folder: Path, tables: Iterable[str]) -> None:
        """home: where the database stands, with its copies; folder: of the project; tables: those that are looked at."""
        self.db, self.home, self.folder = db, home, folder
        self.book = 0
        self.entries: set[int] = set()
        self._tables = tuple(tables)
        self._wrong = list(wrong_values(db, self._tables))
        self._values = list(wrong_settings(db))
        self._torn = torn(db) if "bodies" in self._tables else []

    @property
    def wanted(self) -> bool:
        """Whether anything is to be mended."""
        return bool(self._wrong or self._values or self._torn)

    def do(self, aside: Aside) -> None:
        """Mend all, in one transaction, naming each. Every row is noted as it was before."""
        self._copies = copies_of(self.home)[:1]
        codes = {code_digest(str(r[0])): str(r[0]) for r in self.db.execute("SELECT told(CAST(code AS BLOB)) FROM markets")}
        self._told = told_rows(self.folder, codes)
        self.db.execute("BEGIN IMMEDIATE")
        try:
            while self._wrong:
                for one in self._wrong:
                    self._mend(one, aside)
                known, self._wrong = self._wrong, list(wrong_values(self.db, self._tables))
                if self._wrong == known:
                    break  # nothing could be done about these, and reading them says so
            for key, fault in self._values:
                self._mend_setting(key, fault, aside)
            for table, at, row in torn(self.db) if self._torn else ():
                leave_row(self.db, table, at, row, TORN)
                aside.add(row, f"{TORN}; the row is kept apart")
            self.db.execute("COMMIT")
        except BaseException:
            if self.db.in_transaction:
                self.db.execute("ROLLBACK")
            raise

    def _mend(self, one: WrongValue, aside: Aside) -> None:
        if self.db.execute(f"SELECT 1 FROM {one.table} WHERE {one.at[0]}", one.at[1]).fetchone() is None:
            return  # its row was left aside for another value
        if one.table == "searches" and one.column.startswith("sharpe"):  # the three of them make one figure
            leave_row(self.db, one.table, one.at, one.row, one.words, remove=False)
            self.db.execute(f"UPDATE searches SET sharpe_count = 0, sharpe_mean = 0, sharpe_m2 = 0 WHERE {one.at[0]}",
                            one.at[1])
            aside.add(one.place, f"{one.words}; its Sharpe ratios are not counted")
            return
        noted = leave_row(self.db, one.table, one.at, one.row, one.words, remove=False)
        value = self._known(one)
        if value is not None and self._set(one, "?", value[:1]):
            aside.add(one.place, f"{one.words}; what {value[1]} holds stands there now")
            return
        instead = COLUMNS[one.table][one.column].instead
        if instead is not None and self._set(one, instead.replace("{c}", one.column), ()):
            if COLUMNS[one.table][one.column].grows:
                self._at_least_as_copied(one)
            now = shown(_raw(self.db, one.table, one.column, one.at))
            aside.add(one.place, f"{one.words}; {now} stands there now, which can mislead nobody")
            if one.table == "markets":
                self.entries.add(int(one.at[1][0]))
            return
        if one.table in ("candidates", "bodies"):  # a candidate goes with its body
            self.db.execute("DELETE FROM left_aside WHERE id = ?", (noted,))
            for half, key in (("bodies", "candidate"), ("candidates", "id")):
                leave_row(self.db, half, (f"{key} IS ?", one.at[1]), one.row, one.words)
        else:
            self.db.execute(f"DELETE FROM {one.table} WHERE {one.at[0]}", one.at[1])
        self.book += one.table in BOOK
        aside.add(one.row, f"{one.words}; the row is kept apart")

    def _at_least_as_copied(self, one: WrongValue) -> None:
        """What grows is not less than the newest copy knows."""
        c = one.column
        for copy in self._copies:
            with suppress(sqlite3.Error), closing(reader(copy)) as old:
                prepare(old)
                found = old.execute(f"SELECT {c} FROM {one.table} WHERE {one.at[0]} AND {c} IS NOT NULL AND "
                                    f"{COLUMNS[one.table][c].condition(c)}", one.at[1]).fetchone()
                if found is not None:
                    self.db.execute(f"UPDATE {one.table} SET {c} = max({c}, ?) WHERE {one.at[0]}", (found[0], *one.at[1]))

    def _mend_setting(self, key: str, fault: str, aside: Aside) -> None:
        """Take a small value from the newest copy, or leave it aside."""
        at = ("key IS ?", (f"value:{key}",))
        self.book += key in BINDING  # a copy may not know the latest
        for copy in self._copies:
            with suppress(sqlite3.Error, *UNREADABLE), closing(reader(copy)) as old:
                text = old.execute(f"SELECT value FROM settings WHERE {at[0]}", at[1]).fetchone()[0]
                check_value(key, json.loads(text))
                leave_row(self.db, "settings", at, f'the remembered "{key}"', fault, remove=False)
                self.db.execute(f"UPDATE settings SET value = ? WHERE {at[0]}", (text, *at[1]))
                aside.add(f'the remembered "{key}"', f"{fault}; what the copy {copy.name} holds stands there now")
                return
        leave_row(self.db, "settings", at, f'the remembered "{key}"', fault)
        aside.add(f'the remembered "{key}"', f"{fault}; it is kept apart")

    def _set(self, one: WrongValue, sql: str, values: tuple[Any, ...]) -> bool:
        """Put something in the place of a value. Whether it is right now."""
        column = COLUMNS[one.table][one.column]
        try:
            self.db.execute(f"UPDATE {one.table} SET {one.column} = {sql} WHERE {one.at[0]}", (*values, *one.at[1]))
        except sqlite3.IntegrityError:
            return False
        found = self.db.execute(f"SELECT {column.condition(one.column)} FROM {one.table} WHERE {one.at[0]}",
                                one.at[1]).fetchone()
        return found is not None and bool(found[0])

    def _known(self, one: WrongValue) -> tuple[Any, str] | None:
        """What else tells a value, and who: the newest copy where all else of the row is the same, or the journals."""
        names = [n for n in _there(self.db, one.table) if n != one.column]
        cells = ", ".join(f"CAST({n} AS BLOB)" for n in names)
        mine = self.db.execute(f"SELECT {cells} FROM {one.table} WHERE {one.at[0]}", one.at[1]).fetchone()
        right = COLUMNS[one.table][one.column].condition(one.column)
        for copy in self._copies if not COLUMNS[one.table][one.column].grows else ():
            with suppress(sqlite3.Error), closing(reader(copy)) as old:
                prepare(old)
                found = old.execute(f"SELECT {cells}, {one.column}, {right} FROM {one.table} WHERE {one.at[0]}",
                                    one.at[1]).fetchone()
                if found is not None and found[-1] and tuple(found[:-2]) == tuple(mine):
                    return found[-2], f"the copy {copy.name}"
        texts = {n: "" if v is None else bytes(v).decode("utf-8", "replace") for n, v in zip(names, mine)}
        values = {line[one.column] for line in self._told.get(one.table, ()) if one.column in line
                  and all(str(line[n]) == texts[n] for n in line if n in texts)}
        return (values.pop(), "the journal of openings") if len(values) == 1 else None


def leave_row(db: sqlite3.Connection, table: str, at: tuple[str, tuple[Any, ...]], what: str, wrong: str,
              remove: bool = True) -> int:
    """Move a row into the table of what was left aside, where it stands as JSON; nothing where there is none. remove: false
    where the row stays, mended, and is only noted as it was. Returns the number under which it stands there, 0 for none."""
    names = _there(db, table)
    cells = ", ".join(f"typeof({n}), CAST({n} AS BLOB)" for n in names)
    found = db.execute(f"SELECT {cells} FROM {table} WHERE {at[0]}", at[1]).fetchone()
    if found is None:
        return 0
    body = {"table": table, "row": {n: _kept(kind, data) for n, kind, data in zip(names, found[::2], found[1::2])}}
    if remove:
        db.execute(f"DELETE FROM {table} WHERE {at[0]}", at[1])
    created = dt.datetime.now(dt.UTC).isoformat(timespec="seconds")
    made = db.execute("INSERT INTO left_aside (created, what, why, body) VALUES (?, ?, ?, ?)",
                      (created, what, wrong, json.dumps(body)))
    return int(made.lastrowid or 0)


def _kept(kind: str, data: bytes | None) -> Any:
    """A value as JSON keeps it whole."""
    if data is None:
        return None
    if kind in ("integer", "real"):
        return float(data) if kind == "real" else int(data)
    try:
        if kind == "text":
            return bytes(data).decode("utf-8")
    except UnicodeDecodeError:
        pass
    return {kind: base64.b64encode(bytes(data)).decode()}


def rows_left(rows: Iterable[Any]) -> list[tuple[str, str, str, Row]]:
    """When, what, why, and the row, of everything that was ever left aside; rows: what LEFT asks for. Row: "table" and its
    "row", columns by name."""
    found = []
    for created, what, wrong, body in rows:
        try:
            found.append((str(created), str(what), str(wrong), dict(json.loads(body))))
        except UNREADABLE:
            continue
    return found

