"""Plans of openings: fixed, digested and written down before a sealed bar is read, so that a cut opening is judged again."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
from dataclasses import dataclass
from typing import Any, Literal

from wolbrin.core.engine.record import Record
from wolbrin.core.models import Model
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.database import Database
from wolbrin.core.store.same import codes_of

PLAN_VERSION = 1
CANDIDATES, PORTFOLIO = "candidates", "portfolio"


class Member(Model):
    """One candidate of an opening. record: made its training results, and holds costs, span and histories; family: number of
    its family, the strongest first, whose first member represents it; weight: what one unit of account money of its daily
    results counts in the whole, one over the deviation of its training days; 0 for one that represents none. tried: of its
    market by then; search, number: what found it, and its draw there; hash: of its rules."""

    name: str
    hash: str
    market: str
    interval: int
    strategy: Strategy
    record: Record
    family: int = 0
    weight: float = 0.0
    tried: int = 1
    search: int | None = None
    number: int | None = None


class OpeningPlan(Model):
    """What is opened together, and how it is judged. level: chance of letting noise through that it may spend; whole: whether
    all families together are tested first. first, last: sealed days. chance: told before that anything would stand; choices:
    ways to open that were looked at, as they were told. portfolio: what is opened as a whole, as its own plan says (JSON)."""

    version: int = PLAN_VERSION
    kind: Literal["candidates", "portfolio"] = "candidates"
    number: int
    level: float
    whole: bool = False
    first: dt.date
    last: dt.date
    members: tuple[Member, ...]
    why: str = ""
    chance: float | None = None
    choices: tuple[dict[str, Any], ...] = ()
    portfolio: str = ""

    @property
    def digest(self) -> str:
        """Of all that was fixed."""
        text = json.dumps(self.model_dump(mode="json"), sort_keys=True)
        return hashlib.sha256(text.encode()).hexdigest()[:32]

    @property
    def families(self) -> list[list[int]]:
        """Places of members, family by family; the first represents."""
        out: list[list[int]] = [[] for _ in range(1 + max((m.family for m in self.members), default=-1))]
        for at, m in enumerate(self.members):
            out[m.family].append(at)
        return out


@dataclass(frozen=True)
class StoredPlan:
    id: int
    created: str
    plan: OpeningPlan
    done: bool


class Plans:
    """Reads and writes plans in a project's database."""

    def __init__(self, db: Database) -> None:
        self.db = db

    def add(self, created: str, plan: OpeningPlan) -> StoredPlan:
        """Write a plan down."""
        with self.db.transaction() as db:
            made = db.execute("INSERT INTO plans (created, number, digest, body, done) VALUES (?, ?, ?, ?, 0)",
                              (created, plan.number, plan.digest, plan.model_dump_json()))
            return StoredPlan(int(made.lastrowid or 0), created, plan, False)

    def all(self) -> list[StoredPlan]:
        """Oldest first; what cannot be read is named and left aside."""
        return self.db.aside.readable(
            self.db.table("plans", "id"),
            lambda r: StoredPlan(r["id"], r["created"], OpeningPlan.model_validate_json(r["body"]), bool(r["done"])),
            lambda r: f"the plan of opening {r['number']}")

    def unfinished(self) -> list[StoredPlan]:
        """Openings that were written down and cut short before their verdicts."""
        return [p for p in self.all() if not p.done]

    def finish(self, id: int) -> None:
        with self.db.transaction() as db:
            db.execute("UPDATE plans SET done = 1 WHERE id = ?", (id,))

    def before(self, market: str) -> tuple[int, int]:
        """Families that were opened on a market, and how many of them stand."""
        codes, found = codes_of(self.db, market), [0, 0]
        stand = {(r["market"], r["hash"]) for r in self.db.rows("SELECT market, hash FROM judged WHERE verdict = 'passes'")}
        for p in self.all():
            if p.plan.kind != CANDIDATES or not p.done:
                continue
            for family in p.plan.families:
                members = [p.plan.members[i] for i in family]
                if any(m.market in codes for m in members):
                    found[0] += 1
                    found[1] += any((m.market, m.hash) in stand for m in members)
        return found[0], found[1]
