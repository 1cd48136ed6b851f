"""Runs, searches, candidates and evidence: what accumulates about strategies."""

from __future__ import annotations

import hashlib
import json
import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.run import Run
from wolbrin.core.measures.catalogue import SUMMARY, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.proving.gate import Outcome
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Strategy
from wolbrin.core.search.candidate import Candidate
from wolbrin.core.store.project import Project, now

PASSES, FALLS = "passes", "falls"
Floats = NDArray[np.float64]


def encode(values: dict[str, Any]) -> str:
    """JSON with NaN written as null, for measures without a value."""
    return json.dumps({k: None if isinstance(v, float) and not math.isfinite(v) else v for k, v in values.items()})


def decode(text: str) -> dict[str, float]:
    return {k: math.nan if v is None else v for k, v in json.loads(text).items()}


@dataclass(frozen=True)
class Kept:
    """A candidate on the Shelf."""

    id: int
    created: str
    candidate: Candidate
    hash: str


@dataclass(frozen=True)
class Evidence:
    """One gate's verdict on a strategy on a market."""

    gate: str
    created: str
    inputs: dict[str, Any]
    outcome: dict[str, float]
    verdict: str
    reason: str


@dataclass(frozen=True)
class KeptRun:
    id: int
    created: str
    name: str
    strategy: Strategy
    record: dict[str, Any]
    summary: dict[str, float]
    fingerprint: str


class Dossiers:
    """Reads and writes evidence in a project's database."""

    def __init__(self, project: Project) -> None:
        self.project = project

    def keep_run(self, run: Run, name: str) -> int:
        """Record a run; the same record is kept once. Returns its id."""
        record = run.record()
        key = hashlib.sha256(json.dumps(record, sort_keys=True).encode()).hexdigest()
        with self.project.transaction() as db:
            db.execute("INSERT INTO runs (created, name, body, record, record_hash, summary, fingerprint) "
                       "VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT (record_hash) DO UPDATE SET name = excluded.name",
                       (now(), name, run.strategy.model_dump_json(), json.dumps(record), key,
                        encode(measure(Facts.of(run), SUMMARY)), run.fingerprint))
            return int(db.execute("SELECT id FROM runs WHERE record_hash = ?", (key,)).fetchone()[0])

    def rename_run(self, id: int, name: str) -> None:
        """Give a kept run another name."""
        with self.project.transaction() as db:
            db.execute("UPDATE runs SET name = ? WHERE id = ?", (name, id))

    def runs(self) -> list[KeptRun]:
        return [KeptRun(r["id"], r["created"], r["name"], Strategy.model_validate_json(r["body"]),
                        json.loads(r["record"]), decode(r["summary"]), r["fingerprint"])
                for r in self.project.rows("SELECT * FROM runs ORDER BY id DESC")]

    def begin_search(self, kind: str, title: str, request: dict[str, Any]) -> int:
        with self.project.transaction() as db:
            cursor = db.execute("INSERT INTO searches (created, kind, title, request, tried, kept, state) "
                                "VALUES (?, ?, ?, ?, 0, 0, 'running')", (now(), kind, title, json.dumps(request)))
            return int(cursor.lastrowid or 0)

    def advance_search(self, id: int, tried: int, kept: int, state: str = "running") -> None:
        """Add to what a search has tried and kept."""
        with self.project.transaction() as db:
            db.execute("UPDATE searches SET tried = tried + ?, kept = kept + ?, state = ? WHERE id = ?",
                       (tried, kept, state, id))

    def keep_block(self, search: int, block: int, settings: Floats, figures: Floats) -> None:
        """Store one block of a sweep: settings float64[b, axes], figures float64[b, len(SUMMARY)]."""
        with self.project.transaction() as db:
            db.execute("INSERT INTO sweep_rows VALUES (?, ?, ?, ?)",
                       (search, block, np.ascontiguousarray(settings, np.float64).tobytes(),
                        np.ascontiguousarray(figures, np.float64).tobytes()))

    def last_sweep(self) -> tuple[dict[str, Any], Floats, Floats] | None:
        """Request, settings float64[n, axes] and figures float64[n, len(SUMMARY)] of the newest sweep with rows."""
        found = self.project.rows("SELECT id, request FROM searches WHERE kind = 'sweep' AND id IN "
                                  "(SELECT search FROM sweep_rows) ORDER BY id DESC LIMIT 1")
        if not found:
            return None
        request = json.loads(found[0]["request"])
        rows = self.project.rows("SELECT * FROM sweep_rows WHERE search = ? ORDER BY block", found[0]["id"])
        settings = np.concatenate([np.frombuffer(r["settings"]) for r in rows]).reshape(-1, len(request["axes"]))
        figures = np.concatenate([np.frombuffer(r["figures"]) for r in rows]).reshape(-1, len(SUMMARY))
        return request, settings, figures

    def keep(self, candidate: Candidate, search: int | None = None) -> int | None:
        """Put a candidate on the Shelf. Returns its id, or None when it was there already."""
        with self.project.transaction() as db:
            cursor = db.execute(
                "INSERT OR IGNORE INTO candidates (created, name, body, hash, market, interval, origin, search, tried, "
                "record, summary, spark) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (now(), candidate.name, candidate.strategy.model_dump_json(), strategy_hash(candidate.strategy),
                 candidate.market, candidate.interval, candidate.origin, search, candidate.tried,
                 json.dumps(candidate.record), encode(candidate.summary), candidate.spark.tobytes()))
            return int(cursor.lastrowid or 0) if cursor.rowcount else None

    def shelf(self) -> list[Kept]:
        return [Kept(r["id"], r["created"],
                     Candidate(r["name"], Strategy.model_validate_json(r["body"]), r["market"], r["interval"],
                               r["origin"], r["tried"], json.loads(r["record"]), decode(r["summary"]),
                               np.frombuffer(r["spark"], np.float32)), r["hash"])
                for r in self.project.rows("SELECT * FROM candidates ORDER BY id")]

    def remove(self, ids: list[int]) -> None:
        with self.project.transaction() as db:
            db.executemany("DELETE FROM candidates WHERE id = ?", [(i,) for i in ids])

    def restore(self, kept: list[Kept]) -> None:
        """Put removed candidates back with their ids (undo)."""
        with self.project.transaction() as db:
            for k in kept:
                c = k.candidate
                db.execute(
                    "INSERT OR IGNORE INTO candidates (id, created, name, body, hash, market, interval, origin, "
                    "search, tried, record, summary, spark) VALUES (?, ?, ?, ?, ?, ?, ?, ?, NULL, ?, ?, ?, ?)",
                    (k.id, k.created, c.name, c.strategy.model_dump_json(), k.hash, c.market, c.interval, c.origin,
                     c.tried, json.dumps(c.record), encode(c.summary), c.spark.tobytes()))

    def testify(self, hash: str, market: str, interval: int, outcome: Outcome) -> None:
        """Add a gate's outcome to a strategy's dossier."""
        with self.project.transaction() as db:
            db.execute("INSERT INTO evidence (created, hash, market, interval, gate, inputs, outcome, verdict, reason) "
                       "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
                       (now(), hash, market, interval, outcome.gate, encode(outcome.inputs), encode(outcome.figures),
                        PASSES if outcome.passed else FALLS, outcome.reason))

    def _evidence(self, rows: list[Any]) -> list[Evidence]:
        return [Evidence(r["gate"], r["created"], json.loads(r["inputs"]), decode(r["outcome"]), r["verdict"],
                         r["reason"]) for r in rows]

    def evidence(self, hash: str, market: str, interval: int) -> list[Evidence]:
        """Everything ever tested on a strategy on a market, oldest first."""
        return self._evidence(self.project.rows(
            "SELECT * FROM evidence WHERE hash = ? AND market = ? AND interval = ? ORDER BY id", hash, market,
            interval))

    def latest(self) -> dict[tuple[str, str, int], dict[str, Evidence]]:
        """The last verdict of each gate, by (strategy hash, market, interval)."""
        found: dict[tuple[str, str, int], dict[str, Evidence]] = {}
        for r in self.project.rows("SELECT * FROM evidence ORDER BY id"):
            found.setdefault((r["hash"], r["market"], r["interval"]), {})[r["gate"]] = self._evidence([r])[0]
        return found

    def tried_for(self, market: str, interval: int) -> int:
        """How many alternatives all searches of this project have looked at on this market and interval."""
        found = self.project.rows("SELECT sum(tried) n FROM searches WHERE json_extract(request, '$.market') = ? "
                                  "AND json_extract(request, '$.interval') = ?", market, interval)
        return int(found[0]["n"] or 0)

    def keep_portfolio(self, name: str, members: list[int], summary: dict[str, float]) -> int:
        with self.project.transaction() as db:
            cursor = db.execute("INSERT INTO portfolios (created, name, members, summary) VALUES (?, ?, ?, ?)",
                                (now(), name, json.dumps(members), encode(summary)))
            return int(cursor.lastrowid or 0)

    def portfolios(self) -> list[tuple[int, str, list[int]]]:
        return [(r["id"], r["name"], json.loads(r["members"]))
                for r in self.project.rows("SELECT * FROM portfolios ORDER BY id")]

    def counts(self) -> dict[str, int]:
        """The live counts of the funnel."""
        one = self.project.rows(
            "SELECT (SELECT count(*) FROM markets) markets, (SELECT count(*) FROM strategies) strategies, "
            "(SELECT count(*) FROM runs) runs, (SELECT count(*) FROM searches WHERE kind = 'study') studies, "
            "(SELECT count(*) FROM searches WHERE kind = 'sweep') sweeps, "
            "(SELECT coalesce(sum(tried), 0) FROM searches WHERE kind != 'study') tried, "
            "(SELECT coalesce(sum(tried), 0) FROM searches WHERE kind = 'discover') discovered, "
            "(SELECT count(*) FROM candidates) kept, (SELECT count(*) FROM portfolios) portfolios")[0]
        return {key: int(one[key]) for key in one.keys()}  # noqa: SIM118 - sqlite3.Row iterates over values
