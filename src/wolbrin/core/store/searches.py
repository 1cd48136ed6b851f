"""Searches of a project: what was tried, how it did by name, and how many alternatives that makes on each market."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.record import Record, read_record
from wolbrin.core.measures.inference import Tally

if TYPE_CHECKING:
    from wolbrin.core.store.project import Project

Floats = NDArray[np.float64]


def now_tally(row: Any) -> Tally:
    """The tally of daily Sharpe ratios in a row of the table of searches."""
    return Tally(row["sharpe_count"], row["sharpe_mean"], row["sharpe_m2"])


@dataclass(frozen=True)
class StoredRows:
    """What a search stored, named. settings: float64[n, axes]; figures: float64[n, len(columns)], by measure."""

    request: dict[str, Any]
    settings: Floats
    figures: Floats
    columns: tuple[str, ...]

    def named(self, wanted: Sequence[str]) -> Floats:
        """float64[n, len(wanted)]: the figures asked for, NaN for measures that were not stored then."""
        out = np.full((len(self.figures), len(wanted)), np.nan)
        for at, key in enumerate(wanted):
            if key in self.columns:
                out[:, at] = self.figures[:, self.columns.index(key)]
        return out


class Searches:
    """Reads and writes the searches in a project's database."""

    def __init__(self, project: Project) -> None:
        self.project = project

    def begin(self, created: str, kind: str, title: str, request: dict[str, Any], *, record: Record | None = None,
              market: str = "", interval: int = 0, columns: Sequence[str] = ()) -> int:
        """Write a search down before it runs. What its record's span covers counts as seen from now on."""
        seen = record.last.isoformat() if record is not None and record.last is not None else None
        with self.project.transaction() as db:
            cursor = db.execute(
                "INSERT INTO searches (created, kind, title, request, tried, kept, state, market, interval, record, columns, "
                "seen) VALUES (?, ?, ?, ?, 0, 0, 'running', ?, ?, ?, ?, ?)",
                (created, kind, title, json.dumps(request), market, interval,
                 record.model_dump_json() if record is not None else None, json.dumps(list(columns)), seen))
            return int(cursor.lastrowid or 0)

    def advance(self, id: int, tried: int, kept: int, state: str = "running", sharpe: Tally | None = None) -> None:
        """Add to what a search has tried and kept; sharpe: daily Sharpe ratios of what was tried since the last time."""
        with self.project.transaction() as db:
            row = db.execute("SELECT * FROM searches WHERE id = ?", (id,)).fetchone()
            t = now_tally(row).with_(sharpe or Tally())
            db.execute("UPDATE searches SET tried = tried + ?, kept = kept + ?, state = ?, sharpe_count = ?, "
                       "sharpe_mean = ?, sharpe_m2 = ? WHERE id = ?", (tried, kept, state, t.count, t.mean, t.m2, id))

    def keep_block(self, search: int, block: int, settings: Floats, figures: Floats) -> None:
        """Store one block: settings float64[b, axes], figures float64[b, columns as begun with]."""
        with self.project.transaction() as db:
            db.execute("INSERT INTO sweep_rows VALUES (?, ?, ?, ?)",
                       (search, block, np.ascontiguousarray(settings, np.float64).tobytes(),
                        np.ascontiguousarray(figures, np.float64).tobytes()))

    def stored(self, id: int, axes: int) -> StoredRows:
        """The rows of a search, each figure under its name."""
        one = self.project.rows("SELECT request, columns FROM searches WHERE id = ?", id)[0]
        columns = tuple(json.loads(one["columns"] or "[]"))
        rows = self.project.rows("SELECT settings, figures FROM sweep_rows WHERE search = ? ORDER BY block", id)
        settings = [np.frombuffer(r["settings"]).reshape(-1, axes) for r in rows]
        figures = [np.frombuffer(r["figures"]).reshape(len(s), -1) for r, s in zip(rows, settings)]
        return StoredRows(json.loads(one["request"]), np.concatenate(settings) if rows else np.zeros((0, axes)),
                          np.concatenate(figures) if rows else np.zeros((0, len(columns))), columns)

    def record(self, id: int) -> Record | None:
        """What made a search; None where its brief was not recorded."""
        text = self.project.rows("SELECT record FROM searches WHERE id = ?", id)[0]["record"]
        return read_record(json.loads(text), f"{self.project.folder}, search {id}") if text else None

    def last(self, kind: str, request_kind: str = "") -> int | None:
        """The newest search of a kind that has rows."""
        found = self.project.rows(
            "SELECT id FROM searches WHERE kind = ? AND (? = '' OR json_extract(request, '$.kind') = ?) AND id IN "
            "(SELECT search FROM sweep_rows) ORDER BY id DESC LIMIT 1", kind, request_kind, request_kind)
        return int(found[0]["id"]) if found else None

    def last_sweep(self) -> StoredRows | None:
        """The newest sweep with rows."""
        id = self.last("sweep")
        if id is None:
            return None
        request = json.loads(self.project.rows("SELECT request FROM searches WHERE id = ?", id)[0]["request"])
        return self.stored(id, len(request["axes"]))

    def tried(self) -> dict[str, int]:
        """By market: parameter sets, draws and trial cells among which a selection was possible, whatever the tool and the
        interval. Controls on shuffled histories and re-runs inside a gate are none."""
        return {r["market"]: int(r["n"]) for r in self.project.rows(
            "SELECT market, sum(tried) n FROM searches WHERE kind != 'study' GROUP BY market")}

    def tried_on(self, market: str) -> int:
        return self.tried().get(market, 0)

    def sharpe_on(self, market: str) -> Tally:
        """Count, mean and spread of the daily Sharpe ratio over all that was tried on a market."""
        total = Tally()
        for row in self.project.rows("SELECT * FROM searches WHERE market = ? AND kind != 'study' ORDER BY id", market):
            total = total.with_(now_tally(row))
        return total
