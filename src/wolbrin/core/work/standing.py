"""Where a candidate stands on the line, from verdicts that hold for its record."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass

from wolbrin.core.engine.record import NOT_RECORDED, Record, read_record
from wolbrin.core.proving.gate import FALLS, NOT_ENOUGH, PASSES, Gate
from wolbrin.core.proving.words import summed_up
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.store.database import Database, unsettle
from wolbrin.core.store.dossier import Dossiers, Evidence
from wolbrin.core.store.holdout import OPENED, HoldoutBook
from wolbrin.core.store.same import SAME
from wolbrin.core.store.shelf import Kept
from wolbrin.core.work.lines import gates_of
from wolbrin.core.work.subject import Subject

STANDS, READY = "stands", "ready"
LINE = "line that standings are of"
AT_ONCE = 2_000


@dataclass(frozen=True)
class Place:
    """evidence: the verdict of each gate that holds, by its key. stands: "stands" (all gates passed), "ready" (all but the
    holdout, which is still sealed for it), "of a family that stands" or "of a whole that stands" (by itself it does not),
    "falls: <gate>", "fell before: <gate>" (under another brief; a changed brief does
    not wash that away), "not enough" (a gate could not judge), "open" (not proved yet) or "brief not recorded". seen: how
    often its market's holdout had been opened, for whatever rules, before it was kept: what is chosen by what was shown then
    is chosen on seen data."""

    evidence: dict[str, Evidence]
    stands: str
    seen: int = 0

    def words(self, gates: Sequence[Gate]) -> str:
        """One sentence that sums it up."""
        return summed_up(gates, {key: (e.verdict, e.reason, e.outcome) for key, e in self.evidence.items()}, self.seen)


class Standings:
    """Where candidates stand. Ask it for one after the other; verdicts are read for whom they are asked."""

    def __init__(self, project: Database, gates: Sequence[Gate] | None = None) -> None:
        self.gates = gates_of(project) if gates is None else gates
        self._dossiers = Dossiers(project)
        self._finals = HoldoutBook(project).finals()
        self._same: dict[str, list[str]] = project.get_value(SAME, {})
        self._openings = [o for o in HoldoutBook(project).all() if o.kind == OPENED]

    def of(self, kept: Kept) -> Place:
        """Where a candidate stands under its own record."""
        return self.at(kept.hash, kept.candidate.market, kept.candidate.record, since=kept.created)

    def _seen(self, market: str, since: str) -> int:
        """How often a market's holdout had been opened before a time."""
        codes = self._same.get(market, [market])
        return sum(o.created < since for o in self._openings if o.market in codes)

    def of_subject(self, subject: Subject) -> Place:
        """Where a subject stands; one without a record only by the holdout's final verdict."""
        return self.at(strategy_hash(subject.strategy), subject.market, subject.record)

    def at(self, hash: str, market: str, record: Record | None, since: str = "") -> Place:
        """Where rules stand on a market under a record. since: when they were kept."""
        every = self._dossiers.all_evidence(hash, market)
        key = record.key if record is not None and record.whole else None
        mine = [e for e in every if key is not None and e.record is not None and e.record.key == key]
        found: dict[str, Evidence] = {}
        for gate in self.gates:
            if gate.opens_holdout:
                final = self._final(hash, market, gate, every)
                if final is not None:
                    found[gate.key] = final
            else:
                valid = [e for e in mine if e.gate == gate.key and e.settings == gate.settings]
                if valid:
                    found[gate.key] = valid[-1]
        return Place(found, self._words(found, every, record if key is not None else None), self._seen(market, since))

    def _final(self, hash: str, market: str, gate: Gate, every: list[Evidence]) -> Evidence | None:
        """The holdout's verdict that holds, with the figures it was given where they are in the dossier."""
        final = self._finals.get((market, hash))
        if final is None:
            return None
        verdict, reason, created = final
        told = [e for e in every if e.gate == gate.key and e.verdict == verdict]
        told.sort(key=lambda e: not e.outcome)  # of what fell figures are there where somebody asked for them
        figures = told[0].outcome if told else {}
        return Evidence(gate.key, created, {}, figures, verdict, reason, gate.settings, told[0].record if told else None)

    def _words(self, found: dict[str, Evidence], every: list[Evidence], record: Record | None) -> str:
        for gate in self.gates:
            if gate.opens_holdout and gate.key in found and found[gate.key].verdict != PASSES:
                verdict = found[gate.key].verdict
                return f"falls: {gate.title}" if verdict == FALLS else verdict
        if record is None:
            return NOT_RECORDED
        for gate in self.gates:
            if gate.key not in found:
                before = self._fell_before(every, record)
                if gate.opens_holdout and gate is not self.gates[0]:
                    return before or READY
                return "open"
            if found[gate.key].verdict == FALLS:
                return f"falls: {gate.title}"
            if found[gate.key].verdict == NOT_ENOUGH:
                return NOT_ENOUGH
        return self._fell_before(every, record) or STANDS

    def _fell_before(self, every: list[Evidence], record: Record) -> str:
        """Where the same rules fell under another brief; what an older simulator or an unrecorded brief said is none."""
        titles = {g.key: g.title for g in self.gates if not g.opens_holdout}
        for e in every:
            if (e.verdict == FALLS and e.gate in titles and e.record is not None and e.record.whole
                    and e.record.engine == record.engine and e.record.key != record.key):
                return f"fell before: {titles[e.gate]}"
        return ""


def restand(project: Database, gates: Sequence[Gate] | None = None) -> int:
    """Work out where candidates stand where that is open since a verdict, a record or the line changed, and write it beside
    them on the Shelf. Returns how many. Cheap where nothing changed; many at once belong off the interface thread."""
    gates = gates_of(project) if gates is None else gates
    line = json.dumps([(g.key, g.title, g.settings) for g in gates], sort_keys=True)
    if project.get_value(LINE) != line:
        with project.transaction(derived=True) as db:
            unsettle(db)
            project.set_value(LINE, line)
    count = 0
    before: list[int] = []
    while open_ := [r["id"] for r in project.rows("SELECT id FROM candidates WHERE stands IS NULL LIMIT ?", AT_ONCE)]:
        if open_ == before:  # a damaged index goes on naming them
            project.aside.add("where some candidates stand", "the database does not keep it")
            break
        before, count = open_, count + len(open_)
        with project.transaction(derived=True) as db:
            # Most have no verdict at all, and are told apart without reading them.
            db.execute("UPDATE candidates SET stands = 'open' WHERE id IN (SELECT c.id FROM candidates c WHERE c.stands IS "
                       "NULL AND c.record_key IS NOT NULL AND NOT EXISTS (SELECT 1 FROM evidence e WHERE e.hash = c.hash AND "
                       "e.market = c.market) AND NOT EXISTS (SELECT 1 FROM judged j WHERE j.hash = c.hash AND "
                       "j.market = c.market))")
            left = db.execute("SELECT c.id, c.hash, c.market, b.record FROM candidates c JOIN bodies b ON b.candidate = c.id "
                              "WHERE c.stands IS NULL LIMIT ?", (AT_ONCE,)).fetchall()
            standings = Standings(project, gates) if left else None
            for r in left:
                assert standings is not None
                read = project.aside.readable([r], lambda row: read_record(json.loads(row["record"] or "{}"), "candidate"),
                                              lambda row: f"the record of candidate {row['id']}")
                stands = standings.at(r["hash"], r["market"], read[0]).stands if read else "open"
                db.execute("UPDATE candidates SET stands = ? WHERE id = ?", (stands, r["id"]))
            # Whatever has lost its body is asked about no more.
            db.executemany("UPDATE candidates SET stands = 'open' WHERE id = ? AND stands IS NULL AND NOT EXISTS (SELECT 1 "
                           "FROM bodies WHERE candidate = id)", [(i,) for i in open_])
    return count


def unjudged(project: Database) -> int:
    """How many candidates on the Shelf have no verdict of the holdout yet."""
    return int(project.rows("SELECT count(*) n FROM candidates c WHERE NOT EXISTS (SELECT 1 FROM judged j WHERE "
                            "j.hash = c.hash AND j.market = c.market)")[0]["n"])


def proved_ids(project: Database) -> list[int]:
    """Those that stand; where none was opened yet, those that are ready."""
    return standing_ids(project) or [r["id"] for r in project.rows("SELECT id FROM candidates WHERE stands = ? ORDER BY id",
                                                                   READY)]


def standing_ids(project: Database) -> list[int]:
    """Shelf ids of the candidates that stand after the whole line."""
    restand(project)
    return [r["id"] for r in project.rows("SELECT id FROM candidates WHERE stands = ? ORDER BY id", STANDS)]
