"""One gate of the line: its figure over all candidates, its settings, its place in the line."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal, get_args, get_origin

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QDoubleSpinBox, QFormLayout, QWidget

from wolbrin.app.parts import button, clear, column, label, row, spin, tips
from wolbrin.app.places.proving.state import LineOf, ProvingState
from wolbrin.app.places.proving.threshold import Threshold
from wolbrin.app.terms import combo
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import PASSES, Gate

WIDTH = 284


class GatePage(QWidget):
    def __init__(self, state: ProvingState) -> None:
        super().__init__()
        self.state = state
        self.gate: Gate | None = None
        self._values: dict[str, Callable[[], Any]] = {}
        self.setFixedWidth(WIDTH)
        self.title = label("", "heading")
        self.says = label("", "small", wrap=True)
        self.count = label("", "small", wrap=True)
        self.chart = Threshold(state.session.theme)
        self.chart.setFixedHeight(120)
        self.chart.dragged.connect(self._dragged)
        self.on = QCheckBox("in the line")
        self.on.toggled.connect(self._switch)
        self.apply = button("Judge by this", self._apply, main=True, tip="Candidates are judged again where it matters")
        self.earlier = button("Earlier", lambda: self._move(-1), tip="Ask this gate before the one in front of it")
        self.later = button("Later", lambda: self._move(1), tip="Ask this gate after the next one")
        self._form = QFormLayout()
        self._form.setLabelAlignment(Qt.AlignmentFlag.AlignLeft)
        self._form.setVerticalSpacing(3)
        self.setLayout(column(row(self.title, None, self.on), self.says, self.chart, self.count, self._form,
                              row(self.apply, None, self.earlier, self.later), None, spacing=5, margins=(12, 0, 0, 0)))

    def show_gate(self, gate: Gate, line: LineOf) -> None:
        """Show a gate of the line, or one that is not in it."""
        fresh = self.gate != gate
        self.gate = gate
        self.title.setText(gate.title)
        self.says.setText((type(gate).__doc__ or "").strip().replace("\n    ", " "))
        held = [r.evidence[gate.key] for r in line.records if gate.key in r.evidence]
        figures = np.array([e.outcome.get(gate.figure, np.nan) for e in held])
        passed = np.array([e.verdict == PASSES for e in held], bool)
        at = self._threshold(gate)
        self.chart.setVisible(bool(gate.figure))
        self.chart.show_figures(figures[passed], figures[~passed], at)
        name = next((s.title for s in gate.shown if s.key == gate.figure), gate.figure)
        self.count.setText(f"{name}: {number(int(passed.sum()))} of {number(len(held))} judged here pass." if held
                           else "No candidate has come to this gate yet.")
        about = gate.figure_of(gate.figure) if gate.figure else None
        self.count.setToolTip(tips(about) if about is not None else "")
        self.on.blockSignals(True)
        self.on.setChecked(any(g.key == gate.key for g in line.gates))
        self.on.setEnabled(not gate.opens_holdout)
        self.on.blockSignals(False)
        for one in (self.earlier, self.later):
            one.setEnabled(not gate.opens_holdout and self.on.isChecked())
        if fresh:
            self._fill(gate.options)

    def _threshold(self, gate: Gate) -> float | None:
        value = getattr(gate.options, gate.setting, None) if gate.setting else None
        return float(value) if value is not None else None

    def _fill(self, options: Model) -> None:
        """A field for each setting."""
        clear(self._form)
        self._values = {}
        for name, field in type(options).model_fields.items():
            value = getattr(options, name)
            words = field.title or name.replace("_", " ")
            box: QCheckBox | QComboBox | QDoubleSpinBox
            if isinstance(value, bool):
                box = QCheckBox()
                box.setChecked(value)
                self._values[name] = box.isChecked
            elif get_origin(field.annotation) is Literal:
                box = combo([(c, c) for c in get_args(field.annotation)], words)
                box.setCurrentIndex(get_args(field.annotation).index(value))
                self._values[name] = box.currentData
            elif isinstance(value, int | float):
                box = self._number(value, field.metadata)
                self._values[name] = (lambda b=box: int(b.value())) if isinstance(value, int) else box.value
            else:
                continue
            box.setAccessibleName(words)
            self._form.addRow(label(words, "small"), box)

    @staticmethod
    def _number(value: float, bounds: list[Any]) -> QDoubleSpinBox:
        low = next((float(x) for m in bounds for k in ("ge", "gt") if (x := getattr(m, k, None)) is not None), -1e9)
        high = next((float(x) for m in bounds for k in ("le", "lt") if (x := getattr(m, k, None)) is not None), 1e9)
        whole = isinstance(value, int)
        step = 1.0 if whole or value >= 20 else 0.05 if value < 1 else 0.5
        box = spin(float(value), low, high, 0 if whole else 2, step)
        box.setFixedWidth(96)
        return box

    def settings(self) -> dict[str, Any]:
        """What the fields say."""
        return {name: read() for name, read in self._values.items()}

    def _apply(self) -> None:
        if self.gate is not None:
            self.state.set_gate(self.gate.key, self.settings())

    def _dragged(self, value: float) -> None:
        gate = self.gate
        if gate is None:
            return
        held = getattr(gate.options, gate.setting)
        self.state.set_gate(gate.key, self.settings() | {gate.setting: round(value) if isinstance(held, int) else
                                                         float(f"{value:.3g}")})

    def _switch(self, on: bool) -> None:
        if self.gate is not None:
            self.state.switch(self.gate.key, on)

    def _move(self, by: int) -> None:
        if self.gate is not None:
            self.state.move(self.gate.key, by)
