"""Saved portfolios: what they are, how they did, and the records of their members' runs."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass

from wolbrin.core.engine.record import Record, read_record
from wolbrin.core.errors import UserError
from wolbrin.core.portfolio.plan import Member, Plan
from wolbrin.core.store.database import Database, now
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.store.shelf_columns import decode, encode


@dataclass(frozen=True)
class Saved:
    """A portfolio as it was saved. figures: of the whole in training; records: of each member that was on."""

    id: int
    created: str
    name: str
    plan: Plan
    figures: dict[str, float]
    records: tuple[Record, ...]


class Portfolios:
    """Reads and writes them in a project's database."""

    def __init__(self, db: Database) -> None:
        self.db = db

    def keep(self, plan: Plan, figures: dict[str, float], records: Sequence[Record]) -> str:
        """Save a portfolio, under a free name where its own is taken. Returns the name."""
        taken = {str(r["name"]).casefold() for r in self.db.rows("SELECT name FROM portfolios")}
        name, number = plan.name, 2
        while name.casefold() in taken:
            name, number = f"{plan.name[:70]} ({number})", number + 1
        plan = plan.model_copy(update={"name": name})
        with self.db.transaction() as db:
            db.execute("INSERT INTO portfolios (created, name, members, summary, record, plan) VALUES (?, ?, ?, ?, ?, ?)",
                       (now(), name, json.dumps([m.candidate for m in plan.on]), encode(figures),
                        json.dumps([r.model_dump(mode="json") for r in records]), plan.model_dump_json()))
        return name

    def remove(self, id: int) -> None:
        """Forget a saved portfolio; its verdict and its members stay."""
        with self.db.transaction() as db:
            db.execute("DELETE FROM portfolios WHERE id = ?", (id,))

    def all(self) -> list[Saved]:
        """Oldest first."""
        def made(r: object) -> Saved:
            row = dict(r)  # type: ignore[call-overload]
            text = row["plan"]
            plan = Plan.model_validate_json(text) if text else self._older(row["name"], json.loads(row["members"]))
            records = tuple(read_record(one, f"portfolio {row['name']}") for one in json.loads(row["record"] or "[]"))
            return Saved(row["id"], row["created"], row["name"], plan, decode(row["summary"]), records)

        return self.db.aside.readable(self.db.table("portfolios", "id"), made, lambda r: f'the portfolio "{r["name"]}"')

    def named(self, name: str) -> Saved:
        """The newest of that name or number. Raises UserError where there is none."""
        found = [s for s in self.all() if s.name.casefold() == name.casefold() or str(s.id) == name]
        if not found:
            known = ", ".join(s.name for s in self.all()[-8:]) or "none"
            raise UserError(f'there is no portfolio "{name}"', str(self.db.folder), f"Saved are {known}.")
        return found[-1]

    def _older(self, name: str, members: list[int]) -> Plan:
        """One that was saved when portfolios were lists of candidates; those that are gone are left out."""
        found = [Member(candidate=one.id, name=one.name[:80], hash=one.hash, market=one.market, interval=one.interval)
                 for one in Shelf(self.db).stored(members)]
        return Plan(name=name[:80] or "Portfolio", members=tuple(found), one_account=False)


def newest_size(db: Database) -> int:
    """How many members the portfolio has that was saved last; 0 before any."""
    found = db.rows("SELECT members FROM portfolios ORDER BY id DESC LIMIT 1")
    try:
        return len(json.loads(found[0]["members"])) if found else 0
    except (ValueError, TypeError):
        return 0
