"""The strategy's named numbers as a small table."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtWidgets import QCheckBox, QGridLayout, QLineEdit, QVBoxLayout, QWidget

from wolbrin.app.parts import label, link, row
from wolbrin.core.rules.lint import names_used
from wolbrin.core.rules.model import Parameter, Strategy
from wolbrin.core.rules.named import names_in

HEADS = ("name", "value or formula", "from", "to", "step", "sweep")


class ParameterTable(QWidget):
    """One line a parameter; every change is told as the whole tuple. refused: words about what cannot be."""

    def __init__(self, changed: Callable[[tuple[Parameter, ...], dict[str, str], str], None],
                 refused: Callable[[str], None]) -> None:
        super().__init__()
        self._changed, self._refused = changed, refused
        self._shown: tuple[Parameter, ...] = ()
        self.grid = QGridLayout()
        self.grid.setHorizontalSpacing(5)
        self.grid.setVerticalSpacing(3)
        self.none = label("no named number yet; tick the box beside a number, or add one here", "small", wrap=True)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(3)
        box.addLayout(row(label("Parameters", "heading"), None, link("+ parameter", self.add, tip="Add a parameter")))
        box.addWidget(self.none)
        box.addLayout(self.grid)

    def show_strategy(self, strategy: Strategy) -> None:
        """Show the parameters of a strategy; boxes that say the same already stay."""
        data = strategy.model_dump()
        used = names_used(data) | {n for p in strategy.parameters for n in names_in(p.formula)}
        if strategy.parameters == self._shown and self.grid.count():
            return
        self._shown = strategy.parameters
        while self.grid.count():
            item = self.grid.takeAt(0)
            if item.widget():
                item.widget().hide()
                item.widget().deleteLater()
        self.none.setVisible(not self._shown)
        if not self._shown:
            return
        for i, head in enumerate(HEADS):
            self.grid.addWidget(label(head, "small"), 0, i)
        for at, p in enumerate(self._shown, 1):
            self._line(at, p, p.name in used)

    def _line(self, at: int, p: Parameter, used: bool) -> None:
        texts = (("name", p.name, 92), ("value", p.formula or f"{p.value:g}", 112), ("low", f"{p.low:g}", 52),
                 ("high", f"{p.high:g}", 52), ("step", f"{p.step:g}", 52))
        for i, (key, text, width) in enumerate(texts):
            box = QLineEdit(text)
            box.setFixedWidth(width)
            box.setAccessibleName(f"parameter {p.name} {key}")
            box.editingFinished.connect(lambda box=box, key=key, p=p: self._edited(p, key, box))
            self.grid.addWidget(box, at, i)
        sweep = QCheckBox()
        sweep.setChecked(p.sweep)
        sweep.setEnabled(not p.formula)
        sweep.setAccessibleName(f"parameter {p.name} sweep")
        sweep.toggled.connect(lambda on, p=p: self._put(p, {"sweep": on}))
        self.grid.addWidget(sweep, at, 5)
        remove = link("\u00d7", lambda p=p: self._remove(p), tip=f"Remove parameter {p.name}")
        remove.setEnabled(not used)
        if used:
            remove.setToolTip("In use; take its name off the numbers first")
        self.grid.addWidget(remove, at, 6)
        self.grid.setColumnStretch(7, 1)

    def add(self) -> None:
        """Add a parameter with a free name."""
        taken = {p.name for p in self._shown}
        name = next(n for i in range(1, 999) if (n := f"number_{i}") not in taken)
        self._tell((*self._shown, Parameter(name=name, value=1.0)), {}, "add a parameter")

    def _remove(self, p: Parameter) -> None:
        self._tell(tuple(q for q in self._shown if q.name != p.name), {}, f"remove parameter {p.name}")

    def _put(self, p: Parameter, changes: dict[str, Any], renamed: dict[str, str] | None = None) -> None:
        after = tuple(q.model_copy(update=changes) if q.name == p.name else q for q in self._shown)
        self._tell(after, renamed or {}, f"parameter {p.name}")

    def _tell(self, after: tuple[Parameter, ...], renamed: dict[str, str], text: str) -> None:
        self._changed(after, renamed, text)

    def _edited(self, p: Parameter, key: str, box: QLineEdit) -> None:
        text = box.text().strip().replace("\u2212", "-")
        if not box.isModified():
            return
        box.setModified(False)
        if key == "name":
            if text != p.name:
                self._put(p, {"name": text}, {p.name: text})
            return
        try:
            value = float(text)
        except ValueError:
            if key == "value" and text:
                self._put(p, {"formula": text, "sweep": False})
            else:
                self._refused(f'"{text}" is not a number')
                box.setText(f"{getattr(p, key):g}")
            return
        self._put(p, {"value": value, "formula": ""} if key == "value" else {key: value})
