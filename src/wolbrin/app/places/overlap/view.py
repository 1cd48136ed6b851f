"""Overlap: how alike the ticked candidates earn, in clusters, with the distinct ones picked out."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QSizePolicy, QSplitter, QStackedWidget, QWidget

from wolbrin.app.charts.matrix import MatrixTree
from wolbrin.app.parts import Choice, Empty, button, column, label, row, spin, stretch
from wolbrin.app.places.overlap.pair import PairView
from wolbrin.app.places.overlap.state import MOST, OverlapState
from wolbrin.app.places.place import Place
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.kept import family_column, figure, naming
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.figures.portfolios import OVERLAPS
from wolbrin.core.measures.wording import number
from wolbrin.core.store.shelf import Line
from wolbrin.core.work.subject import Subject

NOTHING = ("Tick at least two candidates on the Shelf. Proved ones that trade the same idea cost capital twice; here you see "
           "which they are.")
AVERAGE = "Mean correlation with the others: a low one is a reason for more weight, a high one for less."


class OverlapPlace(Place):
    key = "overlap"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        self.state = state = OverlapState(s)
        self.matrix = MatrixTree(s.theme, "Correlation matrix")
        self.title = label("", "heading")
        self.words = label("", "small", wrap=True)
        how = state.how
        self.by = Choice([("day", "day"), ("week", "week"), ("month", "month")], how.by, "Results by")
        self.of = Choice([("P/L", "profit"), ("returns", "return"), ("drawdowns", "drawdown")], how.of, "Correlation of")
        self.empty_ones = Choice([("as zero", "zero"), ("left out", "left out")], how.empty, "Periods without trades")
        self.span = Choice([("all dates", "union"), ("common span", "common")], how.span, "Dates")
        self.rank = Choice([("Pearson", False), ("ranks", True)], how.rank, "Kind of correlation")
        self.what = Choice([("results", False), ("markets' prices", True)], False, "What is compared")
        for choice, key in ((self.by, "by"), (self.of, "of"), (self.empty_ones, "empty"), (self.span, "span"),
                            (self.rank, "rank")):
            choice.chosen.connect(lambda value, key=key: state.compare(**{key: value}))
        self.what.chosen.connect(lambda value: state.show_prices(bool(value)))
        self.notable, self.strong = spin(state.marks[0], 0, 1, 2, 0.05), spin(state.marks[1], 0, 1, 2, 0.05)
        self.apart = QCheckBox("negative too")
        for box, name in ((self.notable, "Notable from"), (self.strong, "Very strong from")):
            box.setAccessibleName(name)
            box.setMaximumWidth(64)
            box.valueChanged.connect(self._mark)
        self.apart.toggled.connect(self._mark)
        self.limit = spin(state.limit, -1, 1, 2, 0.05)
        self.limit.setAccessibleName("Distinct below a correlation of")
        self.limit.setMaximumWidth(64)
        self.limit.valueChanged.connect(lambda value: state.pick(float(value)))
        self.way = Choice([("greedy", "greedy"), ("best", "best"), ("largest", "largest")], "greedy", "Distinct subset")
        self.way.chosen.connect(lambda value: state.pick(way=value))
        self.table = Table([
            Column("distinct", self._is_distinct, lambda k: "distinct" if self._is_distinct(k) else "double", width=62,
                   tint=lambda k: "gain" if self._is_distinct(k) else "muted"),
            *naming(name_width=120)[:2], family_column(), figure("return_drawdown"),
            Column("cluster", self._cluster, lambda k: str(self._cluster(k)), "right", 56,
                   figure=OVERLAPS["overlap.cluster"]),
            Column("mean corr.", self._average, lambda k: number(self._average(k), 2), "right", 76,
                   figure=OVERLAPS["overlap.average"]),
            Column("left out for, or closest to", self._closest, width=200)], s.theme, "Overlap candidates")
        self.pair = PairView(s.theme, state)
        self.distinct_words = label("", "small", wrap=True)
        top = QWidget()
        top.setLayout(column(
            row(self.by, self.of, label("no trades", "muted"), self.empty_ones, self.span, self.rank, self.what, None),
            row(self.title, None, label("marks from", "muted"), self.notable, self.strong, self.apart), self.words, spacing=4,
            margins=(0, 0, 0, 4)))
        lists = QWidget()
        lists.setLayout(column(
            row(label("Which are different bets?", "heading"), None,
                button("Keep only the distinct ticked", state.tick_distinct, main=True)),
            row(label("below", "muted"), self.limit, self.way, None), self.distinct_words, self.table, spacing=5,
            margins=(10, 0, 0, 0)))
        pair = QWidget()
        pair.setLayout(column(self.pair, margins=(10, 4, 0, 0)))
        right = QSplitter(Qt.Orientation.Vertical)
        right.addWidget(lists)
        right.addWidget(pair)
        right.setSizes([330, 260])
        split = QSplitter(Qt.Orientation.Horizontal)
        split.addWidget(self.matrix)
        split.addWidget(right)
        split.setSizes([560, 500])
        whole = QWidget()
        whole.setLayout(column(top, split, spacing=2))
        stretch(whole, 1, 1)
        top.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)
        self.empty = Empty(NOTHING, "Tick the proved candidates", state.tick_proved)
        self.stack = QStackedWidget()
        for page in (self.empty, whole):
            self.stack.addWidget(page)
        self.setLayout(column(self.stack, margins=(20, 10, 8, 6)))
        self.table.chosen.connect(self._chosen)
        state.emptied.connect(self._emptied)
        state.failed.connect(self._failed)
        state.shown.connect(self._show)
        state.picked.connect(self._pick_distinct)
        state.cut.connect(self._cut)
        self.matrix.picked.connect(self._picked)
        self.matrix.cut_at.connect(state.cut_tree)
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

    def _mark(self) -> None:
        low, high = sorted((self.notable.value(), self.strong.value()))
        self.state.mark((low, high), self.apart.isChecked())

    def _failed(self, why: str) -> None:
        self.empty.say(why, "Compare over all dates", self._all_dates)
        self.stack.setCurrentIndex(0)

    def _emptied(self) -> None:
        self.empty.say(NOTHING)
        self.stack.setCurrentIndex(0)

    def _all_dates(self) -> None:
        self.span.set("union")
        self.state.compare(span="union")

    def _chosen(self, line: Line) -> None:
        kept = self.session.shelf.body(line.id)
        if kept is not None:
            self.session.show_subject(Subject.of(kept))

    def _show(self) -> None:
        state = self.state
        assert state.overlap is not None
        shown, names = state.overlap, [f"{line.name} {line.market}" for line in state.lines]
        if state.of_prices and state.prices is not None:
            names, shown = state.prices
        self.matrix.describe = lambda i, j: (f", p {number(float(shown.p[i, j]), 3)}, {number(int(shown.periods[i, j]))} "
                                             f"{shown.how.by}s")
        self.matrix.show_matrix(shown.matrix, names, shown.order, shown.tree, shown.clusters(state.cut_at), state.cut_at,
                                state.marks, state.apart)
        cut = (f" The best {number(MOST)} by return over drawdown are shown, {number(state.more)} are not." if state.more
               else "")
        what = "Markets' own prices: " if state.of_prices else ""
        words = f"{what}{shown.how.words()}, {number(len(shown.sample.starts))} {shown.how.by}s of training."
        self.words.setText(f"{words[0].upper()}{words[1:]} \u2020 from {state.marks[0]:g}, \u2021 from {state.marks[1]:g} "
                           f"(common practice).{cut}")
        made = "\n".join(k.record.words() for k in state.known[:20])
        self.title.setToolTip(made)
        self.stack.setCurrentIndex(1)

    def _pick_distinct(self) -> None:
        state = self.state
        assert state.overlap is not None
        assert state.found is not None
        self.title.setText(f"{number(len(state.lines))} candidates, {number(len(state.distinct))} distinct, worth "
                           f"{number(state.overlap.bets, 1)} bets")
        how = {"greedy": "The best first, each that is alike to none taken before.",
               "best": "The subset of the largest sum of return over drawdown",
               "largest": "The subset of most members"}[state.way]
        proof = "" if state.way == "greedy" else ", proven." if state.found.exact else "; time ran out before it was proven."
        self.distinct_words.setText(how + proof)
        self.table.set_records(state.lines)

    def _cut(self) -> None:
        state = self.state
        shown = state.prices[1] if state.of_prices and state.prices else state.overlap
        if shown is not None:
            self.matrix.set_clusters(shown.clusters(state.cut_at), state.cut_at)
            self.table.set_records(state.lines)

    def _is_distinct(self, line: Line) -> bool:
        return line.id in self.state.distinct

    def _cluster(self, line: Line) -> int:
        return int(self.state.cluster_of(line.id))

    def _average(self, line: Line) -> float:
        at, o = self.state.place_of(line.id), self.state.overlap
        return float(o.average[at]) if o is not None and at is not None else float("nan")

    def _closest(self, line: Line) -> str:
        found = self.state.dropped_for(line.id) or self.state.closest(line.id)
        return f"{number(found[0], 2)} {found[1].name} {found[1].market}" if found else "n/a"

    def _picked(self, row_: int, column_: int) -> None:
        state = self.state
        if state.of_prices:
            return
        order = self.matrix.order
        a, b = int(order[row_]), int(order[column_])
        state.choose_pair(a, b)
        model = self.table.model
        wanted = state.lines[a].id
        self.table.choose(next(i for i in range(model.rowCount()) if model.record(i).id == wanted))
