"""What the Discover place is about: the search that runs or ran last, its finds, and what luck brings. Knows no widget."""

from __future__ import annotations

import time
from contextlib import suppress
from typing import Any

from PySide6.QtCore import Signal

from wolbrin.app.candidates import Candidates
from wolbrin.app.searching import SearchState
from wolbrin.app.session import Session
from wolbrin.core.errors import WolbrinError
from wolbrin.core.jobs import Job
from wolbrin.core.search.objective import Floor
from wolbrin.core.search.strength import Strength
from wolbrin.core.store.shelf import Line
from wolbrin.core.store.wanted import Wanted
from wolbrin.core.work.discover_request import DiscoverRequest
from wolbrin.core.work.discover_results import DiscoverResult, strength
from wolbrin.core.work.discover_said import said_of
from wolbrin.core.work.discovering import KIND, discover_job, last_discover, resume_discover
from wolbrin.core.work.finding_families import Families, families_in, settle_families

NOTHING = -1  # no search has this number
REST = 2.0  # seconds between two looks at how strong the finds are


class DiscoverState(SearchState):
    """taken: another search is shown; grown: its counts moved, or it ended; curved: how strong its finds are, and what
    families they are, is known anew; said: what the scan had said of the chosen find is known;
    preparing: whether one is being prepared."""

    taken = Signal()
    grown = Signal()
    curved = Signal()
    said = Signal()
    preparing = Signal(bool)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.result: DiscoverResult | None = None
        self.curve: Strength | None = None
        self.families: Families | None = None
        self.told: tuple[str, ...] = ()  # of the chosen find
        self._grouped = -1  # finds that the families are of
        self.variants = False  # whether the variants of families are shown too
        self.finds = Candidates(session, "Found candidates", Wanted("t_daily", True, search=NOTHING, representatives=True))
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
        self.job, self.result, self._shown, self.curve, self.families = job, result, result.kept, None, None
        self.told = ()
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
        if result is None:
            return
        self._looked = time.monotonic()
        running, known = self.running, self.families if self._grouped == result.kept else None

        def work() -> tuple[Strength | None, Families | None]:
            curve, families = None, known
            with suppress(WolbrinError):  # its files are damaged: the search itself says so
                if families is None:
                    families = settle_families(s.project, result.search) if running else families_in(s.project, result.search)
                curve = strength(s.project, result) if result.request.controls else None
            return curve, families

        def done(found: tuple[Strength | None, Families | None]) -> None:
            if result is self.result:
                fresh = found[1] is not self.families
                self.curve, self.families = found
                self._grouped = found[1].kept if found[1] is not None else -1
                self.curved.emit()
                if running and fresh:
                    self.finds.look()

        s.compute("Strength of finds", work, done, "strength of finds")

    def show_variants(self, on: bool) -> None:
        """Show the variants of families too, or of each only the one that represents it."""
        self.variants = on
        self.finds.only_representatives(not on)
        self.grown.emit()

    def tell_of(self, line: Line) -> None:
        """Find out what the scan had said of each row of a find."""
        result, s = self.result, self.session
        if result is None:
            return

        def work() -> tuple[str, ...]:
            with suppress(WolbrinError):  # its files are damaged: the search itself says so
                return said_of(s.project, result.request, result.search, line)
            return ()

        def done(found: tuple[str, ...]) -> None:
            self.told = found
            self.said.emit()

        s.compute("What the scan had said", work, done, "what the scan said")
