"""Small widgets that every place uses: labels by role, links, choices, popups, empty states."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from html import escape
from pathlib import Path

from PySide6.QtCore import QDate, QPoint, QRect, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPalette
from PySide6.QtWidgets import (
    QBoxLayout,
    QButtonGroup,
    QComboBox,
    QDateEdit,
    QDoubleSpinBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from wolbrin.core.figures.figure import Figure
from wolbrin.core.written import replacing


def label(text: str = "", role: str = "", wrap: bool = False) -> QLabel:
    made = QLabel(text)
    made.setProperty("role", role)
    made.setWordWrap(wrap)
    made.setTextFormat(Qt.TextFormat.PlainText)
    return made


def as_tip(text: str) -> str:
    """Text for a tooltip, shown as it is: Qt would take what looks like markup for markup."""
    return escape(text).replace("\n", "<br>") if "<" in text else text


def tips(*figures: Figure) -> str:
    """What figures are that a label tells of, a line each."""
    return as_tip("\n".join(f"{one.title}: {one.tip}" for one in figures))


def set_role(widget: QWidget, role: str) -> None:
    """Change a widget's role and let the style sheet see it."""
    widget.setProperty("role", role)
    widget.style().unpolish(widget)
    widget.style().polish(widget)


def button(text: str, act: Callable[[], object], main: bool = False, tip: str = "") -> QPushButton:
    made = QPushButton(text)
    if main:
        made.setProperty("role", "main")
    made.setToolTip(tip)
    made.setAccessibleName(text)
    made.clicked.connect(lambda: act())
    return made


class Words(QToolButton):
    """Underlined words that open an editor; exactly as wide as they read."""

    def sizeHint(self) -> QSize:
        self.ensurePolished()
        metrics = self.fontMetrics()
        return QSize(metrics.horizontalAdvance(self.text()) + 2, metrics.height() + 5)

    def minimumSizeHint(self) -> QSize:
        return self.sizeHint()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        palette = self.palette()
        if self.hasFocus():
            painter.fillRect(self.rect(), palette.color(QPalette.ColorRole.Highlight))
        accent = palette.color(QPalette.ColorRole.Link)
        painter.setPen(accent if self.underMouse() else palette.color(QPalette.ColorRole.WindowText))
        painter.setFont(self.font())
        box = QRect(1, 0, self.width() - 1, self.height() - 3)
        painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, self.text())
        thick = 2 if self.property("role") == "brief" else 1
        painter.fillRect(QRect(1, self.height() - 2, self.width() - 2, thick), accent)


def link(text: str, act: Callable[[], object] | None = None, role: str = "link", tip: str = "") -> QToolButton:
    made = Words() if role in ("part", "brief") else QToolButton()
    made.setText(text)
    made.setProperty("role", role)
    made.setToolTip(tip)
    made.setAccessibleName(tip or text)
    made.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
    made.setCursor(Qt.CursorShape.PointingHandCursor)
    if act is not None:
        made.clicked.connect(lambda: act())
    return made


def hairline(vertical: bool = False) -> QFrame:
    made = QFrame()
    made.setObjectName("line")
    if vertical:
        made.setFixedWidth(1)
    else:
        made.setFixedHeight(1)
    return made


def row(*items: QWidget | int | None, spacing: int = 8,
        margins: tuple[int, int, int, int] = (0, 0, 0, 0)) -> QHBoxLayout:
    """A line of widgets; None stretches, a number is fixed space."""
    made = QHBoxLayout()
    made.setSpacing(spacing)
    made.setContentsMargins(*margins)
    for item in items:
        if item is None:
            made.addStretch(1)
        elif isinstance(item, int):
            made.addSpacing(item)
        else:
            made.addWidget(item)
    return made


def column(*items: object, spacing: int = 8, margins: tuple[int, int, int, int] = (0, 0, 0, 0)) -> QVBoxLayout:
    """A stack of widgets and layouts; None stretches, a number is fixed space."""
    made = QVBoxLayout()
    made.setSpacing(spacing)
    made.setContentsMargins(*margins)
    for item in items:
        if item is None:
            made.addStretch(1)
        elif isinstance(item, int):
            made.addSpacing(item)
        elif isinstance(item, QWidget):
            made.addWidget(item)
        else:
            made.addLayout(item)  # type: ignore[arg-type]
    return made


def clear(layout: object) -> None:
    """Remove and delete everything in a layout."""
    while layout.count():  # type: ignore[attr-defined]
        item = layout.takeAt(0)  # type: ignore[attr-defined]
        if item.widget() is not None:
            item.widget().hide()
            item.widget().deleteLater()
        elif item.layout() is not None:
            clear(item.layout())


class Choice(QWidget):
    """A few alternatives side by side, one of them underlined."""

    chosen = Signal(object)

    def __init__(self, options: Sequence[tuple[str, object]], current: object, name: str) -> None:
        super().__init__()
        self.group = QButtonGroup(self)
        self.group.setExclusive(True)
        self._values = [value for _, value in options]
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(10)
        for index, (text, value) in enumerate(options):
            one = link(text, role="choice", tip=f"{name}: {text}")
            one.setCheckable(True)
            one.setChecked(value == current)
            self.group.addButton(one, index)
            line.addWidget(one)
        line.addStretch(1)
        self.group.idClicked.connect(lambda index: self.chosen.emit(self._values[index]))

    @property
    def value(self) -> object:
        return self._values[self.group.checkedId()]

    def set(self, value: object) -> None:
        self.group.button(self._values.index(value)).setChecked(True)


def pick_date(value: dt.date) -> QDateEdit:
    made = QDateEdit(QDate(value.year, value.month, value.day))
    made.setDisplayFormat("dd MMM yyyy")
    made.setKeyboardTracking(False)
    return made


def spin(value: float, low: float, high: float, digits: int = 2, step: float = 1.0) -> QDoubleSpinBox:
    made = QDoubleSpinBox()
    made.setRange(low, high)
    made.setDecimals(digits)
    made.setSingleStep(step)
    made.setValue(value)
    made.setAlignment(Qt.AlignmentFlag.AlignRight)
    made.setGroupSeparatorShown(True)
    return made


class Popup(QFrame):
    """An editor that opens under the words it edits and closes by Escape or a click elsewhere."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.setObjectName("popup")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(12, 10, 12, 10)
        self.body.setSpacing(8)

    def open_under(self, anchor: QWidget) -> None:
        self.adjustSize()
        at = anchor.mapToGlobal(QPoint(0, anchor.height() + 3))
        screen = anchor.screen().availableGeometry()
        x = max(screen.left(), min(at.x(), screen.right() - self.width() - 4))
        y = at.y() if at.y() + self.height() < screen.bottom() else max(
            screen.top(), anchor.mapToGlobal(QPoint(0, 0)).y() - self.height() - 3)
        self.move(x, y)
        self.show()


def stretch(widget: QWidget, at: int, factor: int) -> None:
    """Let part number `at` of a widget's box take so much of the room."""
    box = widget.layout()
    assert isinstance(box, QBoxLayout)
    box.setStretch(at, factor)


def line_of(box: QComboBox) -> QLineEdit:
    """The line in which an editable box is written."""
    line = box.lineEdit()
    assert line is not None
    return line


def save_picture(widget: QWidget, path: Path) -> None:
    """Write a widget as it looks into a picture; its ending says the kind. Raises EnvironmentTrouble where that cannot be."""
    with replacing(path, "picture") as partial:
        if not widget.grab().save(str(partial), path.suffix[1:] or "png"):
            raise OSError(f"no picture can end in {path.suffix}" if path.suffix else "it was not written")


def day_in(edit: QDateEdit) -> dt.date:
    """The date an edit shows."""
    found = edit.date().toPython()
    assert isinstance(found, dt.date)
    return found


class Empty(QWidget):
    """What an empty place says: what to do next, with the button that does it."""

    def __init__(self, text: str, action: str = "", act: Callable[[], object] | None = None) -> None:
        super().__init__()
        self._text = label(text, "muted", wrap=True)
        self._text.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._text.setFixedWidth(440)
        box = column(None, row(None, self._text, None), spacing=12)
        self._own = action, act
        self._act = act
        self._button = button(action, lambda: self._act() if self._act is not None else None)
        if act is None:
            self._button.hide()
        box.addLayout(row(None, self._button, None))
        box.addStretch(1)
        self.setLayout(box)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def say(self, text: str, action: str = "", act: Callable[[], object] | None = None) -> None:
        """Other words; the button does `act` instead of what it was made for, where one is given."""
        self._text.setText(text)
        words, self._act = (action, act) if act is not None else self._own
        self._button.setText(words)
        self._button.setAccessibleName(words)
        self._button.setVisible(self._act is not None)
