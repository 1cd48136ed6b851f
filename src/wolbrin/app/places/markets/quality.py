"""The quality page: score and its parts, the places of each fault, completeness by year and hour."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QSplitter, QStackedWidget, QWidget

from wolbrin.app.charts.grids import Grid
from wolbrin.app.parts import Choice, column, label, row, stretch
from wolbrin.app.places.markets.page import Looked, Page
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.errors import WolbrinError
from wolbrin.core.figures.markets import MARKETS
from wolbrin.core.market.quality import Finding, Place, Report, stamp
from wolbrin.core.measures.wording import number
from wolbrin.core.work.markets import quality

MOST_DAYS = 400
DAY = 86_400 * 10**9
QUIET = ("rolls", "gaps")  # findings that are worth a look but no fault by themselves


def share_words(share: float) -> str:
    percent = share * 100
    return "" if not share else f"{percent:.1f}%" if percent >= 0.1 else f"{percent:.3f}%"


class QualityPage(Page):
    key, title = "quality", "Quality"

    def __init__(self, looked: Looked) -> None:
        super().__init__(looked)
        s = self.session
        self.report: Report | None = None
        self.score = label("", "title")
        self.words = label("", "small", wrap=True)
        self.which = Choice([("as it came", False), ("after treatment", True)], False, "Judge the rows")
        self.which.chosen.connect(lambda _: self.activate())
        self.show_as = Choice([("places", 0), ("year by hour", 1)], 0, "Show")
        self.findings = Table([
            Column("fault", lambda f: f.title, width=138, bold=True),
            Column("bars", lambda f: f.count, lambda f: number(f.count) if f.count else "\u2013", "right", 62,
                   lambda f: None if not f.count else "muted" if f.key in QUIET else "caution",
                   figure=MARKETS["quality.bars"]),
            Column("share", lambda f: f.share, lambda f: share_words(f.share), "right", 70, figure=MARKETS["quality.share"]),
            Column("points", lambda f: f.cost, lambda f: number(-f.cost, 1) if f.cost else "", "right", 60,
                   figure=MARKETS["quality.points"]),
        ], s.theme, "Faults", stretch=0)
        self.places = Table([
            Column("when (UTC)", lambda p: p.time, lambda p: stamp(p.time), width=146),
            Column("bars", lambda p: p.bars, lambda p: number(p.bars), "right", 50, figure=MARKETS["quality.bars"]),
            Column("what", lambda p: p.words, width=240),
        ], s.theme, "Places of the fault", stretch=2)
        self.meaning = label("", "small", wrap=True)
        listed = QWidget()
        listed.setLayout(column(self.meaning, self.places, spacing=2, margins=(10, 0, 0, 0)))
        stretch(listed, 1, 1)
        self.map = Grid(s.theme, "Completeness by year and hour")
        self.right = QStackedWidget()
        self.show_as.chosen.connect(lambda i: self.right.setCurrentIndex(int(str(i))))
        self.right.addWidget(listed)
        self.right.addWidget(self.map)
        self.findings.chosen.connect(self._chosen)
        self.places.chosen.connect(self._go)
        self.map.picked.connect(self.show_hour)
        split = QSplitter()
        split.addWidget(self.findings)
        split.addWidget(self.right)
        split.setSizes([330, 380])
        split.setChildrenCollapsible(False)
        self.setLayout(column(row(self.score, self.words, None, self.which, 8, self.show_as, spacing=12), split, spacing=4))
        self.words.setMinimumWidth(120)
        stretch(self, 1, 1)

    def activate(self) -> None:
        source, project = self.looked.source, self.session.project
        if source is None:
            return
        after = bool(self.which.value)
        key = (self.wanted_key(), after, project.market(source.market).terms)
        if key == self._told:
            self._mark()
            return
        self._told = key
        self.score.setText("\u2026")
        self.words.setText(f"Looking through {number(source.rows)} rows")

        def refused(why: WolbrinError) -> None:
            if self._told == key:
                self.report = None
                self.score.setText("\u2013")
                self.words.setText(why.sentence())
                self.findings.set_records([])
                self.meaning.setText("")
                self.places.set_records([])

        def done(made: Report) -> None:
            if self._told == key:
                self.show_report(made, after)

        self.session.compute(f"Quality of {source.market}", lambda: quality(project, source, after), done, refused=refused)

    def show_report(self, made: Report, after: bool) -> None:
        """Fill the page; the report as it came also marks the span ruler."""
        self.report = made
        faults = [f for f in made.findings if f.count and f.key not in QUIET]
        self.score.setText(f"{made.score:.0f} of 100")
        self.words.setText("no fault found" if not faults else
                           f"{len(faults)} kind{'s' if len(faults) != 1 else ''} of fault in {number(made.rows)} rows")
        self.findings.set_records(sorted(made.findings, key=lambda f: (not f.count, f.key in QUIET, -f.cost)))
        self.findings.choose(0)
        self._chosen(self.findings.current())
        self.map.show_grid(np.where(np.isnan(made.complete), np.nan, made.complete * 100)[::-1],
                           [str(y) for y in made.years[::-1]], [f"{h:02d}" for h in range(24)],
                           ("bars there, % of scheduled, by year and exchange-local hour", ""), center=99.5, digits=0,
                           numbers=True, left=44)
        source = self.looked.source
        if not after and source is not None:
            days = sorted({p.time // DAY for f in faults for p in f.places})
            self.session.keep_fault_days(source.market, source.name, days[:: len(days) // MOST_DAYS + 1])
            self.looked.changed.emit()

    def _chosen(self, finding: Finding | None) -> None:
        if finding is None:
            return
        self.places.set_records(finding.places)
        none = "" if finding.count else " None here."
        self.meaning.setText(f"{finding.title.capitalize()}: {finding.meaning}.{none}")
        if finding.places:
            self.right.setCurrentIndex(0)
            self.show_as.set(0)
        self._mark()

    def _mark(self) -> None:
        finding = self.findings.current()
        self.looked.mark_times([p.time for p in finding.places] if finding is not None else [])

    def _go(self, place: Place) -> None:
        self.looked.jump.emit(place.time, place.words)

    def show_hour(self, row_: int, column_: int) -> None:
        """Show the first gap of that year and hour."""
        if self.report is None:
            return
        year = self.report.years[::-1][row_]
        missing = [p for f in self.report.findings if f.key in ("missing", "days") for p in f.places]
        found = next((p for p in sorted(missing, key=lambda p: p.time) if stamp(p.time).startswith(str(year))), None)
        if found is not None:
            self.looked.jump.emit(found.time, found.words)


