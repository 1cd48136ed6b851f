"""The project database: one list of migrations, applied in order, each in a transaction."""

from __future__ import annotations

import datetime as dt
import json
import sqlite3
from contextlib import closing
from functools import cache

from wolbrin.core.errors import EnvironmentTrouble
from wolbrin.core.proving.gate_names import OLD_KEYS
from wolbrin.core.store.to_five import tables_and_shelf

MIGRATIONS: tuple[str, ...] = (
    """
    CREATE TABLE settings (key TEXT PRIMARY KEY, value TEXT NOT NULL);
    CREATE TABLE markets (
        code TEXT PRIMARY KEY, position INTEGER NOT NULL, terms TEXT NOT NULL, source TEXT NOT NULL,
        file TEXT NOT NULL, minutes INTEGER NOT NULL, bars INTEGER NOT NULL, first TEXT NOT NULL, last TEXT NOT NULL,
        left_out INTEGER NOT NULL, off_grid INTEGER NOT NULL, hash TEXT NOT NULL, silhouette BLOB NOT NULL);
    CREATE TABLE strategies (
        id INTEGER PRIMARY KEY, name TEXT NOT NULL, body TEXT NOT NULL, hash TEXT NOT NULL,
        market TEXT NOT NULL, interval INTEGER NOT NULL, created TEXT NOT NULL, updated TEXT NOT NULL);
    CREATE TABLE runs (
        id INTEGER PRIMARY KEY, created TEXT NOT NULL, name TEXT NOT NULL, body TEXT NOT NULL, record TEXT NOT NULL,
        record_hash TEXT NOT NULL UNIQUE, summary TEXT NOT NULL, fingerprint TEXT NOT NULL);
    CREATE TABLE searches (
        id INTEGER PRIMARY KEY, created TEXT NOT NULL, kind TEXT NOT NULL, title TEXT NOT NULL, request TEXT NOT NULL,
        tried INTEGER NOT NULL, kept INTEGER NOT NULL, state TEXT NOT NULL);
    CREATE TABLE candidates (
        id INTEGER PRIMARY KEY, created TEXT NOT NULL, name TEXT NOT NULL, body TEXT NOT NULL, hash TEXT NOT NULL,
        market TEXT NOT NULL, interval INTEGER NOT NULL, origin TEXT NOT NULL, search INTEGER REFERENCES searches(id),
        tried INTEGER NOT NULL, record TEXT NOT NULL, summary TEXT NOT NULL, spark BLOB NOT NULL,
        UNIQUE (hash, market, interval));
    CREATE TABLE evidence (
        id INTEGER PRIMARY KEY, created TEXT NOT NULL, hash TEXT NOT NULL, market TEXT NOT NULL,
        interval INTEGER NOT NULL, gate TEXT NOT NULL, inputs TEXT NOT NULL, outcome TEXT NOT NULL,
        verdict TEXT NOT NULL, reason TEXT NOT NULL);
    CREATE INDEX evidence_of ON evidence (hash, market, interval);
    CREATE TABLE sweep_rows (
        search INTEGER NOT NULL REFERENCES searches(id), block INTEGER NOT NULL, settings BLOB NOT NULL,
        figures BLOB NOT NULL, PRIMARY KEY (search, block));
    CREATE TABLE openings (
        id INTEGER PRIMARY KEY, created TEXT NOT NULL, what TEXT NOT NULL);
    CREATE TABLE portfolios (
        id INTEGER PRIMARY KEY, created TEXT NOT NULL, name TEXT NOT NULL, members TEXT NOT NULL,
        summary TEXT NOT NULL);
    """,
    """
    CREATE TABLE sources (
        market TEXT NOT NULL, name TEXT NOT NULL, kind TEXT NOT NULL, file TEXT NOT NULL, ticks TEXT,
        interval INTEGER NOT NULL, rows INTEGER NOT NULL, first TEXT NOT NULL, last TEXT NOT NULL,
        treatment TEXT NOT NULL, rolls TEXT NOT NULL, cost_set TEXT NOT NULL, origin TEXT NOT NULL, layout TEXT,
        score REAL, PRIMARY KEY (market, name));
    INSERT INTO sources SELECT code, source, 'bars', file, NULL, minutes, bars, first, last, '{}', '[]', '', source,
        NULL, NULL FROM markets;
    CREATE TABLE treatments (
        id INTEGER PRIMARY KEY, created TEXT NOT NULL, market TEXT NOT NULL, source TEXT NOT NULL, body TEXT NOT NULL,
        words TEXT NOT NULL, hash TEXT NOT NULL);
    CREATE TABLE layouts (name TEXT PRIMARY KEY, body TEXT NOT NULL);
    """,
    """
    ALTER TABLE strategies ADD COLUMN parent INTEGER;
    """,
    """
    ALTER TABLE strategies ADD COLUMN span TEXT;
    ALTER TABLE sources ADD COLUMN adjust TEXT NOT NULL DEFAULT 'unadjusted';
    ALTER TABLE searches ADD COLUMN market TEXT NOT NULL DEFAULT '';
    ALTER TABLE searches ADD COLUMN interval INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE searches ADD COLUMN record TEXT;
    ALTER TABLE searches ADD COLUMN columns TEXT;
    ALTER TABLE searches ADD COLUMN seen TEXT;
    ALTER TABLE searches ADD COLUMN sharpe_count INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE searches ADD COLUMN sharpe_mean REAL NOT NULL DEFAULT 0;
    ALTER TABLE searches ADD COLUMN sharpe_m2 REAL NOT NULL DEFAULT 0;
    UPDATE searches SET market = coalesce(json_extract(request, '$.market'), ''),
        interval = coalesce(json_extract(request, '$.interval'), 0);
    ALTER TABLE candidates ADD COLUMN span TEXT;
    ALTER TABLE candidates ADD COLUMN record_key TEXT;
    ALTER TABLE candidates ADD COLUMN daily BLOB;
    ALTER TABLE evidence ADD COLUMN record TEXT;
    ALTER TABLE evidence ADD COLUMN record_key TEXT;
    ALTER TABLE evidence ADD COLUMN settings TEXT NOT NULL DEFAULT '{}';
    ALTER TABLE portfolios ADD COLUMN record TEXT;
    ALTER TABLE openings ADD COLUMN kind TEXT NOT NULL DEFAULT 'opened';
    ALTER TABLE openings ADD COLUMN market TEXT NOT NULL DEFAULT '';
    ALTER TABLE openings ADD COLUMN hash TEXT NOT NULL DEFAULT '';
    ALTER TABLE openings ADD COLUMN first TEXT;
    ALTER TABLE openings ADD COLUMN last TEXT;
    ALTER TABLE openings ADD COLUMN batch INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE openings ADD COLUMN size INTEGER NOT NULL DEFAULT 1;
    CREATE TABLE judged (
        id INTEGER PRIMARY KEY, created TEXT NOT NULL, market TEXT NOT NULL, hash TEXT NOT NULL, name TEXT NOT NULL,
        verdict TEXT NOT NULL, reason TEXT NOT NULL, daily BLOB);
    CREATE INDEX judged_of ON judged (market, hash);
    CREATE TABLE borders (
        id INTEGER PRIMARY KEY, created TEXT NOT NULL, old TEXT NOT NULL, new TEXT NOT NULL, why TEXT NOT NULL,
        candidates INTEGER NOT NULL);
    """,
    """
    ALTER TABLE searches ADD COLUMN cursor TEXT;
    ALTER TABLE searches ADD COLUMN program TEXT NOT NULL DEFAULT '';
    CREATE INDEX searches_on ON searches (market, kind, tried);
    CREATE TABLE parts (
        id INTEGER PRIMARY KEY, owner TEXT NOT NULL, name TEXT NOT NULL, file TEXT NOT NULL UNIQUE,
        rows INTEGER NOT NULL, digest TEXT NOT NULL);
    CREATE INDEX parts_of ON parts (owner, name);
    CREATE TABLE pending (
        id INTEGER PRIMARY KEY, owner TEXT NOT NULL, name TEXT NOT NULL, rows INTEGER NOT NULL, data BLOB NOT NULL);
    CREATE INDEX pending_of ON pending (owner, name);
    CREATE TABLE marks (search INTEGER NOT NULL, mark TEXT NOT NULL, PRIMARY KEY (search, mark)) WITHOUT ROWID;
    ALTER TABLE candidates RENAME TO old_candidates;
    CREATE TABLE candidates (
        id INTEGER PRIMARY KEY, created TEXT NOT NULL, name TEXT NOT NULL, hash TEXT NOT NULL, market TEXT NOT NULL,
        interval INTEGER NOT NULL, origin TEXT NOT NULL, search INTEGER, tried INTEGER NOT NULL, record_key TEXT,
        span TEXT, stands TEXT, ticked INTEGER NOT NULL DEFAULT 0, tags TEXT NOT NULL DEFAULT '',
        place TEXT NOT NULL DEFAULT '', words TEXT NOT NULL, made TEXT NOT NULL, UNIQUE (hash, market, interval));
    CREATE TABLE bodies (
        candidate INTEGER PRIMARY KEY REFERENCES candidates (id) ON DELETE CASCADE, body TEXT NOT NULL,
        record TEXT NOT NULL, summary TEXT NOT NULL, spark BLOB NOT NULL, daily BLOB);
    CREATE INDEX candidates_stands ON candidates (stands);
    CREATE INDEX candidates_tick ON candidates (ticked);
    CREATE INDEX candidates_created ON candidates (created);
    CREATE INDEX candidates_search ON candidates (search);
    CREATE INDEX candidates_ticked ON candidates (ticked) WHERE ticked;
    CREATE INDEX judged_at ON judged (hash, market);
    """,
    """
    ALTER TABLE candidates ADD COLUMN number INTEGER;
    ALTER TABLE candidates ADD COLUMN alike INTEGER NOT NULL DEFAULT 1;
    ALTER TABLE candidates ADD COLUMN star INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE candidates ADD COLUMN notes TEXT NOT NULL DEFAULT '';
    ALTER TABLE candidates ADD COLUMN family TEXT;
    ALTER TABLE candidates ADD COLUMN cluster INTEGER;
    CREATE INDEX candidates_star ON candidates (star) WHERE star;
    CREATE INDEX candidates_family ON candidates (family COLLATE NOCASE);
    CREATE INDEX candidates_cluster ON candidates (cluster);
    CREATE INDEX candidates_alike ON candidates (alike);
    CREATE INDEX candidates_notes ON candidates (notes COLLATE NOCASE);
    """,
    """
    ALTER TABLE strategies ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
    """,
    """
    ALTER TABLE portfolios ADD COLUMN plan TEXT;
    """,
    """
    ALTER TABLE sources ADD COLUMN months TEXT;
    ALTER TABLE judged ADD COLUMN told TEXT;
    CREATE TABLE plans (
        id INTEGER PRIMARY KEY, created TEXT NOT NULL, number INTEGER NOT NULL, digest TEXT NOT NULL, body TEXT NOT NULL,
        done INTEGER NOT NULL DEFAULT 0);
    CREATE TABLE answers (
        id INTEGER PRIMARY KEY, created TEXT NOT NULL, about TEXT NOT NULL UNIQUE, answer TEXT NOT NULL);
    """,
    """
    CREATE TABLE left_aside (
        id INTEGER PRIMARY KEY, created TEXT NOT NULL, what TEXT NOT NULL, why TEXT NOT NULL, body TEXT NOT NULL);
    """,
    """
    ALTER TABLE candidates ADD COLUMN leads INTEGER;
    ALTER TABLE candidates ADD COLUMN behind INTEGER NOT NULL DEFAULT 0;
    CREATE INDEX candidates_leads ON candidates (leads);
    CREATE INDEX candidates_behind ON candidates (behind);
    """,
    # A gate's key is its title's: what was judged before stays its.
    ";".join(f"UPDATE evidence SET gate = '{new}' WHERE gate = '{old}'" for old, new in OLD_KEYS.items()),
)
SCHEMA_VERSION = len(MIGRATIONS)


def _own_spans_and_old_verdicts(db: sqlite3.Connection) -> None:
    """What version 4 needs beyond new columns: own spans go from names to strategies; whatever any search or own span may
    have seen is marked as seen; futures joined before say how; verdicts of the holdout that were falls stay falls."""
    found = db.execute("SELECT value FROM settings WHERE key = 'project'").fetchone()
    settings = json.loads(found[0]) if found else {}
    border = settings.get("holdout_first", "2022-07-01")
    day_before = (dt.date.fromisoformat(border) - dt.timedelta(days=1)).isoformat()
    seen = [day_before]
    for name, own in (settings.pop("spans", None) or {}).items():
        last = (dt.date.fromisoformat(own["holdout_first"]) - dt.timedelta(days=1)).isoformat()
        seen.append(last)
        kept = {"first": own["training_first"], "last": min(last, day_before)}
        if kept["first"] <= kept["last"]:
            db.execute("UPDATE strategies SET span = ? WHERE name = ?", (json.dumps(kept), name))
    if found:
        db.execute("UPDATE settings SET value = ? WHERE key = 'project'", (json.dumps(settings),))
    for (record,) in db.execute("SELECT record FROM candidates UNION ALL SELECT record FROM runs").fetchall():
        last = json.loads(record or "{}").get("last")
        seen += [last] if last else []
    db.execute("UPDATE searches SET seen = ?", (max(seen),))
    for kind, columns in (("sweep", OLD_SWEEP), ("trial", OLD_TRIAL)):
        db.execute("UPDATE searches SET columns = ? WHERE kind = ?", (json.dumps(columns), kind))
    for how in ("difference", "ratio"):
        db.execute("UPDATE sources SET adjust = ? WHERE kind = 'continuous' AND origin LIKE ?",
                   (f"{how} before", f"%, {how}"))
    db.execute("INSERT INTO judged (created, market, hash, name, verdict, reason) SELECT created, market, hash, "
               "'rules judged before', verdict, reason FROM evidence WHERE gate = 'holdout' AND verdict = 'falls'")
    db.execute("UPDATE openings SET batch = id")


# What stored rows meant before they said so.
OLD_SWEEP = ("net", "trades", "profit_factor", "win_rate", "average", "t", "max_drawdown", "return_drawdown", "sharpe")
OLD_TRIAL = ("net", "return_drawdown", "profit_factor", "trades", "win_rate", "max_drawdown")
AFTER = {4: _own_spans_and_old_verdicts, 5: tables_and_shelf}


FAR = 40  # numbers of versions; what lies further ahead is a slip of a bit rather than a newer program


def tables_of(db: sqlite3.Connection) -> dict[str, set[str]]:
    """Tables and their columns, those of measures left out: they come and go with the list of measures."""
    asked = "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'"
    names = [str(r[0]) for r in db.execute(asked)]
    return {name: {str(r[1]) for r in db.execute(f'PRAGMA table_info("{name}")') if not str(r[1]).startswith("m_")}
            for name in names}


@cache
def _shapes() -> tuple[dict[str, set[str]], ...]:
    """Tables and columns of each version, from 0."""
    with closing(sqlite3.connect(":memory:", isolation_level=None)) as fresh:
        shapes = [tables_of(fresh)]
        for number in range(SCHEMA_VERSION):
            _step(fresh, number)
            shapes.append(tables_of(fresh))
    return tuple(shapes)


def newest_tables() -> dict[str, set[str]]:
    """Tables and columns of this program's version."""
    return _shapes()[-1]


def version_of(db: sqlite3.Connection) -> tuple[int, int]:
    """The schema that a database says it has, and the one that its tables show: a number is a few bits, and goes by itself
    when one of them turns. The version is the one from which the tables differ least, what it says where two are as near."""
    said, there = int(db.execute("PRAGMA user_version").fetchone()[0]), tables_of(db)
    if not there or SCHEMA_VERSION < said < SCHEMA_VERSION + FAR:
        return said, said

    known = set().union(*_shapes())

    def differs(number: int) -> int:
        """In how many tables: other columns, missing, or of another version."""
        shape = _shapes()[number]
        return sum(there.get(t) != shape.get(t) for t in known & (shape.keys() | there.keys()))

    return said, min(range(1, SCHEMA_VERSION + 1), key=lambda n: (differs(n), n != said, -n))


def _step(connection: sqlite3.Connection, number: int) -> None:
    """From one version to the next."""
    for statement in MIGRATIONS[number].split(";"):
        if statement.strip():
            connection.execute(statement)
    AFTER.get(number + 1, lambda db: None)(connection)
    connection.execute(f"PRAGMA user_version = {number + 1}")


def migrate(connection: sqlite3.Connection, where: str) -> None:
    """Bring a database up to this program's schema; refuse one that is newer. Each step is a transaction."""
    said, version = version_of(connection)
    if version > SCHEMA_VERSION:
        raise EnvironmentTrouble(f"this project has schema {version}, newer than this program knows "
                                 f"({SCHEMA_VERSION})", where, "Open it with a newer Wolbrin; nothing was changed.")
    if version < 0:
        raise EnvironmentTrouble(f"this project's database is damaged (it says that its schema is {version})", where,
                                 "`wolbrin check FOLDER` says what is wrong; with --restore it puts the newest sound copy "
                                 "back.")
    if said != version:
        connection.execute(f"PRAGMA user_version = {version}")
    for number in range(version, SCHEMA_VERSION):
        connection.execute("BEGIN IMMEDIATE")
        try:
            # Another program may have done this step while we waited for the lock.
            if int(connection.execute("PRAGMA user_version").fetchone()[0]) <= number:
                _step(connection, number)
            connection.execute("COMMIT")
        except BaseException:
            if connection.in_transaction:  # a full disk has ended it already
                connection.execute("ROLLBACK")
            raise
