"""Discover: random candidates under the user's limits; kept ones go to the Shelf."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QDoubleSpinBox, QFormLayout, QSpinBox, QStackedWidget, QWidget

from wolbrin.app.candidates import Found
from wolbrin.app.parts import Empty, button, column, hairline, label, row
from wolbrin.app.places.discover.state import DiscoverState
from wolbrin.app.places.place import Place
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.kept import figure, figures, naming, tried_column, words_column
from wolbrin.app.tables.paged import PagedModel
from wolbrin.app.tables.view import Table
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.wording import number
from wolbrin.core.search.grammar import Limits
from wolbrin.core.store.shelf import Line


def _whole(value: int, low: int, high: int, name: str, step: int = 1) -> QSpinBox:
    made = QSpinBox()
    made.setRange(low, high)
    made.setSingleStep(step)
    made.setValue(value)
    made.setGroupSeparatorShown(True)
    made.setAlignment(Qt.AlignmentFlag.AlignRight)
    made.setAccessibleName(name)
    return made


class DiscoverPlace(Place):
    key = "discover"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        self.state = DiscoverState(s)
        self.sides = QComboBox()
        self.sides.addItems(["both", "long", "short"])
        self.sides.setAccessibleName("Sides")
        self.most_rows = _whole(Limits().most_rows, 1, 5, "Most rows in an entry")
        self.trades = _whole(Limits().least_trades, 1, 1_000_000, "Least trades", 50)
        self.factor = QDoubleSpinBox()
        self.factor.setRange(0, 100)
        self.factor.setSingleStep(0.05)
        self.factor.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.factor.setValue(Limits().least_profit_factor)
        self.factor.setAccessibleName("Least profit factor")
        self.count = _whole(5_000, 8, 10_000_000, "Candidates to try", 1000)
        self.seed = _whole(1, 0, 2_000_000_000, "Seed")
        self.pool = _whole(Limits().pool, 10, 200_000, "Conditions to build from", 500)
        self.give_up = _whole(0, 0, 1_000_000, "Give up the losing after so many trades", 100)
        self.give_up.setSpecialValueText("never")
        form = QFormLayout()
        for name, widget in (("sides", self.sides), ("most rows in an entry", self.most_rows),
                             ("least trades", self.trades), ("least profit factor", self.factor),
                             ("conditions to build from", self.pool), ("give up losers after", self.give_up),
                             ("candidates to try", self.count), ("seed", self.seed)):
            form.addRow(label(name, "muted"), widget)
        self.go = button("Discover", self.start, main=True, tip="Ctrl+Return")
        self.more = button("Go on", self.state.go_on, tip="Go on with the last search where it was")
        self.more.hide()
        self.where = label("", wrap=True)
        self.where.setMinimumHeight(38)  # two lines: a word more must not push into the figures below
        self.tried, self.met, self.kept = (label("0", "figure") for _ in range(3))
        self.luck = label("", "small", wrap=True)
        left = QWidget()
        left.setFixedWidth(290)
        left.setLayout(column(
            label("My limits", "heading"), form,
            label("Entries are built from conditions on every indicator, the clock, longer intervals, other markets and the "
                  "library; stops, targets and exits are drawn too. The same seed gives the same candidates.",
                  "small", wrap=True),
            row(self.go, self.more, None), hairline(), self.where,
            row(column_of(self.tried, "tried"), column_of(self.met, "met the limits"), column_of(self.kept, "kept"),
                spacing=20), self.luck, None, margins=(0, 0, 14, 0)))
        columns = [*naming(), *(figure(key) for key in figures()[:3]), figure("return_drawdown"), figure("t_daily"),
                   tried_column(), words_column()]
        self.found = PagedModel(columns, s.theme, self.state.finds.lines)
        self.table = Table(columns, s.theme, "Found candidates", filters=True, model=self.found)
        self.title = label("Found in this search", "heading")
        self.empty = Empty("The machine draws random strategies, tests each on the training span and keeps those that "
                           "meet your limits. Most will fail; that is the point. The holdout stays sealed.",
                           "Discover", self.start)
        right = QWidget()
        right.setLayout(column(row(self.title, None, button("Open in Rules", self.open_chosen),
                                   button("Go to the Shelf", lambda: s.place_wanted.emit("shelf")), margins=(0, 0, 8, 0)),
                               self.table, spacing=4))
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(right)
        line = row(left)
        line.addWidget(self.stack, 1)
        self.setLayout(column(line, margins=(20, 10, 0, 6)))
        self.table.chosen.connect(lambda r: self.state.finds.show(r.id))
        self.table.opened.connect(lambda _: self.open_chosen())
        self.found.asked.connect(lambda: self.state.finds.ask(*self.found.wanted()))
        self.state.finds.moved.connect(self._moved)
        self.state.grown.connect(self._grown)
        s.brief_changed.connect(self._where)
        self._where()
        self.state.restore()

    def actions_offered(self) -> list[Action]:
        return [Action("discover.run", "Start discovering", self.start, "Ctrl+Return", "discover"),
                Action("discover.open", "Open the chosen candidate in Rules", self.open_chosen, "", "discover",
                       lambda: self.table.current() is not None)]

    def _where(self) -> None:
        s = self.session
        if self.state.result is None:
            self.where.setText(f"On {s.market} {interval_words(s.interval)}, training span, costs as above.")

    def start(self) -> None:
        """Search in the background; what is kept goes straight to the Shelf."""
        limits = self.state.limits(sides=self.sides.currentText(), most_rows=self.most_rows.value(),
                                   least_trades=self.trades.value(), least_profit_factor=self.factor.value(),
                                   pool=self.pool.value(), give_up_after=self.give_up.value())
        self.state.start(limits, self.count.value(), self.seed.value())

    def _grown(self) -> None:
        result, state = self.state.result, self.state
        assert result is not None
        r = result.request
        on = f"on {r.market} {interval_words(r.interval)}"
        if state.running:
            filling = "" if result.tried else " First the conditions are worked out."
            self.where.setText(f"{on.capitalize()}, seed {r.seed}, running.{filling}")
        else:
            words = "Finished" if not result.unfinished else "Not finished"
            self.where.setText(f"{words} {on}: {number(result.tried)} of {number(r.count)} tried, {number(result.twins)} "
                               f"dropped as twins; {number(result.few)} had too few signals.")
        self.more.setVisible(state.unfinished)
        self.tried.setText(number(result.tried))
        self.met.setText(number(result.met))
        self.kept.setText(number(result.kept))
        if result.tried and not result.kept and not state.running:
            self.luck.setText("Nothing met the limits. On a market without an edge that is the right answer.")
        elif result.tried:
            self.luck.setText(f"{number(100 * result.met / result.tried, 2)}% met the limits. Whoever tries this many "
                              "finds lucky ones too: prove them.")
        self.stack.setCurrentIndex(1)

    def _moved(self, found: Found) -> None:
        if found.same and self.found.add_beyond(found.ids, *self.table.in_view()):
            return

        def change() -> int | None:
            chosen = self.table.current()
            self.found.set_order(found.ids)
            return self.found.row_of(chosen.id) if chosen is not None else None

        self.table.keep_place(change)

    def open_chosen(self) -> None:
        """Make the chosen candidate the current strategy."""
        chosen: Line | None = self.table.current()
        if chosen is None:
            self.session.note("Choose a candidate in the table first.", "caution")
            return
        self.state.finds.open(chosen.id)


def column_of(figure_label: Any, word: str) -> QWidget:
    """A large figure over its word."""
    made = QWidget()
    made.setLayout(column(figure_label, label(word, "small"), spacing=0))
    return made
