"""Markets: one list of sources, one report beside it, one chart below."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QSplitter, QStackedWidget, QWidget

from wolbrin.app.charts.price import PriceChart
from wolbrin.app.parts import Choice, button, column, label, row, stretch
from wolbrin.app.places.markets.page import Looked, Page
from wolbrin.app.places.markets.pages import PAGES, Pages
from wolbrin.app.places.place import Place
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.errors import WolbrinError
from wolbrin.core.figures.markets import MARKETS
from wolbrin.core.market.bars import day_number
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.market.raw import Raw
from wolbrin.core.measures.wording import number
from wolbrin.core.store.sources import Source

DAY = 86_400 * 10**9


class MarketsPlace(Place):
    key = "markets"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.looked = Looked(session)
        self.table = Table([
            Column("", lambda r: "\u25cf" if self._tested(r) else "", width=30, tint=lambda r: "accent",
                   tip="the source its market is tested on"),
            Column("market", lambda r: r.market, width=74, bold=True),
            Column("source", lambda r: r.name, width=86),
            Column("interval", lambda r: r.interval, lambda r: interval_words(r.interval), "right", 62,
                   figure=MARKETS["market.interval"]),
            Column("score", lambda r: float("nan") if r.score is None else r.score,
                   lambda r: "" if r.score is None else f"{r.score:.0f}", "right", 54,
                   lambda r: "caution" if r.score is not None and r.score < 95 else None, figure=MARKETS["market.score"]),
        ], session.theme, "Sources", stretch=2)
        self.stack = QStackedWidget()
        self.pages = Pages(self.looked, self.stack)
        self.choice = Choice([(title, key) for key, title, _ in PAGES], "quality", "Page")
        self.choice.chosen.connect(lambda key: self.show_page(str(key)))
        self.chart = PriceChart(session.theme, "Market price chart")
        self.chart.setToolTip("Drag to pan, wheel to zoom")
        self.title = label("", "heading")
        self.about = label("", "small")
        self.rows_shown = Choice([("as it came", False), ("treated", True)], False, "Bars on the chart")
        self.rows_shown.chosen.connect(lambda _: self._draw())
        self.span = Choice([("day", 1), ("month", 22), ("year", 260), ("all", 0)], 22, "Show")
        self.span.chosen.connect(self._zoom)
        self.use_button = button("Test on this source", self.use)
        self.drop_button = button("Remove", self.remove, tip="Take this source out of the project")
        left = QWidget()
        left.setLayout(column(self.table, row(self.use_button, self.drop_button, None), spacing=6))
        stretch(left, 0, 1)
        self.left = left
        lower = QWidget()
        lower.setLayout(column(row(self.title, self.about, None, self.rows_shown, 10, self.span, margins=(0, 4, 8, 0)),
                               self.chart, spacing=2))
        self.below = lower
        self.right = QSplitter(Qt.Orientation.Vertical)
        self.right.addWidget(self.stack)
        self.right.addWidget(lower)
        self.right.setSizes([310, 290])
        self.right.setChildrenCollapsible(False)
        right = QWidget()
        right.setLayout(column(self.choice, self.right, spacing=8, margins=(12, 0, 0, 0)))
        stretch(right, 1, 1)
        split = QSplitter()
        split.addWidget(left)
        split.addWidget(right)
        split.setSizes([316, 800])
        split.setStretchFactor(1, 1)
        split.setChildrenCollapsible(False)
        self.setLayout(column(split, margins=(20, 10, 8, 6)))
        self.table.chosen.connect(self._chosen)
        self.table.opened.connect(lambda _: session.place_wanted.emit("rules"))
        self.looked.changed.connect(self._source_changed)
        self.looked.jump.connect(self._jump)
        self.looked.mark.connect(self._mark)
        self.looked.page_wanted.connect(self.show_page)
        session.brief_changed.connect(self._brief_moved)
        session.markets_changed.connect(self.refresh)
        self._drawn: object = None
        self.raw: Raw | None = None
        self._marks: np.ndarray = np.zeros(0, np.int64)
        self._waiting: tuple[int, str] | None = None
        self.setAcceptDrops(True)

    @property
    def page(self) -> Page:
        return self.pages[str(self.choice.value)]

    def _tested(self, source: Source) -> bool:
        return any(m.code == source.market and m.source == source.name for m in self.session.markets)

    def actions_offered(self) -> list[Action]:
        found = [Action(f"markets.{key}", f"Markets: {title}", lambda key=key: self.show_page(key), f"Ctrl+{i}",
                        "markets") for i, (key, title, _) in enumerate(PAGES, 1)]
        return [*found,
                Action("markets.open", "Import files", self._import_files, "Ctrl+I", "markets"),
                Action("markets.all", "Show the whole history on the chart", self.chart.look_all, "Ctrl+0", "markets"),
                Action("markets.use", "Test on this source", self.use, "", "markets")]

    def look_at_brief(self) -> None:
        """Look at the source that the brief's market is tested on."""
        s = self.session
        if s.market:
            self.looked.look_at(s.project.sources.get(s.market, s.entry.source))

    def _import_files(self) -> None:
        self.show_page("import")
        page: Any = self.pages["import"]
        page.choose_files()

    def activate(self) -> None:
        self.refresh()

    def show_page(self, key: str) -> None:
        """Turn to a page of the report."""
        self.choice.set(key)
        self.stack.setCurrentWidget(self.pages[key])
        self.below.setVisible(self.page.with_chart)
        # Looking into files needs the room, and its own market is chosen there.
        self.left.setVisible(key != "import")
        self.page.activate()
        if self.page.with_chart:
            self._draw()

    def refresh(self) -> None:
        """Read the list again; the source looked at stays."""
        if not self.isVisible():
            return
        sources = self.session.project.sources.all()
        self.table.set_records(sources)
        now = self.looked.source
        wanted = next((s for s in sources if now is not None and s.key == now.key), None) or next(
            (s for s in sources if s.market == self.session.market and self._tested(s)), sources[0] if sources else None)
        self.choice.setVisible(wanted is not None)
        if wanted is None:
            self.show_page("import")
            return
        shown = [sources[r].key for r in self.table.model.shown]
        self.table.choose(shown.index(wanted.key) if wanted.key in shown else -1)
        if wanted != now:
            self.looked.look_at(wanted)
        else:
            self.page.activate()

    def _brief_moved(self) -> None:
        """The brief's market is the one looked at, unless another source of it is."""
        now, s = self.looked.source, self.session
        if not self.isVisible() or not s.market:
            return
        if now is None or now.market != s.market:
            self.looked.look_at(s.project.sources.get(s.market, s.entry.source))
            self.refresh()

    def _chosen(self, source: Source) -> None:
        if self.looked.source is None or self.looked.source.key != source.key:
            self.looked.look_at(self.session.project.sources.get(*source.key))
        if source.market != self.session.market:
            self.session.set_market(source.market)

    def _source_changed(self) -> None:
        source = self.looked.source
        if source is None:
            return
        fresh = self.session.project.sources.all()
        if fresh != list(self.table.model.records):
            self.table.set_records(fresh)
        shown = [self.table.model.records[r].key for r in self.table.model.shown]
        at = shown.index(source.key) if source.key in shown else None
        if at is not None and self.table.grid.currentIndex().row() != at:
            self.table.choose(at)
        self.use_button.setEnabled(not self._tested(source))
        self.drop_button.setEnabled(not self._tested(source))
        self.page.activate()
        self._draw()

    # Chart

    def _draw(self) -> None:
        """Show the source's bars, as they came or treated."""
        source, s = self.looked.source, self.session
        if source is None or not self.page.with_chart:
            return
        treated = bool(self.rows_shown.value)
        key = (source.key, source.file, source.treatment if treated else None, treated, s.settings.holdout_first)
        if key == self._drawn:
            self._show_marks()
            return
        before, self._drawn = self._drawn, key
        project = s.project
        keep = isinstance(before, tuple) and before[0] == source.key

        def work() -> Raw | WolbrinError:
            try:
                return Raw.of(project.base(*source.key)) if treated else project.sources.pictured_raw(source)
            except WolbrinError as err:
                return err

        def done(made: Raw | WolbrinError) -> None:
            if self._drawn != key:
                return
            if isinstance(made, WolbrinError):
                s.note(made.sentence(), "error")
                return
            (left, right), _ = self.chart.plotItem.vb.viewRange()
            middle = None
            if keep and self.raw is not None and len(self.raw):
                middle = int(self.raw.time[int(np.clip((left + right) / 2, 0, len(self.raw) - 1))]), right - left
            self.raw = made
            border = int(np.searchsorted(made.time, day_number(s.settings.holdout_first) * DAY))
            terms = project.market(source.market).terms
            self.chart.show_bars(made, border, terms=terms)
            self.title.setText(f"{source.market}, {source.name}, {interval_words(source.interval)}")
            kind = "bars" if treated else "rows as they came"
            self.about.setText(f"{number(len(made))} {kind}, {source.first[:10]} to {source.last[:10]}")
            if middle is not None:
                at = int(np.searchsorted(made.time, middle[0]))
                self.chart.look(at - middle[1] / 2, at + middle[1] / 2)
            else:
                self._zoom(self.span.value)
            self._show_marks()

        s.compute(f"Reading {source.market}", work, done)

    def _mark(self, times: np.ndarray) -> None:
        if not np.array_equal(times, self._marks):
            self.chart.forget_point()
        self._marks = times
        self._show_marks()

    def _show_marks(self) -> None:
        source, raw = self.looked.source, self.raw
        if source is None or raw is None or not isinstance(self._drawn, tuple) or self._drawn[0] != source.key:
            return
        rows = np.minimum(np.searchsorted(raw.time, self._marks), len(raw) - 1)
        rolls = [(int(np.searchsorted(raw.time, r[0])), r[2]) for r in source.rolls]
        self.chart.set_faults(np.unique(rows), rolls)
        if self._waiting is not None:
            (time, words), self._waiting = self._waiting, None
            self._jump(time, words)

    def _jump(self, time: int, words: str) -> None:
        """Show an instant with words beside it; once the bars are there, if they are still being read."""
        if self.raw is None or self.looked.source is None or not isinstance(self._drawn, tuple) or (
                self._drawn[0] != self.looked.source.key):
            self._waiting = time, words
            return
        self.chart.point_at(min(int(np.searchsorted(self.raw.time, time)), len(self.raw) - 1), words)

    def _zoom(self, days: Any) -> None:
        raw = self.raw
        if raw is None:
            return
        if not days:
            self.chart.look_all()
            return
        (_, right), _ = self.chart.plotItem.vb.viewRange()
        last = max(30, min(len(raw), int(right)))
        dates = len(np.unique(raw.time[:: max(1, len(raw) // 200_000)] // DAY))
        self.chart.look(last - days * max(1.0, len(raw) / max(1, dates)), last)

    # Acting

    def use(self) -> None:
        """Test this market on the source looked at, undoably."""
        source, s = self.looked.source, self.session
        if source is None or self._tested(source):
            return
        before = s.project.market(source.market).source

        def put(name: str) -> None:
            s.alter(f"Test {source.market} on {name}", lambda: s.project.sources.activate(source.market, name),
                    lambda _: s.note(f"{source.market} is tested on {name}."))

        s.do(f"test {source.market} on {source.name}", lambda: put(source.name), lambda: put(before))

    def remove(self) -> None:
        """Take the source looked at out of the project, undoably; its file stays."""
        source, s = self.looked.source, self.session
        if source is None:
            return

        def gone() -> None:
            s.attempt(lambda: s.project.sources.remove(*source.key))
            self.looked.source = None
            s.reload_markets()

        def back() -> None:
            s.project.sources.restore(source)
            s.reload_markets()
            self.looked.look_at(source)

        if self._tested(source):
            s.attempt(lambda: s.project.sources.remove(*source.key))
            return
        s.do(f"remove source {source.market} {source.name}", gone, back)
        s.note(f"{source.market}, {source.name} is out of the project; undo brings it back.")

    def dragEnterEvent(self, event: Any) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: Any) -> None:
        self.open_files([Path(u.toLocalFile()) for u in event.mimeData().urls() if u.isLocalFile()])

    def open_files(self, paths: list[Path]) -> None:
        """Look into files on the import page."""
        if paths:
            self.show_page("import")
            page: Any = self.pages["import"]
            page.open(paths)
