"""How a file is read, as a form: delimiter, decimal sign, header, times, zone, end of the bar, interval."""

from __future__ import annotations

from collections.abc import Sequence
from zoneinfo import available_timezones

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QCompleter, QWidget

from wolbrin.app.parts import column, label, line_of, row, spin
from wolbrin.app.places.markets.page import choose, combo, short
from wolbrin.core.errors import UserError
from wolbrin.core.market.importing.fractions import PARTS
from wolbrin.core.market.importing.layout import EPOCHS, Layout, make_layout
from wolbrin.core.market.importing.times import FORMATS
from wolbrin.core.market.zones import BROKER, EASTERN_EUROPE
from wolbrin.core.whole import whole_of

DECIMALS = [("point", "."), ("comma", ","), *((f"{n}{'nds' if n == 32 else 'ths'}", str(n)) for n in PARTS if n)]
# Clocks of history files before all zones there are.
CLOCKS = ("UTC", BROKER, EASTERN_EUROPE, *(f"UTC{k:+d}" for k in range(-12, 15) if k))
DELIMITERS = [("comma", ","), ("semicolon", ";"), ("tab", "\t"), ("bar |", "|"), ("blanks", " ")]


def zone_box(width: int, name: str, clocks: Sequence[str] = ("UTC",)) -> QComboBox:
    """A choice of time zones that is searched by typing any part of a name."""
    made = QComboBox()
    made.setEditable(True)
    made.addItems([*clocks, *sorted(z for z in available_timezones() if "/" in z)])
    completer = made.completer()
    assert completer is not None
    completer.setCompletionMode(QCompleter.CompletionMode.PopupCompletion)
    completer.setFilterMode(Qt.MatchFlag.MatchContains)
    made.setFixedWidth(width)
    made.setAccessibleName(name)
    return made


class LayoutForm(QWidget):
    """`edited` tells that rows are read another way; `clock_edited` that only zone or end of the bar changed."""

    edited = Signal()
    clock_edited = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._filling = False
        self.delimiter = combo(DELIMITERS, "Delimiter", 88, self._tell)
        self.delimiter.setEditable(True)
        self.delimiter.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        self.delimiter.setToolTip("one of the list, or any one character written here")
        line_of(self.delimiter).editingFinished.connect(self._tell)
        self.decimal = combo(DECIMALS, "Decimal sign", 72, self._tell)
        self.decimal.setToolTip("or the parts of one in which prices are quoted: 412'6, 128-165")
        self.header = QCheckBox("header")
        self.header.toggled.connect(lambda _: self._tell())
        self.skip = spin(0, 0, 10_000, 0)
        self.skip.setFixedWidth(40)
        self.skip.setAccessibleName("Lines to skip")
        self.skip.valueChanged.connect(lambda _: self._tell())
        self.time_format = QComboBox()
        self.time_format.setEditable(True)
        self.time_format.addItems(["iso", *EPOCHS, *FORMATS])
        self.time_format.setFixedWidth(168)
        self.time_format.setAccessibleName("Format of the time")
        self.time_format.currentTextChanged.connect(lambda _: self._tell())
        self.minutes = short("", 38, "Minutes a bar", "empty: the most common step; for ticks the minutes of the bars built")
        self.minutes.textChanged.connect(lambda _: self._tell())
        self.zone = zone_box(156, "Time zone of the file", CLOCKS)
        self.zone.currentTextChanged.connect(lambda _: self._tell(clock=True))
        self.stamp = combo([("the open", "open"), ("the close", "close")], "Bars are stamped at", 88,
                           lambda: self._tell(clock=True))
        m = lambda text: label(text, "muted")  # noqa: E731
        self.setLayout(column(
            row(m("delimiter"), self.delimiter, m("decimal"), self.decimal, self.header, m("skip"), self.skip, None,
                spacing=5),
            row(m("times"), self.time_format, m("minutes"), self.minutes, None, spacing=5),
            row(m("in"), self.zone, m("stamped at"), self.stamp, None, spacing=5), spacing=4))

    def _tell(self, clock: bool = False) -> None:
        if not self._filling:
            (self.clock_edited if clock else self.edited).emit()

    def fill(self, layout: Layout) -> None:
        """Show a layout's settings, without telling anybody."""
        self._filling = True
        choose(self.delimiter, layout.delimiter)
        if self.delimiter_now() != layout.delimiter:
            self.delimiter.setEditText(layout.delimiter)
        choose(self.decimal, str(layout.fraction) if layout.fraction else layout.decimal)
        self.header.setChecked(layout.header)
        self.skip.setValue(layout.skip)
        self.time_format.setEditText(layout.time_format)
        line_of(self.time_format).setCursorPosition(0)  # the beginning is what one looks for
        self.zone.setEditText(layout.zone)
        choose(self.stamp, layout.stamp)
        self.minutes.setText(str(layout.minutes or (layout.build if layout.ticks else "")))
        self._filling = False

    def delimiter_now(self) -> str:
        """The delimiter chosen by name, or the character written in."""
        text = self.delimiter.currentText()
        return dict(DELIMITERS).get(text, text.strip() or ",")

    def wanted(self, roles: list[str], name: str = "", market: str = "") -> Layout:
        """The layout as it stands in the form. Raises UserError."""
        text = self.minutes.text().strip()
        minutes = whole_of(text)
        if text and not 1 <= (minutes or 0) <= 1440:
            raise UserError(f'"{text}" is not a number of minutes', "minutes", "Write 1 to 1440, or nothing.")
        ticks = bool({"price", "bid", "ask"} & set(roles))
        sign = str(self.decimal.currentData())
        parts = int(sign) if sign.isdigit() else 0
        return make_layout({
            "name": name, "delimiter": self.delimiter_now(), "decimal": "." if parts else sign, "fraction": parts,
            "header": self.header.isChecked(), "skip": int(self.skip.value()), "columns": tuple(roles),
            "time_format": self.time_format.currentText().strip(), "zone": self.zone.currentText().strip(),
            "stamp": self.stamp.currentData(), "minutes": None if ticks else minutes,
            "build": (ticks and minutes) or 1, "market": market})
