"""What the Proving place is about: where the ticked candidates stand on the line. Knows no widget."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QObject, Signal

from wolbrin.app.candidates import REST
from wolbrin.app.session import Session
from wolbrin.app.soon import Soon
from wolbrin.app.tables.kept import Standing
from wolbrin.core.errors import WolbrinError
from wolbrin.core.jobs import Job
from wolbrin.core.proving.gate import Gate
from wolbrin.core.proving.line import GATES
from wolbrin.core.store.dossier import PASSES
from wolbrin.core.store.holdout import t_for
from wolbrin.core.store.wanted import Wanted
from wolbrin.core.work.proving import Proved, prove_job
from wolbrin.core.work.standing import Standings, restand
from wolbrin.core.work.subject import Subject

MOST = 2_000  # ticked candidates that are listed with their verdicts
SEALED = "sealed"


@dataclass(frozen=True)
class Band:
    """One gate: entered, passed, fell; the rest are not judged yet."""

    title: str
    threshold: str
    entered: int
    passed: int
    fell: int
    sealed: bool


@dataclass(frozen=True)
class LineOf:
    """What is shown: verdicts of those listed, bands over them, ticked ones in all, and those that wait for the holdout. t:
    of daily results that an opening for them would ask, opening: its number; openings: how many there were."""

    records: list[Standing]
    bands: list[Band]
    ticked: int
    waiting: int
    t: float
    opening: int
    openings: int


def bands_of(records: list[Standing], gates: list[Gate]) -> list[Band]:
    """How the line narrows, gate by gate."""
    bands, alive = [], records
    for gate in gates:
        judged = [r for r in alive if gate.key in r.evidence]
        passed = [r for r in judged if r.evidence[gate.key].verdict == PASSES]
        bands.append(Band(gate.title, gate.describe(), len(alive), len(passed), len(judged) - len(passed),
                          gate.opens_holdout))
        alive = passed
    return bands


class ProvingState(QObject):
    """moved: a new `LineOf` is there."""

    moved = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.session = session
        self.line: LineOf | None = None
        self.job: Job | None = None
        self._soon = Soon(self, REST, self._look)

    @property
    def running(self) -> bool:
        return self.job is not None and not self.job.state.over

    def soon(self) -> None:
        """Look again, at most every REST milliseconds however often this is asked."""
        self._soon.ask()

    def look(self) -> None:
        """Find out beside the window where the ticked candidates stand."""
        self._soon.now()

    def _look(self) -> None:
        project, shelf = self.session.project, self.session.shelf

        def work() -> LineOf:
            restand(project)
            wanted = Wanted(ticked=True)
            standings = Standings(project)
            records = []
            for line, record in shelf.lines_with_records(shelf.ids(wanted)[:MOST].tolist()):
                records.append(Standing(line, standings.at(line.hash, line.market, record).evidence))
            waiting = shelf.count(Wanted(ticked=True, stands=SEALED))
            opening = project.book.next_batch()
            return LineOf(records, bands_of(records, GATES), shelf.count(wanted), waiting,
                          t_for(opening, max(1, waiting)), opening, project.openings())

        def done(line: LineOf) -> None:
            self.line = line
            self.moved.emit(line)

        self.session.compute("Line of gates", work, done, "line of gates")

    def tick_all(self) -> None:
        """Tick everything on the Shelf."""
        s = self.session
        if not s.shelf.count():
            s.note("The Shelf is empty: let Discover find candidates first.", "caution")
            s.place_wanted.emit("discover")
            return
        s.shelf.tick_all(Wanted())
        s.selection_changed.emit()

    def start(self) -> None:
        """Judge every ticked candidate by all gates but the holdout."""
        self._run(Wanted(ticked=True), False, "Tick candidates on the Shelf first.")

    def open_holdout(self) -> None:
        """Judge the survivors on the sealed span; every opening is counted for good."""
        self._run(Wanted(ticked=True, stands=SEALED), True,
                  "No ticked candidate waits for the holdout: run Monte Carlo first.")

    def _run(self, wanted: Wanted, holdout: bool, none: str) -> None:
        s = self.session
        if self.running:
            s.note("The line is running; stop it first.", "caution")
            return
        gates = tuple(g for g in GATES if g.opens_holdout == holdout)

        def work() -> Job | WolbrinError | None:
            try:
                restand(s.project)
                subjects = [Subject.of(k) for k in s.shelf.bodies(s.shelf.ids(wanted).tolist())]
                return prove_job(s.project, subjects, open_holdout=holdout, gates=gates,
                                 notify=s.on_ui(self._proved)) if subjects else None
            except WolbrinError as err:
                return err

        def begin(job: Job | WolbrinError | None) -> None:
            if job is None:
                s.note(none, "caution")
            elif isinstance(job, WolbrinError):
                s.note(job.sentence(), "error", job.door)
            elif not self.running:
                self.job = s.start(job, "threads", self._over)

        s.compute("Prepare the line", work, begin)

    def _over(self, _: Job) -> None:
        for signal in (self.session.evidence_changed, self.session.shelf_changed, self.session.counts_changed):
            signal.emit()
        self.look()

    def _proved(self, proved: Proved) -> None:
        if proved.fault:
            self.session.note(f"{proved.subject.strategy.name}: {proved.fault}", "caution")
        self.session.evidence_changed.emit()
