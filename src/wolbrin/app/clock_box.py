"""A field for a time of day whose value is a number HHMM, as rules hold it."""

from __future__ import annotations

import re

from PySide6.QtGui import QValidator
from PySide6.QtWidgets import QDoubleSpinBox

from wolbrin.core.rules.times import clock_text

_WHOLE = re.compile(r"^(\d{1,2}):?(\d{2})$")


class ClockBox(QDoubleSpinBox):
    """Reads 13:00 (1300 is understood); steps by minutes."""

    def __init__(self) -> None:
        super().__init__()
        self.setDecimals(0)

    def textFromValue(self, value: float) -> str:
        return clock_text(value)

    def valueFromText(self, text: str) -> float:
        found = _WHOLE.match(text.strip())
        return float(found[1]) * 100 + float(found[2]) if found else self.value()

    def validate(self, text: str, at: int) -> object:
        found = _WHOLE.match(text.strip())
        good = found is not None and int(found[2]) < 60 and int(found[1]) * 60 + int(found[2]) <= 24 * 60
        typing = re.fullmatch(r"\d{0,4}|\d{1,2}:\d{0,2}", text.strip()) is not None
        states = QValidator.State
        return states.Acceptable if good else states.Intermediate if typing else states.Invalid, text, at

    def stepBy(self, steps: int) -> None:
        minutes = int(self.value()) // 100 * 60 + int(self.value()) % 100 + steps * int(self.singleStep())
        minutes = min(24 * 60, max(0, minutes))
        self.setValue(minutes // 60 * 100 + minutes % 60)
