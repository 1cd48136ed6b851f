"""Runs, searches, candidates and evidence: what accumulates about strategies."""

from __future__ import annotations

import json
import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from wolbrin.core.engine.record import Record, read_record
from wolbrin.core.engine.run import Run
from wolbrin.core.measures.catalogue import SUMMARY, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.proving.gate import Outcome
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Strategy
from wolbrin.core.search.candidate import Candidate
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.series import pack
from wolbrin.core.store.settings import OwnSpan

PASSES, FALLS = "passes", "falls"


def encode(values: dict[str, Any]) -> str:
    """JSON with NaN written as null, for measures without a value."""
    return json.dumps({k: None if isinstance(v, float) and not math.isfinite(v) else v for k, v in values.items()})


def decode(text: str) -> dict[str, float]:
    return {k: math.nan if v is None else v for k, v in json.loads(text).items()}


@dataclass(frozen=True)
class Kept:
    """A candidate on the Shelf. own: the training span it has of its own, None for the project's. packed: its daily results
    as they are stored (see store.series); they are unpacked only where they are looked at."""

    id: int
    created: str
    candidate: Candidate
    hash: str
    own: OwnSpan | None = None
    packed: bytes | None = None


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

    def __init__(self, project: Project) -> None:
        self.project = project
        self.searches = Searches(project)

    def _record(self, text: str | None, what: str) -> Record:
        return read_record(json.loads(text or "{}"), f"{self.project.folder}, {what}")

    def keep_run(self, run: Run, name: str) -> int:
        """Record a run; the same record is kept once. Returns its id."""
        record = run.record(tried=max(1, self.searches.tried_on(run.bars.terms.code)))
        with self.project.transaction() as db:
            db.execute("INSERT INTO runs (created, name, body, record, record_hash, summary, fingerprint) "
                       "VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT (record_hash) DO UPDATE SET name = excluded.name",
                       (now(), name, run.strategy.model_dump_json(), record.model_dump_json(), record.key,
                        encode(measure(Facts.of(run), SUMMARY)), run.fingerprint))
            return int(db.execute("SELECT id FROM runs WHERE record_hash = ?", (record.key,)).fetchone()[0])

    def rename_run(self, id: int, name: str) -> None:
        """Give a kept run another name."""
        with self.project.transaction() as db:
            db.execute("UPDATE runs SET name = ? WHERE id = ?", (name, id))

    def runs(self) -> list[KeptRun]:
        return [KeptRun(r["id"], r["created"], r["name"], Strategy.model_validate_json(r["body"]),
                        self._record(r["record"], f"run {r['name']}"), decode(r["summary"]), r["fingerprint"])
                for r in self.project.rows("SELECT * FROM runs ORDER BY id DESC")]

    def keep(self, candidate: Candidate, search: int | None = None, own: OwnSpan | None = None) -> int | None:
        """Put a candidate on the Shelf. Returns its id, or None when it was there already."""
        with self.project.transaction() as db:
            return self._insert(db, None, now(), candidate, search, own, strategy_hash(candidate.strategy))

    @staticmethod
    def _insert(db: Any, id: int | None, created: str, c: Candidate, search: int | None, own: OwnSpan | None,
                hash: str, packed: bytes | None = None) -> int | None:
        cursor = db.execute(
            "INSERT OR IGNORE INTO candidates (id, created, name, body, hash, market, interval, origin, search, tried, "
            "record, record_key, summary, spark, span, daily) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (id, created, c.name, c.strategy.model_dump_json(), hash, c.market, c.interval, c.origin, search, c.tried,
             c.record.model_dump_json(), c.record.key if c.record.whole else None, encode(c.summary), c.spark.tobytes(),
             own.model_dump_json() if own is not None else None, packed or (pack(c.daily) if c.daily is not None else None)))
        return int(cursor.lastrowid or 0) if cursor.rowcount else None

    def renew(self, id: int, candidate: Candidate) -> None:
        """Give a kept candidate the record, figures and daily results of a new run. Its verdicts stay with the old record."""
        c = candidate
        with self.project.transaction() as db:
            db.execute("UPDATE candidates SET record = ?, record_key = ?, summary = ?, spark = ?, daily = ? WHERE id = ?",
                       (c.record.model_dump_json(), c.record.key, encode(c.summary), c.spark.tobytes(),
                        pack(c.daily) if c.daily is not None else None, id))

    def shelf(self) -> list[Kept]:
        """All candidates. Each says how many alternatives have been tried on its market by now."""
        tried = self.searches.tried()
        return [self._kept(r, tried) for r in self.project.rows("SELECT * FROM candidates ORDER BY id")]

    def _kept(self, r: Any, tried: dict[str, int]) -> Kept:
        record = self._record(r["record"], f"candidate {r['name']}")
        by_now = max(tried.get(r["market"], 0), record.tried if record.whole else r["tried"], 1)
        return Kept(r["id"], r["created"],
                    Candidate(r["name"], Strategy.model_validate_json(r["body"]), r["market"], r["interval"], r["origin"],
                              by_now, record.model_copy(update={"tried": by_now}), decode(r["summary"]),
                              np.frombuffer(r["spark"], np.float32)), r["hash"],
                    OwnSpan.model_validate_json(r["span"]) if r["span"] else None, r["daily"])

    def remove(self, ids: list[int]) -> None:
        with self.project.transaction() as db:
            db.executemany("DELETE FROM candidates WHERE id = ?", [(i,) for i in ids])

    def restore(self, kept: list[Kept]) -> None:
        """Put removed candidates back with their ids (undo)."""
        with self.project.transaction() as db:
            for k in kept:
                self._insert(db, k.id, k.created, k.candidate, None, k.own, k.hash, k.packed)

    def testify(self, hash: str, market: str, interval: int, outcome: Outcome, record: Record) -> None:
        """Add a gate's outcome to a strategy's dossier, under the record it was judged on."""
        with self.project.transaction() as db:
            db.execute("INSERT INTO evidence (created, hash, market, interval, gate, inputs, outcome, verdict, reason, "
                       "record, record_key, settings) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                       (now(), hash, market, interval, outcome.gate, encode(outcome.inputs), encode(outcome.figures),
                        PASSES if outcome.passed else FALLS, outcome.reason, record.model_dump_json(), record.key,
                        json.dumps(outcome.settings, sort_keys=True)))

    def _evidence(self, rows: list[Any]) -> list[Evidence]:
        return [Evidence(r["gate"], r["created"], json.loads(r["inputs"]), decode(r["outcome"]), r["verdict"], r["reason"],
                         json.loads(r["settings"]), self._record(r["record"], "evidence") if r["record"] else None)
                for r in rows]

    def evidence(self, hash: str, market: str, interval: int) -> list[Evidence]:
        """Everything ever tested on a strategy on a market, oldest first."""
        return self._evidence(self.project.rows(
            "SELECT * FROM evidence WHERE hash = ? AND market = ? AND interval = ? ORDER BY id", hash, market,
            interval))

    def all_evidence(self) -> dict[tuple[str, str], list[Evidence]]:
        """All verdicts ever, oldest first, by (strategy hash, market)."""
        found: dict[tuple[str, str], list[Evidence]] = {}
        for r in self.project.rows("SELECT * FROM evidence ORDER BY id"):
            found.setdefault((r["hash"], r["market"]), []).extend(self._evidence([r]))
        return found

    def keep_portfolio(self, name: str, members: list[int], summary: dict[str, float], records: list[Record]) -> int:
        """Keep a portfolio with the records of its members' runs."""
        with self.project.transaction() as db:
            cursor = db.execute("INSERT INTO portfolios (created, name, members, summary, record) VALUES (?, ?, ?, ?, ?)",
                                (now(), name, json.dumps(members), encode(summary),
                                 json.dumps([r.model_dump(mode="json") for r in records])))
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
