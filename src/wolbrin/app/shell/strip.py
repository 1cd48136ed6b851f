"""The work strip: running jobs with progress, rate, time left, pause and stop; and the last thing worth saying."""

from __future__ import annotations

import math

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QProgressBar, QSizePolicy, QWidget

from wolbrin.app.parts import as_tip, label, link, row, set_role
from wolbrin.app.session import Session
from wolbrin.core.errors import Door
from wolbrin.core.jobs import Job, State
from wolbrin.core.measures.wording import number
from wolbrin.core.work.readying import Readying

SHARES = (0.25, 0.5, 0.75, 1.0)
IDLE = "No work running."
ROLES = {"note": "muted", "caution": "caution", "error": "error"}


def time_words(seconds: float) -> str:
    if math.isnan(seconds):
        return "estimating"
    if seconds < 90:
        return f"{max(0, round(seconds))} s left"
    return f"{round(seconds / 60)} min left" if seconds < 5400 else f"{seconds / 3600:.1f} h left"


class WorkStrip(QWidget):
    """Shows the newest running job; several run at once, a click on the name turns to the next."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("strip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(30)
        self._jobs: list[Job] = []
        self._shown = 0
        self.name = link("", self._turn, role="", tip="Running work; click for the next job")
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setFixedWidth(180)
        self.bar.setRange(0, 1000)
        self.bar.setAccessibleName("Progress")
        self.figures = label("", "small")
        self.message = label(IDLE, "muted")
        self.message.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.pause = link("Pause", self._pause, tip="Pause or resume the job shown")
        self.share = link("", self._share, tip="Share of the processor that long work takes; click for another")
        self.stop = link("Stop", self._stop, tip="Stop the job shown and keep what it found")
        line = row(self.name, self.bar, self.figures, spacing=12, margins=(20, 0, 12, 0))
        line.addWidget(self.message, 1)
        line.addWidget(self.share)
        line.addWidget(self.pause)
        line.addWidget(self.stop)
        self.setLayout(line)
        self._timer = QTimer(self, interval=120)
        self._timer.timeout.connect(self.refresh)
        session.job_started.connect(self._add)
        self.door = link("", self._open_door, tip="Mend what the message names")
        self._door: Door | None = None
        line.addWidget(self.door)
        self.not_saved = link("", lambda: session.door_wanted.emit("not saved"), role="link",
                              tip="What is not saved, why, and what can be done")
        line.addWidget(self.not_saved)
        self.not_saved.hide()
        session.unsaved.changed.connect(self._mark_unsaved)
        self.door.hide()
        self.compiling = label("", "accent")
        self.compiling.setToolTip("Happens once on this machine. What waits for it opens by itself.")
        self.compiling.hide()
        line.insertWidget(0, self.compiling)
        self._session = session
        session.noted.connect(self.say)
        self.refresh()

    def follow(self, ready: Readying) -> None:
        """Say how far the compiling of kernels is, as long as it goes on."""
        timer = QTimer(self, interval=250)

        def look() -> None:
            self.compiling.setVisible(not ready.over.is_set())
            self.compiling.setText(f"Compiling for this processor, once: {ready.words}")
            if ready.over.is_set():
                timer.stop()
                timer.deleteLater()

        timer.timeout.connect(look)
        timer.start()
        look()

    def _open_door(self) -> None:
        if self._door is not None:
            self._session.door_wanted.emit(self._door.at)

    def say(self, text: str, kind: str, door: Door | None = None) -> None:
        self._door = door
        self.door.setVisible(door is not None)
        if door is not None:
            self.door.setText(door.words)
        set_role(self.message, ROLES[kind])
        self.message.setText(text)
        self.message.setToolTip(as_tip(text))

    def _mark_unsaved(self) -> None:
        waiting = len(self._session.unsaved.asking())
        self.not_saved.setVisible(bool(waiting))
        self.not_saved.setText(f"Not saved: {waiting}")

    def _add(self, job: Job) -> None:
        self._jobs.append(job)
        if self.message.text() == IDLE:
            self.message.setText("")
        self._shown = len(self._jobs) - 1
        self._timer.start()
        self.refresh()

    def _turn(self) -> None:
        if self._jobs:
            self._shown = (self._shown + 1) % len(self._jobs)
            self.refresh()

    def _job(self) -> Job | None:
        return self._jobs[self._shown] if self._jobs else None

    def _pause(self) -> None:
        job = self._job()
        if job is not None:
            job.resume() if job.state is State.PAUSED else job.pause()
            self.refresh()

    def _share(self) -> None:
        """Turn to the next share."""
        now = self._session.works.engine.share
        self._session.set_share(next((s for s in SHARES if s > now + 0.01), SHARES[0]))
        self.refresh()

    def _stop(self) -> None:
        job = self._job()
        if job is not None:
            job.stop()

    def refresh(self) -> None:
        for job in [j for j in self._jobs if j.state.over]:
            self._jobs.remove(job)
            progress = job.progress()
            if job.state is not State.FAILED:
                verb = "stopped; what was found is kept" if job.state is State.STOPPED else "done"
                counts = f"{job.title}: {number(progress.done)} of {number(progress.total)} {job.unit}, {verb}."
                self.say(job.words.get(job.state, counts), "note")
        self._shown = min(self._shown, max(0, len(self._jobs) - 1))
        shown = self._job()
        for widget in (self.name, self.bar, self.figures, self.share, self.pause, self.stop):
            widget.setVisible(shown is not None)
        if shown is None:
            self._timer.stop()
            return
        p = shown.progress()
        more = f"  (+{len(self._jobs) - 1})" if len(self._jobs) > 1 else ""
        self.name.setText(shown.title + more)
        self.bar.setValue(round(1000 * p.share))
        left = "paused" if p.state is State.PAUSED else time_words(p.left)
        digits = 0 if p.rate >= 10 else 1
        figures = f"{number(p.done)} of {number(p.total)} {shown.unit} \u00b7 {number(p.rate, digits)} a second \u00b7 {left}"
        doing = shown.doing() if p.rate <= 0 else ""
        self.figures.setText(doing or figures)
        self.share.setText(f"{round(100 * self._session.works.engine.share)}% of the processor")
        self.pause.setText("Resume" if p.state is State.PAUSED else "Pause")
