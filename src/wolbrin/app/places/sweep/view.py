"""Sweep: ranges for the numbers of the strategy, exhaustive search, result table, heat map, apply."""

from __future__ import annotations

from collections.abc import Callable
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
from wolbrin.app.places.sweep.state import SweepState
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.matrix import Arrangement, MatrixModel
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.engine.record import NOT_RECORDED
from wolbrin.core.errors import WolbrinError
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.catalogue import BY_KEY, SUMMARY
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.rules.axes import Axis, Values, check_size, size_of
from wolbrin.core.rules.numbers import Tunable, tunables
from wolbrin.core.work.sweep_estimate import LARGEST_SWEEP


@dataclass(frozen=True)
class Result:
    """One row of the result table."""

    settings: tuple[float, ...]
    figures: tuple[float, ...]


def made_result(axes: int) -> Callable[[np.ndarray], Result]:
    """What makes a record of a row of numbers."""
    return lambda row: Result(tuple(row[:axes].tolist()), tuple(row[axes:].tolist()))


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
        self.state = SweepState(s)
        self._grid = QGridLayout()
        self._grid.setVerticalSpacing(3)
        self._grid.setHorizontalSpacing(8)
        self._grid.setColumnStretch(0, 1)
        self.count_words = label("", "heading")
        self.problem = label("", "error", wrap=True)
        self.go = button("Run sweep", self.start, main=True, tip="Ctrl+Return")
        self.more = button("Go on", self.state.go_on, tip="Go on with the sweep below where it was")
        self.more.hide()
        inside = QWidget()
        inside.setLayout(column(self._grid, None, margins=(0, 0, 6, 0)))
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(inside)
        left = QWidget()
        left.setLayout(column(label("Numbers to vary", "heading"), area, self.problem,
                              row(self.count_words, None, self.more, self.go), margins=(0, 0, 10, 0)))
        self.map = Grid(s.theme, "Heat map")
        self.map.picked.connect(self._picked)
        self.across, self.up, self.measure = QComboBox(), QComboBox(), QComboBox()
        for box, name in ((self.across, "across"), (self.up, "up"), (self.measure, "measure")):
            box.setAccessibleName(f"Heat map {name}")
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(14)
            box.currentIndexChanged.connect(lambda *_: self._draw_map())
        self.measure.addItems([BY_KEY[key].title for key in SUMMARY])
        self.measure.setCurrentIndex(SUMMARY.index("return_drawdown"))
        right = QWidget()
        right.setLayout(column(row(self.measure, label("across", "muted"), self.across, label("up", "muted"), self.up, None),
                               self.map, margins=(10, 0, 8, 0)))
        upper = QSplitter(Qt.Orientation.Horizontal)
        upper.addWidget(left)
        upper.addWidget(right)
        upper.setSizes([500, 520])
        self.rows = MatrixModel([], s.theme, lambda row: self._made(row))
        self._made: Callable[[np.ndarray], Result] = made_result(0)
        self.table = Table([], s.theme, "Sweep results", filters=True, model=self.rows)
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
        self.state.taken.connect(self._take)
        self.state.grown.connect(self._grown)
        self.state.mapped.connect(self._mapped)
        self.state.arranged.connect(self._arranged)
        self._numbers()
        self.state.restore()

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
            check_size(axes, LARGEST_SWEEP)
            count = size_of(axes)
            self.count_words.setText(f"{number(count)} combinations")
            self.problem.setText("" if count else "Tick at least one number to vary.")
            self.go.setEnabled(count > 0)
        except WolbrinError as err:
            self.count_words.setText("")
            self.problem.setText(err.sentence())
            self.go.setEnabled(False)

    def start(self) -> None:
        """Test every combination in the background."""
        axes = self.session.attempt(self.axes)
        if axes is not None:
            self.state.start(axes)

    def _take(self) -> None:
        assert self.state.result is not None
        axes = self.state.result.request.axes
        self._made = made_result(len(axes))
        self.table.set_columns(self._columns(axes), len(axes) + SUMMARY.index("return_drawdown"), True)
        for box, index in ((self.across, 0), (self.up, min(1, len(axes) - 1))):
            box.blockSignals(True)
            box.clear()
            box.addItems([a.title for a in axes])
            box.setCurrentIndex(index)
            box.blockSignals(False)
        self.stack.setCurrentIndex(1)

    def _columns(self, axes: tuple[Axis, ...]) -> list[Column]:
        columns = [Column(a.title.split(",")[0], lambda r, i=i: r.settings[i], lambda r, i=i: f"{r.settings[i]:g}",
                          "right", 158, tip=a.title, number=lambda v: f"{v:g}") for i, a in enumerate(axes)]
        for i, key in enumerate(SUMMARY):
            m = BY_KEY[key]
            tint = (lambda r, i=i: "gain" if r.figures[i] > 0 else "loss") if key == "net" else None
            columns.append(Column(m.title, lambda r, i=i: r.figures[i],
                                  lambda r, i=i, key=key: worded(key, r.figures[i]), "right", 134, tint,
                                  tip=m.definition, number=lambda v, key=key: worded(key, v)))
        return columns

    def _grown(self) -> None:
        result = self.state.result
        assert result is not None

        self.state.arrange(self.rows.arrangement())
        r = result.request
        refused = f", {number(result.refused)} the model refuses" if result.refused else ""
        left = f" of {number(result.total)}" if result.unfinished else ""
        self.found.setText(f"{number(result.count)}{left} sets tried{refused}: {r.strategy.name} on {r.market} "
                           f"{interval_words(r.interval)}")
        self.found.setToolTip(result.record.words() if result.record is not None else NOT_RECORDED)
        self.more.setVisible(self.state.unfinished)
        self._draw_map()

    def _arranged(self, values: np.ndarray, order: np.ndarray, how: Arrangement) -> None:
        def change() -> int | None:
            row = self.table.grid.currentIndex().row()
            chosen = int(self.rows.shown[row]) if 0 <= row < len(self.rows.shown) else None
            self.rows.set_values(values, order, how)
            at = np.flatnonzero(np.asarray(self.rows.shown) == chosen) if chosen is not None else np.zeros(0)
            return int(at[0]) if len(at) else None

        self.table.keep_place(change)

    def _map_of(self) -> tuple[int, int, str]:
        return self.across.currentIndex(), self.up.currentIndex(), SUMMARY[self.measure.currentIndex()]

    def _draw_map(self) -> None:
        x, y, key = self._map_of()
        if x >= 0:
            self.state.draw_map(x, y, key)

    def _mapped(self, values: np.ndarray) -> None:
        assert self.state.result is not None
        axes = self.state.result.request.axes
        x, y, key = self._map_of()
        rows = [f"{v:g}" for v in axes[y].values] if x != y else [""]
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
        chosen, result = self.table.current(), self.state.result
        if chosen is None or result is None:
            return
        axes, (x, y, _) = result.request.axes, self._map_of()
        column_ = list(axes[x].values).index(chosen.settings[x])
        self.map.choose(list(axes[y].values).index(chosen.settings[y]) if x != y else 0, column_)

    def _chosen(self, _: Result) -> None:
        self._ring()

    def _picked(self, row_: int, column_: int) -> None:
        """Choose the best set of the clicked cell in the table."""
        assert self.state.result is not None
        axes, (x, y, key) = self.state.result.request.axes, self._map_of()
        at = self.state.best_in(self.rows.values[np.asarray(self.rows.shown)], x, y, axes[x].values[column_],
                                axes[y].values[row_], key)
        if at is not None:
            self.table.choose(at)

    def _values(self) -> Values | None:
        chosen = self.table.current()
        return chosen.settings if chosen is not None else None

    def apply_chosen(self) -> None:
        """Give the strategy the numbers of the chosen set."""
        self.state.apply(self._values())

    def keep_chosen(self) -> None:
        """Put the chosen set on the Shelf."""
        self.state.keep(self._values())
