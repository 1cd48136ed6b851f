"""A project on disk: `project.sqlite` and `history/`. Every change is a transaction the moment it is made."""

from __future__ import annotations

import datetime as dt
import json
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from threading import RLock
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pydantic import ValidationError

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.faults import explain
from wolbrin.core.indicators.own import OwnIndicators
from wolbrin.core.market.bars import Bars
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.terms import Terms
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.ground import Ground, Histories
from wolbrin.core.store.holdout import BORDER, END, HoldoutBook, Opening
from wolbrin.core.store.schema import migrate
from wolbrin.core.store.settings import OwnSpan, Settings
from wolbrin.core.store.sources import Sources

DATABASE = "project.sqlite"
HISTORY = "history"


@dataclass(frozen=True)
class MarketEntry:
    """A market of the project. silhouette: float32[] closes evenly spaced in time."""

    code: str
    terms: Terms
    source: str
    file: str
    minutes: int
    bars: int
    first: str
    last: str
    left_out: int
    off_grid: int
    hash: str
    silhouette: NDArray[np.float32]


@dataclass(frozen=True)
class StrategyEntry:
    """A strategy of the project with the market and interval it was last looked at on; parent: the one it is a variant of;
    own: its own training span where it trains on less than the project."""

    id: int
    strategy: Strategy
    market: str
    interval: int
    parent: int | None = None
    own: OwnSpan | None = None


def now() -> str:
    return dt.datetime.now(dt.UTC).isoformat(timespec="seconds")


class Project:
    """An open project folder. Safe to use from several threads.

    Raises:
        UserError: the folder is not a project. EnvironmentTrouble: the database is damaged, newer, or not writable.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._lock = RLock()
        self._depth = 0
        self._histories: Histories | None = None
        self._read_at = 0
        self.sources = Sources(self)
        self.book = HoldoutBook(self)
        path = folder / DATABASE
        if not path.is_file():
            raise UserError("there is no project in this folder", str(folder),
                            "Choose a folder that holds project.sqlite, or start with --demo.")
        try:
            self._db = sqlite3.connect(path, isolation_level=None, check_same_thread=False, timeout=20)
            self._db.row_factory = sqlite3.Row
            self._db.execute("PRAGMA journal_mode = WAL")
            self._db.execute("PRAGMA foreign_keys = ON")
            migrate(self._db, str(path))
        except sqlite3.Error as err:
            raise EnvironmentTrouble(f"this project's database cannot be used ({err})", str(path),
                                     "Restore it from a backup; nothing was changed.") from None

    @classmethod
    def create(cls, folder: Path, settings: Settings | None = None) -> Project:
        """Start a project in an empty or new folder."""
        path = folder / DATABASE
        if path.exists():
            raise UserError("there is a project in this folder already", str(folder), "Open it instead.")
        try:
            (folder / HISTORY).mkdir(parents=True, exist_ok=True)
            sqlite3.connect(path).close()
            path.touch()
        except (OSError, sqlite3.Error) as err:
            raise EnvironmentTrouble(f"this folder cannot be written ({err})", str(folder),
                                     "Choose another folder.") from None
        project = cls(folder)
        project.update_settings(settings or Settings())
        return project

    def close(self) -> None:
        with self._lock:
            self._db.close()

    @contextmanager
    def transaction(self) -> Iterator[sqlite3.Connection]:
        """All changes inside are kept together or not at all; transactions nest into the outermost."""
        with self._lock:
            outer = self._depth == 0
            if outer:
                self._db.execute("BEGIN IMMEDIATE")
            self._depth += 1
            try:
                yield self._db
            except BaseException:
                self._depth -= 1
                if outer:
                    self._db.execute("ROLLBACK")
                raise
            self._depth -= 1
            if outer:
                self._db.execute("COMMIT")

    def rows(self, sql: str, *values: Any) -> list[sqlite3.Row]:
        with self._lock:
            return self._db.execute(sql, values).fetchall()

    # Settings

    @property
    def settings(self) -> Settings:
        found = self.rows("SELECT value FROM settings WHERE key = 'project'")
        try:
            return Settings.model_validate_json(found[0]["value"]) if found else Settings()
        except ValidationError as err:
            raise explain(err, f"{self.folder / DATABASE}, settings") from None

    def update_settings(self, settings: Settings, spend: str = "") -> None:
        """Keep new settings.

        spend: why the border is moved although work was done. It spends the holdout for all that was found before; without
        a reason such a move is refused.
        Raises:
            UserError: the border would move after work was done, or lie outside all data. Nothing was changed.
        """
        there = self.rows("SELECT value FROM settings WHERE key = 'project'")
        old = self.settings
        moved = bool(there) and settings.holdout_first != old.holdout_first
        if moved:
            self._check_border(settings.holdout_first)
            if self.worked() and not spend.strip():
                raise UserError(f"the border cannot move from {old.holdout_first} to {settings.holdout_first}: work was done "
                                "with it", "holdout", "Leave it, or move it on purpose and say why: that spends the holdout "
                                "for everything found so far.")
        with self.transaction() as db:
            if moved and self.worked():
                why = spend.strip()[:500]
                self.book.move(now(), old.holdout_first, settings.holdout_first, why)
                both = sorted((old.holdout_first, settings.holdout_first))
                self.book.add(Opening(now(), f"border moved from {old.holdout_first} to {settings.holdout_first}: {why}",
                                      BORDER, first=str(both[0]), last=str(both[1]), batch=self.book.next_batch()))
            if there and settings.last != old.last and self.worked():
                self.book.add(Opening(now(), f"data until moved from {old.last} to {settings.last}", END))
            db.execute("INSERT OR REPLACE INTO settings VALUES ('project', ?)", (settings.model_dump_json(),))
        if moved:
            with self._lock:
                self._histories = None

    def worked(self) -> bool:
        """Whether anything was searched, kept, judged or opened, so that the border has a meaning."""
        return any(self.rows(f"SELECT 1 FROM {table} LIMIT 1")
                   for table in ("searches", "candidates", "runs", "evidence", "judged", "openings"))

    def _check_border(self, border: dt.date) -> None:
        markets = self.markets()
        if markets and not any(m.first[:10] < str(border) <= m.last[:10] for m in markets):
            raise UserError(f"the border {border} lies outside the data, which reaches from "
                            f"{min(m.first[:10] for m in markets)} to {max(m.last[:10] for m in markets)}", "holdout",
                            "Choose a day inside it, so that there is something to train on and something to seal.")

    def get_value(self, key: str, default: Any = None) -> Any:
        """A small piece of remembered state (window layout, last place)."""
        found = self.rows("SELECT value FROM settings WHERE key = ?", f"value:{key}")
        return json.loads(found[0]["value"]) if found else default

    def set_value(self, key: str, value: Any) -> None:
        with self.transaction() as db:
            db.execute("INSERT OR REPLACE INTO settings VALUES (?, ?)", (f"value:{key}", json.dumps(value)))

    def openings(self, market: str | None = None) -> int:
        """How often the holdout was opened, in the project or on one market."""
        return self.book.count(market)

    # Markets and history

    @property
    def history_folder(self) -> Path:
        return self.folder / HISTORY

    def add_market(self, terms: Terms, bars: Bars, source: str) -> None:
        """Add a market with bars as its source, on which it is tested from now on."""
        self.sources.put(terms, source, Raw.of(bars), origin=source, activate=True)

    def forget(self, code: str = "") -> None:
        """Drop what is held in memory, after a market's history or terms have changed. Work under way goes on with what it
        began on."""
        with self._lock:
            self._histories = None

    def markets(self) -> list[MarketEntry]:
        return [MarketEntry(r["code"], Terms.model_validate_json(r["terms"]), r["source"], r["file"], r["minutes"],
                            r["bars"], r["first"], r["last"], r["left_out"], r["off_grid"], r["hash"],
                            np.frombuffer(r["silhouette"], np.float32))
                for r in self.rows("SELECT * FROM markets ORDER BY position, code")]

    def market(self, code: str) -> MarketEntry:
        found = [m for m in self.markets() if m.code == code]
        if not found:
            known = ", ".join(m.code for m in self.markets()) or "none"
            raise UserError(f'there is no market "{code}" in this project', str(self.folder), f"Known are {known}.")
        return found[0]

    def history_path(self, entry: MarketEntry) -> Path:
        return self.history_folder / entry.file

    def ground(self) -> Ground:
        """All histories as they are now, sealed at the border: what work stands on."""
        terms = {m.code: m.terms for m in self.markets()}
        border = self.settings.holdout_first
        return Ground(str(self.folder), tuple((s.market, s.name, self.sources.history(s, terms[s.market], border))
                                              for s in self.sources.all()),
                      tuple((m.code, m.source) for m in self.markets()))

    @property
    def histories(self) -> Histories:
        """The present ground, read. Whoever works keeps the object, so that later changes do not reach it."""
        with self._lock:
            version = int(self.rows("PRAGMA data_version")[0][0])  # moves when another program has written
            if self._histories is None or version != self._read_at:
                ground = self.ground()
                if self._histories is None or self._histories.ground != ground:
                    self._histories = Histories(ground)
                self._read_at = version
            return self._histories

    def base(self, code: str, source: str | None = None) -> Bars:
        """A market's treated bars at their own interval, up to the border."""
        return self.histories.base(code, source)

    def prepared(self, code: str, interval: int, source: str | None = None) -> Prepared:
        """A market at an interval up to the border, made ready for runs."""
        return self.histories.prepared(code, interval, source)

    @property
    def own(self) -> OwnIndicators:
        """The user's own indicators."""
        return OwnIndicators(self.folder)

    # Strategies

    def strategies(self) -> list[StrategyEntry]:
        return [StrategyEntry(r["id"], Strategy.model_validate_json(r["body"]), r["market"], r["interval"],
                              r["parent"], OwnSpan.model_validate_json(r["span"]) if r["span"] else None)
                for r in self.rows("SELECT * FROM strategies ORDER BY id")]

    def strategy(self, name_or_id: str | int) -> StrategyEntry:
        for entry in self.strategies():
            if name_or_id in (entry.id, entry.strategy.name, str(entry.id)):
                return entry
        known = ", ".join(f'"{e.strategy.name}"' for e in self.strategies()) or "none"
        raise UserError(f'there is no strategy "{name_or_id}" in this project', str(self.folder), f"Known are {known}.")

    def save_strategy(self, strategy: Strategy, market: str, interval: int, id: int | None = None,
                      parent: int | None = None, own: OwnSpan | None = None) -> int:
        """Keep a strategy; a new one, of which parent is the one it varies, when no id is given. Returns its id.

        own: the training span of a new strategy; a variant without one inherits its parent's.
        """
        body = (strategy.name, strategy.model_dump_json(), strategy_hash(strategy), market, interval, now())
        with self.transaction() as db:
            if id is None:
                span = own.model_dump_json() if own is not None else None
                if span is None and parent is not None:
                    found = db.execute("SELECT span FROM strategies WHERE id = ?", (parent,)).fetchone()
                    span = found["span"] if found else None
                cursor = db.execute("INSERT INTO strategies (name, body, hash, market, interval, updated, created, parent, "
                                    "span) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", (*body, now(), parent, span))
                return int(cursor.lastrowid or 0)
            db.execute("UPDATE strategies SET name = ?, body = ?, hash = ?, market = ?, interval = ?, updated = ? "
                       "WHERE id = ?", (*body, id))
            return id

    def set_own_span(self, id: int, own: OwnSpan | None) -> None:
        """Give a strategy a training span of its own, or take it back.

        Raises:
            UserError: it reaches into the holdout, or holds no day of the training span.
        """
        settings = self.settings
        if own is not None and own.last is not None and own.last >= settings.holdout_first:
            raise UserError(f"a strategy cannot train until {own.last}: the holdout begins on {settings.holdout_first}",
                            "training span", "End it before that day.")
        settings.of(own)
        with self.transaction() as db:
            db.execute("UPDATE strategies SET span = ? WHERE id = ?", (own.model_dump_json() if own else None, id))

    def put_back_strategy(self, entry: StrategyEntry) -> None:
        """Restore a deleted strategy under its id (undo)."""
        with self.transaction() as db:
            db.execute("INSERT INTO strategies (id, name, body, hash, market, interval, created, updated, parent, span) "
                       "VALUES (?, ?, '{}', '', ?, ?, ?, '', ?, ?)",
                       (entry.id, entry.strategy.name, entry.market, entry.interval, now(), entry.parent,
                        entry.own.model_dump_json() if entry.own else None))
            self.save_strategy(entry.strategy, entry.market, entry.interval, entry.id)

    def delete_strategy(self, id: int) -> None:
        with self.transaction() as db:
            db.execute("DELETE FROM strategies WHERE id = ?", (id,))

    def free_name(self, wanted: str) -> str:
        taken = {e.strategy.name for e in self.strategies()}
        if wanted not in taken:
            return wanted
        return next(n for i in range(2, 10_000) if (n := f"{wanted} {i}") not in taken)
