"""One condition as lines that read as sentences, every part editable in place."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QSize, QTimer
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from wolbrin.app.parts import Choice, clear, label, link, row
from wolbrin.app.places.rules.operand import operand_link
from wolbrin.core.rules.model import COMPARISONS, UNARY, Condition, IndicatorOperand, Row
from wolbrin.core.rules.words import row_words


class ConditionEditor(QWidget):
    """Shows a condition; `changed` is called with the edited one. Read-only ones (a mirrored side) show words only."""

    def __init__(self, title: str, changed: Callable[[Condition, str], None]) -> None:
        super().__init__()
        self.title = title
        self._changed = changed
        self.condition = Condition()
        self._box = QVBoxLayout(self)
        self._box.setContentsMargins(0, 0, 0, 0)
        self._box.setSpacing(3)

    def show_condition(self, condition: Condition, editable: bool = True) -> None:
        self.condition = condition
        clear(self._box)
        match = Choice([("all of", "all"), ("any of", "any")], condition.match, self.title)
        match.chosen.connect(lambda value: self._put({"match": value}, "all or any"))
        match.setVisible(editable and len(condition.rows) > 1)
        add = link("+ row", self.add_row, tip=f"Add a row to {self.title}")
        add.setVisible(editable)
        self._box.addLayout(row(label(self.title, "muted"), match, None, add))
        if not condition.rows:
            self._box.addWidget(label("never" if not editable else "no row yet, so it never fires", "small"))
        for i, one in enumerate(condition.rows):
            if editable:
                self._box.addLayout(self._line(i, one))
            elif one.on:
                self._box.addWidget(label(row_words(one), "small", wrap=True))

    def sizeHint(self) -> QSize:
        return self._box.sizeHint()

    def _put(self, changes: dict[str, Any], text: str) -> None:
        self._changed(Condition.model_validate(self.condition.model_dump() | changes), text)

    def _rows(self, rows: list[Row], text: str) -> None:
        self._changed(self.condition.model_copy(update={"rows": tuple(rows)}), text)

    def add_row(self) -> None:
        """Append a sensible first row: close crosses above its average."""
        fresh = Row(compare="crosses above", right=IndicatorOperand(indicator="ema", params={"length": 20}))
        self._rows([*self.condition.rows, fresh], f"add a row to {self.title}")

    def _line(self, index: int, one: Row) -> QHBoxLayout:
        def replace(**changes: Any) -> None:
            rows = list(self.condition.rows)
            rows[index] = rows[index].model_copy(update=changes)
            self.condition = self.condition.model_copy(update={"rows": tuple(rows)})
            self._rows(rows, f"row {index + 1} of {self.title}")

        on = QCheckBox()
        on.setChecked(one.on)
        on.setToolTip("Switch this row on or off")
        on.setAccessibleName(f"{self.title} row {index + 1} on")
        on.toggled.connect(lambda value: replace(on=value))
        left = operand_link(one.left, f"{self.title} row {index + 1} left", lambda o: replace(left=o), self)
        compare = QComboBox()
        compare.addItems(list(COMPARISONS))
        compare.setCurrentText(one.compare)
        compare.setAccessibleName(f"{self.title} row {index + 1} comparison")

        def compared(text: str) -> None:
            replace(compare=text)
            # "rises" and "falls" have no right side: the line is laid out anew once this signal is done.
            QTimer.singleShot(0, self, lambda: self.show_condition(self.condition))

        compare.currentTextChanged.connect(compared)
        line = row(on, left, compare, spacing=7)
        if one.compare not in UNARY:
            line.addWidget(operand_link(one.right, f"{self.title} row {index + 1} right",
                                        lambda o: replace(right=o), self))
        line.addStretch(1)
        remove = link("\u00d7", lambda: self._rows([r for i, r in enumerate(self.condition.rows) if i != index],
                                                   f"remove row {index + 1} of {self.title}"),
                      tip=f"Remove row {index + 1} of {self.title}")
        line.addWidget(remove)
        return line
