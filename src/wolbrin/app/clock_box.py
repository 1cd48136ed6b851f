"""Fields for a time of day: one holds the number HHMM, as rules do, the other minutes past midnight, as ranges do."""

from __future__ import annotations

import re

from PySide6.QtGui import QValidator
from PySide6.QtWidgets import QDoubleSpinBox

from wolbrin.core.rules.numbers import clock
from wolbrin.core.rules.times import clock_text

_WHOLE = re.compile(r"^(\d{1,2}):?(\d{2})$")
_TYPING = re.compile(r"^(\d{0,4}|\d{1,2}:\d{0,2})$")


class MinutesBox(QDoubleSpinBox):
    """Minutes past midnight, read and shown as 13:00 (1300 is understood)."""

    def __init__(self) -> None:
        super().__init__()
        self.setDecimals(0)

    def shown(self, value: float) -> str:
        """The time of day of a value."""
        return clock(value)

    def value_at(self, hours: int, minutes: int) -> float:
        """The value of a time of day."""
        return 60.0 * hours + minutes

    def textFromValue(self, value: float) -> str:
        return self.shown(value)

    def valueFromText(self, text: str) -> float:
        found = _WHOLE.match(text.strip())
        return self.value_at(int(found[1]), int(found[2])) if found else self.value()

    def validate(self, text: str, at: int) -> object:
        states, found = QValidator.State, _WHOLE.match(text.strip())
        if found is not None and int(found[2]) < 60 and int(found[1]) * 60 + int(found[2]) <= 24 * 60:
            within = self.minimum() <= self.value_at(int(found[1]), int(found[2])) <= self.maximum()
            return states.Acceptable if within else states.Intermediate, text, at
        return states.Intermediate if _TYPING.match(text.strip()) else states.Invalid, text, at


class ClockBox(MinutesBox):
    """The number HHMM; steps by minutes."""

    def shown(self, value: float) -> str:
        return clock_text(value)

    def value_at(self, hours: int, minutes: int) -> float:
        return 100.0 * hours + minutes

    def stepBy(self, steps: int) -> None:
        minutes = int(self.value()) // 100 * 60 + int(self.value()) % 100 + steps * int(self.singleStep())
        self.setValue(self.value_at(*divmod(min(24 * 60, max(0, minutes)), 60)))
