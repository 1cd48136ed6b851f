"""Sources of a project's markets: where history came from, how it is treated, which one is tested on."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from pydantic import ValidationError

from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.faults import explain
from wolbrin.core.market.bars import Bars
from wolbrin.core.market.importing.layout import Layout
from wolbrin.core.market.intervals import DAILY, Interval
from wolbrin.core.market.months import month_digests
from wolbrin.core.market.raw import Raw, ticks_to_bars
from wolbrin.core.market.shifted import shift_between
from wolbrin.core.market.terms import Terms
from wolbrin.core.market.treatment import Treatment
from wolbrin.core.store.config import Config
from wolbrin.core.store.database import Database
from wolbrin.core.store.history import History, Seam, read_raw, write_rows
from wolbrin.core.store.markets import Markets
from wolbrin.core.store.same import group_bars
from wolbrin.core.store.settings import Settings
from wolbrin.core.written import inside, told_name

HISTORY = "history"
BARS, TICKS, MONTH, CONTINUOUS = "bars", "ticks", "contract month", "continuous"
SILHOUETTE_POINTS = 600
Roll = tuple[int, str, str, float, float]


@dataclass(frozen=True)
class Source:
    """One source of a market. kind: bars, ticks, a contract month, or a continuous future built from such.

    rolls: (UTC ns, month left, month entered, difference of prices, their ratio) of a continuous future, whose rows are
    kept as they were traded; adjust: how they are moved when read (see store.history). score: of the last quality
    report on the untreated rows, None before one. origin: where the rows came from, in words.
    """

    market: str
    name: str
    kind: str
    file: str
    ticks: str
    interval: int
    rows: int
    first: str
    last: str
    treatment: Treatment
    rolls: tuple[Roll, ...]
    cost_set: str
    origin: str
    layout: Layout | None
    score: float | None
    adjust: str = "unadjusted"

    @property
    def key(self) -> tuple[str, str]:
        return self.market, self.name


def stamp(ns: int) -> str:
    return str(np.datetime64(int(ns), "ns").astype("datetime64[m]"))


def silhouette(bars: Bars) -> np.ndarray:
    """float32[SILHOUETTE_POINTS]: closes evenly spaced in time."""
    at = np.linspace(int(bars.time[0]), int(bars.time[-1]), SILHOUETTE_POINTS)
    index = np.clip(np.searchsorted(bars.time, at, "right") - 1, 0, len(bars) - 1)
    return bars.close[index].astype(np.float32)


def intervals_for(source: Source) -> tuple[int, ...]:
    """Intervals worth offering for a source, its own first."""
    base = Interval.of(source.interval)
    if base.kind == "daily":
        return (DAILY,)
    steps = [m for m in (1, 2, 3, 5, 10, 15, 30, 60, 120, 240) if m % source.interval == 0]
    return (*sorted({source.interval, *steps}), DAILY)


class Sources:
    """Reads and writes sources in a project's database and history folder."""

    def __init__(self, db: Database, markets: Markets, config: Config, moved: Callable[[], None]) -> None:
        """moved: called when a history has changed, so that what was read of it is dropped."""
        self.db = db
        self.folder = db.folder / HISTORY
        self.markets = markets
        self.config = config
        self.moved = moved

    def _made(self, r: Any) -> Source:
        try:
            treatment = Treatment.model_validate_json(r["treatment"])
            layout = Layout.model_validate_json(r["layout"]) if r["layout"] else None
        except ValidationError as err:
            raise explain(err, f"{self.db.folder}, source {r['market']} {r['name']}") from None
        # Rolls kept by older versions have no ratio.
        rolls = tuple((int(a), str(b), str(c), float(d), float(more[0]) if more else 1.0)
                      for a, b, c, d, *more in json.loads(r["rolls"]))
        return Source(r["market"], r["name"], r["kind"], r["file"], r["ticks"] or "", r["interval"], r["rows"], r["first"],
                      r["last"], treatment, rolls, r["cost_set"], r["origin"], layout, r["score"],
                      r["adjust"])

    def all(self) -> list[Source]:
        """By market, in the order in which they came; those of markets that are there."""
        order = {m.code: at for at, m in enumerate(self.markets.all())}
        rows = [r for r in self.db.table("sources", "rowid") if r["market"] in order]
        return self.db.aside.readable(sorted(rows, key=lambda r: order[r["market"]]), self._made,
                                      lambda r: f"the source {r['market']} {r['name']}")

    def of(self, market: str) -> list[Source]:
        return [s for s in self.all() if s.market == market]

    def get(self, market: str, name: str) -> Source:
        found = self.db.rows("SELECT * FROM sources WHERE market = ? AND name = ?", market, name)
        if not found:
            known = ", ".join(s.name for s in self.of(market)) or "none"
            raise UserError(f'{market} has no source "{name}"', str(self.db.folder), f"Known are {known}.")
        return self._made(found[0])

    def history(self, source: Source, terms: Terms | None = None, border: dt.date | None = None) -> History:
        """Where the source's bars come from, sealed at the project's border; under other terms than the market's where
        given."""
        folder = self.folder
        return History(str(inside(folder, source.file)), str(inside(folder, source.ticks)) if source.ticks else "",
                       source.interval,
                       terms or self.markets.get(source.market).terms, source.treatment,
                       tuple(Seam(r[0], r[3], r[4]) for r in source.rolls), source.adjust,
                       border or self.config.read().holdout_first)

    def training_raw(self, source: Source) -> Raw:
        """The rows as they came that lie before the border, adjusted over rolls. Raises UserError when all are sealed."""
        return self.history(source).rows()

    def pictured_raw(self, source: Source) -> Raw:
        """All rows, sealed ones too, adjusted over rolls: for drawing, never for figures."""
        return self.history(source).unsealed().rows()

    def raw(self, source: Source) -> Raw:
        """The rows as they came, sealed ones too: for joining and appending, never for figures."""
        return read_raw(inside(self.folder, source.file), source.interval)

    def ticks(self, source: Source) -> Raw | None:
        return read_raw(inside(self.folder, source.ticks), 0) if source.ticks else None

    # Changes. Files first under names of their own, then one transaction: a crash leaves the old state or the new one.

    def put(self, terms: Terms, name: str, raw: Raw, *, kind: str = BARS, origin: str = "", layout: Layout | None = None,
            rolls: tuple[Roll, ...] = (), adjust: str = "unadjusted", build: int = 1,
            activate: bool | None = None, settings: Settings | None = None) -> Source:
        """Add a source or replace its rows; the market is made when it is new.

        settings: of the project, kept together with the source where they change with it. raw: bars, or ticks from which
        bars of `build` minutes are made. activate: test on it from now on; None: when
        the market has no other.
        Raises:
            UserError: the rows give no bar under the terms; nothing was changed then.
        """
        name, origin = told_name(name), told_name(origin)
        if not name.strip() or len(name) > 60:
            raise UserError("a source needs a name of 1 to 60 characters", "source", "Write a short name.")
        bars_of = raw if raw.interval else ticks_to_bars(raw, build)
        known = self.db.rows("SELECT * FROM sources WHERE market = ? AND name = ?", terms.code, name)
        old = self._made(known[0]) if known else None
        treatment = old.treatment if old else Treatment()
        self._check_own(terms.code, bars_of)
        stem = f"{terms.code}__{_safe(name)}__{self._number()}"
        folder = self.folder
        written: list[str] = []
        try:
            written.append(write_rows(folder, stem, bars_of))
            if not raw.interval:
                written.append(write_rows(folder, f"{stem}-ticks", raw))
            source = Source(terms.code, name, kind if raw.interval else TICKS, written[0], "".join(written[1:]),
                            bars_of.interval, len(raw), stamp(raw.time[0]), stamp(raw.time[-1]), treatment, rolls,
                            old.cost_set if old else "", origin, layout, None, adjust)
            bars = self._pictured(source, terms)
            months = month_digests(bars_of)
            with self.db.transaction() as db:
                if settings is not None:
                    self.config.keep(settings)
                self._write(source)
                db.execute("UPDATE sources SET months = ? WHERE market = ? AND name = ?", (json.dumps(months), *source.key))
                group_bars(self.db)
                active = self.db.rows("SELECT source FROM markets WHERE code = ?", terms.code)
                if activate or (activate is None and not active) or (active and active[0]["source"] == name):
                    self._activate(source, terms, bars)
        except BaseException:
            for file in written:
                inside(folder, file).unlink(missing_ok=True)
            raise
        if old:
            for file in filter(None, (old.file, old.ticks)):
                inside(folder, file).unlink(missing_ok=True)
        self.moved()
        return source

    def _check_own(self, market: str, mine: Raw) -> None:
        """Make sure that rows are no other market's at other times: such a market would know the other one's future.

        Raises:
            UserError: they are.
        """
        for other in self.markets.all():
            if other.code == market:
                continue
            try:
                source = self.get(other.code, other.source)
                shift = shift_between(mine, self.raw(source)) if source.interval == mine.interval else None
            except WolbrinError:
                continue  # a damaged file is told where it is read
            if shift is not None:
                raise UserError(f"these are the bars of {other.code}, {shift.words}: no market of its own", market,
                                f"Where it is the same market stamped otherwise, import it as a source of {other.code} with "
                                "its time zone and stamps.")

    def _number(self) -> int:
        taken = self.db.get_value("source files", 0) + 1
        self.db.set_value("source files", taken)
        return int(taken)

    def _write(self, s: Source) -> None:
        with self.db.transaction() as db:
            db.execute("INSERT INTO sources (market, name, kind, file, ticks, interval, rows, first, last, treatment, rolls, "
                       "cost_set, origin, layout, score, adjust) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) "
                       "ON CONFLICT (market, name) DO UPDATE SET kind = excluded.kind, file = excluded.file, "
                       "ticks = excluded.ticks, interval = excluded.interval, rows = excluded.rows, first = excluded.first, "
                       "last = excluded.last, treatment = excluded.treatment, rolls = excluded.rolls, "
                       "cost_set = excluded.cost_set, origin = excluded.origin, layout = excluded.layout, "
                       "score = excluded.score, adjust = excluded.adjust",
                       (s.market, s.name, s.kind, s.file, s.ticks or None, s.interval, s.rows, s.first, s.last,
                        s.treatment.model_dump_json(), json.dumps(s.rolls), s.cost_set, s.origin,
                        s.layout.model_dump_json() if s.layout else None, s.score, s.adjust))

    def _pictured(self, source: Source, terms: Terms) -> Bars:
        """All bars of a source, for its entry in the list of markets: first and last bar, number, silhouette."""
        return self.history(source, terms).unsealed().treated().bars

    def _activate(self, source: Source, terms: Terms, bars: Bars) -> None:
        first, last = (stamp(int(bars.time[i])) for i in (0, -1))
        with self.db.transaction() as db:
            position = db.execute("SELECT count(*) FROM markets").fetchone()[0]
            db.execute(
                "INSERT INTO markets VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (code) DO UPDATE SET "
                "terms = excluded.terms, source = excluded.source, file = excluded.file, minutes = excluded.minutes, "
                "bars = excluded.bars, first = excluded.first, last = excluded.last, left_out = excluded.left_out, "
                "off_grid = excluded.off_grid, hash = excluded.hash, silhouette = excluded.silhouette",
                (terms.code, position, terms.model_dump_json(), source.name, source.file, source.interval, len(bars), first,
                 last, bars.left_out, bars.off_grid, bars.hash, silhouette(bars).tobytes()))

    def activate(self, market: str, name: str) -> None:
        """Test on this source from now on."""
        source, terms = self.get(market, name), self.markets.get(market).terms
        self._activate(source, terms, self._pictured(source, terms))
        self.moved()

    def treat(self, market: str, name: str, treatment: Treatment) -> Source:
        """Change how a source is treated; recorded, and the rows stay as they are. Raises UserError when no bar is left."""
        source = replace(self.get(market, name), treatment=treatment)
        terms = self.markets.get(market).terms
        bars = self._pictured(source, terms)
        try:
            digest = self.history(source).treated().bars.hash  # what results on it will carry
        except UserError:
            digest = bars.hash  # nothing of it lies before the border
        made = dt.datetime.now(dt.UTC).isoformat(timespec="seconds")
        with self.db.transaction() as db:
            self._write(source)
            db.execute("INSERT INTO treatments (created, market, source, body, words, hash) VALUES (?, ?, ?, ?, ?, ?)",
                       (made, market, name, treatment.model_dump_json(), treatment.words(), digest))
            if self.markets.get(market).source == name:
                self._activate(source, terms, bars)
        self.moved()
        return source

    def treatments(self, market: str, name: str) -> list[dict[str, str]]:
        """All treatments a source ever had, newest first: created, words, hash, body."""
        return [dict(r) for r in self.db.rows(
            "SELECT created, words, hash, body FROM treatments WHERE market = ? AND source = ? ORDER BY id DESC", market,
            name)]

    def change_terms(self, terms: Terms) -> None:
        """Give a market other terms; its active source is read again under them."""
        entry = self.markets.get(terms.code)
        source = self.get(terms.code, entry.source)
        bars = self._pictured(source, terms)
        self._activate(source, terms, bars)
        self.moved()

    def tell_months(self) -> None:
        """Work out which bars they hold for sources of an older version, which did not write it down."""
        for market, name in [(r["market"], r["name"]) for r in self.db.rows(
                "SELECT market, name FROM sources WHERE months IS NULL")]:
            try:
                months = month_digests(self.raw(self.get(market, name)))
            except WolbrinError as err:  # a damaged file is told where it is read
                self.db.aside.add(f"which bars {market} {name} holds", err.what)
                continue
            with self.db.transaction() as db:
                db.execute("UPDATE sources SET months = ? WHERE market = ? AND name = ?", (json.dumps(months), market, name))
                group_bars(self.db)

    def set_score(self, market: str, name: str, score: float) -> None:
        with self.db.transaction() as db:
            db.execute("UPDATE sources SET score = ? WHERE market = ? AND name = ?", (score, market, name))

    def set_cost_set(self, market: str, name: str, cost_set: str) -> None:
        """Name the cost set that belongs to a source's provider."""
        with self.db.transaction() as db:
            db.execute("UPDATE sources SET cost_set = ? WHERE market = ? AND name = ?", (cost_set, market, name))

    def remove(self, market: str, name: str) -> None:
        """Take a source out of the project; its file stays in the history folder. The last active one stays.

        Raises:
            UserError: it is the source that is tested on.
        """
        if self.markets.get(market).source == name:
            raise UserError(f"{market} is tested on this source", f"{market}, {name}", "Choose another source for it first.")
        with self.db.transaction() as db:
            db.execute("DELETE FROM sources WHERE market = ? AND name = ?", (market, name))
        self.moved()

    def restore(self, source: Source) -> None:
        """Put a removed source back (undo)."""
        self._write(source)
        self.moved()

    # Layouts

    def layouts(self) -> list[Layout]:
        return self.db.aside.readable(self.db.table("layouts", "name"), lambda r: Layout.model_validate_json(r["body"]),
                                      lambda r: f'the layout "{r["name"]}"')

    def keep_layout(self, layout: Layout) -> bool:
        """Remember a layout under its name. Returns True, so that whoever asks can tell that it was not refused."""
        if not layout.name.strip():
            raise UserError("a layout needs a name to be remembered", "layout", "Write a name.")
        with self.db.transaction() as db:
            db.execute("INSERT OR REPLACE INTO layouts VALUES (?, ?)", (layout.name, layout.model_dump_json()))
        return True


def _safe(name: str) -> str:
    """A name that is a plain part of a file name on any system."""
    return "".join(c if (c.isalnum() and c.isascii()) or c in "-_" else "-" for c in name)[:40] or "source"

