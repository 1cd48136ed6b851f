"""The strategies of a project, with the market and interval each was last looked at on."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from wolbrin.core.errors import UserError
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.config import Config
from wolbrin.core.store.database import Database, now
from wolbrin.core.store.settings import OwnSpan


@dataclass(frozen=True)
class StrategyEntry:
    """A strategy of the project with the market and interval it was last looked at on; parent: the one it is a variant of;
    own: its own training span where it trains on less than the project; version: counts its changes."""

    id: int
    strategy: Strategy
    market: str
    interval: int
    parent: int | None = None
    own: OwnSpan | None = None
    version: int = 1


class OvertakenError(UserError):
    """A strategy that was to be changed is not there any more as it was."""

    def __init__(self, name: str, gone: bool) -> None:
        self.gone = gone
        how = "deleted" if gone else "changed"
        super().__init__(f"this strategy was {how} by another program meanwhile: your change was not kept", name,
                         "Keep yours as a new strategy, or take what is kept.")

    def __reduce__(self) -> tuple[type, tuple[Any, ...]]:
        return type(self), (self.where, self.gone)


class Strategies:
    """Reads and writes the strategies in a project's database."""

    def __init__(self, db: Database, config: Config) -> None:
        self.db = db
        self.config = config

    def all(self) -> list[StrategyEntry]:
        """In the order in which they were made."""
        return self.db.aside.readable(self.db.table("strategies", "id"), self._made,
                                      lambda r: f'the strategy "{r["name"]}"')

    @staticmethod
    def _made(r: Any) -> StrategyEntry:
        return StrategyEntry(r["id"], Strategy.model_validate_json(r["body"]), r["market"], r["interval"], r["parent"],
                             OwnSpan.model_validate_json(r["span"]) if r["span"] else None, r["version"])

    def get(self, name_or_id: str | int) -> StrategyEntry:
        for entry in self.all():
            if name_or_id in (entry.id, entry.strategy.name, str(entry.id)):
                return entry
        known = ", ".join(f'"{e.strategy.name}"' for e in self.all()) or "none"
        raise UserError(f'there is no strategy "{name_or_id}" in this project', str(self.db.folder), f"Known are {known}.")

    def save(self, strategy: Strategy, market: str, interval: int, id: int | None = None,
                      parent: int | None = None, own: OwnSpan | None = None) -> int:
        """Keep a strategy; a new one, of which parent is the one it varies, when no id is given. Returns its id.

        own: the training span of a new strategy; a variant without one inherits its parent's.
        """
        body = (strategy.name, strategy.model_dump_json(), strategy_hash(strategy), market, interval, now())
        with self.db.transaction() as db:
            if id is None:
                span = own.model_dump_json() if own is not None else None
                if span is None and parent is not None:
                    found = db.execute("SELECT span FROM strategies WHERE id = ?", (parent,)).fetchone()
                    span = found["span"] if found else None
                cursor = db.execute("INSERT INTO strategies (name, body, hash, market, interval, updated, created, parent, "
                                    "span) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", (*body, now(), parent, span))
                return int(cursor.lastrowid or 0)
            self._change(id, body, None)
            return id

    def change(self, strategy: Strategy, market: str, interval: int, id: int, version: int) -> int:
        """Keep a changed strategy where it is still what was changed. Returns its new version.

        Raises:
            OvertakenError: another program has changed or deleted it meanwhile. Nothing was changed.
        """
        with self.db.transaction():
            return self._change(id, (strategy.name, strategy.model_dump_json(), strategy_hash(strategy), market, interval,
                                     now()), version)

    def _change(self, id: int, body: tuple[Any, ...], version: int | None) -> int:
        with self.db.transaction() as db:
            made = db.execute("UPDATE strategies SET name = ?, body = ?, hash = ?, market = ?, interval = ?, updated = ?, "
                              "version = version + 1 WHERE id = ? AND version = coalesce(?, version) RETURNING version",
                              (*body, id, version)).fetchone()
            if made is None:
                there = db.execute("SELECT 1 FROM strategies WHERE id = ?", (id,)).fetchone()
                raise OvertakenError(str(body[0]), gone=there is None)
            return int(made[0])

    def set_own_span(self, id: int, own: OwnSpan | None) -> None:
        """Give a strategy a training span of its own, or take it back.

        Raises:
            UserError: it reaches into the holdout, or holds no day of the training span.
        """
        settings = self.config.read()
        if own is not None and own.last is not None and own.last >= settings.holdout_first:
            raise UserError(f"a strategy cannot train until {own.last}: the holdout begins on {settings.holdout_first}",
                            "training span", "End it before that day.")
        settings.of(own)
        with self.db.transaction() as db:
            db.execute("UPDATE strategies SET span = ? WHERE id = ?", (own.model_dump_json() if own else None, id))

    def put_back(self, entry: StrategyEntry) -> None:
        """Restore a deleted strategy under its id (undo)."""
        with self.db.transaction() as db:
            db.execute("INSERT INTO strategies (id, name, body, hash, market, interval, created, updated, parent, span, "
                       "version) VALUES (?, ?, '{}', '', ?, ?, ?, '', ?, ?, ?)",
                       (entry.id, entry.strategy.name, entry.market, entry.interval, now(), entry.parent,
                        entry.own.model_dump_json() if entry.own else None, entry.version - 1))
            self.save(entry.strategy, entry.market, entry.interval, entry.id)

    def delete(self, id: int) -> None:
        with self.db.transaction() as db:
            db.execute("DELETE FROM strategies WHERE id = ?", (id,))

    def free_name(self, wanted: str) -> str:
        taken = {e.strategy.name for e in self.all()}
        if wanted not in taken:
            return wanted
        return next(n for i in range(2, 10_000) if (n := f"{wanted} {i}") not in taken)
