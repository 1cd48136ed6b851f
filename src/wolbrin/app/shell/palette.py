"""The command palette and the help sheet: every action, found by typing."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QDialog,
    QGridLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from wolbrin.app.parts import label
from wolbrin.app.shell.actions import Action


class _Search(QLineEdit):
    def __init__(self, names: QListWidget) -> None:
        super().__init__()
        self._names = names

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            step = 1 if event.key() == Qt.Key.Key_Down else -1
            count = self._names.count()
            if count:
                self._names.setCurrentRow((self._names.currentRow() + step) % count)
        else:
            super().keyPressEvent(event)


class Palette(QDialog):
    """Type a few letters of any action, Enter runs it."""

    def __init__(self, actions: list[Action], parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Popup | Qt.WindowType.FramelessWindowHint)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._actions = actions
        self._names = QListWidget()
        self._names.setAccessibleName("Commands")
        self.search = _Search(self._names)
        self.search.setPlaceholderText("Type a command")
        self.search.setAccessibleName("Command")
        box = QVBoxLayout(self)
        box.setContentsMargins(10, 10, 10, 10)
        box.addWidget(self.search)
        box.addWidget(self._names)
        self.resize(460, 360)
        self.search.textChanged.connect(self._fill)
        self.search.returnPressed.connect(self.run)
        self._names.itemClicked.connect(lambda *_: self.run())
        self._fill("")

    def _fill(self, text: str) -> None:
        self._names.clear()
        words = text.casefold().split()
        for action in self._actions:
            where = f"{action.place} {action.title}".casefold()
            if all(w in where for w in words):
                key = f"    {action.shortcut}" if action.shortcut else ""
                place = f"{action.place.capitalize()}: " if action.place else ""
                item = QListWidgetItem(f"{place}{action.title}{key}")
                item.setData(Qt.ItemDataRole.UserRole, action.id)
                if not action.enabled():
                    item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEnabled)
                self._names.addItem(item)
        self._names.setCurrentRow(0)

    def run(self) -> None:
        item = self._names.currentItem()
        if item is None:
            return
        action = next(a for a in self._actions if a.id == item.data(Qt.ItemDataRole.UserRole))
        self.close()
        if action.enabled():
            action.act()


class HelpSheet(QDialog):
    """All shortcuts on one sheet, written from the actions."""

    def __init__(self, actions: list[Action], parent: QWidget) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowTitle("Keys")
        inside = QWidget()
        grid = QGridLayout(inside)
        grid.setHorizontalSpacing(24)
        grid.setVerticalSpacing(4)
        shown = [a for a in actions if a.shortcut]
        half = -(-len(shown) // 2)
        for i, action in enumerate(shown):
            place = f"{action.place.capitalize()}: " if action.place else ""
            grid.addWidget(label(action.shortcut, "heading"), i % half, 2 * (i // half))
            grid.addWidget(label(place + action.title), i % half, 2 * (i // half) + 1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(inside)
        box = QVBoxLayout(self)
        box.addWidget(label("Keys", "title"))
        box.addWidget(area)
        self.resize(720, 460)
