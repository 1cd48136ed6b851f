"""Overlap: correlation of daily P/L of the ticked candidates, with the distinct ones picked out."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QSplitter, QStackedWidget, QWidget

from wolbrin.app.charts.grids import Grid
from wolbrin.app.parts import Choice, Empty, button, column, label, row
from wolbrin.app.places.overlap.state import MOST, OverlapState
from wolbrin.app.places.place import Place
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.kept import figure, naming
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.measures.wording import number
from wolbrin.core.portfolio.combine import NOTABLE, STRONG
from wolbrin.core.store.shelf import Line
from wolbrin.core.work.subject import Subject


class OverlapPlace(Place):
    key = "overlap"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        self.matrix = Grid(s.theme, "Correlation matrix")
        self.title = label("", "heading")
        self.words = label("", "small", wrap=True)
        self.state = OverlapState(s)
        self.limit = Choice([(f"{v:g}", v) for v in (0.3, 0.5, 0.7)], 0.5, "Distinct below a correlation of")
        self.limit.chosen.connect(lambda value: self.state.pick(float(str(value))))
        self.table = Table([
            Column("distinct", self._is_distinct, lambda k: "distinct" if self._is_distinct(k) else "double", width=62,
                   tint=lambda k: "gain" if self._is_distinct(k) else "muted"),
            *naming(name_width=118)[:2], figure("return_drawdown"), Column("closest to", self._closest, width=190)],
            s.theme, "Overlap candidates")
        left = QWidget()
        left.setLayout(column(self.title, self.words, self.matrix, spacing=4, margins=(0, 0, 10, 0)))
        right = QWidget()
        right.setLayout(column(row(label("Which are different bets?", "heading"), None,
                                   button("Keep only the distinct ticked", self.state.tick_distinct, main=True)),
                               row(label("distinct below a correlation of", "muted"), self.limit), self.table,
                               spacing=6, margins=(10, 0, 0, 0)))
        split = QSplitter(Qt.Orientation.Horizontal)
        split.addWidget(left)
        split.addWidget(right)
        split.setSizes([520, 570])
        self.empty = Empty("Tick at least two candidates to see which of them are the same bet.",
                           "Tick the proved candidates", self.state.tick_proved)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(split)
        self.setLayout(column(self.stack, margins=(20, 10, 8, 6)))
        self.table.chosen.connect(self._chosen)
        self.state.emptied.connect(lambda: self.stack.setCurrentIndex(0))
        self.state.shown.connect(self._show)
        self.state.picked.connect(self._pick_distinct)
        self.matrix.picked.connect(self._picked)
        for signal in (s.selection_changed, s.shelf_changed, s.brief_changed):
            signal.connect(self.refresh)

    def actions_offered(self) -> list[Action]:
        return [Action("overlap.distinct", "Keep only the distinct candidates ticked", self.state.tick_distinct,
                       "Ctrl+Return", "overlap"),
                Action("overlap.proved", "Tick the proved candidates", self.state.tick_proved, "", "overlap")]

    def activate(self) -> None:
        self.state.look()

    def refresh(self) -> None:
        if self.isVisible():
            self.state.look()

    def _chosen(self, line: Line) -> None:
        kept = self.session.shelf.body(line.id)
        if kept is not None:
            self.session.show_subject(Subject.of(kept))

    def _show(self) -> None:
        lines, overlap, more = self.state.lines, self.state.overlap, self.state.more
        assert overlap is not None
        self.matrix.setToolTip("\n".join(one.record.words() for one in self.state.series))
        names = [f"{line.name} {line.market}" for line in lines]
        short = [str(i + 1) for i in range(len(lines))]
        self.matrix.show_grid(overlap.matrix, [f"{i + 1}  {n}" for i, n in enumerate(names)], short, ("", ""),
                              numbers=len(lines) <= 16, left=150, strong=(NOTABLE, STRONG))
        cut = f" The best {MOST} by return over drawdown are shown, {more} are not." if more > 0 else ""
        self.words.setText(f"Correlation of daily P/L over {number(overlap.dates)} training days. \u2020 {NOTABLE:g} and "
                           f"more is notable, \u2021 {STRONG:g} and more is the same bet (common practice).{cut}")
        self.stack.setCurrentIndex(1)

    def _pick_distinct(self) -> None:
        state = self.state
        assert state.overlap is not None
        self.title.setText(f"{len(state.lines)} candidates, {len(state.distinct)} distinct, worth "
                           f"{number(state.overlap.bets, 1)} bets")
        self.table.set_records(state.lines)

    def _is_distinct(self, line: Line) -> bool:
        return line.id in self.state.distinct

    def _closest(self, line: Line) -> str:
        found = self.state.closest(line.id)
        return f"{number(found[0], 2)} {found[1].name} {found[1].market}" if found else "n/a"

    def _picked(self, row_: int, _: int) -> None:
        model = self.table.model
        wanted = self.state.lines[row_].id
        self.table.choose(next(i for i in range(model.rowCount()) if model.record(i).id == wanted))
