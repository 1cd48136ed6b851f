"""What the Rehearsal place is about: bars of the holdout played one by one. Knows no widget."""

from __future__ import annotations

import time
from typing import Any

from PySide6.QtCore import QObject, Signal

from wolbrin.app.fitting import fit_first
from wolbrin.app.session import Session
from wolbrin.core.jobs import Job, State, Until
from wolbrin.core.proving.gate import Outcome
from wolbrin.core.rehearsal.session import Rehearsal, Snapshot, same_ledger
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.opening import open_for
from wolbrin.core.work.subject import Subject

SPEEDS = (1, 2, 5, 10, 20, 50, 100, 200, 500, 1000)
STEPS = 25  # a second, at most, in which bars are played
DRAWN = 0.12  # seconds between two pictures


class RehearsalState(QObject):
    """begun: the holdout is open and bars begin to come; played: a `Snapshot` to show; changed: it runs, rests or is over;
    compared: trades of the whole against the batch simulator's, whether the same, and how many."""

    begun = Signal()
    played = Signal(object)
    changed = Signal()
    compared = Signal(bool, int)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.pace = SPEEDS[4]
        self.rehearsal: Rehearsal | None = None
        self.latest: Snapshot | None = None
        self.job: Job | None = None

    @property
    def running(self) -> bool:
        return self.job is not None and not self.job.state.over

    @property
    def paused(self) -> bool:
        return self.job is not None and self.job.state is State.PAUSED

    def start(self) -> None:
        """Begin playing the holdout; counted as an opening."""
        s = self.session
        if self.running:
            s.note("A rehearsal is running; stop it first.", "caution")
            return
        strategy, market, interval, own, project = s.strategy, s.market, s.interval, s.own, s.project
        footing = Footing.of(project)

        def begin() -> tuple[Rehearsal, Outcome]:
            brief = footing.brief(footing.ground.history(market).terms, own)
            span = footing.settings.holdout
            opened = open_for(project, footing, strategy, market, interval, brief, span, "rehearsal")
            return Rehearsal(opened.history, opened.strategy, brief, span), opened.verdict

        def ready(made: tuple[Rehearsal, Outcome]) -> None:
            s.note("Holdout opened and judged; see the dossier.", "caution")
            s.evidence_changed.emit()
            self.rehearsal, self.latest = made[0], None
            self.begun.emit()
            self._play(made[0])

        subject = Subject(strategy, market, interval, own=own)
        fit_first(s, lambda: [subject] if strategy.schedule is not None else [],
                  lambda: s.compute("Rehearsal", begin, ready))

    def _play(self, rehearsal: Rehearsal) -> None:
        s = self.session
        # One snapshot at a time is on its way to the screen, and the screen rests between two: a fast simulator must not
        # flood the window with more than it can draw.
        pending, drawn = [False], [0.0]

        def draw(snapshot: Snapshot) -> None:
            try:
                self.played.emit(snapshot)
            finally:
                pending[0], drawn[0] = False, time.monotonic()

        show = s.on_ui(draw)

        def play(_: None) -> tuple[Snapshot, int, float]:
            began = time.monotonic()
            before = rehearsal.shown
            snapshot = rehearsal.step(max(1, self.pace // STEPS))
            return snapshot, rehearsal.shown - before, began

        def sink(played: tuple[Snapshot, int, float]) -> None:
            snapshot, count, began = played
            self.latest = snapshot
            if rehearsal.over or (not pending[0] and time.monotonic() - drawn[0] > DRAWN):
                pending[0] = True
                _ = snapshot.run  # made here, so that the window need not
                show(snapshot)
            job.nap(max(0.0, count / self.pace - (time.monotonic() - began)))

        def finish(_: State) -> None:
            if self.latest is not None:
                show(self.latest)

        bars = Until(rehearsal.total, lambda: rehearsal.over, lambda played: played[1])
        job = Job(f"Rehearsal {rehearsal.strategy.name}", "bars", bars, play, sink, finish, width=1)
        self.job = s.start(job, "threads", lambda _: self._over(rehearsal))
        self.changed.emit()
        s.counts_changed.emit()

    def toggle_pause(self) -> None:
        if self.job is not None:
            self.job.resume() if self.paused else self.job.pause()
            self.changed.emit()

    def stop(self) -> None:
        if self.job is not None:
            self.job.stop()

    def _over(self, rehearsal: Rehearsal) -> None:
        self.changed.emit()
        self.session.counts_changed.emit()
        if not rehearsal.over or self.latest is None:
            return
        last = self.latest.run

        def done(batch: Any) -> None:
            self.compared.emit(same_ledger(last, batch), len(batch))

        self.session.compute("Compare", rehearsal.batch, done)
