"""Results of searches and gates: tables with named columns that grow while work runs.

New rows are committed into the database together with the state of the work; once there are many, or the work is over, they
move into a Parquet file, which the database names from then on in the same transaction.
"""

from __future__ import annotations

import logging
from collections.abc import Mapping, Sequence
from pathlib import Path

from wolbrin.core.errors import EnvironmentTrouble
from wolbrin.core.store.database import Database
from wolbrin.core.store.tables import Array, Columns, joined, pack_table, read_table, rows_of, unpack_table, write_table
from wolbrin.core.written import inside

log = logging.getLogger("wolbrin")
RESULTS = "results"
SEAL_AT = 20_000  # rows that wait in the database before they move into a file
SEAL_BYTES = 32_000_000


def search_owner(id: int) -> str:
    """The owner's name of a search's tables."""
    return f"search {id}"


class Results:
    """Reads and writes the tables of a project. owner: whose they are, such as "search 12"."""

    def __init__(self, db: Database) -> None:
        self.db = db
        self.folder = db.folder / RESULTS

    def add(self, owner: str, name: str, columns: Mapping[str, Array]) -> None:
        """Add rows to a table; part of whatever transaction is open."""
        rows = rows_of(columns)
        if rows:
            with self.db.transaction() as db:
                db.execute("INSERT INTO pending (owner, name, rows, data) VALUES (?, ?, ?, ?)",
                           (owner, name, rows, pack_table(columns)))

    def replace(self, owner: str, name: str, columns: Mapping[str, Array]) -> None:
        """Put rows in the place of all that a table has; part of whatever transaction is open. A file that held them is left
        over then (see store.leftovers)."""
        with self.db.transaction() as db:
            for table in ("pending", "parts"):
                db.execute(f"DELETE FROM {table} WHERE owner = ? AND name = ?", (owner, name))
            self.add(owner, name, columns)

    def seal(self, owner: str, *, all: bool = False) -> None:
        """Move waiting rows into files: all, or where there are many. What cannot be written stays where it is."""
        for r in self.db.rows("SELECT name, sum(rows) n, sum(length(data)) size, max(id) last FROM pending WHERE owner = ? "
                              "GROUP BY name", owner):
            if not all and r["n"] < SEAL_AT and r["size"] < SEAL_BYTES:
                continue
            waiting = self.db.rows("SELECT data FROM pending WHERE owner = ? AND name = ? AND id <= ? ORDER BY id", owner,
                                   r["name"], r["last"])
            whole = joined([unpack_table(w["data"]) for w in waiting])
            number = self.db.rows("SELECT coalesce(max(id), 0) + 1 n FROM parts")[0]["n"]
            file = f"{owner.replace(' ', '-')}__{r['name']}__{number}.parquet"
            try:
                digest = write_table(self.folder / file, whole)
            except EnvironmentTrouble as err:
                log.warning("rows of %s stay in the database: %s", owner, err.sentence())
                continue
            with self.db.transaction() as db:
                db.execute("INSERT INTO parts (owner, name, file, rows, digest) VALUES (?, ?, ?, ?, ?)",
                           (owner, r["name"], file, rows_of(whole), digest))
                db.execute("DELETE FROM pending WHERE owner = ? AND name = ? AND id <= ?", (owner, r["name"], r["last"]))

    def table(self, owner: str, name: str, wanted: Sequence[str] | None = None) -> Columns:
        """A table as far as it has come, in the order in which its rows were added; no columns when there is none.

        Raises:
            EnvironmentTrouble: a file of it is missing, cut short or damaged.
        """
        with self.db.transaction(derived=True):  # so that no row moves between the two looks
            files = self.db.rows("SELECT file, digest FROM parts WHERE owner = ? AND name = ? ORDER BY id", owner, name)
            waiting = self.db.rows("SELECT data FROM pending WHERE owner = ? AND name = ? ORDER BY id", owner, name)
        parts = [read_table(inside(self.folder, f["file"]), f["digest"], wanted) for f in files]
        return joined(parts + [unpack_table(w["data"], wanted) for w in waiting])

    def names(self, owner: str) -> list[str]:
        """An owner's tables, in the order in which they were begun."""
        found = self.db.rows("SELECT name, min(at) at FROM (SELECT name, id at FROM parts WHERE owner = ? UNION ALL "
                             "SELECT name, id at FROM pending WHERE owner = ?) GROUP BY name ORDER BY at", owner, owner)
        return [r["name"] for r in found]

    def rows(self, owner: str, name: str) -> int:
        """How many rows a table has."""
        return int(self.db.rows("SELECT (SELECT coalesce(sum(rows), 0) FROM parts WHERE owner = ? AND name = ?) + "
                                "(SELECT coalesce(sum(rows), 0) FROM pending WHERE owner = ? AND name = ?) n",
                                owner, name, owner, name)[0]["n"])

    def drop(self, owner: str) -> None:
        """Forget an owner's tables; their files are left over then (see store.leftovers)."""
        with self.db.transaction() as db:
            db.execute("DELETE FROM parts WHERE owner = ?", (owner,))
            db.execute("DELETE FROM pending WHERE owner = ?", (owner,))

    def check(self, owner: str) -> list[str]:
        """What is wrong with an owner's files, a sentence each."""
        found = []
        for r in self.db.rows("SELECT file, digest FROM parts WHERE owner = ? ORDER BY id", owner):
            try:
                read_table(inside(self.folder, r["file"]), r["digest"], ())
            except EnvironmentTrouble as err:
                found.append(err.sentence())
        return found


def files_named(db: Database) -> set[Path]:
    """All files of results that the database names."""
    return {db.folder / RESULTS / r["file"] for r in db.rows("SELECT file FROM parts")}
