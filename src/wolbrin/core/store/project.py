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

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.indicators.own import OwnIndicators
from wolbrin.core.market.bars import Bars
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.terms import Terms, explain
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.history import History
from wolbrin.core.store.schema import migrate
from wolbrin.core.store.settings import Settings
from wolbrin.core.store.sources import Sources

DATABASE = "project.sqlite"
HISTORY = "history"
PREPARED_HELD = 6


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
    """A strategy of the project with the market and interval it was last looked at on; parent: the one it is a variant of."""

    id: int
    strategy: Strategy
    market: str
    interval: int
    parent: int | None = None


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
        self._prepared: OrderedDict[tuple[str, str, int], Prepared] = OrderedDict()
        self._base: OrderedDict[tuple[str, str], Bars] = OrderedDict()
        self.sources = Sources(self)
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
                self._count_moves(self.settings, settings)
            db.execute("INSERT OR REPLACE INTO settings VALUES ('project', ?)", (settings.model_dump_json(),))

    def _count_moves(self, old: Settings, new: Settings) -> None:
        """Borders that moved into sealed data, the project's or a strategy's own, count as openings."""
        for name in (None, *sorted(old.spans.keys() | new.spans.keys())):
            before, after = ((s.spans[name] if name is not None and name in s.spans else s).holdout_first for s in (old, new))
            own = f" for {name}" if name is not None else ""
            renamed = name is not None and name not in old.spans and new.spans[name] in old.spans.values()
            if after > before and not renamed and (name is None or after > new.holdout_first or name in old.spans):
                self.add_opening(f"border moved from {before} to {after}{own}")

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

    @property
    def history_folder(self) -> Path:
        return self.folder / HISTORY

    def add_market(self, terms: Terms, bars: Bars, source: str) -> None:
        """Add a market with bars as its source, on which it is tested from now on."""
        self.sources.put(terms, source, Raw.of(bars), origin=source, activate=True)

    def forget(self, code: str) -> None:
        """Drop what is held in memory of a market whose history or terms have changed."""
        with self._lock:
            for key in [k for k in self._base if k[0] == code]:
                del self._base[key]
            # Other markets may read this one, as an operand or for its conversion rate.
            self._prepared.clear()

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

    def history(self, code: str, source: str | None = None) -> History:
        """Where a market's bars come from: of the source tested on, unless another is named."""
        return self.sources.history(self.sources.get(code, source or self.market(code).source))

    def base(self, code: str, source: str | None = None) -> Bars:
        """A market's treated bars at their own interval; the last few used stay in memory."""
        key = code, source or self.market(code).source
        with self._lock:
            if key in self._base:
                self._base.move_to_end(key)
                return self._base[key]
        bars = self.history(*key).treated().bars
        with self._lock:
            self._base[key] = bars
            while len(self._base) > PREPARED_HELD:
                self._base.popitem(last=False)
        return bars

    def prepared(self, code: str, interval: int, source: str | None = None) -> Prepared:
        """A market at an interval, made ready for runs; the last few used stay in memory."""
        name = source or self.market(code).source
        key = code, name, interval
        with self._lock:
            if key in self._prepared:
                self._prepared.move_to_end(key)
                return self._prepared[key]
        made = Prepared.of(self.history(code, name).at(interval, self.base(code, name)),
                           finer=lambda: self.base(code, name), rates=lambda: self.rates(code), elsewhere=self.elsewhere,
                           own=self.own.values)
        with self._lock:
            made = self._prepared.setdefault(key, made)
            while len(self._prepared) > PREPARED_HELD:
                self._prepared.popitem(last=False)
        return made

    @property
    def own(self) -> OwnIndicators:
        """The user's own indicators."""
        return OwnIndicators(self.folder)

    def elsewhere(self, code: str, interval: int) -> Bars:
        """Bars of another market, for operands that name it."""
        return self.prepared(code, interval).bars

    def rates(self, code: str) -> Bars | None:
        """Bars of the market whose price converts this one's quote currency, None where a fixed rate stands."""
        wanted = self.market(code).terms.conversion_market
        return self.base(wanted, self.market(wanted).source) if wanted else None

    # Strategies

    def strategies(self) -> list[StrategyEntry]:
        return [StrategyEntry(r["id"], Strategy.model_validate_json(r["body"]), r["market"], r["interval"],
                              r["parent"]) for r in self.rows("SELECT * FROM strategies ORDER BY id")]

    def strategy(self, name_or_id: str | int) -> StrategyEntry:
        for entry in self.strategies():
            if name_or_id in (entry.id, entry.strategy.name, str(entry.id)):
                return entry
        known = ", ".join(f'"{e.strategy.name}"' for e in self.strategies()) or "none"
        raise UserError(f'there is no strategy "{name_or_id}" in this project', str(self.folder), f"Known are {known}.")

    def save_strategy(self, strategy: Strategy, market: str, interval: int, id: int | None = None,
                      parent: int | None = None) -> int:
        """Keep a strategy; a new one, of which parent is the one it varies, when no id is given. Returns its id."""
        body = (strategy.name, strategy.model_dump_json(), strategy_hash(strategy), market, interval, now())
        with self.transaction() as db:
            if id is None:
                cursor = db.execute("INSERT INTO strategies (name, body, hash, market, interval, updated, created, parent) "
                                    "VALUES (?, ?, ?, ?, ?, ?, ?, ?)", (*body, now(), parent))
                return int(cursor.lastrowid or 0)
            db.execute("UPDATE strategies SET name = ?, body = ?, hash = ?, market = ?, interval = ?, updated = ? "
                       "WHERE id = ?", (*body, id))
            return id

    def put_back_strategy(self, entry: StrategyEntry) -> None:
        """Restore a deleted strategy under its id (undo)."""
        with self.transaction() as db:
            db.execute("INSERT INTO strategies (id, name, body, hash, market, interval, created, updated, parent) "
                       "VALUES (?, ?, '{}', '', ?, ?, ?, '', ?)",
                       (entry.id, entry.strategy.name, entry.market, entry.interval, now(), entry.parent))
            self.save_strategy(entry.strategy, entry.market, entry.interval, entry.id)

    def delete_strategy(self, id: int) -> None:
        with self.transaction() as db:
            db.execute("DELETE FROM strategies WHERE id = ?", (id,))

    def free_name(self, wanted: str) -> str:
        taken = {e.strategy.name for e in self.strategies()}
        if wanted not in taken:
            return wanted
        return next(n for i in range(2, 10_000) if (n := f"{wanted} {i}") not in taken)
