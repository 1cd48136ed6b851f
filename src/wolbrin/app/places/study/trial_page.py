"""Trials: rules as rows, markets as columns, and how many cells would pass by luck alone."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QItemSelectionModel, QTimer
from PySide6.QtWidgets import QAbstractItemView, QCheckBox, QComboBox, QDoubleSpinBox, QSpinBox, QStackedWidget, QWidget

from wolbrin.app.parts import Choice, Empty, button, column, label, row, set_role
from wolbrin.app.picker import Picker
from wolbrin.app.places.study.picking import ConditionPicker
from wolbrin.app.session import Session
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.engine.record import NOT_RECORDED
from wolbrin.core.errors import WolbrinError
from wolbrin.core.figures.searches import STUDIES
from wolbrin.core.jobs import Job
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.wording import number
from wolbrin.core.rules.axes import Axis, named_variants
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.numbers import Tunable, tunables
from wolbrin.core.store.family import tree
from wolbrin.core.study.trial import MOST_VARIANTS, CommonExit, TrialRow, field_rows
from wolbrin.core.work.trialing import KIND, TrialRequest, TrialResult, candidate_from_trial, last_trial, trial_job

FIGURE = {"return over drawdown": 1, "profit factor": 2, "net profit": 0}
DONE_SOON = 250


def box(low: float, high: float, value: float, name: str, suffix: str = "", digits: int = 2, step: float = 0.5) -> Any:
    made: QSpinBox | QDoubleSpinBox = QDoubleSpinBox() if digits else QSpinBox()
    if isinstance(made, QDoubleSpinBox):
        made.setDecimals(digits)
    made.setRange(low, high)  # type: ignore[arg-type]
    made.setSingleStep(step)  # type: ignore[arg-type]
    made.setValue(value)  # type: ignore[arg-type]
    made.setSuffix(suffix)
    made.setAccessibleName(name)
    return made


class TrialPage(QWidget):
    """What both trials share: columns, threshold, shuffles, the matrix, cells to the Shelf. Subclasses give the rows."""

    kind = "field"
    title = "Field trial"
    about = ""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        s = session
        self.markets = Picker("on", lambda: [m.code for m in s.markets], [m.code for m in s.markets])
        self.intervals = Picker("at", self._interval_names, [interval_words(s.interval)])
        self.threshold = box(-10, 100, 2.0, "threshold, return over drawdown", step=0.25)
        self.least = box(1, 100_000, 30, "least trades", " trades", 0, 5)
        self.shuffles = box(0, 100, 2, "shuffles", " shuffles", 0, 1)
        self.shuffles.setToolTip("Histories with their bars dealt anew, to see how many tests pass by luck")
        self.mirrored = QCheckBox("turned over")
        self.mirrored.setToolTip("Turn every dealt bar over at random, so that the drift, and what belongs to an "
                                 "hour, go too")
        self.figure = QComboBox()
        self.figure.addItems(list(FIGURE))
        self.figure.setAccessibleName("figure sorted by")
        self.show_only = Choice([("all rows", False), ("rows that pass", True)], False, "Rows shown")
        self.run = button(f"Run {self.title.lower()}", self.start, main=True, tip="Ctrl+Return")
        self.more = button("Go on", self.go_on, tip="Go on with the trial below where it was")
        self.more.hide()
        self.verdict = label("", "heading", wrap=True)
        self.words = label("", "small", wrap=True)
        self.faults = label("", "caution", wrap=True)
        self.table = Table([Column("rule", str)], session.theme, f"{self.title} matrix", filters=True)
        self.table.grid.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectItems)
        self.table.grid.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.empty = Empty(self.about, f"Run {self.title.lower()}", self.start)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        result = QWidget()
        result.setLayout(column(self.verdict, self.words, self.faults, self.table, row(
            button("Chosen cells to the Shelf", self.keep_chosen), button("All that pass", self.keep_passing),
            button("Open the chosen one on Rules", self.open_chosen), None, label("sort by", "muted"), self.figure, 8,
            self.show_only), spacing=4))
        self.stack.addWidget(result)
        self.setLayout(column(*self.setup(), row(self.markets, self.intervals, None), row(
            label("passes above", "muted"), self.threshold, label("with at least", "muted"), self.least,
            label("beside", "muted"), self.shuffles, self.mirrored, None, self.more, self.run), self.stack,
            spacing=5, margins=(0, 0, 8, 0)))
        self.result: TrialResult | None = None
        self._columns: tuple[object, ...] = ()
        self._soon = QTimer(self, singleShot=True, interval=DONE_SOON)
        self._soon.timeout.connect(self.show_result)
        for signal in (self.threshold.valueChanged, self.least.valueChanged, self.figure.currentTextChanged,
                       self.show_only.chosen):
            signal.connect(lambda *_: self.show_result())
        session.markets_changed.connect(self.markets.tell)
        session.resumed.connect(self._resumed)
        session.grown.connect(self._more_came)

    def setup(self) -> list[Any]:
        """Lines of controls above the common ones."""
        raise NotImplementedError

    def rows(self) -> list[TrialRow]:
        """What is to be tried. Raises a WolbrinError where it cannot be."""
        raise NotImplementedError

    def _interval_names(self) -> list[str]:
        return [interval_words(i) for i in self._minutes()]

    def _minutes(self) -> list[int]:
        return self.session.intervals()

    def load_last(self) -> None:
        """Show the newest trial of this kind, if there is one."""
        if self.result is None:
            found = self.session.attempt(lambda: last_trial(self.session.project, self.kind))
            if found is not None:
                self.result = self.session.going.get(found.search, found)
                self.run.setEnabled(self.result is found)
                self.show_result()

    def _resumed(self, kind: str, job: Job, result: Any) -> None:
        if kind == KIND and result.request.kind == self.kind:
            self.result = result
            self.run.setEnabled(False)
            self.show_result()

    def _more_came(self, kind: str, result: Any) -> None:
        if kind == KIND and result is self.result:
            self.run.setEnabled(True)
            self.show_result()
            self.session.counts_changed.emit()

    def go_on(self) -> None:
        """Go on with the trial shown where it was."""
        if self.result is not None and self.result.unfinished:
            self.session.go_on(self.result.search)

    def start(self) -> None:
        """Run the trial in the background; cells fill as they come."""
        s = self.session
        minutes = {interval_words(i): i for i in self._minutes()}
        columns = tuple((m, minutes[i]) for m in self.markets.chosen() for i in self.intervals.chosen())

        def make() -> Any:
            request = TrialRequest(kind=self.kind, title=self.title, rows=tuple(self.rows()),
                                   columns=columns, shuffles=self.shuffles.value(), mirrored=self.mirrored.isChecked(),
                                   own=s.own if self.kind == "variants" else None)
            return trial_job(s.project, request, s.on_ui(self._come))

        made = s.attempt(make)
        if made is None:
            return
        job, self.result = made
        self.run.setEnabled(False)
        self.show_result()

        def over(_: Any) -> None:
            self.run.setEnabled(True)
            self.show_result()
            s.counts_changed.emit()

        s.start(job, "threads", over)

    def _come(self, _: TrialResult) -> None:
        if not self._soon.isActive():
            self._soon.start()

    # Showing

    def show_result(self) -> None:
        """The matrix as far as it has come."""
        result = self.result
        if result is None:
            return
        self.more.setVisible(result.unfinished and self.run.isEnabled())
        self.stack.setCurrentIndex(1)
        request = result.request
        threshold, least = self.threshold.value(), self.least.value()
        passed = result.passed(threshold, least)
        which = FIGURE[self.figure.currentText()]
        chosen = [(self.table.model.record(i.row()), i.column()) for i in
                  self.table.grid.selectionModel().selectedIndexes()]
        self._remake_columns(result, passed, which)
        rows = [r for r in range(len(request.rows)) if not self.show_only.value or passed[r].any()]
        self.table.set_records(rows)
        self._choose(chosen)
        known = np.isfinite(result.figures[..., 3])
        told = result.luck(threshold, least)
        count = f"{number(int(passed.sum()))} of {number(int(known.sum()))} tests pass"
        if told is None or not told.tests:
            self.verdict.setText(f"{count}.")
        else:
            spread = f" ({told.least} to {told.most})" if told.shuffles > 1 else ""
            self.verdict.setText(f"{count}; by luck alone one expects {number(told.expected, 1)}{spread}, "
                                 f"p {number(told.p, 2)}.")
        more = told is not None and told.tests > 0 and told.actual <= max(told.expected, told.most)
        set_role(self.verdict, "caution" if more else "heading")
        self.words.setText(
            f"{request.title}: {len(request.rows)} rules on {len(request.columns)} markets and intervals, training span, "
            f"each market's own costs. A cell: return over drawdown, profit factor, trades won/all; \u2713 passes. Luck: the "
            f"same rules on {request.shuffles} histories whose bars are dealt anew within their time of day"
            + (", turned over at random." if request.mirrored else "; the drift, and what belongs to an hour, stay in them.")
            + (" No more pass than luck lets one expect: take nothing from here without further tests." if more else ""))
        self.words.setToolTip("\n".join(r.words() for r in result.records.values()) or NOT_RECORDED)
        self.faults.setVisible(bool(result.faults))
        hidden = f"; {len(result.faults) - 3} more" if len(result.faults) > 3 else ""
        self.faults.setText("; ".join(result.faults[:3]) + hidden)

    def _choose(self, cells: list[tuple[int, int]]) -> None:
        """Choose the same cells again after the matrix was filled anew."""
        model, picked = self.table.model, self.table.grid.selectionModel()
        place = {model.record(i): i for i in range(model.rowCount())}
        for record, at in cells:
            if record in place and at < model.columnCount():
                picked.select(model.index(place[record], at), QItemSelectionModel.SelectionFlag.Select)

    def _remake_columns(self, result: TrialResult, passed: Any, which: int) -> None:
        figures, request = result.figures, result.request

        def text(r: int, c: int) -> str:
            _net, ratio, factor, trades, rate = figures[r, c, :5]
            if not np.isfinite(trades):
                return "\u2026"
            if not trades:
                return "no trade"
            won = round(trades * rate / 100)
            mark = "\u2713 " if passed[r, c] else ""
            return f"{mark}{number(ratio, 2)} \u00b7 {number(factor, 2)} \u00b7 {number(int(won))}/{number(int(trades))}"

        def of(c: int) -> Column:
            market, interval = request.columns[c]
            return Column(f"{market} {interval_words(interval)}", lambda r: float(figures[r, c, which]), lambda r: text(r, c),
                          "right", 196, lambda r: "gain" if passed[r, c] else "muted" if not figures[r, c, 0] > 0 else None,
                          figure=STUDIES["trial.figure"])

        model = self.table.model
        model.beginResetModel()
        model.columns = [Column("rule", lambda r: request.rows[r].name, width=270), *map(of, range(len(request.columns)))]
        same = self._columns == (request.rows, request.columns)
        if not same:
            model.filters, model.sort_column = {}, -1
            model.records = []
            model.shown = []
        model.endResetModel()
        if not same:
            self._columns = (request.rows, request.columns)
            for i, one in enumerate(model.columns):
                self.table.grid.horizontalHeader().resizeSection(i, one.width)
            self.table.remake_filters()

    # Carrying on

    def _cells(self) -> list[tuple[int, int]]:
        found = self.table.grid.selectionModel().selectedIndexes()
        return [(self.table.model.record(i.row()), i.column() - 1) for i in found if i.column() > 0]

    def keep_chosen(self) -> None:
        self.keep(self._cells())

    def keep_passing(self) -> None:
        if self.result is not None:
            self.keep([(int(r), int(c)) for r, c in zip(*np.nonzero(self.result.passed(self.threshold.value(),
                                                                                      self.least.value())))])

    def keep(self, cells: list[tuple[int, int]]) -> None:
        """Make candidates of cells and put them on the Shelf."""
        s, result = self.session, self.result
        if result is None or not cells:
            s.note("No cell is chosen; click one, or several with Ctrl.", "caution")
            return

        def work() -> int:
            kept = 0
            for r, c in cells:
                try:
                    kept += s.dossiers.keep(candidate_from_trial(s.project, result, r, c), own=result.request.own) is not None
                except WolbrinError:
                    continue  # the cell itself says that it could not be run
            return kept

        def done(kept: int) -> None:
            s.shelf_changed.emit()
            s.counts_changed.emit()
            there = len(cells) - kept
            s.note(f"{number(kept)} added to the Shelf" + (f"; {number(there)} were there already." if there else "."))

        s.compute("Keep cells", work, done)

    def open_chosen(self) -> None:
        """Make a strategy of the chosen cell and open it on Rules."""
        cells, s = self._cells(), self.session
        if self.result is None or not cells:
            s.note("No cell is chosen; click one.", "caution")
            return
        r, c = cells[0]
        market, interval = self.result.request.columns[c]
        parent = s.strategy_id if self.kind == "variants" else None
        s.add_strategy(self.result.request.rows[r].strategy, market, interval, parent=parent)
        s.place_wanted.emit("rules")


class FieldTrialPage(TrialPage):
    about = ("A field trial runs many conditions on many markets, each as an entry with one simple exit, and sets the number "
             "that pass beside the number that luck alone lets one expect.")

    def setup(self) -> list[Any]:
        self.conditions = ConditionPicker(self.session, "conditions")
        self.conditions.set(self.conditions.names()[:60])
        self.sides = Picker("sides", lambda: ["long", "short", "both"], ["long", "short"])
        self.unit = QComboBox()
        self.unit.addItems(["ATR stop and target", "money stop and target", "after bars"])
        self.unit.setAccessibleName("common exit")
        self.stop = box(0.05, 1e9, 2.0, "common stop")
        self.target = box(0.05, 1e9, 3.0, "common target")
        self.stop.setPrefix("stop ")
        self.target.setPrefix("target ")
        self.bars = box(1, 10_000, 12, "common exit bars", " bars", 0, 1)
        self.flat = QComboBox()
        self.flat.addItems(["flat by session end", "held overnight"])
        self.flat.setAccessibleName("common exit overnight")
        self.unit.currentIndexChanged.connect(self._unit)
        self._unit(0)
        return [row(self.conditions, self.sides, None),
                row(label("exit", "muted"), self.unit, self.stop, self.target, self.bars, self.flat, None)]

    def _unit(self, index: int) -> None:
        for part in (self.stop, self.target):
            part.setVisible(index < 2)
        self.bars.setVisible(index == 2)
        if index == 1 and self.stop.value() < 10:
            self.stop.setValue(300)
            self.target.setValue(450)
        elif index == 0 and self.stop.value() > 50:
            self.stop.setValue(2.0)
            self.target.setValue(3.0)

    def rows(self) -> list[TrialRow]:
        exit_ = CommonExit(unit=("atr", "money", "bars")[self.unit.currentIndex()], stop=self.stop.value(),
                           target=self.target.value(), bars=self.bars.value(),
                           flat_by_session_end=self.flat.currentIndex() == 0)
        return field_rows(self.conditions.picked(), self.sides.chosen(), exit_)  # type: ignore[arg-type]


class VariantsTrialPage(TrialPage):
    kind = "variants"
    title = "Variants trial"
    about = ("A variants trial runs one strategy with different settings on several markets: the numbers ticked below at "
             "several values each, and the variants of its family. Then carry the best on.")

    def setup(self) -> list[Any]:
        self.numbers = Picker("numbers of the strategy", lambda: [t.title for t in self._tunables()])
        self.values = box(2, 15, 3, "values of each number", " values each", 0, 1)
        self.family = Picker("variants", lambda: [e.strategy.name for e in self._family()])
        self.session.strategy_changed.connect(self._strategy_changed)
        self._strategy_changed()
        return [row(self.numbers, self.values, None), row(self.family, None)]

    def _tunables(self) -> list[Tunable]:
        return tunables(self.session.strategy)

    def _family(self) -> list[Any]:
        s = self.session
        return [e for _, e in tree(s.project.strategies(), s.strategy_id)]

    def _strategy_changed(self) -> None:
        swept = {p.name for p in self.session.strategy.parameters if p.sweep}
        if swept:
            self.numbers.ticked = swept
        self.numbers.tell()
        self.family.ticked = self.family.ticked & set(self.family.names()) or {self.session.strategy.name}
        self.family.tell()

    def rows(self) -> list[TrialRow]:
        picked = {t.title for t in self._tunables() if t.title in self.numbers.ticked}
        numbers = [Axis.over(t, self.values.value()) for t in self._tunables() if t.title in picked]
        found: list[TrialRow] = []
        strategies: list[Strategy] = [e.strategy for e in self._family() if e.strategy.name in self.family.ticked]
        for strategy in strategies or [self.session.strategy]:
            own = strategy.name == self.session.strategy.name
            found += [TrialRow(name=name, strategy=one)
                      for name, one in named_variants(strategy, numbers if own else [], MOST_VARIANTS)]
        return found
