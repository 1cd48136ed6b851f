"""What one place leaves for the rest of the window: what is varied, the folds that stand on the ruler, what Discover is to
search with."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from wolbrin.core.rules.model import Strategy
from wolbrin.core.search.folds import Fold
from wolbrin.core.work.sweep_request import SweepRequest


class Laid(QObject):
    """sets: what is varied, and by which editor it was entered last. folds: of the walk that is looked at. around: a strategy
    that the next search is laid around, and which parts of it are kept. ingredients: those that were ticked for searches.
    seek: a search is to begin with what was seen; prove: the line is to walk what is ticked."""

    folds_changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.sets: tuple[int, SweepRequest] | None = None
        self.folds: tuple[Fold, ...] = ()
        self.around: tuple[Strategy, str] | None = None
        self.ingredients: tuple[str, ...] = ()
        self.seek = self.prove = False

    def show_folds(self, folds: tuple[Fold, ...]) -> None:
        """Draw the folds of a walk on the ruler; none where it is left."""
        if folds != self.folds:
            self.folds = folds
            self.folds_changed.emit()
