"""What every place is: a widget over the session that can be activated and offers actions."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QWidget

from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action


class Place(QWidget):
    """Base of all places. `key` names it in rail, actions and tests."""

    key = ""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("page")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session = session

    def activate(self) -> None:
        """Called whenever the place is shown."""

    def running(self) -> bool:
        """Whether something of its own is under way."""
        return False

    def actions_offered(self) -> list[Action]:
        return []
