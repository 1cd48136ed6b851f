"""Sweep: ranges for the numbers of the strategy, exhaustive search, result table, heat map, apply."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QGridLayout,
    QScrollArea,
    QSplitter,
    QStackedWidget,
    QWidget,
)

from wolbrin.app.charts.grids import Grid
from wolbrin.app.parts import Empty, button, clear, column, label, row
from wolbrin.app.places.place import Place
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.engine.record import NOT_RECORDED
from wolbrin.core.errors import WolbrinError
from wolbrin.core.jobs import Job
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.catalogue import BY_KEY, SUMMARY
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.rules.axes import Axis, combinations, variant
from wolbrin.core.rules.numbers import Tunable, tunables
from wolbrin.core.work.sweeping import SweepRequest, SweepResult, candidate_from_sweep, last_sweep, sweep_job


@dataclass(frozen=True)
class Result:
    """One row of the result table."""

    settings: tuple[float, ...]
    figures: tuple[float, ...]


def heat(settings: np.ndarray, figures: np.ndarray, axes: tuple[Axis, ...], x: int, y: int, key: str) -> np.ndarray:
    """A measure over two axes, float64[len(y), len(x)]: the median over all other axes, NaN where nothing is known."""
    out = np.full((len(axes[y].values), len(axes[x].values)), np.nan)
    values = figures[:, SUMMARY.index(key)]
    columns = np.searchsorted(axes[x].values, settings[:, x])
    rows = np.searchsorted(axes[y].values, settings[:, y]) if x != y else np.zeros(len(settings), int)
    cells: dict[tuple[int, int], list[float]] = {}
    for r, c, v in zip(rows, columns, values):
        if not math.isnan(v):
            cells.setdefault((int(r), int(c)), []).append(float(v))
    for (r, c), found in cells.items():
        out[r, c] = float(np.median(found))
    return out


class AxisLine:
    """Tick, title, from, to and step of one number."""

    def __init__(self, tunable: Tunable, on: bool, changed: Any) -> None:
        self.tunable = tunable
        self.on = QCheckBox(tunable.title)
        self.on.setChecked(on)
        self.on.setToolTip(f"now {tunable.value:g}")
        self.boxes = []
        for name, value in (("from", tunable.low), ("to", tunable.high), ("step", tunable.step)):
            box = QDoubleSpinBox()
            box.setRange(-1e9, 1e9)
            box.setDecimals(0 if all(float(v).is_integer() for v in (tunable.low, tunable.high, tunable.step,
                                                                     tunable.value)) else 2)
            box.setValue(value)
            box.setAlignment(Qt.AlignmentFlag.AlignRight)
            box.setAccessibleName(f"{tunable.title} {name}")
            box.setFixedWidth(62)
            box.valueChanged.connect(lambda *_: changed())
            self.boxes.append(box)
        self.on.toggled.connect(lambda *_: changed())

    def axis(self) -> Axis:
        low, high, step = (b.value() for b in self.boxes)
        return Axis.spread(self.tunable.key, self.tunable.title, low, high, step)


class SweepPlace(Place):
    key = "sweep"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        self.lines: list[AxisLine] = []
        self._result: SweepResult | None = None
        self._job: Job | None = None
        self._grid = QGridLayout()
        self._grid.setVerticalSpacing(3)
        self._grid.setHorizontalSpacing(8)
        self._grid.setColumnStretch(0, 1)
        self.size = label("", "heading")
        self.problem = label("", "error", wrap=True)
        self.go = button("Run sweep", self.start, main=True, tip="Ctrl+Return")
        inside = QWidget()
        inside.setLayout(column(self._grid, None, margins=(0, 0, 6, 0)))
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(inside)
        left = QWidget()
        left.setLayout(column(label("Numbers to vary", "heading"), area, self.problem, row(self.size, None, self.go),
                              margins=(0, 0, 10, 0)))
        self.map = Grid(s.theme, "Heat map")
        self.map.picked.connect(self._picked)
        self.x, self.y, self.measure = QComboBox(), QComboBox(), QComboBox()
        for box, name in ((self.x, "across"), (self.y, "up"), (self.measure, "measure")):
            box.setAccessibleName(f"Heat map {name}")
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(14)
            box.currentIndexChanged.connect(lambda *_: self._draw_map())
        self.measure.addItems([BY_KEY[key].title for key in SUMMARY])
        self.measure.setCurrentIndex(SUMMARY.index("return_drawdown"))
        right = QWidget()
        right.setLayout(column(row(self.measure, label("across", "muted"), self.x, label("up", "muted"), self.y, None),
                               self.map, margins=(10, 0, 8, 0)))
        upper = QSplitter(Qt.Orientation.Horizontal)
        upper.addWidget(left)
        upper.addWidget(right)
        upper.setSizes([500, 520])
        self.table = Table(self._columns(()), s.theme, "Sweep results", filters=True)
        self.found = label("", "heading")
        self.apply = button("Apply to the strategy", self.apply_chosen, tip="Use the chosen set's numbers")
        self.keep = button("Keep on Shelf", self.keep_chosen)
        lower = QWidget()
        lower.setLayout(column(row(self.found, None, self.apply, self.keep, margins=(0, 4, 8, 0)), self.table, spacing=4))
        self.empty = Empty("Tick the numbers to vary, then run. Every combination is tested on the training span; "
                           "nothing here sees the holdout.", "Run sweep", self.start)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(lower)
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(upper)
        split.addWidget(self.stack)
        split.setSizes([330, 320])
        self.setLayout(column(split, margins=(20, 10, 0, 6)))
        self.table.chosen.connect(self._chosen)
        s.strategy_changed.connect(self._numbers)
        self._numbers()
        self._restore()

    def actions_offered(self) -> list[Action]:
        chosen = lambda: self.table.current() is not None  # noqa: E731
        return [Action("sweep.run", "Run the sweep", self.start, "Ctrl+Return", "sweep"),
                Action("sweep.apply", "Apply the chosen set to the strategy", self.apply_chosen, "Ctrl+Shift+A", "sweep",
                       chosen),
                Action("sweep.keep", "Keep the chosen set on the Shelf", self.keep_chosen, "Ctrl+K", "sweep", chosen)]

    def _numbers(self) -> None:
        """List the numbers of the current strategy, keeping ticks and ranges that still apply."""
        found = tunables(self.session.strategy)
        if [t.key for t in found] == [li.tunable.key for li in self.lines]:
            for line, tunable in zip(self.lines, found):
                line.tunable = tunable
                line.on.setToolTip(f"now {tunable.value:g}")
            self._count()
            return
        on = {li.tunable.key for li in self.lines if li.on.isChecked()}
        clear(self._grid)
        for c, text in enumerate(("", "from", "to", "step")):
            self._grid.addWidget(label(text, "small"), 0, c)
        # Parameters that are ticked for it where they stand come first; else what was ticked here.
        swept = {p.name for p in self.session.strategy.parameters if p.sweep}
        ticked = {t.key for t in found if t.key.startswith("parameters.") and t.title in swept}
        chosen = ticked or on & {t.key for t in found} or {t.key for t in found[:2]}
        self.lines = [AxisLine(t, t.key in chosen, self._count) for t in found]
        for r, line in enumerate(self.lines, 1):
            self._grid.addWidget(line.on, r, 0)
            for c, box in enumerate(line.boxes, 1):
                self._grid.addWidget(box, r, c)
        if not self.lines:
            self._grid.addWidget(label("This strategy has no number to vary yet. Add rows, a stop or a target in Rules.",
                                       "muted", wrap=True), 1, 0, 1, 4)
        self._count()

    def axes(self) -> tuple[Axis, ...]:
        return tuple(li.axis() for li in self.lines if li.on.isChecked())

    def _count(self) -> None:
        try:
            axes = self.axes()
            count = len(combinations(axes)) if axes else 0
            self.size.setText(f"{number(count)} combinations")
            self.problem.setText("" if count else "Tick at least one number to vary.")
            self.go.setEnabled(count > 0)
        except WolbrinError as err:
            self.size.setText("")
            self.problem.setText(err.sentence())
            self.go.setEnabled(False)

    def start(self) -> None:
        """Test every combination in the background."""
        s = self.session
        if self._job is not None and not self._job.state.over:
            s.note("A sweep is running; stop it first.", "caution")
            return
        made = s.attempt(lambda: sweep_job(s.project, SweepRequest(s.strategy, s.market, s.interval, self.axes(), s.own),
                                           s.on_ui(self._grown)))
        if made is None:
            return
        job, result = made
        self._take(result)
        self._job = s.start(job, "threads", lambda _: self._over())

    def _over(self) -> None:
        if self._result is not None:
            self._grown(self._result)
        self.session.counts_changed.emit()

    def _restore(self) -> None:
        """Show the last sweep of the project again."""
        result = self.session.attempt(lambda: last_sweep(self.session.project))
        if result is not None:
            self._take(result)
            self._grown(result)

    def _take(self, result: SweepResult) -> None:
        self._result = result
        axes = result.request.axes
        self.table.model.beginResetModel()
        self.table.model.columns = self._columns(axes)
        self.table.model.records, self.table.model.shown = [], []
        self.table.model.filters.clear()
        self.table.model.sort_column = len(axes) + SUMMARY.index("return_drawdown")
        self.table.model.sort_down = True
        self.table.model.endResetModel()
        self.table.remake_filters()
        header = self.table.grid.horizontalHeader()
        for i, c in enumerate(self.table.model.columns):
            header.resizeSection(i, c.width)
        for box, index in ((self.x, 0), (self.y, min(1, len(axes) - 1))):
            box.blockSignals(True)
            box.clear()
            box.addItems([a.title for a in axes])
            box.setCurrentIndex(index)
            box.blockSignals(False)
        self.stack.setCurrentIndex(1)

    def _columns(self, axes: tuple[Axis, ...]) -> list[Column]:
        columns = [Column(a.title.split(",")[0], lambda r, i=i: r.settings[i], lambda r, i=i: f"{r.settings[i]:g}",
                          "right", 158, tip=a.title) for i, a in enumerate(axes)]
        for i, key in enumerate(SUMMARY):
            m = BY_KEY[key]
            tint = (lambda r, i=i: "gain" if r.figures[i] > 0 else "loss") if key == "net" else None
            columns.append(Column(m.title, lambda r, i=i: r.figures[i],
                                  lambda r, i=i, key=key: worded(key, r.figures[i]), "right", 134, tint,
                                  tip=m.definition))
        return columns

    def _grown(self, result: SweepResult) -> None:
        if result is not self._result:
            return
        settings, figures = result.table()
        self.table.set_records([Result(tuple(a), tuple(b)) for a, b in zip(settings.tolist(), figures.tolist())])
        r = result.request
        self.found.setText(f"{number(len(settings))} sets tried: {r.strategy.name} on {r.market} "
                           f"{interval_words(r.interval)}")
        self.found.setToolTip(result.record.words() if result.record is not None else NOT_RECORDED)
        self._draw_map()

    def _draw_map(self) -> None:
        result = self._result
        if result is None or not result.settings or self.x.currentIndex() < 0:
            return
        settings, figures = result.table()
        axes = result.request.axes
        x, y, key = self.x.currentIndex(), self.y.currentIndex(), SUMMARY[self.measure.currentIndex()]
        values = heat(settings, figures, axes, x, y, key)
        rows = [f"{v:g}" for v in axes[y].values] if x != y else [""]
        if x == y:
            values = values[:1]
        m = BY_KEY[key]
        center = {"profit_factor": 1.0, "win_rate": 50.0}.get(key, 0.0)
        if key in ("trades", "max_drawdown"):
            center = float(np.nanmedian(values)) if np.isfinite(values).any() else 0.0
        others = " (median over the other numbers)" if len(axes) > 2 else ""
        self.map.show_grid(values, rows, [f"{v:g}" for v in axes[x].values],
                           (f"{m.title}{others}; up: {axes[y].title}", axes[x].title), center=center, left=44,
                           numbers=len(axes[x].values) <= 16)
        self._ring()

    def _ring(self) -> None:
        chosen = self.table.current()
        if chosen is None or self._result is None:
            return
        axes = self._result.request.axes
        x, y = self.x.currentIndex(), self.y.currentIndex()
        column_ = list(axes[x].values).index(chosen.settings[x])
        self.map.choose(list(axes[y].values).index(chosen.settings[y]) if x != y else 0, column_)

    def _chosen(self, _: Result) -> None:
        self._ring()

    def _picked(self, row_: int, column_: int) -> None:
        """Choose the best set of the clicked cell in the table."""
        assert self._result is not None
        axes = self._result.request.axes
        x, y = self.x.currentIndex(), self.y.currentIndex()
        i = SUMMARY.index(SUMMARY[self.measure.currentIndex()])
        model = self.table.model
        fit = [at for at in range(model.rowCount())
               if model.record(at).settings[x] == axes[x].values[column_]
               and (x == y or model.record(at).settings[y] == axes[y].values[row_])]
        if fit:
            self.table.choose(max(fit, key=lambda at: -math.inf if math.isnan(model.record(at).figures[i])
                                  else model.record(at).figures[i]))

    def apply_chosen(self) -> None:
        """Give the strategy the numbers of the chosen set."""
        s, chosen, result = self.session, self.table.current(), self._result
        if chosen is None or result is None:
            s.note("Choose a set in the table or on the map first.", "caution")
            return
        made = s.attempt(lambda: variant(s.strategy, result.request.axes, chosen.settings))
        if made is not None:
            s.edit(made, "apply a sweep result")
            s.note(f"{s.strategy.name} now has the chosen numbers.")

    def keep_chosen(self) -> None:
        """Put the chosen set on the Shelf."""
        s, chosen, result = self.session, self.table.current(), self._result
        if chosen is None or result is None:
            s.note("Choose a set in the table or on the map first.", "caution")
            return

        def work() -> Any:
            try:
                return candidate_from_sweep(s.project, result, chosen.settings)
            except WolbrinError as err:
                return err

        def done(candidate: Any) -> None:
            if isinstance(candidate, WolbrinError):
                s.note(candidate.sentence(), "error")
                return
            id = s.dossiers.keep(candidate, own=result.request.own)
            s.note(f"{candidate.name} is on the Shelf." if id else f"{candidate.name} was on the Shelf already.")
            s.shelf_changed.emit()
            s.counts_changed.emit()

        s.compute("Keep", work, done)
