"""What the Discover place is about: the search that runs or ran last, its finds, and what luck brings. Knows no widget."""

from __future__ import annotations

import time
from typing import Any

from PySide6.QtCore import Signal

from wolbrin.app.candidates import Candidates
from wolbrin.app.searching import SearchState
from wolbrin.app.session import Session
from wolbrin.core.errors import WolbrinError
from wolbrin.core.jobs import Job
from wolbrin.core.search.objective import Floor
from wolbrin.core.search.strength import Strength
from wolbrin.core.store.wanted import Wanted
from wolbrin.core.work.discover_request import DiscoverRequest
from wolbrin.core.work.discover_results import DiscoverResult, strength
from wolbrin.core.work.discovering import KIND, discover_job, last_discover, resume_discover

NOTHING = -1  # no search has this number
REST = 2.0  # seconds between two looks at how strong the finds are


class DiscoverState(SearchState):
    """taken: another search is shown; grown: its counts moved, or it ended; curved: how strong its finds are is known anew;
    preparing: whether one is being prepared."""

    taken = Signal()
    grown = Signal()
    curved = Signal()
    preparing = Signal(bool)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.result: DiscoverResult | None = None
        self.curve: Strength | None = None
        self.finds = Candidates(session, "Found candidates", Wanted(search=NOTHING))
        self._shown, self._looked, self._preparing = 0, 0.0, False
        session.resumed.connect(self._resumed)
        session.grown.connect(lambda kind, result: self._grown(result) if kind == KIND else None)

    def start(self, request: DiscoverRequest) -> None:
        """Search in the background; what is kept goes straight to the Shelf."""
        s = self.session
        if self.running or self._preparing:
            s.note("Discover is running; stop it first.", "caution")
            return
        self._prepare(lambda: discover_job(s.project, request, s.on_ui(self._grown)))

    def move_floors(self, floors: tuple[Floor, ...]) -> None:
        """Ask other floors: of what comes, and of what came near before."""
        result, s = self.result, self.session
        if result is None or floors == result.floors:
            return
        if self.running:
            result.loosen(floors)
            return
        if self._preparing:
            return
        self._prepare(lambda: resume_discover(s.project, result.search, s.on_ui(self._grown), floors))

    def _prepare(self, make: Any) -> None:
        """Make a job beside the window, then start it."""
        s = self.session
        self._preparing = True
        self.preparing.emit(True)

        def over() -> None:
            self._preparing = False
            self.preparing.emit(False)

        def refused(err: WolbrinError) -> None:
            over()
            s.note(err.sentence(), "error", err.door)

        def done(made: Any) -> None:
            over()
            self._show(*made)
            s.start(made[0], "threads", lambda _: self._grown(made[1]))

        s.compute("Prepare the search", make, done, refused=refused)

    def restore(self) -> None:
        """Show the last search of the project again."""
        s = self.session

        def done(found: DiscoverResult | None) -> None:
            if found is not None and self.result is None:
                self._show(None, found)

        s.compute("Read the last search", lambda: last_discover(s.project), done)

    def _resumed(self, kind: str, job: Job, result: Any) -> None:
        if kind == KIND:
            self._show(job, result)

    def _show(self, job: Job | None, result: DiscoverResult) -> None:
        self.job, self.result, self._shown, self.curve = job, result, result.kept, None
        self.finds.of_search(result.search)
        self.taken.emit()
        self.grown.emit()
        self.look_at_strength()

    def _grown(self, result: DiscoverResult) -> None:
        if result is not self.result:
            return
        if result.kept != self._shown:
            self._shown = result.kept
            self.session.shelf_changed.emit()
            self.finds.soon(came=True)
        if not self.running:
            self.finds.look()
        if not self.running or time.monotonic() - self._looked > REST:
            self.look_at_strength()
        self.grown.emit()
        self.session.counts_changed.emit()

    def look_at_strength(self) -> None:
        """How strong the finds are beside those of the controls."""
        result, s = self.result, self.session
        if result is None or not result.request.controls:
            return
        self._looked = time.monotonic()

        def work() -> Strength | None:
            try:
                return strength(s.project, result)
            except WolbrinError:
                return None  # its files are damaged: the search itself says so

        def done(found: Strength | None) -> None:
            if result is self.result and found is not None:
                self.curve = found
                self.curved.emit()

        s.compute("Strength of finds", work, done, "strength of finds")
