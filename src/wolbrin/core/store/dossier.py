"""Runs, evidence and portfolios: what accumulates about strategies."""


from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from wolbrin.core.engine.record import Record, read_record
from wolbrin.core.engine.run import Run
from wolbrin.core.measures.catalogue import SUMMARY, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.proving.gate import Outcome
from wolbrin.core.rules.model import Strategy
from wolbrin.core.search.candidate import Candidate
from wolbrin.core.store.database import Database, now, unsettle
from wolbrin.core.store.results import Results
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.settings import OwnSpan
from wolbrin.core.store.shelf import Kept, Shelf
from wolbrin.core.store.shelf_columns import decode, encode
from wolbrin.core.store.tables import Columns


def evidence_owner(id: int) -> str:
    """The owner's name of a verdict's tables."""
    return f"evidence {id}"


@dataclass(frozen=True)
class Evidence:
    """One gate's verdict on a strategy on a market. It holds for its record and the gate's settings, and no other; record:
    None where the brief was not recorded, which is never valid."""

    gate: str
    created: str
    inputs: dict[str, Any]
    outcome: dict[str, float]
    verdict: str
    reason: str
    settings: dict[str, Any]
    record: Record | None = None
    id: int = 0


@dataclass(frozen=True)
class KeptRun:
    id: int
    created: str
    name: str
    strategy: Strategy
    record: Record
    summary: dict[str, float]
    fingerprint: str


class Dossiers:
    """Reads and writes evidence in a project's database."""

    def __init__(self, db: Database) -> None:
        self.db = db
        self.searches = Searches(db)
        self.on_shelf = Shelf(db)
        self.results = Results(db)

    def _record(self, text: str | None, what: str) -> Record:
        return read_record(json.loads(text or "{}"), f"{self.db.folder}, {what}")

    def keep_run(self, run: Run, name: str) -> int:
        """Record a run; the same record is kept once. Returns its id."""
        record = run.record(tried=max(1, self.searches.tried_on(run.bars.terms.code)))
        with self.db.transaction() as db:
            db.execute("INSERT INTO runs (created, name, body, record, record_hash, summary, fingerprint) "
                       "VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT (record_hash) DO UPDATE SET name = excluded.name",
                       (now(), name, run.strategy.model_dump_json(), record.model_dump_json(), record.key,
                        encode(measure(Facts.of(run), SUMMARY)), run.fingerprint))
            return int(db.execute("SELECT id FROM runs WHERE record_hash = ?", (record.key,)).fetchone()[0])

    def rename_run(self, id: int, name: str) -> None:
        """Give a kept run another name."""
        with self.db.transaction() as db:
            db.execute("UPDATE runs SET name = ? WHERE id = ?", (name, id))

    def runs(self) -> list[KeptRun]:
        """Newest first."""
        return self.db.aside.readable(
            self.db.table("runs", "id")[::-1],
            lambda r: KeptRun(r["id"], r["created"], r["name"], Strategy.model_validate_json(r["body"]),
                              self._record(r["record"], f"run {r['name']}"), decode(r["summary"]), r["fingerprint"]),
            lambda r: f'the run "{r["name"]}"')

    def keep(self, candidate: Candidate, search: int | None = None, own: OwnSpan | None = None) -> int | None:
        """Put a candidate on the Shelf. Returns its id, or None when it was there already."""
        return self.on_shelf.keep(candidate, search, own)

    def renew(self, id: int, candidate: Candidate) -> None:
        """Give a kept candidate the record, figures and daily results of a new run. Its verdicts stay with the old record."""
        self.on_shelf.renew(id, candidate)

    def shelf(self) -> list[Kept]:
        """All candidates with their bodies; for looking at some, see `store.shelf.Shelf`."""
        return self.on_shelf.bodies()

    def remove(self, ids: list[int]) -> None:
        self.on_shelf.remove(ids)

    def restore(self, kept: list[Kept]) -> None:
        """Put removed candidates back with their ids (undo)."""
        self.on_shelf.restore(kept)

    def testify(self, hash: str, market: str, interval: int, outcome: Outcome, record: Record) -> None:
        """Add a gate's outcome to a strategy's dossier, under the record it was judged on."""
        with self.db.transaction() as db:
            made = db.execute("INSERT INTO evidence (created, hash, market, interval, gate, inputs, outcome, verdict, "
                              "reason, record, record_key, settings) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                       (now(), hash, market, interval, outcome.gate, encode(outcome.inputs), encode(outcome.figures),
                        outcome.verdict, outcome.reason, record.model_dump_json(), record.key,
                        json.dumps(outcome.settings, sort_keys=True)))
            for name, columns in outcome.tables.items():
                self.results.add(evidence_owner(int(made.lastrowid or 0)), name, columns)
            unsettle(db, hash, market)

    def tables(self, evidence: int) -> list[str]:
        """Names of the tables that were kept with a verdict."""
        return self.results.names(evidence_owner(evidence))

    def table(self, evidence: int, name: str) -> Columns:
        """A table that was kept with a verdict, by its columns; none where there is no such table."""
        return self.results.table(evidence_owner(evidence), name)

    def _evidence(self, rows: list[Any]) -> list[Evidence]:
        return self.db.aside.readable(
            rows, lambda r: Evidence(r["gate"], r["created"], json.loads(r["inputs"]), decode(r["outcome"]), r["verdict"],
                                     r["reason"], json.loads(r["settings"]),
                                     self._record(r["record"], "evidence") if r["record"] else None, r["id"]),
            lambda r: f"verdict {r['id']} of the gate {r['gate']}")

    def evidence(self, hash: str, market: str, interval: int) -> list[Evidence]:
        """Everything ever tested on a strategy on a market, oldest first."""
        return self._evidence(self.db.rows(
            "SELECT * FROM evidence WHERE hash = ? AND market = ? AND interval = ? ORDER BY id", hash, market,
            interval))

    def all_evidence(self, hash: str, market: str) -> list[Evidence]:
        """All verdicts ever on some rules on a market, whatever the interval, oldest first."""
        return self._evidence(self.db.rows("SELECT * FROM evidence WHERE hash = ? AND market = ? ORDER BY id", hash, market))

    def counts(self) -> dict[str, int]:
        """The live counts of the funnel."""
        one = self.db.rows(
            "SELECT (SELECT count(*) FROM markets) markets, (SELECT count(*) FROM strategies) strategies, "
            "(SELECT count(*) FROM runs) runs, (SELECT count(*) FROM searches WHERE kind = 'study') studies, "
            "(SELECT count(*) FROM searches WHERE kind = 'sweep') sweeps, "
            "(SELECT coalesce(sum(tried), 0) FROM searches WHERE kind != 'study') tried, "
            "(SELECT coalesce(sum(tried), 0) FROM searches WHERE kind IN ('discover', 'discover place')) "
            "discovered, "
            "(SELECT count(*) FROM candidates) kept, (SELECT count(*) FROM portfolios) portfolios")[0]
        return {key: int(one[key]) for key in one.keys()}  # noqa: SIM118 - sqlite3.Row iterates over values
