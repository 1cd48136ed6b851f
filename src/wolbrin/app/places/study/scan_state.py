"""What the scan page is about: the scan that runs or is shown, its rows in words, and the scans that are kept. Knows no
widget."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import Signal

from wolbrin.app.searching import SearchState
from wolbrin.app.session import Session
from wolbrin.core.errors import WolbrinError
from wolbrin.core.jobs import Job
from wolbrin.core.measures.wording import number
from wolbrin.core.store.searches import Searches, StoredSearch
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.scan_names import ScanNames, ordered, sentence
from wolbrin.core.work.scan_pictures import Map, Week, clock_of, map_of
from wolbrin.core.work.scan_request import ScanRequest
from wolbrin.core.work.scan_results import Line, ScanResult
from wolbrin.core.work.scan_tries import KIND
from wolbrin.core.work.scanning import last_scan, read_scan, scan_job

FIRST_LINES, MOST_LINES = 60, 600


@dataclass(frozen=True)
class Told:
    """What is said of a scan: its answer, whether there is something, and its lines with their words."""

    sentence: str
    something: bool
    lines: tuple[tuple[Line, str], ...]


class ScanState(SearchState):
    """taken: another scan is shown; grown: more of it is known; drawn: its pictures are, said: its answer and its rows in
    words are; preparing: whether one is being prepared; kept: other scans are kept."""

    taken = Signal()
    grown = Signal()
    drawn = Signal()
    said = Signal()
    preparing = Signal(bool)
    kept = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.result: ScanResult | None = None
        self.names: ScanNames | None = None
        self.told: Told | None = None
        self.pictures: tuple[Map, Week] | None = None
        self._preparing = False
        session.resumed.connect(self._resumed)
        session.grown.connect(lambda kind, result: self._grown(result) if kind == KIND else None)

    def scans(self) -> list[StoredSearch]:
        """Scans that are kept, newest first."""
        return list(reversed(Searches(self.session.project).all([KIND])))

    def start(self, request: ScanRequest) -> None:
        """Scan in the background."""
        s = self.session
        if self.running or self._preparing:
            s.note("A scan is running; stop it first.", "caution")
            return
        self._preparing = True
        self.preparing.emit(True)
        self._read("Prepare the scan", lambda: scan_job(s.project, request, s.on_ui(self._grown)), self._begin)

    def _begin(self, made: Any) -> None:
        self._preparing = False
        self.preparing.emit(False)
        if made is not None:
            self._show(*made)
            self.session.start(made[0], "threads", lambda _: self._over(made[1]))

    def _over(self, result: ScanResult) -> None:
        self._grown(result)
        self.kept.emit()

    def _read(self, title: str, make: Any, then: Any) -> None:
        """Make something beside the window; what goes wrong is said, and then(None) called."""
        def refused(err: WolbrinError) -> None:
            self.session.note(err.sentence(), "error", err.door)
            then(None)

        self.session.compute(title, make, then, refused=refused)

    def open(self, search: int) -> None:
        """Show a scan that is kept."""
        if self.result is not None and self.result.search == search:
            return
        if self.running:
            self.session.note("A scan is running; stop it first.", "caution")
            return
        found = self.session.going.get(search)
        if isinstance(found, ScanResult):
            self._show(self.job, found)
            return
        self._read("Read the scan", lambda: read_scan(self.session.project, search), self._kept)

    def _kept(self, made: ScanResult | None) -> None:
        """A kept scan was read; one that was begun meanwhile is shown instead."""
        if made is not None and not self.running and not self._preparing:
            self._show(None, made)

    def restore(self) -> None:
        """Show the last scan of the project again."""
        if self.result is None:
            self._read("Read the last scan", lambda: last_scan(self.session.project),
                       lambda made: self._kept(made) if self.result is None else None)

    def _resumed(self, kind: str, job: Job, result: Any) -> None:
        if kind == KIND:
            self._show(job, result)

    def _show(self, job: Job | None, result: ScanResult) -> None:
        self.job, self.result, self.told, self.pictures = job, result, None, None
        self.names = ScanNames(Footing.of(self.session.project), result)
        self.taken.emit()
        self._grown(result)
        self.kept.emit()

    def _grown(self, result: ScanResult) -> None:
        if result is not self.result:
            return
        self.grown.emit()
        self.session.counts_changed.emit()
        self._draw()
        self._say()

    def _draw(self) -> None:
        """Make its pictures beside the window."""
        result = self.result
        if result is None:
            return

        def done(made: tuple[Map, Week]) -> None:
            if result is self.result:
                self.pictures = made
                self.drawn.emit()

        self.session.compute("Draw the scan", lambda: (map_of(result), clock_of(result, 0)), done, "pictures of the scan")

    def _say(self) -> None:
        """Read its rows beside the window: their levels are worked out for that, which takes longer than the pictures."""
        result, names = self.result, self.names
        if result is None or names is None:
            return
        whole = result.answered

        def work() -> Told:
            lines = ordered(result, names)[:MOST_LINES if whole else FIRST_LINES]
            return Told(sentence(result, names), bool(result.beyond()), tuple((x, names.words(x)) for x in lines))

        def done(told: Told) -> None:
            if result is self.result:
                self.told = told
                self.said.emit()

        self.session.compute("Read the rows of the scan", work, done, "rows of the scan")

    def title_of(self, stored: StoredSearch) -> str:
        """A kept scan in a line."""
        day = stored.created[:16].replace("T", " ")
        state = "" if stored.state == "done" else f", {stored.state}"
        return f"{stored.title} \u00b7 {day}{state} \u00b7 {number(stored.tried)} tries"
