"""Work that runs beside the window: long jobs, and what the user waits for, which has a lane of its own."""

from __future__ import annotations

import logging
from collections.abc import Callable
from functools import partial
from typing import Any

from PySide6.QtCore import QObject, Qt, QTimer, Signal

from wolbrin.core.errors import Door, WolbrinError
from wolbrin.core.jobs import Engine, Job, Kind, State, single
from wolbrin.core.unforeseen import sentence_of

log = logging.getLogger("wolbrin")
LOOK = 30  # milliseconds between two looks at whether a job is over


class Works(QObject):
    """Starts jobs and tells of them on the interface thread. noted: text, kind (note, caution, error), door."""

    started = Signal(object)
    noted = Signal(str, str, object)
    _call = Signal(object)

    def __init__(self, engine: Engine) -> None:
        super().__init__()
        self.engine = engine
        self._jobs: list[Job] = []
        self._slots: dict[str, Job] = {}
        self._closed = False
        self._call.connect(lambda act: act(), Qt.ConnectionType.QueuedConnection)

    def on_ui(self, act: Callable[..., None]) -> Callable[..., None]:
        """A function that, called on any thread, runs `act` on the interface thread."""
        def later(*values: Any) -> None:
            self._call.emit(lambda: act(*values))
        return later

    def note(self, text: str, kind: str = "note", door: Door | None = None) -> None:
        """Say something in the work strip; kind is note, caution or error. door: the action that mends it."""
        self.noted.emit(text, kind, door)

    def attempt(self, act: Callable[[], Any]) -> Any:
        """Run something that may fail for the user's or the machine's reasons; such a failure is told, not raised."""
        try:
            return act()
        except WolbrinError as err:
            self.note(err.sentence(), "error", err.door)
            return None

    def start(self, job: Job, kind: Kind, then: Callable[[Job], None] | None = None, quiet: bool = False) -> Job:
        """Start work. then(job) runs on the interface thread once it is over, whatever happened."""
        if self._closed:
            return job  # the window is going; nothing begins any more
        self._jobs.append(job)
        self.engine.start(job, kind)
        if not quiet:
            self.started.emit(job)
        timer = QTimer(self, interval=LOOK)

        def look() -> None:
            if job.state.over:
                timer.stop()
                timer.deleteLater()
                self._jobs.remove(job)
                if job.state is State.FAILED and job.error is not None:
                    self.report(job.error, job.title)
                if then is not None:
                    then(job)

        timer.timeout.connect(look)
        timer.start()
        return job

    def compute(self, title: str, function: Callable[[], Any], then: Callable[[Any], None], slot: str = "",
                refused: Callable[[WolbrinError], None] | None = None) -> None:
        """Run one function off the interface thread, in the lane of what the user waits for; then(result) back on it.

        slot: what it is for; a later request for the same replaces one that has not ended, whose result is dropped. refused:
        what is done, on the interface thread, where the function fails for the user's or the machine's reasons; that is told
        in the strip when left out.
        """
        if refused is not None:
            function, then = partial(_or_refusal, function), partial(_either, then, refused)
        if self._closed:
            return
        old = self._slots.get(slot) if slot else None
        if old is not None:
            old.stop()
        job = single(title, function, self.on_ui(lambda result: then(result) if not slot or self._slots.get(slot) is job
                                                 else None))
        if slot:
            self._slots[slot] = job
        self.start(job, "now", quiet=True)

    def report(self, error: BaseException, where: str) -> None:
        """Tell of a failure: the user's in its own words, ours logged with its traceback."""
        if isinstance(error, WolbrinError):
            self.note(error.sentence(), "error", error.door)
        else:
            self.note(sentence_of(error, f"{where} failed in a way that nobody foresaw"), "error")

    @property
    def closed(self) -> bool:
        """Whether the window is going, so that nothing begins any more and its project may be closed."""
        return self._closed

    @property
    def busy(self) -> bool:
        return bool(self._jobs)

    def stop_all(self) -> None:
        self._closed = True
        for job in list(self._jobs):
            job.stop()
        for job in list(self._jobs):
            job.wait(5)


def _or_refusal(function: Callable[[], Any]) -> Any:
    try:
        return function()
    except WolbrinError as err:
        return err


def _either(then: Callable[[Any], None], refused: Callable[[WolbrinError], None], result: Any) -> None:
    if isinstance(result, WolbrinError):
        refused(result)
    else:
        then(result)
