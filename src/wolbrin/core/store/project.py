"""A project on disk: `project.sqlite`, `history/` and `results/`. Every change is a transaction the moment it is made.

What a project keeps is in parts of its own (settings, markets, sources, strategies, the book of openings); this puts them
together on one database, and holds the histories that were read.
"""

from __future__ import annotations

import errno
import sqlite3
from collections.abc import Callable
from contextlib import suppress
from functools import partial
from pathlib import Path

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import EnvironmentTrouble, UserError, WolbrinError
from wolbrin.core.indicators.own import OwnIndicators
from wolbrin.core.market.bars import Bars
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.terms import Terms
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.aside import Aside
from wolbrin.core.store.book_journal import BookJournal
from wolbrin.core.store.columns import BOOK
from wolbrin.core.store.config import Config
from wolbrin.core.store.database import DATABASE, Database, now
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.ground import Ground, Held, Histories
from wolbrin.core.store.holdout import HoldoutBook
from wolbrin.core.store.markets import MarketEntry, Markets
from wolbrin.core.store.mending import spend
from wolbrin.core.store.recovering import is_damage, recover
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.settings import OwnSpan, Settings
from wolbrin.core.store.shelf_columns import complete
from wolbrin.core.store.sources import HISTORY, MONTH, Source, Sources
from wolbrin.core.store.strategies import Strategies, StrategyEntry

__all__ = ["DATABASE", "HISTORY", "MarketEntry", "Project", "StrategyEntry", "now"]


SMALL = ("settings", "markets", "sources", "strategies", "layouts", "searches", "openings", "borders", "portfolios",
         "treatments", "plans", "answers")


def _unmake(folder: Path, there: bool, history: bool) -> None:
    """Take away what was begun in a folder in which no project could be made, and nothing else."""
    with suppress(OSError):
        for ending in ("", "-wal", "-shm", "-journal"):
            (folder / (DATABASE + ending)).unlink(missing_ok=True)
        if not history:
            (folder / HISTORY).rmdir()
        if not there:
            folder.rmdir()


def _unjoined(markets: list[MarketEntry], sources: list[Source]) -> tuple[str, ...]:
    """Markets that are tested on one of several contract months."""
    months = [s.key for s in sources if s.kind == MONTH]
    return tuple(m.code for m in markets if (m.code, m.source) in months and sum(c == m.code for c, _ in months) > 1)


class Project(Database):
    """An open project folder. Safe to use from several threads.

    Raises:
        UserError: the folder is not a project. EnvironmentTrouble: the database is damaged, newer, or not writable.
    """

    def __init__(self, folder: Path) -> None:
        try:
            self._begin_with(folder)
        except BaseException:
            with suppress(AttributeError):  # of what was never begun
                self.close()
            raise

    def _begin_with(self, folder: Path) -> None:
        aside = Aside()
        try:
            self._open(folder)
            self._look()
        except EnvironmentTrouble as err:
            if err.__context__ is None or not is_damage(err.__context__):
                raise
            if self.only_read:
                self.recover_here()
            else:
                self.close()
                recover(folder / DATABASE, aside)
                self._open(folder)
        self.aside.found = aside.found | self.aside.found
        for act, what in ((Searches(self).settle, "which searches were interrupted"),
                          (lambda: complete(self), "columns of the Shelf"),
                          (self._renew_entries, "what the list of markets says of some"),
                          (self.sources.tell_months, "which bars the sources hold"),
                          (self._compare_books, "the journal of openings")):
            try:
                act()
            except EnvironmentTrouble as err:  # no reason to keep the rest shut
                self.aside.add(what, err.what)
        self._shut = bool(self.only_read)

    def _open(self, folder: Path) -> None:
        self.opened_at = now()
        self.found_again = ""  # what the journal knew of openings that the database had lost, in words
        super().__init__(folder)
        self.book = HoldoutBook(self)
        self.journal = BookJournal(self)
        self.market_list = Markets(self)
        self.config = Config(self, self.book, self.market_list)
        self.held = Held(self.ground, self)
        self.sources = Sources(self, self.market_list, self.config, self.held.forget)
        self.strategy_list = Strategies(self, self.config)

    def _renew_entries(self) -> None:
        """Make entries of the list of markets anew that held something wrong."""
        for number in self.stale_markets:
            for r in self.rows("SELECT code, source FROM markets WHERE rowid = ?", number):
                try:
                    self.sources.activate(r["code"], r["source"])
                except WolbrinError as err:  # its source cannot be read either, which is told where it is
                    self.aside.add(f"what the list of markets says of {r['code']}", err.what)

    def _compare_books(self) -> None:
        """Let the stricter hold where database and journals differ. Where a line of the book was left aside and no journal
        tells it again, nobody knows what was opened."""
        before = self._lines()
        self.found_again = self.journal.reconcile()
        if self._lines() < before + self.lost_lines:
            with self.transaction() as db:
                spend(db, ["the book"], "could not read a line of", "a line of {} could not be read")

    def _lines(self) -> int:
        """How many lines the book has."""
        return sum(int(self.rows(f"SELECT count(*) n FROM {table}")[0]["n"]) for table in BOOK)

    def _look(self) -> None:
        """Read what is read at every opening, so that damaged pages show here. Raises EnvironmentTrouble where there are."""
        acts: list[Callable[[], object]] = [Dossiers(self).counts]
        asked = [*(f"SELECT * FROM {name}" for name in SMALL), "SELECT owner, count(*) FROM parts GROUP BY owner",
                 "SELECT market, hash, verdict, reason, created FROM judged",
                 "SELECT stands, count(*), sum(ticked) FROM candidates GROUP BY stands"]
        acts += [partial(self.rows, sql) for sql in asked]
        for act in acts:
            try:
                act()
            except EnvironmentTrouble as err:
                if err.__context__ is not None and is_damage(err.__context__):
                    raise

    @classmethod
    def create(cls, folder: Path, settings: Settings | None = None) -> Project:
        """Start a project in an empty or new folder."""
        path = folder / DATABASE
        if path.exists():
            raise UserError("there is a project in this folder already", str(folder), "Open it instead.")
        there = folder.exists(), (folder / HISTORY).exists()
        try:
            (folder / HISTORY).mkdir(parents=True, exist_ok=True)
            begun = sqlite3.connect(path)
            begun.execute("PRAGMA journal_mode = WAL")  # writes the first page: an empty file is none of ours
            begun.close()
            project = cls(folder)
            project.update_settings(settings or Settings())
            return project
        except (OSError, sqlite3.Error) as err:
            _unmake(folder, *there)
            if (isinstance(err, OSError) and err.errno == errno.EROFS) or isinstance(err, PermissionError):
                raise EnvironmentTrouble("this folder is read-only", str(folder), "Choose another folder.") from None
            raise EnvironmentTrouble(f"a project cannot be made in this folder ({err})", str(folder),
                                     "Free some space, or choose another folder.") from None
        except BaseException:
            _unmake(folder, *there)
            raise

    # Settings

    def verify(self) -> str:
        """What SQLite says against the whole database, "" for nothing; reads all of it."""
        try:
            said = [str(r[0]) for r in self.read("PRAGMA quick_check(3)")]
        except EnvironmentTrouble as err:
            return err.what
        return "" if said == ["ok"] else "; ".join(said)[:300]

    @property
    def settings(self) -> Settings:
        return self.config.read()

    def left_before(self) -> list[tuple[str, str, str]]:
        """When, what and why of what was left aside before it was opened, newest first."""
        return [(r["created"], r["what"], r["why"]) for r in self.rows(
            "SELECT created, what, why FROM left_aside WHERE created < ? ORDER BY id DESC", self.opened_at)]

    @property
    def anything_left(self) -> bool:
        """Whether anything was left aside, now or before."""
        return bool(self.aside.found or self.rows("SELECT 1 FROM left_aside LIMIT 1"))

    def update_settings(self, settings: Settings, spend: str = "") -> None:
        """Keep new settings; see `Config.keep`."""
        if self.config.keep(settings, spend):
            self.held.forget()

    def worked(self) -> bool:
        """Whether anything was searched, kept, judged or opened, so that the border has a meaning."""
        return self.config.worked()

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

    def markets(self) -> list[MarketEntry]:
        return self.market_list.all()

    def market(self, code: str) -> MarketEntry:
        return self.market_list.get(code)

    def history_path(self, entry: MarketEntry) -> Path:
        return self.history_folder / entry.file

    def ground(self) -> Ground:
        """All histories as they are now, sealed at the border: what work stands on."""
        markets = self.markets()
        terms = {m.code: m.terms for m in markets}
        border = self.settings.holdout_first
        sources = self.sources.all()
        return Ground(str(self.folder), tuple((s.market, s.name, self.sources.history(s, terms[s.market], border))
                                              for s in sources),
                      tuple((m.code, m.source) for m in markets),
                      tuple((m, t, said) for t in terms for m, said in self.answers_on(t).items()), _unjoined(markets,
                                                                                                              sources))

    def answers_on(self, market: str) -> dict[str, str]:
        """What somebody said of other markets that go before this one, by market."""
        found = self.rows("SELECT about, answer FROM answers WHERE about LIKE 'lead %'")
        told = [(r["about"].split(" "), r["answer"]) for r in found]
        return {about[1]: said for about, said in told if len(about) == 3 and about[2] == market}

    @property
    def histories(self) -> Histories:
        """The present ground, read. Whoever works keeps the object, so that later changes do not reach it."""
        return self.held.histories

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

    # Strategies; see store.strategies

    def strategies(self) -> list[StrategyEntry]:
        return self.strategy_list.all()

    def strategy(self, name_or_id: str | int) -> StrategyEntry:
        return self.strategy_list.get(name_or_id)

    def save_strategy(self, strategy: Strategy, market: str, interval: int, id: int | None = None,
                      parent: int | None = None, own: OwnSpan | None = None) -> int:
        return self.strategy_list.save(strategy, market, interval, id, parent, own)

    def change_strategy(self, strategy: Strategy, market: str, interval: int, id: int, version: int) -> int:
        return self.strategy_list.change(strategy, market, interval, id, version)

    def set_own_span(self, id: int, own: OwnSpan | None) -> None:
        self.strategy_list.set_own_span(id, own)

    def put_back_strategy(self, entry: StrategyEntry) -> None:
        self.strategy_list.put_back(entry)

    def delete_strategy(self, id: int) -> None:
        self.strategy_list.delete(id)

    def free_name(self, wanted: str) -> str:
        return self.strategy_list.free_name(wanted)
