"""Doing something often asked for at once, but not again for a while."""

from __future__ import annotations

import time
from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer


class Soon(QObject):
    """Calls `act` when asked, at most once in `rest` milliseconds; an ask during the rest is answered at its end."""

    def __init__(self, owner: QObject, rest: int, act: Callable[[], None]) -> None:
        super().__init__(owner)
        self._act = act
        self._rest = rest / 1000.0
        self._last = -self._rest
        self._timer = QTimer(self, singleShot=True)
        self._timer.timeout.connect(self.now)

    def ask(self) -> None:
        """Do it now, or at the end of the rest."""
        left = self._last + self._rest - time.monotonic()
        if left <= 0:
            self.now()
        elif not self._timer.isActive():
            self._timer.start(round(1000 * left) + 1)

    def now(self) -> None:
        """Do it now."""
        self._timer.stop()
        self._last = time.monotonic()
        self._act()

    @property
    def waiting(self) -> bool:
        """Whether an ask is waiting for the end of the rest."""
        return self._timer.isActive()
