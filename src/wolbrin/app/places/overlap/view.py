"""Overlap: correlation of daily P/L of the ticked candidates, with the distinct ones picked out."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QSplitter, QStackedWidget, QWidget

from wolbrin.app.charts.grids import Grid
from wolbrin.app.parts import Choice, Empty, button, column, label, row
from wolbrin.app.places.place import Place
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.kept import figure, naming
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.engine.run import Run
from wolbrin.core.measures.inference import effective_bets
from wolbrin.core.measures.wording import number
from wolbrin.core.portfolio.combine import NOTABLE, STRONG, correlation, daily_matrix, distinct_subset
from wolbrin.core.store.dossier import Kept
from wolbrin.core.work.combining import runs_job
from wolbrin.core.work.funnel import proved_ids
from wolbrin.core.work.subject import Subject

MOST = 40


class OverlapPlace(Place):
    key = "overlap"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        self.matrix = Grid(s.theme, "Correlation matrix")
        self.title = label("", "heading")
        self.words = label("", "small", wrap=True)
        get = lambda k: k  # noqa: E731
        self.limit = Choice([(f"{v:g}", v) for v in (0.3, 0.5, 0.7)], 0.5, "Distinct below a correlation of")
        self.limit.chosen.connect(lambda _: self._pick_distinct())
        self.table = Table([
            Column("distinct", lambda k: k.id in self._distinct, lambda k: "distinct" if k.id in self._distinct else
                   "double", width=62, tint=lambda k: "gain" if k.id in self._distinct else "muted"),
            *naming(get, 118)[:2], figure("return_drawdown", get),
            Column("closest to", lambda k: self._closest(k), width=190)], s.theme, "Overlap candidates")
        left = QWidget()
        left.setLayout(column(self.title, self.words, self.matrix, spacing=4, margins=(0, 0, 10, 0)))
        right = QWidget()
        right.setLayout(column(row(label("Which are different bets?", "heading"), None,
                                   button("Keep only the distinct ticked", self.tick_distinct, main=True)),
                               row(label("distinct below a correlation of", "muted"), self.limit), self.table,
                               spacing=6, margins=(10, 0, 0, 0)))
        split = QSplitter(Qt.Orientation.Horizontal)
        split.addWidget(left)
        split.addWidget(right)
        split.setSizes([520, 570])
        self.empty = Empty("Tick at least two candidates to see which of them are the same bet.",
                           "Tick the proved candidates", self._tick_proved)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(split)
        self.setLayout(column(self.stack, margins=(20, 10, 8, 6)))
        self._kept: list[Kept] = []
        self._distinct: set[int] = set()
        self._corr: Any = None
        self._shown: object = None
        self.table.chosen.connect(lambda k: s.show_subject(Subject.of(k)))
        self.matrix.picked.connect(self._picked)
        for signal in (s.selection_changed, s.shelf_changed, s.brief_changed):
            signal.connect(self.refresh)

    def actions_offered(self) -> list[Action]:
        return [Action("overlap.distinct", "Keep only the distinct candidates ticked", self.tick_distinct,
                       "Ctrl+Return", "overlap"),
                Action("overlap.proved", "Tick the proved candidates", self._tick_proved, "", "overlap")]

    def activate(self) -> None:
        self.refresh()

    def _tick_proved(self) -> None:
        s = self.session
        ids = proved_ids(s.project)
        if len(ids) < 2:
            s.note("Fewer than two candidates are proved; prove some, or tick them on the Shelf.", "caution")
            s.place_wanted.emit("proving")
            return
        s.select(ids)

    def refresh(self) -> None:
        if not self.isVisible():
            return
        s = self.session
        kept = s.selected()
        if len(kept) < 2:
            self.stack.setCurrentIndex(0)
            self._shown = None
            return
        more = len(kept) - MOST
        kept = sorted(kept, key=lambda k: -k.candidate.summary.get("return_drawdown", 0.0))[:MOST]
        wanted = (tuple(k.id for k in kept), s.settings.model_dump_json())
        if wanted == self._shown:
            return
        self._shown = wanted

        def done(runs: list[Run]) -> None:
            if self._shown == wanted:
                self._show(kept, runs, more)

        s.start(runs_job(s.project, kept, s.on_ui(done)), "threads", quiet=len(kept) < 8)

    def _show(self, kept: list[Kept], runs: list[Run], more: int) -> None:
        dates, table = daily_matrix(runs)
        self._corr = correlation(table)
        self._kept = kept
        self.matrix.setToolTip("\n".join(r.record(tried=k.candidate.tried).words() for k, r in zip(kept, runs)))
        names = [f"{k.candidate.name} {k.candidate.market}" for k in kept]
        short = [str(i + 1) for i in range(len(kept))]
        self.matrix.show_grid(self._corr, [f"{i + 1}  {n}" for i, n in enumerate(names)], short, ("", ""),
                              numbers=len(kept) <= 16, left=150, strong=(NOTABLE, STRONG))
        cut = f" The best {MOST} by return over drawdown are shown, {more} are not." if more > 0 else ""
        self.words.setText(f"Correlation of daily P/L over {number(len(dates))} training days. \u2020 {NOTABLE:g} and more "
                           f"is notable, \u2021 {STRONG:g} and more is the same bet (common practice).{cut}")
        self._pick_distinct()
        self.stack.setCurrentIndex(1)

    def _pick_distinct(self) -> None:
        s, kept = self.session, self._kept
        rank = [k.candidate.summary.get("return_drawdown", 0.0) for k in kept]
        chosen = distinct_subset(self._corr, rank, float(str(self.limit.value)))
        self._distinct = {kept[i].id for i in chosen}
        s.project.set_value("distinct", sorted(self._distinct))
        s.counts_changed.emit()
        bets = number(effective_bets(self._corr), 1)
        self.title.setText(f"{len(kept)} candidates, {len(chosen)} distinct, worth {bets} bets")
        self.table.set_records(kept)

    def _closest(self, kept: Kept) -> str:
        if self._corr is None:
            return ""
        i = [k.id for k in self._kept].index(kept.id)
        def named(j: int) -> str:
            return f"{self._kept[j].candidate.name} {self._kept[j].candidate.market}"

        row_ = self._corr[i]
        others = [(row_[j], named(j)) for j in range(len(self._kept)) if j != i and row_[j] == row_[j]]
        best = max(others, default=None)
        return f"{number(float(best[0]), 2)} {best[1]}" if best else "n/a"

    def _picked(self, row_: int, _: int) -> None:
        model = self.table.model
        wanted = self._kept[row_].id
        self.table.choose(next(i for i in range(model.rowCount()) if model.record(i).id == wanted))

    def tick_distinct(self) -> None:
        """Leave only the distinct candidates ticked."""
        if self._distinct:
            self.session.select([k.id for k in self._kept if k.id in self._distinct])
            self.session.note(f"{len(self._distinct)} distinct candidates stay ticked; Portfolio combines them.")
