"""Searches of a project: what was tried, how it did by name, where it stands, and how many alternatives that makes on each
market."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.record import Record, read_record
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.jobs import State
from wolbrin.core.measures.inference import Tally
from wolbrin.core.store.aside import UNREADABLE, why
from wolbrin.core.store.database import Database, lives, this_program
from wolbrin.core.store.results import Results, search_owner
from wolbrin.core.store.same import SAME, codes_of
from wolbrin.core.store.tables import Array, Columns

Floats = NDArray[np.float64]
KINDS = ("sweep", "control", "trial", "discover", "scan", "walk", "portfolio")  # of searches that people ask for
CALLED = {"discover": "search of Discover", "walk": "walk-forward"}  # others by their kind
ROWS, DAILY = "rows", "daily"  # tables of a search: one row a set or test, and daily results of some of them
INTERRUPTED = "interrupted"
UNFINISHED = (INTERRUPTED, State.STOPPED.value, State.FAILED.value)
REQUEST_VERSION = 2


@contextmanager
def search_read() -> Iterator[None]:
    """Around whatever reads a search that is stored, also as a decorator: what cannot be read is a sentence.

    Raises:
        UserError: it is not what this program, or any, wrote.
    """
    try:
        yield
    except WolbrinError:
        raise
    except UNREADABLE as err:
        raise UserError(f"this search cannot be read any more ({type(err).__name__}: {why(err)})", "",
                        "Run it again; all else stays in use.") from err


def now_tally(row: Any) -> Tally:
    """The tally of daily Sharpe ratios in a row of the table of searches."""
    return Tally(row["sharpe_count"], row["sharpe_mean"], row["sharpe_m2"])


def matrix(columns: Columns, wanted: Sequence[str]) -> Floats:
    """float64[n, len(wanted)]: the columns asked for, NaN for those that are not there."""
    rows = len(next(iter(columns.values()))) if columns else 0
    out = np.full((rows, len(wanted)), np.nan)
    for at, key in enumerate(wanted):
        if key in columns:
            out[:, at] = columns[key]
    return out


@dataclass(frozen=True)
class StoredSearch:
    """A search on record. request: what was asked, as JSON. cursor: where its source stood at the last commit. state:
    running, done, stopped, failed, or interrupted where its program ended under it."""

    id: int
    created: str
    kind: str
    title: str
    request: dict[str, Any]
    tried: int
    kept: int
    state: str
    market: str
    interval: int
    cursor: dict[str, Any] | None

    @property
    def unfinished(self) -> bool:
        """Whether there is something to go on with."""
        return self.state in UNFINISHED and self.cursor is not None


class Searches:
    """Reads and writes the searches in a project's database."""

    def __init__(self, db: Database) -> None:
        self.db = db
        self.results = Results(db)

    def begin(self, created: str, kind: str, title: str, request: dict[str, Any], *, record: Record | None = None,
              market: str = "", interval: int = 0, columns: Sequence[str] = (), cursor: dict[str, Any] | None = None) -> int:
        """Write a search down before it runs. What its record's span covers counts as seen from now on. cursor: where its
        source stands, when it can be gone on with."""
        seen = record.last.isoformat() if record is not None and record.last is not None else None
        with self.db.transaction() as db:
            made = db.execute(
                "INSERT INTO searches (created, kind, title, request, tried, kept, state, market, interval, record, columns, "
                "seen, cursor, program) VALUES (?, ?, ?, ?, 0, 0, 'running', ?, ?, ?, ?, ?, ?, ?)",
                (created, kind, title, json.dumps({"version": REQUEST_VERSION} | request), market, interval,
                 record.model_dump_json() if record is not None else None, json.dumps(list(columns)), seen,
                 json.dumps(cursor) if cursor is not None else None, this_program()))
            return int(made.lastrowid or 0)

    def advance(self, id: int, tried: int, kept: int, sharpe: Sequence[Tally] = ()) -> None:
        """Add to what a search has tried and kept; sharpe: daily Sharpe ratios of what was tried since the last time, piece
        by piece, so that the sum does not depend on how many were committed together."""
        with self.db.transaction() as db:
            row = db.execute("SELECT * FROM searches WHERE id = ?", (id,)).fetchone()
            t = now_tally(row)
            for piece in sharpe:
                t = t.with_(piece)
            db.execute("UPDATE searches SET tried = tried + ?, kept = kept + ?, sharpe_count = ?, sharpe_mean = ?, "
                       "sharpe_m2 = ? WHERE id = ?", (tried, kept, t.count, t.mean, t.m2, id))

    def counted(self, id: int, tried: int) -> None:
        """Say what a search counts for where that is no number of runs, such as a scan's."""
        with self.db.transaction() as db:
            db.execute("UPDATE searches SET tried = ? WHERE id = ?", (tried, id))

    def close(self, id: int) -> None:
        """Write down that one is done which only counts."""
        with self.db.transaction() as db:
            db.execute("UPDATE searches SET state = ? WHERE id = ?", (State.DONE.value, id))

    def commit(self, id: int, cursor: dict[str, Any], tables: Mapping[str, Mapping[str, Array]]) -> None:
        """Keep new rows of a search's tables and where its source stands, together."""
        with self.db.transaction() as db:
            for name, columns in tables.items():
                self.results.add(search_owner(id), name, columns)
            db.execute("UPDATE searches SET cursor = ? WHERE id = ?", (json.dumps(cursor), id))

    def add(self, id: int, name: str, columns: Mapping[str, Array]) -> None:
        """Add rows to a table of a search."""
        self.results.add(search_owner(id), name, columns)

    def tidy(self, id: int) -> None:
        """Move rows into files where many wait; outside a transaction."""
        self.results.seal(search_owner(id))

    def end(self, id: int, state: State) -> None:
        """Write down how a search ended, and move its rows into files."""
        with self.db.transaction() as db:
            db.execute("UPDATE searches SET state = ? WHERE id = ?", (state.value, id))
        self.results.seal(search_owner(id), all=True)

    def revise(self, id: int, request: dict[str, Any], record: Record) -> None:
        """Write down that a search goes further than it was asked at first, and what makes it now."""
        seen = record.last.isoformat() if record.last is not None else None
        with self.db.transaction() as db:
            db.execute("UPDATE searches SET request = ?, record = ?, "
                       "seen = nullif(max(coalesce(seen, ''), coalesce(?, '')), '') "
                       "WHERE id = ?",
                       (json.dumps({"version": REQUEST_VERSION} | request), record.model_dump_json(), seen, id))

    def rename(self, id: int, title: str) -> None:
        """Give a search another title."""
        with self.db.transaction() as db:
            db.execute("UPDATE searches SET title = ? WHERE id = ?", (title, id))

    # Going on

    def settle(self) -> None:
        """Searches that a program left running when it ended are interrupted."""
        running = self.db.rows("SELECT DISTINCT program FROM searches WHERE state = 'running'")
        gone = [r["program"] for r in running if not lives(r["program"])]
        if gone:
            with self.db.transaction() as db:
                db.executemany("UPDATE searches SET state = ? WHERE state = 'running' AND program = ?",
                               [(INTERRUPTED, program) for program in gone])

    def take_up(self, id: int) -> StoredSearch:
        """Mark an unfinished search as running here.

        Raises:
            UserError: there is none of that number, it is finished or running, or it was asked by a newer program.
        """
        with self.db.transaction() as db:
            found = self.get(id)
            if found.state == "running":
                raise UserError("this search is running already, here or in another program", found.title,
                                "Wait for it, or stop it there.")
            if not found.unfinished:
                raise UserError("there is nothing to go on with: this search is finished", found.title, "Start a new one.")
            check_version(found)
            db.execute("UPDATE searches SET state = 'running', program = ? WHERE id = ?", (this_program(), id))
            return found

    def again(self, id: int) -> StoredSearch:
        """Mark a search as running here, a finished one too: something more is asked of what it has. Raises UserError where
        it is running already, or was asked by a newer program."""
        with self.db.transaction() as db:
            found = self.get(id)
            if found.state == "running":
                raise UserError("this search is running already, here or in another program", found.title,
                                "Wait for it, or stop it there.")
            check_version(found)
            db.execute("UPDATE searches SET state = 'running', program = ? WHERE id = ?", (this_program(), id))
            return found

    def get(self, id: int) -> StoredSearch:
        """A search by its number. Raises UserError where there is none."""
        found = self.db.rows("SELECT * FROM searches WHERE id = ?", id)
        if not found:
            raise UserError(f"there is no search {id} in this project", str(self.db.folder), "See which there are.")
        return self._made(found[0])

    def asked(self, id: int, kind: str) -> StoredSearch:
        """A search of a kind by its number. Raises UserError where there is none, or it is of another kind."""
        found = self.get(id)
        if found.kind != kind and found.kind in KINDS:
            raise UserError(f"search {id} is a {CALLED.get(found.kind, found.kind)}, and a {CALLED.get(kind, kind)} is asked "
                            f"for",
                            found.title, "See which there are with `wolbrin searches`.")
        return found

    @staticmethod
    def _made(r: Any) -> StoredSearch:
        return StoredSearch(r["id"], r["created"], r["kind"], r["title"], json.loads(r["request"]), r["tried"], r["kept"],
                            r["state"], r["market"], r["interval"], json.loads(r["cursor"]) if r["cursor"] else None)

    def all(self, kinds: Sequence[str]) -> list[StoredSearch]:
        """Searches of some kinds, oldest first. What one of several markets tried is counted by market, and summed here."""
        marks = ", ".join("?" * len(kinds))
        parts = {int(r["whole"]): int(r["n"]) for r in self.db.rows(
            "SELECT coalesce(json_extract(request, '$.sweep'), json_extract(request, '$.trial'), "
            "json_extract(request, '$.discover'), json_extract(request, '$.scan')) whole, sum(tried) n FROM searches "
            "WHERE kind IN ('sweep place', 'trial column', 'discover place', 'scan place') AND json_valid(request) "
            "GROUP BY whole HAVING whole IS NOT NULL")}
        found = self._readable(self.db.rows(f"SELECT * FROM searches WHERE kind IN ({marks}) ORDER BY id", *kinds))
        return [replace(s, tried=s.tried + parts.get(s.id, 0)) for s in found]

    def owners(self, whole: int, kind: str, word: str, places: int) -> tuple[int, ...]:
        """The searches that count each place of a search of several; itself where it has one. word: under which they name
        it."""
        if places == 1:
            return (whole,)
        found = self.db.rows("SELECT id FROM searches WHERE kind = ? AND json_extract(request, '$.' || ?) = ? ORDER BY id",
                             kind, word, whole)
        return tuple(int(r["id"]) for r in found)

    def interrupted(self) -> list[StoredSearch]:
        """Searches whose program ended under them, newest first."""
        return self._readable(self.db.rows(
            "SELECT * FROM searches WHERE state = ? AND cursor IS NOT NULL ORDER BY id DESC", INTERRUPTED))

    def _readable(self, rows: Iterable[Any]) -> list[StoredSearch]:
        return self.db.aside.readable(rows, self._made, lambda r: f'the search "{r["title"]}"')

    # Rows

    def rows(self, id: int, name: str = ROWS) -> Columns:
        """A table of a search, each column under its name."""
        return self.results.table(search_owner(id), name)

    def record(self, id: int) -> Record | None:
        """What made a search; None where its brief was not recorded."""
        text = self.db.rows("SELECT record FROM searches WHERE id = ?", id)[0]["record"]
        return read_record(json.loads(text), f"{self.db.folder}, search {id}") if text else None

    def last(self, kind: str, request_kind: str = "") -> int | None:
        """The newest search of a kind that has rows, or that can be gone on with."""
        found = self.db.rows(
            "SELECT id FROM searches s WHERE kind = ? AND json_valid(request) AND "
            "(? = '' OR json_extract(request, '$.kind') = ?) AND (EXISTS (SELECT 1 FROM parts WHERE owner = 'search ' || "
            "s.id AND name = ?) OR EXISTS (SELECT 1 FROM pending WHERE owner = 'search ' || s.id AND name = ?)) "
            "ORDER BY id DESC LIMIT 1", kind, request_kind, request_kind, ROWS, ROWS)
        return int(found[0]["id"]) if found else None

    # One meaning of tried

    def tried(self) -> dict[str, int]:
        """By market: parameter sets, draws and trial cells among which a selection was possible, whatever the tool and the
        interval. Controls on shuffled histories and re-runs inside a gate are none."""
        own = {r["market"]: int(r["n"]) for r in self.db.rows(
            "SELECT market, sum(tried) n FROM searches WHERE kind != 'study' GROUP BY market")}
        same = self.db.get_value(SAME, {})
        return {m: sum(own.get(c, 0) for c in same.get(m, [m])) for m in {*own, *same}}

    def tried_on(self, market: str) -> int:
        """How many alternatives were tried on a market, under whatever code its bars stand in the project."""
        codes = codes_of(self.db, market)
        return int(self.db.rows("SELECT coalesce(sum(tried), 0) n FROM searches WHERE kind != 'study' AND market IN "
                                f"({', '.join('?' * len(codes))})", *codes)[0]["n"])

    def sharpe_on(self, market: str) -> Tally:
        """Count, mean and spread of the daily Sharpe ratio over all that was tried on a market."""
        total = Tally()
        codes = codes_of(self.db, market)
        for row in self.db.rows("SELECT * FROM searches WHERE kind != 'study' AND market IN "
                                f"({', '.join('?' * len(codes))}) ORDER BY id", *codes):
            total = total.with_(now_tally(row))
        return total


def check_version(search: StoredSearch) -> None:
    """Raises UserError where a search was asked by a newer program."""
    version = search.request.get("version", REQUEST_VERSION)
    if not isinstance(version, int) or version > REQUEST_VERSION:
        raise UserError(f"this search was asked by a newer program (version {version}, this one knows {REQUEST_VERSION})",
                        search.title, "Go on with it in that program, or run it again here.")
