"""Proving: the ordered line of gates over the ticked candidates; the holdout opens last and is counted."""

from __future__ import annotations

from PySide6.QtWidgets import QStackedWidget, QWidget

from wolbrin.app.parts import Empty, button, column, hairline, label, row
from wolbrin.app.places.place import Place
from wolbrin.app.places.proving.funnel import Funnel
from wolbrin.app.places.proving.state import LineOf, ProvingState
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.kept import Standing, figure, naming, tried_column, verdict_column
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.measures.wording import number
from wolbrin.core.proving.gate import Gate, Shown
from wolbrin.core.proving.line import GATES
from wolbrin.core.store.dossier import Evidence
from wolbrin.core.work.subject import Subject


def _outcome(gate: Gate, shown: Shown) -> Column:
    """A figure of a gate's outcome as a column."""
    def value(r: Standing) -> float:
        e: Evidence | None = r.evidence.get(gate.key)
        return e.outcome.get(shown.key, float("nan")) * shown.scale if e else float("nan")

    def text(r: Standing) -> str:
        words = number(value(r), shown.digits)
        return words + shown.end if words != "n/a" else "\u2013"

    return Column(shown.title, value, text, "right", 124)


def _reason(record: Standing) -> str:
    judged = [record.evidence[g.key] for g in GATES if g.key in record.evidence]
    return judged[-1].reason if judged else ""


class ProvingPlace(Place):
    key = "proving"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        get = lambda r: r.line  # noqa: E731
        self.state = ProvingState(s)
        self.funnel = Funnel(s.theme)
        self.title = label("", "heading")
        self.note = label("", "small", wrap=True)
        first = next(g for g in GATES if not g.opens_holdout)
        self.prove = button(f"Run {first.title}", self.state.start, main=True, tip="Ctrl+Return")
        self.open = button("Open the holdout", self.state.open_holdout)
        self.table = Table([
            *naming(get, 140), verdict_column(get), figure("trades", get), tried_column(get), figure("return_drawdown", get),
            figure("t_daily", get), *(_outcome(g, shown) for g in GATES for shown in g.shown),
            Column("reason", _reason, width=460)], s.theme, "Proving", filters=True)
        full = QWidget()
        full.setLayout(column(row(self.title, None, self.prove, self.open, margins=(0, 0, 8, 0)), self.note,
                              self.funnel, hairline(), self.table, spacing=6))
        self.empty = Empty("Tick candidates on the Shelf; the line then tries to break each of them. Monte Carlo comes "
                           "first, the sealed holdout last.", "Tick everything on the Shelf", self.state.tick_all)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(full)
        self.setLayout(column(self.stack, margins=(20, 10, 0, 6)))
        self.table.chosen.connect(self._chosen)
        self.state.moved.connect(self._moved)
        for signal in (s.selection_changed, s.evidence_changed, s.shelf_changed):
            signal.connect(self.refresh)

    def actions_offered(self) -> list[Action]:
        return [Action("proving.run", "Run the line without the holdout", self.state.start, "Ctrl+Return", "proving"),
                Action("proving.holdout", "Open the holdout for the survivors", self.state.open_holdout, "Ctrl+H", "proving")]

    def activate(self) -> None:
        self.state.look()

    def refresh(self) -> None:
        if self.isVisible():
            self.state.soon()

    def _chosen(self, record: Standing) -> None:
        kept = self.session.shelf.body(record.line.id)
        if kept is not None:
            self.session.show_subject(Subject.of(kept))

    def _moved(self, line: LineOf) -> None:
        self.table.set_records(line.records)
        self.stack.setCurrentIndex(1 if line.ticked else 0)
        self.funnel.show_bands(line.bands, len(line.records))
        more = f", the first {number(len(line.records))} listed" if len(line.records) < line.ticked else ""
        self.title.setText(f"Line of {len(GATES)} gates on {number(line.ticked)} ticked candidates{more}")
        asks = ""
        if line.waiting:
            asks = (f" Opening it for the {number(line.waiting)} that wait is opening {number(line.opening)}: each needs a t "
                    f"of daily results of {number(line.t, 2)}, and the verdicts are final.")
        self.note.setText(f"The holdout was opened {number(line.openings)} time{'s' if line.openings != 1 else ''}.{asks}")
        self.open.setText(f"Open the holdout for {number(line.waiting)}" if line.waiting else "Open the holdout")
        self.open.setEnabled(line.waiting > 0)
