"""What every page of the Markets place is, and what the pages share: the source looked at, and the chart."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QComboBox, QLineEdit, QVBoxLayout, QWidget

from wolbrin.app.parts import label, row
from wolbrin.app.session import Session
from wolbrin.core.store.sources import Source


class Looked(QObject):
    """The source that the place looks at. `jump` asks the chart to show an instant (UTC ns) with words beside it,
    `mark` to mark instants."""

    changed = Signal()
    jump = Signal(object, str)
    mark = Signal(object)
    page_wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.source: Source | None = None

    def look_at(self, source: Source | None) -> None:
        self.source = source
        self.changed.emit()

    def mark_times(self, times: list[int] | np.ndarray) -> None:
        self.mark.emit(np.unique(np.asarray(times, np.int64)))


class Page(QWidget):
    """One page of the report side. `with_chart`: whether the chart stays below it."""

    key = ""
    title = ""
    with_chart = True

    def __init__(self, looked: Looked) -> None:
        super().__init__()
        self.looked = looked
        self.session = looked.session
        self._told: object = None

    def focus_on(self, field: str) -> None:
        """Put the cursor into a field, by its name."""
        self.setFocus()

    def activate(self) -> None:
        """Called when the page is shown or the source has changed while it is."""

    def wanted_key(self) -> object:
        """What the page's content depends on; while it stays the same nothing is computed again."""
        s = self.looked.source
        return None if s is None else (s.key, s.file, s.treatment)


def short(text: str = "", width: int = 90, name: str = "", tip: str = "") -> QLineEdit:
    """A line edit as wide as what goes into it."""
    made = QLineEdit(text)
    made.setFixedWidth(width)
    made.setAccessibleName(name)
    made.setToolTip(tip)
    return made


def plain(value: float | None, digits: int = 10) -> str:
    """A number as one would type it."""
    if value is None:
        return ""
    text = f"{value:.{digits}f}"
    return text.rstrip("0").rstrip(".") if "." in text else text


def combo(options: list[tuple[str, Any]], name: str, width: int = 0, act: Callable[[], object] | None = None) -> QComboBox:
    """A choice with a value behind every text."""
    made = QComboBox()
    for text, value in options:
        made.addItem(text, value)
    made.setAccessibleName(name)
    if width:
        made.setFixedWidth(width)
    if act is not None:
        made.currentIndexChanged.connect(lambda _: act())
    return made


def choose(box: QComboBox, value: Any) -> None:
    """Choose by value, without telling anybody."""
    blocked = box.blockSignals(True)
    for i in range(box.count()):
        if box.itemData(i) == value:
            box.setCurrentIndex(i)
            break
    box.blockSignals(blocked)


class Form(QWidget):
    """Names on the left, editors with their units on the right, in groups under headings."""

    def __init__(self) -> None:
        super().__init__()
        self.box = QVBoxLayout(self)
        self.box.setContentsMargins(0, 0, 0, 0)
        self.box.setSpacing(4)

    def heading(self, text: str) -> None:
        if self.box.count():
            self.box.addSpacing(6)
        self.box.addWidget(label(text, "heading"))

    def add(self, name: str, *editors: QWidget | str, tip: str = "", width: int = 128) -> QWidget:
        title = label(name, "muted")
        title.setFixedWidth(width)
        title.setToolTip(tip)
        parts: list[QWidget | None] = [title]
        for e in editors:
            parts.append(label(e, "small") if isinstance(e, str) else e)
            if isinstance(e, QWidget) and not e.accessibleName():
                e.setAccessibleName(name)
        line = QWidget()
        line.setLayout(row(*parts, None, spacing=6))
        self.box.addWidget(line)
        return line
