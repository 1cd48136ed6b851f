"""What the Discover place is about: the search that runs or ran last, and its finds. Knows no widget."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QObject, Signal

from wolbrin.app.candidates import Candidates
from wolbrin.app.session import Session
from wolbrin.core.errors import WolbrinError
from wolbrin.core.jobs import Job
from wolbrin.core.search.grammar import Limits
from wolbrin.core.store.wanted import Wanted
from wolbrin.core.work.discovering import KIND, DiscoverRequest, DiscoverResult, discover_job, last_discover

NOTHING = -1  # no search has this number


class DiscoverState(QObject):
    """taken: another search is shown; grown: its counts moved, or it ended."""

    taken = Signal()
    grown = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.result: DiscoverResult | None = None
        self.job: Job | None = None
        self.finds = Candidates(session, "Found candidates", Wanted(search=NOTHING))
        self._shown = 0
        session.resumed.connect(self._resumed)
        session.grown.connect(lambda kind, result: self._grown(result) if kind == KIND else None)

    @property
    def running(self) -> bool:
        return self.job is not None and not self.job.state.over

    @property
    def unfinished(self) -> bool:
        """Whether the search shown can be gone on with."""
        return self.result is not None and self.result.unfinished and not self.running

    def limits(self, **chosen: Any) -> Limits:
        """The user's limits, with what follows from market and strategy."""
        s = self.session
        quantity = max(s.entry.terms.minimum_lot, 1.0 if s.entry.terms.kind != "currency pair" else 0.5)
        return Limits(flat_by_session_end=s.strategy.flat_by_session_end, quantity=quantity, **chosen)

    def start(self, limits: Limits, count: int, seed: int) -> None:
        """Search in the background; what is kept goes straight to the Shelf."""
        s = self.session
        if self.running:
            s.note("Discover is running; stop it first.", "caution")
            return
        request = DiscoverRequest(s.market, s.interval, limits, count, seed)
        made = s.attempt(lambda: discover_job(s.project, request, s.on_ui(self._grown)))
        if made is not None:
            self._show(*made)
            s.start(made[0], "threads", lambda _: self._grown(made[1]))

    def go_on(self) -> None:
        """Go on with the search shown."""
        if self.unfinished and self.result is not None:
            self.session.go_on(self.result.search)

    def restore(self) -> None:
        """Show the last search of the project again, where it can be gone on with."""
        s = self.session

        def work() -> DiscoverResult | WolbrinError | None:
            try:
                return last_discover(s.project)
            except WolbrinError as err:
                return err

        def done(found: DiscoverResult | WolbrinError | None) -> None:
            if isinstance(found, WolbrinError):
                s.note(found.sentence(), "error")
            elif found is not None and found.unfinished and self.result is None:
                self._show(None, found)

        s.compute("Read the last search", work, done)

    def _resumed(self, kind: str, job: Job, result: Any) -> None:
        if kind == KIND:
            self._show(job, result)

    def _show(self, job: Job | None, result: DiscoverResult) -> None:
        self.job, self.result, self._shown = job, result, result.kept
        self.finds.of_search(result.search)
        self.taken.emit()
        self.grown.emit()

    def _grown(self, result: DiscoverResult) -> None:
        if result is not self.result:
            return
        if result.kept != self._shown:
            self._shown = result.kept
            self.session.shelf_changed.emit()
            self.finds.soon(came=True)
        if not self.running:
            self.finds.look()
        self.grown.emit()
        self.session.counts_changed.emit()
