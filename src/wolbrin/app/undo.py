"""What can be undone: commands for the one stack of the session."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtGui import QUndoCommand


class Act(QUndoCommand):
    """An undoable act given as two functions."""

    def __init__(self, text: str, do: Callable[[], None], undo: Callable[[], None]) -> None:
        super().__init__(text)
        self._do, self._undo = do, undo

    def redo(self) -> None:
        self._do()

    def undo(self) -> None:
        self._undo()
