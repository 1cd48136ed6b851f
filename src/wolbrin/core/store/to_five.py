"""From schema 4 to 5: rows of searches get named columns, the Shelf becomes a table that the database sorts and filters."""

from __future__ import annotations

import json
import sqlite3
from typing import Any

import numpy as np

from wolbrin.core.store.tables import pack_table


def tables_and_shelf(db: sqlite3.Connection) -> None:
    """Convert what version 4 kept by position."""
    db.row_factory = sqlite3.Row
    _rows_by_name(db)
    _shelf(db)
    db.execute("UPDATE searches SET state = 'interrupted' WHERE state = 'running'")


def _rows_by_name(db: sqlite3.Connection) -> None:
    for search in db.execute("SELECT id, kind, request, columns FROM searches WHERE id IN "
                             "(SELECT search FROM sweep_rows)").fetchall():
        request, figures = json.loads(search["request"]), json.loads(search["columns"] or "[]")
        names = ["row", "column", "deal"] if search["kind"] == "trial" else [f"set.{a['key']}" for a in request["axes"]]
        for block in db.execute("SELECT settings, figures FROM sweep_rows WHERE search = ? ORDER BY block",
                                (search["id"],)).fetchall():
            x = np.frombuffer(block["settings"]).reshape(-1, len(names))
            y = np.frombuffer(block["figures"]).reshape(len(x), -1)
            columns = {name: x[:, i] for i, name in enumerate(names)} | {key: y[:, i] for i, key in enumerate(figures)}
            db.execute("INSERT INTO pending (owner, name, rows, data) VALUES (?, 'rows', ?, ?)",
                       (f"search {search['id']}", len(x), pack_table(columns)))
    db.execute("DROP TABLE sweep_rows")


def _words(record: dict[str, Any]) -> str:
    """What a record says until it is read whole."""
    return f"{record.get('market', '')} {record.get('first') or ''} to {record.get('last') or ''}".strip()


def _shelf(db: sqlite3.Connection) -> None:
    """Bodies apart; words, figures and standing are filled in when the project is opened (see store.shelf)."""
    ticked = db.execute("SELECT value FROM settings WHERE key = 'value:selection'").fetchone()
    chosen = set(json.loads(ticked["value"])) if ticked else set()
    for r in db.execute("SELECT * FROM old_candidates ORDER BY id").fetchall():
        db.execute("INSERT INTO candidates (id, created, name, hash, market, interval, origin, search, tried, record_key, "
                   "span, ticked, words, made) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, '', ?)",
                   (r["id"], r["created"], r["name"], r["hash"], r["market"], r["interval"], r["origin"], r["search"],
                    r["tried"], r["record_key"], r["span"], int(r["id"] in chosen), _words(json.loads(r["record"] or "{}"))))
        db.execute("INSERT INTO bodies VALUES (?, ?, ?, ?, ?, ?)",
                   (r["id"], r["body"], r["record"], r["summary"], r["spark"], r["daily"]))
    db.execute("DROP TABLE old_candidates")
    db.execute("DELETE FROM settings WHERE key = 'value:selection'")
