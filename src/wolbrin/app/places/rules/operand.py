"""Editing one operand in place: a link that reads as words and opens a small editor under itself."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from PySide6.QtCore import Qt, QTimer, Signal
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

from wolbrin.app.clock_box import ClockBox
from wolbrin.app.parts import Popup, label, link, row, set_role
from wolbrin.app.places.rules.naming import Naming, Tick
from wolbrin.core.faults import words_of
from wolbrin.core.indicators.catalogue import BY_KEY, CATALOGUE, PRICE_FIELDS
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.rules.formula import FormulaError, parse_operand
from wolbrin.core.rules.language import Names
from wolbrin.core.rules.model import (
    CombinedOperand,
    CustomOperand,
    FieldOperand,
    IndicatorOperand,
    NumberOperand,
    Operand,
    PositionOperand,
)
from wolbrin.core.rules.printing import beside_text
from wolbrin.core.rules.times import on_clock
from wolbrin.core.rules.words import POSITION, beside_words

KEY = Qt.ItemDataRole.UserRole
SERIES: list[tuple[str, int | None]] = [("the interval traded", None), *((interval_words(m), m) for m in (
    2, 3, 5, 10, 15, 20, 30, 45, 60, 90, 120, 180, 240, 360, 480, 1440))]
SIGNS = (("plus", "+"), ("minus", "-"), ("times", "*"), ("divided by", "/"))
ANOTHER = "another value \u2026"


@dataclass(frozen=True)
class Own:
    """A confirmed own indicator: digest of its file, how it turns, its settings."""

    digest: str
    turns: str
    settings: Mapping[str, float]


@dataclass
class Context:
    """What editors of operands know of the strategy and the project."""

    naming: Naming
    own: dict[str, Own] = field(default_factory=dict)
    pip_ticks: Callable[[], int] = lambda: 0
    atr_ticks: Callable[[int], float] = lambda length: float("nan")  # median ATR(length) on the training span

    def names(self) -> Names:
        return Names({n: p.value for n, p in self.naming.names().items()},
                     {n: (o.digest, o.turns) for n, o in self.own.items()})


def choices(context: Context) -> list[tuple[str, str, tuple[str, str]]]:
    """Group, text and (kind, key) of everything an operand can be."""
    found = [("number", "a number", ("number", ""))]
    found += [("price", name, ("field", name)) for name in PRICE_FIELDS]
    found += [("position", text, ("position", key)) for key, text in POSITION.items()]
    found += [("arithmetic", "two values: + \u2212 \u00d7 /", ("combined", ""))]
    found += [("own indicator", name, ("custom", name)) for name in context.own]
    for entry in CATALOGUE:
        for output in entry.outputs:
            text = entry.title if len(entry.outputs) == 1 else output.title
            found.append((entry.group, text, ("indicator", f"{entry.key}:{output.key}")))
    return found


class OperandPopup(Popup):
    """Chooses what an operand is and its settings; every change is told at once."""

    changed = Signal(object)

    def __init__(self, operand: Operand, context: Context, parent: QWidget, beside: Operand | None = None) -> None:
        super().__init__(parent)
        self._operand, self._context, self._beside = operand, context, beside
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find: average, high, range \u2026")
        self.search.setAccessibleName("Find an operand")
        self.names = QListWidget()
        self.names.setAccessibleName("Operands")
        self.names.setFixedSize(320, 170)
        self.form = QFormLayout()
        self.form.setLabelAlignment(Qt.AlignmentFlag.AlignLeft)
        self.about = label("", "small", wrap=True)
        self.about.setMaximumWidth(320)
        self.formula = QLineEdit()
        self.formula.setAccessibleName("operand as a formula")
        self.formula.setProperty("role", "mono")
        self.formula.editingFinished.connect(self._typed)
        for part in (self.search, self.names):
            self.body.addWidget(part)
        self.body.addLayout(self.form)
        self.body.addWidget(self.about)
        self.body.addLayout(row(label("formula", "muted"), self.formula))
        self.search.textChanged.connect(self._fill)
        self.search.returnPressed.connect(lambda: self.take(self.names.currentItem()))
        self._fill("")
        self.names.itemClicked.connect(self.take)
        self.names.itemActivated.connect(self.take)
        self._build_form()

    def _key(self) -> tuple[str, str]:
        o = self._operand
        if isinstance(o, NumberOperand | CombinedOperand):
            return o.kind, ""
        if isinstance(o, FieldOperand):
            return "field", o.field
        if isinstance(o, PositionOperand):
            return "position", o.state
        if isinstance(o, CustomOperand):
            return "custom", o.name
        return "indicator", f"{o.indicator}:{o.output}"

    def _fill(self, text: str) -> None:
        self.names.clear()
        for group, name, key in choices(self._context):
            if text.casefold() in f"{group} {name}".casefold():
                item = QListWidgetItem(f"{name}   \u00b7 {group}")
                item.setData(KEY, key)
                self.names.addItem(item)
                if key == self._key():
                    self.names.setCurrentItem(item)
        if self.names.currentRow() < 0:
            self.names.setCurrentRow(0)

    def take(self, item: QListWidgetItem | None) -> None:
        if item is None:
            return
        kind, key = item.data(KEY)
        if (kind, key) == self._key():
            return
        made: Operand
        if kind == "number":
            made = NumberOperand(value=0.0)
        elif kind == "field":
            made = FieldOperand(field=key)
        elif kind == "position":
            made = PositionOperand(state=key)
        elif kind == "custom":
            own = self._context.own[key]
            made = CustomOperand(name=key, digest=own.digest, turns=own.turns,
                                 params=dict(own.settings))
        elif kind == "combined":
            left = self._operand if isinstance(self._operand, FieldOperand | IndicatorOperand) else FieldOperand()
            made = CombinedOperand(join="-", left=left, right=IndicatorOperand(indicator="atr"))
        else:
            name, output = key.split(":")
            # Its usual settings are written out, so that the row reads as the formula one would type.
            made = IndicatorOperand(indicator=name, output=output, params=BY_KEY[name].defaults())
        self._set(made)
        self._build_form()

    def _set(self, operand: Operand) -> None:
        self._operand = operand
        self._say(beside_text(operand, self._beside))
        self.changed.emit(operand)

    def _say(self, text: str) -> None:
        self.formula.setText(text)
        self.formula.setModified(False)
        self.about.setProperty("role", "small")

    def _typed(self) -> None:
        if not self.formula.isModified():
            return
        try:
            made = parse_operand(self.formula.text(), self._context.names())
        except FormulaError as err:
            set_role(self.about, "error")
            self.about.setText(f"Character {err.column + 1}: {err.what}.")
            return
        set_role(self.about, "small")
        self._set(made)
        self._build_form()

    def renew(self, **changes: object) -> None:
        try:
            made = type(self._operand).model_validate(self._operand.model_dump() | changes)
        except ValueError as err:
            set_role(self.about, "error")
            self.about.setText(words_of(err) + ".")
            return
        self._set(made)

    def _number(self, name: str, value: float, low: float, high: float, whole: bool, step: float,
                act: Callable[[float], None], made: QDoubleSpinBox | None = None) -> None:
        box: QSpinBox | QDoubleSpinBox = made or (QSpinBox() if whole else QDoubleSpinBox())
        if isinstance(box, QDoubleSpinBox) and made is None:
            box.setDecimals(4)
        box.setRange(int(low) if whole else low, int(high) if whole else high)  # type: ignore[arg-type]
        box.setSingleStep(int(step) if whole else step)  # type: ignore[arg-type]
        box.setValue(int(value) if whole else value)  # type: ignore[arg-type]
        box.setAlignment(Qt.AlignmentFlag.AlignRight)
        box.setAccessibleName(name)
        tick = Tick(box, name, self._context.naming, lambda: act(tick.value()))
        tick.setText("sweep")
        tick.show_value(value)
        self.form.addRow(name, _line(box, tick))

    def _build_form(self) -> None:
        while self.form.rowCount():
            self.form.removeRow(0)
        o = self._operand
        self._say(beside_text(o, self._beside))
        if isinstance(o, NumberOperand) and on_clock(self._beside):
            self._number("time of day", o.value, 0, 2400, False, 15.0, lambda v: self.renew(value=v), ClockBox())
            self.about.setText("Of the exchange's clock at the bar's close, such as 13:00.")
        elif isinstance(o, NumberOperand):
            self._number("value", o.value, -1e9, 1e9, False, 1.0, lambda v: self.renew(value=v))
            self.about.setText("Numbers compare with what stands on the other side, in its own unit.")
        elif isinstance(o, PositionOperand):
            self.about.setText("Read from the open position at the bar's close; it compares with a number.")
        elif isinstance(o, CombinedOperand):
            self._combined(o)
        else:
            self._series(o)
        self.body.activate()
        self.adjustSize()

    def _combined(self, o: CombinedOperand) -> None:
        sign = QComboBox()
        sign.addItems([text for text, _ in SIGNS])
        sign.setAccessibleName("arithmetic")
        sign.setCurrentIndex([s for _, s in SIGNS].index(o.join))
        sign.currentIndexChanged.connect(lambda i: self.renew(join=SIGNS[i][1]))
        self.form.addRow("first", operand_link(o.left, "first value", lambda x: self.renew(left=x.model_dump()), self,
                                               self._context))
        self.form.addRow("", sign)
        self.form.addRow("second", operand_link(o.right, "second value", lambda x: self.renew(right=x.model_dump()), self,
                                                self._context))
        self._number("bars ago", o.ago, 0, 5000, True, 1, lambda v: self.renew(ago=v))
        self.about.setText("A division by zero has no value, so that no comparison with it is true.")

    def _series(self, o: FieldOperand | IndicatorOperand | CustomOperand) -> None:
        if isinstance(o, IndicatorOperand):
            entry = BY_KEY[o.indicator]
            for p in entry.params:
                self._number(p.title, o.settings[p.key], p.low, 5000 if p.whole else p.high, p.whole, p.step,
                             lambda v, key=p.key: self.renew(
                                 params={**self._operand.params, key: v}))  # type: ignore[union-attr]
            if entry.takes_field:
                self._of(o)
            self.about.setText(entry.formula)
        elif isinstance(o, CustomOperand):
            for key, value in o.params.items():
                self._number(key, value, -1e6, 1e6, False, 1.0, lambda v, key=key: self.renew(
                    params={**self._operand.params, key: v}))  # type: ignore[union-attr]
            self.about.setText("An indicator of your own, from the file that was confirmed.")
        else:
            self.about.setText("Price of the bar that has just closed.")
        where = QComboBox()
        where.addItems([text for text, _ in SERIES])
        where.setAccessibleName("read from bars of")
        codes = [code for _, code in SERIES]
        where.setCurrentIndex(codes.index(o.interval) if o.interval in codes else 0)
        where.currentIndexChanged.connect(lambda i: self.renew(interval=codes[i]))
        self.form.addRow("bars of", where)
        market = QLineEdit(o.market or "")
        market.setPlaceholderText("the market traded")
        market.setMaxLength(24)
        market.setAccessibleName("of market")
        market.editingFinished.connect(lambda: self.renew(market=market.text().strip() or None))
        self.form.addRow("market", market)
        self._number("times", o.times, -1000, 1000, False, 0.1, lambda v: self.renew(times=v))
        self._number("bars ago", o.ago, 0, 5000, True, 1, lambda v: self.renew(ago=v))

    def _of(self, o: IndicatorOperand) -> None:
        of = QComboBox()
        of.addItems([*PRICE_FIELDS, ANOTHER])
        chained = o.of is not None and not isinstance(o.of, str)
        of.setCurrentText(ANOTHER if chained else o.source)
        of.setAccessibleName("of")

        def chosen(text: str) -> None:
            self.renew(of=IndicatorOperand(indicator="rsi").model_dump() if text == ANOTHER else text)
            # The form, and this box with it, is made anew once this signal is done.
            QTimer.singleShot(0, self, self._build_form)

        of.currentTextChanged.connect(chosen)
        self.form.addRow("of", of)
        if o.of is not None and not isinstance(o.of, str):
            self.form.addRow("", operand_link(o.of, "the series it reads", lambda x: self.renew(of=x.model_dump()), self,
                                              self._context))


def _line(*parts: QWidget) -> QWidget:
    made = QWidget()
    made.setLayout(row(*parts, spacing=6))
    return made


def operand_link(operand: Operand, name: str, changed: Callable[[Any], None], parent: QWidget,
                 context: Context, beside: Operand | None = None) -> QToolButton:
    """A link reading as the operand; opens its editor. beside: what it is compared with."""
    made = link(beside_words(operand, beside), role="part", tip=name)
    made.setAccessibleName(f"{name}: {beside_words(operand, beside)}")

    now = [operand]  # what the link shows at present

    def show(changed_to: Operand) -> None:
        now[0] = changed_to
        made.setText(beside_words(changed_to, beside))
        made.setAccessibleName(f"{name}: {beside_words(changed_to, beside)}")
        made.updateGeometry()

    def open_editor() -> None:
        popup = OperandPopup(now[0], context, parent, beside)
        popup.changed.connect(show)
        popup.changed.connect(changed)
        popup.open_under(made)
        popup.search.setFocus()

    made.clicked.connect(open_editor)
    return made
