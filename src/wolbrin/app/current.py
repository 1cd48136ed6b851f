"""The run of the current strategy under the current brief, made anew whenever either changes."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer, Signal

from wolbrin.app.works import Works
from wolbrin.core.engine.run import Run
from wolbrin.core.errors import Door
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.work.one_run import OneRun

SOON = 40  # milliseconds that edits may follow each other before a run is made


def answer(question: OneRun) -> Run:
    """Run a strategy on a market at an interval. Raises what `backtest` raises."""
    run = question.run()
    run.record()  # hashes are worked out here, not on the interface thread
    measure(Facts.of(run))  # and what measures it is made ready
    return run


class CurrentRun(QObject):
    """Keeps the run. question(): what is to be run now, None where there is no market."""

    changed = Signal()

    def __init__(self, works: Works, question: Callable[[], OneRun | None]) -> None:
        super().__init__()
        self.run: Run | None = None
        self.error = ""
        self.door: Door | None = None
        self.waiting = False  # whether one is being made
        self._works = works
        self._question = question
        self._soon = QTimer(self, singleShot=True, interval=SOON)
        self._soon.timeout.connect(self.renew)

    def soon(self) -> None:
        """Make it anew in a moment."""
        self._soon.start()

    def renew(self) -> None:
        """Make it anew now; a run that was under way for an older question is dropped."""
        question = None if self._works.closed else self._question()
        if question is None:
            return

        def done(run: Run | None, error: str = "", door: Door | None = None) -> None:
            self.run, self.error, self.door, self.waiting = run, error, door, False
            self.changed.emit()

        self.waiting = True
        self._works.compute("Backtest", lambda: answer(question), done, "current run",
                            lambda why: done(None, why.sentence(), why.door))
