"""What is not saved: each change with its reason, and every way out."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QDialog, QFileDialog, QVBoxLayout, QWidget

from wolbrin.app.parts import button, label, row
from wolbrin.app.session import Session
from wolbrin.core.errors import WolbrinError

SHOWN = 6


class NotSaved(QDialog):
    """leave: closes the window without what is not saved; None where it is not about to close."""

    def __init__(self, session: Session, parent: QWidget, leave: Callable[[], None] | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Not saved")
        self.setMinimumWidth(560)
        self._session, self._leave = session, leave
        self.box = QVBoxLayout(self)
        self.box.setContentsMargins(24, 20, 24, 18)
        self.box.setSpacing(8)
        self.fill()
        session.unsaved.changed.connect(self._moved)

    def _moved(self) -> None:
        if self.isVisible():
            self._settle()

    def fill(self) -> None:
        """Show what is waiting now."""
        while self.box.count():
            item = self.box.takeAt(0)
            if item.widget() is not None:
                item.widget().deleteLater()
            elif item.layout() is not None:
                QWidget().setLayout(item.layout())  # takes the buttons with it
        waiting = self._session.unsaved.asking()
        self.box.addWidget(label("Not saved" if waiting else "Everything is saved", "title"))
        for change in waiting[:SHOWN]:
            self.box.addWidget(label(change.title[:1].upper() + change.title[1:], "heading"))
            self.box.addWidget(label(change.error.sentence() if change.error else "", "small", wrap=True))
            if change.as_new is not None and change.theirs is not None and change.overtaken:
                self.box.addLayout(row(button("Keep mine as a new one", self._way(change.as_new), main=True),
                                       button("Take what is kept", self._way(change.theirs)), None))
        if len(waiting) > SHOWN:
            self.box.addWidget(label(f"and {len(waiting) - SHOWN} more", "muted"))
        self.said = label("", "small", wrap=True)
        self.box.addWidget(self.said)
        self.again = button("Try again", self.try_again, main=True)
        self.elsewhere = button("Put them elsewhere \u2026", self.choose, tip="Write them as files into another folder")
        self.without = button("Close without them", self._go)
        self.without.setVisible(self._leave is not None)
        self.again.setEnabled(any(not c.overtaken for c in waiting))
        self.elsewhere.setEnabled(any(c.text for c in waiting))
        self.box.addLayout(row(self.again, self.elsewhere, self.without, None, button("Back", self.close)))

    def _way(self, act: Callable[[], None]) -> Callable[[], None]:
        def go() -> None:
            self._session.attempt(act)
            self._settle()
        return go

    def _settle(self) -> None:
        """Close where nothing is left, and go on closing the window if that was asked."""
        if self._session.unsaved.asking():
            self.fill()
        else:
            self._go() if self._leave is not None else self.close()

    def try_again(self) -> None:
        """Try to keep what waits."""
        if not self._session.unsaved.try_again():
            self.said.setText("It still cannot be saved.")

    def choose(self) -> None:
        """Ask for a folder and write what waits into it."""
        folder = QFileDialog.getExistingDirectory(self, "Put what is not saved into a folder")
        if folder:
            self.put_into(Path(folder))

    def put_into(self, folder: Path) -> None:
        """Write what waits into a folder."""
        try:
            made = self._session.unsaved.put_elsewhere(folder)
        except WolbrinError as err:
            self.said.setText(err.sentence())
            return
        self.said.setText(f"In {folder}: {', '.join(p.name for p in made)}. They can be opened from there later.")

    def _go(self) -> None:
        self.close()
        if self._leave is not None:
            self._leave()

