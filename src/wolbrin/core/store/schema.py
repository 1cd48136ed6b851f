"""The project database: one list of migrations, applied in order, each in a transaction."""

from __future__ import annotations

import sqlite3

from wolbrin.core.errors import EnvironmentTrouble

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
)
SCHEMA_VERSION = len(MIGRATIONS)


def migrate(connection: sqlite3.Connection, where: str) -> None:
    """Bring a database up to this program's schema; refuse one that is newer."""
    version = int(connection.execute("PRAGMA user_version").fetchone()[0])
    if version > SCHEMA_VERSION:
        raise EnvironmentTrouble(f"this project has schema {version}, newer than this program knows "
                                 f"({SCHEMA_VERSION})", where, "Open it with a newer Wolbrin; nothing was changed.")
    for number in range(version, SCHEMA_VERSION):
        connection.executescript(f"BEGIN; {MIGRATIONS[number]} PRAGMA user_version = {number + 1}; COMMIT;")
