"""Proving: the ordered line of gates over the ticked candidates; the holdout opens last and is counted."""

from __future__ import annotations

from PySide6.QtWidgets import QStackedWidget, QWidget

from wolbrin.app.parts import Empty, button, column, hairline, label, row
from wolbrin.app.places.place import Place
from wolbrin.app.places.proving.funnel import Band, Funnel
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.kept import Standing, figure, naming, stand_tint, tried_column
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.jobs import Job
from wolbrin.core.measures.wording import number
from wolbrin.core.proving.line import GATES
from wolbrin.core.store.dossier import Evidence
from wolbrin.core.work.judging import Batch
from wolbrin.core.work.proving import Proved, prove_job
from wolbrin.core.work.standing import Standings
from wolbrin.core.work.subject import Subject


def _outcome(gate: str, key: str, digits: int, scale: float = 1.0, end: str = "") -> Column:
    title = {"return_drawdown_median": "MC median ret/dd", "drawdown_95": "MC 95% drawdown",
             "risk_of_ruin": "risk of ruin", "profit_factor": "holdout PF", "t_daily": "holdout t", "net": "holdout net"}[key]

    def value(r: Standing) -> float:
        e: Evidence | None = r.evidence.get(gate)
        return e.outcome.get(key, float("nan")) * scale if e else float("nan")

    def text(r: Standing) -> str:
        shown = number(value(r), digits)
        return shown + end if shown != "n/a" else "\u2013"

    return Column(title, value, text, "right", 124)


class ProvingPlace(Place):
    key = "proving"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        get = lambda r: r.kept  # noqa: E731
        self.funnel = Funnel(s.theme)
        self.title = label("", "heading")
        self.note = label("", "small", wrap=True)
        self.prove = button("Run Monte Carlo", self.start, main=True, tip="Ctrl+Return")
        self.open = button("Open the holdout", self.open_holdout)
        self.table = Table([
            *naming(get, 140), Column("verdict", lambda r: r.stands, width=128, tint=lambda r: stand_tint(r.stands)),
            figure("trades", get), tried_column(get), figure("return_drawdown", get), figure("t_daily", get),
            _outcome("monte_carlo", "return_drawdown_median", 2), _outcome("monte_carlo", "drawdown_95", 0),
            _outcome("monte_carlo", "risk_of_ruin", 1, 100.0, "%"), _outcome("holdout", "profit_factor", 2),
            _outcome("holdout", "t_daily", 2), _outcome("holdout", "net", 0),
            Column("reason", lambda r: self._reason(r), width=460)], s.theme, "Proving", filters=True)
        full = QWidget()
        full.setLayout(column(row(self.title, None, self.prove, self.open, margins=(0, 0, 8, 0)), self.note,
                              self.funnel, hairline(), self.table, spacing=6))
        self.empty = Empty("Tick candidates on the Shelf; the line then tries to break each of them. Monte Carlo comes "
                           "first, the sealed holdout last.", "Tick everything on the Shelf", self._tick_all)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(full)
        self.setLayout(column(self.stack, margins=(20, 10, 0, 6)))
        self._job: Job | None = None
        self.table.chosen.connect(lambda r: s.show_subject(Subject.of(r.kept)))
        for signal in (s.selection_changed, s.evidence_changed, s.shelf_changed):
            signal.connect(self.refresh)

    def actions_offered(self) -> list[Action]:
        return [Action("proving.run", "Run the line without the holdout", self.start, "Ctrl+Return", "proving"),
                Action("proving.holdout", "Open the holdout for the survivors", self.open_holdout, "Ctrl+H", "proving")]

    def activate(self) -> None:
        self.refresh()

    def _tick_all(self) -> None:
        kept = self.session.dossiers.shelf()
        if not kept:
            self.session.note("The Shelf is empty: let Discover find candidates first.", "caution")
            self.session.place_wanted.emit("discover")
            return
        self.session.select([k.id for k in kept])

    @staticmethod
    def _reason(record: Standing) -> str:
        judged = [record.evidence[g.key] for g in GATES if g.key in record.evidence]
        return judged[-1].reason if judged else ""

    def _standings(self) -> list[Standing]:
        s = self.session
        standings = Standings(s.project)
        return [Standing(kept, place.evidence, place.stands, True)
                for kept in s.selected() for place in (standings.of(kept),)]

    def refresh(self) -> None:
        if not self.isVisible():
            return
        s = self.session
        records = self._standings()
        self.table.set_records(records)
        self.stack.setCurrentIndex(1 if records else 0)
        bands, alive = [], records
        for gate in GATES:
            judged = [r for r in alive if gate.key in r.evidence]
            passed = [r for r in judged if r.evidence[gate.key].verdict == "passes"]
            bands.append(Band(gate.title, gate.describe(), len(alive), len(passed), len(judged) - len(passed),
                              gate.opens_holdout))
            alive = passed
        self.funnel.show_bands(bands, len(records))
        waiting = sum(r.stands == "sealed" for r in records)
        self.title.setText(f"Line of {len(GATES)} gates on {number(len(records))} ticked candidates")
        times = s.project.openings()
        asks = ""
        if waiting:
            batch = Batch(waiting, s.project.book.next_batch())
            asks = (f" Opening it for the {number(waiting)} that wait is opening {number(batch.number)}: each needs a t of "
                    f"daily results of {number(batch.t_needed, 2)}, and the verdicts are final.")
        self.note.setText(f"The holdout was opened {number(times)} time{'s' if times != 1 else ''}.{asks}")
        self.open.setText(f"Open the holdout for {number(waiting)}" if waiting else "Open the holdout")
        self.open.setEnabled(waiting > 0)

    def start(self) -> None:
        """Judge every ticked candidate by all gates but the holdout."""
        self._run([Subject.of(k) for k in self.session.selected()], False)

    def open_holdout(self) -> None:
        """Judge the survivors on the sealed span; every opening is counted for good."""
        waiting = [r for r in self._standings() if r.stands == "sealed"]
        if not waiting:
            self.session.note("No ticked candidate waits for the holdout: run Monte Carlo first.", "caution")
            return
        self._run([Subject.of(r.kept) for r in waiting], True)

    def _run(self, subjects: list[Subject], holdout: bool) -> None:
        s = self.session
        if not subjects:
            s.note("Tick candidates on the Shelf first.", "caution")
            return
        if self._job is not None and not self._job.state.over:
            s.note("The line is running; stop it first.", "caution")
            return
        gates = tuple(g for g in GATES if g.opens_holdout == holdout)
        job = prove_job(s.project, subjects, open_holdout=holdout, gates=gates,
                        notify=s.on_ui(self._proved))

        def over(_: Job) -> None:
            s.evidence_changed.emit()
            s.shelf_changed.emit()
            s.counts_changed.emit()

        self._job = s.start(job, "threads", over)

    def _proved(self, proved: Proved) -> None:
        if proved.fault:
            self.session.note(f"{proved.subject.strategy.name}: {proved.fault}", "caution")
        self.session.evidence_changed.emit()
