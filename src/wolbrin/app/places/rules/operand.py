"""Editing one operand in place: a link that reads as words and opens a small editor under itself."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QDoubleSpinBox,
    QFormLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QSpinBox,
    QToolButton,
    QWidget,
)

from wolbrin.app.parts import Popup, label, link
from wolbrin.core.indicators.catalogue import BY_KEY, CATALOGUE, PRICE_FIELDS
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.rules.model import FieldOperand, IndicatorOperand, NumberOperand, Operand
from wolbrin.core.rules.words import operand_words

KEY = Qt.ItemDataRole.UserRole
SERIES: list[tuple[str, int | None]] = [("the interval traded", None), *((interval_words(m), m) for m in (
    2, 3, 5, 10, 15, 20, 30, 45, 60, 90, 120, 180, 240, 360, 480, 1440))]


def choices() -> list[tuple[str, str, tuple[str, str]]]:
    """Group, text and (kind, key) of everything an operand can be."""
    found = [("number", "a number", ("number", ""))]
    found += [("price", name, ("field", name)) for name in PRICE_FIELDS]
    for entry in CATALOGUE:
        for output in entry.outputs:
            text = entry.title if len(entry.outputs) == 1 else output.title
            found.append((entry.group, text, ("indicator", f"{entry.key}:{output.key}")))
    return found


class OperandPopup(Popup):
    """Chooses what an operand is and its settings; every change is told at once."""

    changed = Signal(object)

    def __init__(self, operand: Operand, parent: QWidget) -> None:
        super().__init__(parent)
        self._operand = operand
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find: average, high, range \u2026")
        self.search.setAccessibleName("Find an operand")
        self.names = QListWidget()
        self.names.setAccessibleName("Operands")
        self.names.setFixedSize(280, 190)
        self.form = QFormLayout()
        self.form.setLabelAlignment(Qt.AlignmentFlag.AlignLeft)
        self.about = label("", "small", wrap=True)
        self.about.setMaximumWidth(280)
        self.body.addWidget(self.search)
        self.body.addWidget(self.names)
        self.body.addLayout(self.form)
        self.body.addWidget(self.about)
        self.search.textChanged.connect(self._fill)
        self.search.returnPressed.connect(lambda: self._take(self.names.currentItem()))
        self._fill("")
        self.names.itemClicked.connect(self._take)
        self.names.itemActivated.connect(self._take)
        self._build_form()

    def _key(self) -> tuple[str, str]:
        o = self._operand
        if isinstance(o, NumberOperand):
            return "number", ""
        if isinstance(o, FieldOperand):
            return "field", o.field
        return "indicator", f"{o.indicator}:{o.output}"

    def _fill(self, text: str) -> None:
        self.names.clear()
        for group, name, key in choices():
            if text.casefold() in f"{group} {name}".casefold():
                item = QListWidgetItem(f"{name}   \u00b7 {group}")
                item.setData(KEY, key)
                self.names.addItem(item)
                if key == self._key():
                    self.names.setCurrentItem(item)
        if self.names.currentRow() < 0:
            self.names.setCurrentRow(0)

    def _take(self, item: QListWidgetItem | None) -> None:
        if item is None:
            return
        kind, key = item.data(KEY)
        if (kind, key) != self._key():
            made: Operand
            if kind == "number":
                made = NumberOperand(value=0.0)
            elif kind == "field":
                made = FieldOperand(field=key)
            else:
                name, output = key.split(":")
                made = IndicatorOperand(indicator=name, output=output)
            self._set(made)
            self._build_form()

    def _set(self, operand: Operand) -> None:
        self._operand = operand
        self.changed.emit(operand)

    def _update(self, **changes: object) -> None:
        self._set(type(self._operand).model_validate(self._operand.model_dump() | changes))

    def _number(self, value: float, low: float, high: float, whole: bool, step: float,
                act: Callable[[float], None], name: str) -> QWidget:
        box: QSpinBox | QDoubleSpinBox = QSpinBox() if whole else QDoubleSpinBox()
        if isinstance(box, QDoubleSpinBox):
            box.setDecimals(4)
        box.setRange(int(low) if whole else low, int(high) if whole else high)  # type: ignore[arg-type]
        box.setSingleStep(int(step) if whole else step)  # type: ignore[arg-type]
        box.setValue(int(value) if whole else value)  # type: ignore[arg-type]
        box.setAlignment(Qt.AlignmentFlag.AlignRight)
        box.setAccessibleName(name)
        box.valueChanged.connect(lambda v: act(float(v)))
        return box

    def _build_form(self) -> None:
        while self.form.rowCount():
            self.form.removeRow(0)
        o = self._operand
        if isinstance(o, NumberOperand):
            self.form.addRow("value", self._number(o.value, -1e9, 1e9, False, 1.0,
                                                   lambda v: self._update(value=v), "value"))
            self.about.setText("Numbers compare with what stands on the other side, in its own unit.")
        else:
            if isinstance(o, IndicatorOperand):
                entry = BY_KEY[o.indicator]
                for p in entry.params:
                    self.form.addRow(p.title, self._number(
                        o.settings[p.key], p.low, 5000 if p.whole else p.high, p.whole, p.step,
                        lambda v, key=p.key: self._update(params={**self._operand.params, key: v}), p.title))
                if entry.takes_field:
                    of = QComboBox()
                    of.addItems(list(PRICE_FIELDS))
                    of.setCurrentText(o.source)
                    of.setAccessibleName("of")
                    of.currentTextChanged.connect(lambda text: self._update(of=text))
                    self.form.addRow("of", of)
                self.about.setText(entry.formula)
            else:
                self.about.setText("Price of the bar that has just closed.")
            where = QComboBox()
            where.addItems([text for text, _ in SERIES])
            where.setAccessibleName("read from bars of")
            codes = [code for _, code in SERIES]
            where.setCurrentIndex(codes.index(o.interval) if o.interval in codes else 0)
            where.currentIndexChanged.connect(lambda i: self._update(interval=codes[i]))
            self.form.addRow("bars of", where)
            market = QLineEdit(o.market or "")
            market.setPlaceholderText("the market traded")
            market.setMaxLength(24)
            market.setAccessibleName("of market")
            market.editingFinished.connect(lambda: self._update(market=market.text().strip() or None))
            self.form.addRow("market", market)
            self.form.addRow("times", self._number(o.times, -1000, 1000, False, 0.1,
                                                   lambda v: self._update(times=v), "times"))
            self.form.addRow("bars ago", self._number(o.ago, 0, 5000, True, 1,
                                                      lambda v: self._update(ago=int(v)), "bars ago"))
        self.adjustSize()


def operand_link(operand: Operand, name: str, changed: Callable[[Operand], None], parent: QWidget) -> QToolButton:
    """A link reading as the operand; opens its editor."""
    made = link(operand_words(operand), role="part", tip=name)
    made.setAccessibleName(f"{name}: {operand_words(operand)}")

    now = [operand]  # what the link shows at present

    def show(changed_to: Operand) -> None:
        now[0] = changed_to
        made.setText(operand_words(changed_to))

    def open_editor() -> None:
        popup = OperandPopup(now[0], parent)
        popup.changed.connect(show)
        popup.changed.connect(changed)
        popup.open_under(made)
        popup.search.setFocus()

    made.clicked.connect(open_editor)
    return made
