"""Discover: random candidates under the user's limits; kept ones go to the Shelf."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QDoubleSpinBox, QFormLayout, QSpinBox, QStackedWidget, QWidget

from wolbrin.app.parts import Empty, button, column, hairline, label, row
from wolbrin.app.places.place import Place
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.kept import FIGURES, figure, naming, tried_column, words_column
from wolbrin.app.tables.view import Table
from wolbrin.core.jobs import Job, State
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.wording import number
from wolbrin.core.search.grammar import TEMPLATES, Limits
from wolbrin.core.store.dossier import Kept
from wolbrin.core.work.discovering import DiscoverRequest, DiscoverResult, discover_job
from wolbrin.core.work.subject import Subject


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
        self.sides = QComboBox()
        self.sides.addItems(["both", "long", "short"])
        self.sides.setAccessibleName("Sides")
        self.rows = _whole(Limits().most_rows, 1, 5, "Most rows in an entry")
        self.trades = _whole(Limits().least_trades, 1, 1_000_000, "Least trades", 50)
        self.factor = QDoubleSpinBox()
        self.factor.setRange(0, 100)
        self.factor.setSingleStep(0.05)
        self.factor.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.factor.setValue(Limits().least_profit_factor)
        self.factor.setAccessibleName("Least profit factor")
        self.count = _whole(5_000, 8, 10_000_000, "Candidates to try", 1000)
        self.seed = _whole(1, 0, 2_000_000_000, "Seed")
        form = QFormLayout()
        for name, widget in (("sides", self.sides), ("most rows in an entry", self.rows),
                             ("least trades", self.trades), ("least profit factor", self.factor),
                             ("candidates to try", self.count), ("seed", self.seed)):
            form.addRow(label(name, "muted"), widget)
        self.go = button("Discover", self.start, main=True, tip="Ctrl+Return")
        self.where = label("", wrap=True)
        self.where.setMinimumHeight(38)  # two lines: a word more must not push into the figures below
        self.tried, self.met, self.kept = (label("0", "figure") for _ in range(3))
        self.luck = label("", "small", wrap=True)
        left = QWidget()
        left.setFixedWidth(290)
        triggers = sum(t.trigger for t in TEMPLATES)
        left.setLayout(column(
            label("My limits", "heading"), form,
            label(f"Entries are drawn from {len(TEMPLATES)} families of conditions, {triggers} of which can trigger; "
                  "stops, targets, exits and the short side are drawn too. The same seed gives the same candidates.",
                  "small", wrap=True),
            row(self.go, None), hairline(), self.where,
            row(column_of(self.tried, "tried"), column_of(self.met, "met the limits"), column_of(self.kept, "kept"),
                spacing=20), self.luck, None, margins=(0, 0, 14, 0)))
        get = lambda k: k  # noqa: E731
        self.table = Table([*naming(get), *(figure(key, get) for key in FIGURES[:3]), figure("return_drawdown", get),
                            figure("t_daily", get), tried_column(get), words_column(get)], s.theme,
                           "Found candidates", filters=True)
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
        self._job: Job | None = None
        self._ids: set[int] = set()
        self.table.chosen.connect(lambda k: s.show_subject(Subject.of(k)))
        self.table.opened.connect(lambda _: self.open_chosen())
        s.brief_changed.connect(self._where)
        self._where()

    def actions_offered(self) -> list[Action]:
        return [Action("discover.run", "Start discovering", self.start, "Ctrl+Return", "discover"),
                Action("discover.open", "Open the chosen candidate in Rules", self.open_chosen, "", "discover",
                       lambda: self.table.current() is not None)]

    def _where(self) -> None:
        s = self.session
        if self._job is None or self._job.state.over:
            self.where.setText(f"On {s.market} {interval_words(s.interval)}, training span, costs as above.")

    def limits(self) -> Limits:
        s = self.session
        quantity = max(s.entry.terms.minimum_lot, 1.0 if s.entry.terms.kind != "currency pair" else 0.5)
        return Limits(sides=self.sides.currentText(), most_rows=self.rows.value(),  # type: ignore[arg-type]
                      least_trades=self.trades.value(), least_profit_factor=self.factor.value(),
                      flat_by_session_end=s.strategy.flat_by_session_end, quantity=quantity)

    def start(self) -> None:
        """Search in the background; what is kept goes straight to the Shelf."""
        s = self.session
        if self._job is not None and not self._job.state.over:
            s.note("Discover is running; stop it first.", "caution")
            return
        request = DiscoverRequest(s.market, s.interval, self.limits(), self.count.value(), self.seed.value())
        made = s.attempt(lambda: discover_job(s.project, request, s.on_ui(self._grown)))
        if made is None:
            return
        job, result = made
        self._ids = set()
        self.table.set_records([])
        self._grown(result)
        self.where.setText(f"On {s.market} {interval_words(s.interval)}, seed {request.seed}, running.")
        self._job = s.start(job, "processes", lambda j: self._over(j, result))

    def _over(self, job: Job, result: DiscoverResult) -> None:
        words = {State.DONE: "finished", State.STOPPED: "stopped", State.FAILED: "failed"}[job.state]
        r = result.request
        self.where.setText(f"{words.capitalize()} on {r.market} {interval_words(r.interval)}: {number(result.tried)} tried, "
                           f"{number(result.twins)} dropped as twins.")
        self._grown(result)
        self._where_next(result)

    def _where_next(self, result: DiscoverResult) -> None:
        if result.tried and not result.kept:
            self.luck.setText("Nothing met the limits. On a market without an edge that is the right answer.")

    def _grown(self, result: DiscoverResult) -> None:
        s = self.session
        self.tried.setText(number(result.tried))
        self.met.setText(number(result.met))
        self.kept.setText(number(result.kept))
        if result.tried:
            self.luck.setText(f"{number(100 * result.met / result.tried, 2)}% met the limits. Whoever tries this many "
                              "finds lucky ones too: prove them.")
        self.stack.setCurrentIndex(1 if result.tried or self._job else 0)
        if len(result.ids) != len(self._ids):
            self._ids = set(result.ids)
            self.table.set_records([k for k in s.dossiers.shelf() if k.id in self._ids])
            s.shelf_changed.emit()
        s.counts_changed.emit()

    def open_chosen(self) -> None:
        """Make the chosen candidate the current strategy."""
        chosen: Kept | None = self.table.current()
        if chosen is None:
            self.session.note("Choose a candidate in the table first.", "caution")
            return
        c = chosen.candidate
        self.session.add_strategy(c.strategy, c.market, c.interval)
        self.session.place_wanted.emit("rules")


def column_of(figure_label: Any, word: str) -> QWidget:
    """A large figure over its word."""
    made = QWidget()
    made.setLayout(column(figure_label, label(word, "small"), spacing=0))
    return made
