"""Picking several of a list: a link that says what is picked and opens a list with ticks."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QLineEdit, QListWidget, QListWidgetItem, QWidget

from wolbrin.app.parts import Popup, button, label, link, row

EVERY = "every tag"


class TickPopup(Popup):
    """A list of names with ticks, found by words and, where there are any, tags."""

    changed = Signal()

    def __init__(self, parent: QWidget, names: Sequence[str], ticked: set[str], name: str,
                 find: Callable[[str, str], list[str]] | None = None, tags: Sequence[str] = ()) -> None:
        super().__init__(parent)
        self._names, self._ticked = list(names), ticked
        self._find = find or (lambda text, tag: [n for n in self._names if text.casefold() in n.casefold()])
        self.words = QLineEdit()
        self.words.setPlaceholderText("Find \u2026")
        self.words.setAccessibleName(f"{name}: find")
        self.tag = QComboBox()
        self.tag.addItems([EVERY, *tags])
        self.tag.setAccessibleName(f"{name}: tag")
        self.tag.setVisible(bool(tags))
        self.list = QListWidget()
        self.list.setAccessibleName(name)
        self.list.setFixedSize(380, 280)
        self.body.addLayout(row(self.words, self.tag))
        self.body.addWidget(self.list)
        self.body.addLayout(row(button("Tick all shown", lambda: self.all_of(True)),
                                button("Untick all shown", lambda: self.all_of(False)), None, spacing=5))
        self.words.textChanged.connect(self.fill)
        self.tag.currentTextChanged.connect(self.fill)
        self.list.itemChanged.connect(self._toggled)
        self.fill()

    def fill(self, *_: object) -> None:
        self.list.blockSignals(True)
        self.list.clear()
        for name in self._find(self.words.text(), "" if self.tag.currentText() == EVERY else self.tag.currentText()):
            item = QListWidgetItem(name)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if name in self._ticked else Qt.CheckState.Unchecked)
            self.list.addItem(item)
        self.list.blockSignals(False)

    def _toggled(self, item: QListWidgetItem) -> None:
        (self._ticked.add if item.checkState() == Qt.CheckState.Checked else self._ticked.discard)(item.text())
        self.changed.emit()

    def all_of(self, on: bool) -> None:
        for i in range(self.list.count()):
            (self._ticked.add if on else self._ticked.discard)(self.list.item(i).text())
        self.fill()
        self.changed.emit()


class Picker(QWidget):
    """A title and a link that says what is picked."""

    changed = Signal()

    def __init__(self, title: str, names: Callable[[], list[str]], ticked: Sequence[str] = (),
                 none: str = "nothing yet") -> None:
        super().__init__()
        self._title, self._names, self._none = title, names, none
        self.ticked: set[str] = set(ticked)
        self.link = link("", self.open, role="part", tip=f"{title}: choose")
        self.setLayout(row(label(title, "muted"), self.link, None))
        self.tell()

    def names(self) -> list[str]:
        return self._names()

    def popup(self) -> TickPopup:
        return TickPopup(self, self.names(), self.ticked, self._title)

    def open(self) -> None:
        made = self.popup()
        made.changed.connect(self.tell)
        made.changed.connect(self.changed)
        made.open_under(self.link)
        made.words.setFocus()

    def set(self, names: Sequence[str]) -> None:
        """Pick exactly these."""
        self.ticked = set(names)
        self.tell()
        self.changed.emit()

    def chosen(self) -> list[str]:
        """What is picked, in the order of the list."""
        return [n for n in self.names() if n in self.ticked]

    def tell(self) -> None:
        found = self.chosen()
        text = ", ".join(found)
        self.link.setText(self._none if not found else text if len(text) < 44 else f"{len(found)} of {len(self.names())}")
        self.link.setAccessibleName(f"{self._title}: {self.link.text()}")
        self.link.updateGeometry()
