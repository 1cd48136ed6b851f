"""A project on disk: `project.sqlite` and `history/`. Every change is a transaction the moment it is made."""

from __future__ import annotations

import datetime as dt
import json
import sqlite3
from collections import OrderedDict
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from threading import RLock
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pydantic import ValidationError

from wolbrin.core.engine.run import Prepared
from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.market.bars import Bars
from wolbrin.core.market.intervals import to_interval
from wolbrin.core.market.terms import Terms, explain
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.history import read_history, write_history
from wolbrin.core.store.schema import migrate
from wolbrin.core.store.settings import Settings

DATABASE = "project.sqlite"
HISTORY = "history"
SILHOUETTE_POINTS = 600
PREPARED_HELD = 6


@dataclass(frozen=True)
class MarketEntry:
    """A market of the project. silhouette: float32[SILHOUETTE_POINTS] closes evenly spaced in time."""

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
    """A strategy of the project with the market and interval it was last looked at on."""

    id: int
    strategy: Strategy
    market: str
    interval: int


def now() -> str:
    return dt.datetime.now(dt.UTC).isoformat(timespec="seconds")


def silhouette(bars: Bars) -> NDArray[np.float32]:
    at = np.linspace(int(bars.time[0]), int(bars.time[-1]), SILHOUETTE_POINTS)
    index = np.clip(np.searchsorted(bars.time, at, "right") - 1, 0, len(bars) - 1)
    return bars.close[index].astype(np.float32)


class Project:
    """An open project folder. Safe to use from several threads.

    Raises:
        UserError: the folder is not a project. EnvironmentTrouble: the database is damaged, newer, or not writable.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._lock = RLock()
        self._depth = 0
        self._prepared: OrderedDict[tuple[str, int], Prepared] = OrderedDict()
        self._base: OrderedDict[str, Bars] = OrderedDict()
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

    def update_settings(self, settings: Settings) -> None:
        """Keep new settings. Moving the holdout's border into sealed data counts as an opening."""
        before = self.rows("SELECT value FROM settings WHERE key = 'project'")
        with self.transaction() as db:
            if before:
                old = self.settings
                if settings.holdout_first > old.holdout_first:
                    self.add_opening(f"border moved from {old.holdout_first} to {settings.holdout_first}")
            db.execute("INSERT OR REPLACE INTO settings VALUES ('project', ?)", (settings.model_dump_json(),))

    def get_value(self, key: str, default: Any = None) -> Any:
        """A small piece of remembered state (window layout, last place)."""
        found = self.rows("SELECT value FROM settings WHERE key = ?", f"value:{key}")
        return json.loads(found[0]["value"]) if found else default

    def set_value(self, key: str, value: Any) -> None:
        with self.transaction() as db:
            db.execute("INSERT OR REPLACE INTO settings VALUES (?, ?)", (f"value:{key}", json.dumps(value)))

    def add_opening(self, what: str) -> None:
        with self.transaction() as db:
            db.execute("INSERT INTO openings (created, what) VALUES (?, ?)", (now(), what))

    def openings(self) -> int:
        """How often the holdout was opened."""
        return int(self.rows("SELECT count(*) n FROM openings")[0]["n"])

    # Markets and history

    def add_market(self, terms: Terms, bars: Bars, source: str) -> None:
        """Write a market's history file, then its row; an existing market of that code is replaced."""
        file = f"{terms.code}__{source}.parquet"
        write_history(self.folder / HISTORY / file, bars)
        with self.transaction() as db:
            position = db.execute("SELECT count(*) FROM markets").fetchone()[0]
            first, last = (str(bars.time[i].astype("datetime64[ns]").astype("datetime64[m]")) for i in (0, -1))
            db.execute(
                "INSERT OR REPLACE INTO markets VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (terms.code, position, terms.model_dump_json(), source, file, bars.interval, len(bars), first, last,
                 bars.left_out, bars.off_grid, bars.hash, silhouette(bars).tobytes()))
        with self._lock:
            self._base.pop(terms.code, None)
            for key in [k for k in self._prepared if k[0] == terms.code]:
                del self._prepared[key]

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
        return self.folder / HISTORY / entry.file

    def base(self, code: str) -> Bars:
        """A market's bars at their own interval; the last few used stay in memory."""
        with self._lock:
            if code in self._base:
                self._base.move_to_end(code)
                return self._base[code]
        entry = self.market(code)
        bars = read_history(self.history_path(entry), entry.terms, entry.minutes)
        with self._lock:
            self._base[code] = bars
            while len(self._base) > PREPARED_HELD:
                self._base.popitem(last=False)
        return bars

    def prepared(self, code: str, minutes: int) -> Prepared:
        """A market at an interval, made ready for runs; the last few used stay in memory."""
        with self._lock:
            if (code, minutes) in self._prepared:
                self._prepared.move_to_end((code, minutes))
                return self._prepared[code, minutes]
        made = Prepared.of(to_interval(self.base(code), minutes))
        with self._lock:
            made = self._prepared.setdefault((code, minutes), made)
            while len(self._prepared) > PREPARED_HELD:
                self._prepared.popitem(last=False)
        return made

    # Strategies

    def strategies(self) -> list[StrategyEntry]:
        return [StrategyEntry(r["id"], Strategy.model_validate_json(r["body"]), r["market"], r["interval"])
                for r in self.rows("SELECT * FROM strategies ORDER BY id")]

    def strategy(self, name_or_id: str | int) -> StrategyEntry:
        for entry in self.strategies():
            if name_or_id in (entry.id, entry.strategy.name, str(entry.id)):
                return entry
        known = ", ".join(f'"{e.strategy.name}"' for e in self.strategies()) or "none"
        raise UserError(f'there is no strategy "{name_or_id}" in this project', str(self.folder), f"Known are {known}.")

    def save_strategy(self, strategy: Strategy, market: str, interval: int, id: int | None = None) -> int:
        """Keep a strategy; a new one when no id is given. Returns its id."""
        body = (strategy.name, strategy.model_dump_json(), strategy_hash(strategy), market, interval, now())
        with self.transaction() as db:
            if id is None:
                cursor = db.execute("INSERT INTO strategies (name, body, hash, market, interval, updated, created) "
                                    "VALUES (?, ?, ?, ?, ?, ?, ?)", (*body, now()))
                return int(cursor.lastrowid or 0)
            db.execute("UPDATE strategies SET name = ?, body = ?, hash = ?, market = ?, interval = ?, updated = ? "
                       "WHERE id = ?", (*body, id))
            return id

    def delete_strategy(self, id: int) -> None:
        with self.transaction() as db:
            db.execute("DELETE FROM strategies WHERE id = ?", (id,))

    def free_name(self, wanted: str) -> str:
        taken = {e.strategy.name for e in self.strategies()}
        if wanted not in taken:
            return wanted
        return next(n for i in range(2, 10_000) if (n := f"{wanted} {i}") not in taken)
