"""Small editors of the Shelf: a tag, a note, a name, a view's name."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtWidgets import QCompleter, QLineEdit, QPlainTextEdit, QWidget

from wolbrin.app.parts import Popup, button, label, row


class LinePopup(Popup):
    """One line to write. known: what is offered while it is written."""

    def __init__(self, parent: QWidget, title: str, text: str, done: Callable[[str], object],
                 known: Sequence[str] = ()) -> None:
        super().__init__(parent)
        self.edit = QLineEdit(text)
        self.edit.setAccessibleName(title)
        self.edit.setMinimumWidth(320)
        if known:
            self.edit.setCompleter(QCompleter(list(known), self))
        self._done = done
        self.body.addWidget(label(title, "heading"))
        self.body.addWidget(self.edit)
        self.body.addLayout(row(None, button("Take it", self.take, main=True)))
        self.edit.returnPressed.connect(self.take)

    def take(self) -> None:
        text = self.edit.text().strip()
        self.close()
        if text:
            self._done(text)


class NotePopup(Popup):
    """A note of several lines; closing it keeps what was written."""

    def __init__(self, parent: QWidget, title: str, text: str, done: Callable[[str], object]) -> None:
        super().__init__(parent)
        self.edit = QPlainTextEdit(text)
        self.edit.setAccessibleName(title)
        self.edit.setFixedSize(420, 160)
        self._before, self._done = text, done
        self.body.addWidget(label(title, "heading"))
        self.body.addWidget(self.edit)
        self.body.addLayout(row(None, button("Keep the note", self.take, main=True)))

    def take(self) -> None:
        text = self.edit.toPlainText()
        self.close()
        if text.strip() != self._before.strip():
            self._done(text)
