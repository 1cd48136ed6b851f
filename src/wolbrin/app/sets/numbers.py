"""The numbers of the strategy, each with a tick, a range and a step. The ticks are those of Rules."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QDoubleSpinBox, QGridLayout, QScrollArea, QWidget

from wolbrin.app.clock_box import MinutesBox
from wolbrin.app.parts import clear, column, label
from wolbrin.app.session import Session
from wolbrin.core.rules.axes import Axis
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.numbers import Tunable, clock, tunables
from wolbrin.core.rules.ticking import is_ticked, parameter_at, tick


class AxisLine:
    """Tick, title, from, to and step of one number."""

    def __init__(self, tunable: Tunable, on: bool, ticked: Callable[[AxisLine, bool], None],
                 changed: Callable[[], None]) -> None:
        self.tunable = tunable
        self.on = QCheckBox(tunable.title)
        self.on.setChecked(on)
        self.boxes: list[QDoubleSpinBox] = []
        whole = all(float(v).is_integer() for v in (tunable.low, tunable.high, tunable.step, tunable.value))
        for name, value in (("from", tunable.low), ("to", tunable.high), ("step", tunable.step)):
            box = MinutesBox() if tunable.clock and name != "step" else QDoubleSpinBox()
            box.setRange(0 if tunable.clock else -1e9, 1439 if tunable.clock and name != "step" else 1e9)
            box.setDecimals(0 if whole else 4 if tunable.step < 0.01 else 2)
            box.setSingleStep(tunable.step)
            box.setValue(value)
            box.setAlignment(Qt.AlignmentFlag.AlignRight)
            box.setAccessibleName(f"{tunable.title} {name}")
            box.setFixedWidth(68)
            box.valueChanged.connect(lambda *_: changed())
            self.boxes.append(box)
        self.show_tunable(tunable)
        self.on.toggled.connect(lambda state: ticked(self, state))

    def show_tunable(self, tunable: Tunable) -> None:
        """The number as it is now; the range stays."""
        self.tunable = tunable
        now = clock(tunable.value) if tunable.clock else f"{tunable.value:g}"
        self.on.setToolTip(f"{tunable.title}, now {now}")

    def set_range(self, low: float, high: float, step: float) -> None:
        """Another range."""
        for box, value in zip(self.boxes, (low, high, step)):
            box.blockSignals(True)
            if not float(value).is_integer() and box.decimals() == 0:
                for other in self.boxes:
                    other.setDecimals(2)
            box.setValue(value)
            box.blockSignals(False)

    def axis(self) -> Axis:
        """Raises UserError for a range that is none."""
        low, high, step = (b.value() for b in self.boxes)
        return Axis.spread(self.tunable.key, self.tunable.title, low, high, step, self.tunable.clock)


class Numbers(QScrollArea):
    """All numbers of the current strategy. changed: ticks or ranges moved."""

    changed = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.lines: list[AxisLine] = []
        self._times: set[str] = set()  # ticked times of day, which are no parameters
        self._ranges: dict[str, tuple[float, float, float]] = {}
        self._grid = QGridLayout()
        self._grid.setVerticalSpacing(3)
        self._grid.setHorizontalSpacing(8)
        self._grid.setColumnStretch(0, 1)
        inside = QWidget()
        inside.setLayout(column(self._grid, None, margins=(0, 0, 6, 0)))
        self.setWidgetResizable(True)
        self.setWidget(inside)
        session.strategy_changed.connect(self.fill)
        self.fill()

    def fill(self) -> None:
        """List the numbers of the current strategy; ranges of those that stay, stay."""
        strategy, found = self._session.strategy, tunables(self._session.strategy)
        on = [is_ticked(strategy, t) or t.key in self._times for t in found]
        if [t.key for t in found] == [li.tunable.key for li in self.lines]:
            for line, tunable, ticked in zip(self.lines, found, on):
                line.show_tunable(tunable)
                line.on.blockSignals(True)
                line.on.setChecked(ticked)
                line.on.blockSignals(False)
            self.changed.emit()
            return
        self._ranges |= {li.tunable.key: tuple(b.value() for b in li.boxes) for li in self.lines}
        clear(self._grid)
        for c, text in enumerate(("", "from", "to", "step")):
            self._grid.addWidget(label(text, "small"), 0, c)
        self.lines = [AxisLine(t, ticked, self._ticked, self.changed.emit) for t, ticked in zip(found, on)]
        for r, line in enumerate(self.lines, 1):
            known = self._ranges.get(line.tunable.key)
            if known is not None and not line.tunable.key.startswith("parameters."):
                line.set_range(*known)
            self._grid.addWidget(line.on, r, 0)
            for c, box in enumerate(line.boxes, 1):
                self._grid.addWidget(box, r, c)
        if not self.lines:
            self._grid.addWidget(label("This strategy has no number to vary yet. Add rows, a stop or a target in Rules.",
                                       "muted", wrap=True), 1, 0, 1, 4)
        self.changed.emit()

    def _ticked(self, line: AxisLine, on: bool) -> None:
        number, s = line.tunable, self._session
        if number.clock:
            (self._times.add if on else self._times.discard)(number.key)
            self.changed.emit()
            return
        before = s.strategy
        after = tick(before, number.key, on)
        if on and parameter_at(before, number.key) is None and len(after.parameters) > len(before.parameters):
            # The range that stands here goes with it.
            low, high, step = (b.value() for b in line.boxes)
            if high >= low and step > 0:
                last = after.parameters[-1].model_copy(update={"low": low, "high": high, "step": step})
                after = after.model_copy(update={"parameters": (*after.parameters[:-1], last)})
        s.edit(after, f"vary {number.title}")

    def axes(self) -> tuple[Axis, ...]:
        """The ticked numbers. Raises UserError for a range that is none."""
        return tuple(li.axis() for li in self.lines if li.on.isChecked())

    def with_ranges(self, strategy: Strategy) -> Strategy:
        """The strategy whose parameters keep the ranges that stand here."""
        made = list(strategy.parameters)
        for line in self.lines:
            at = parameter_at(strategy, line.tunable.key)
            if at is not None:
                low, high, step = (b.value() for b in line.boxes)
                if high >= low and step > 0:
                    made[at] = made[at].model_copy(update={"low": low, "high": high, "step": step})
        return strategy.model_copy(update={"parameters": tuple(made)})

    def show_axes(self, axes: tuple[Axis, ...]) -> None:
        """The ranges of a sweep, where its numbers are there."""
        by_key = {li.tunable.key: li for li in self.lines}
        for axis in axes:
            line = by_key.get(axis.key)
            if line is not None and axis.kind == "clock" and not line.on.isChecked():
                self._times.add(axis.key)
                line.on.blockSignals(True)
                line.on.setChecked(True)
                line.on.blockSignals(False)
            if line is not None and axis.values:
                line.set_range(axis.values[0], axis.values[-1], axis.step or line.boxes[2].value())
        self.changed.emit()
