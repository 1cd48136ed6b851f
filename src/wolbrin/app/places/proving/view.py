"""Proving: the ordered line of gates over the ticked candidates, whose holdout opens last; and Walk-forward."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QInputDialog, QScrollArea, QStackedWidget, QWidget

from wolbrin.app.parts import Choice, Empty, button, column, hairline, label, link, row
from wolbrin.app.places.place import Place
from wolbrin.app.places.proving.funnel import Funnel
from wolbrin.app.places.proving.gate_page import WIDTH, GatePage
from wolbrin.app.places.proving.opening_page import OpeningPage
from wolbrin.app.places.proving.state import LineOf, ProvingState
from wolbrin.app.places.proving.walk_page import WalkPage
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.kept import Getter, Standing, figure, naming, tried_column, verdict_column
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.app.terms import combo
from wolbrin.core.jobs import Job
from wolbrin.core.measures.wording import number
from wolbrin.core.proving.gate import Gate, Shown
from wolbrin.core.proving.line import GATES
from wolbrin.core.proving.opening_plan import Plan
from wolbrin.core.store.dossier import Evidence
from wolbrin.core.work.spending import DIFFERENCE, WORDS
from wolbrin.core.work.subject import Subject
from wolbrin.core.work.walk_results import KIND

LINE, WALK = "line", "walk"


def _outcome(gate: Gate, shown: Shown) -> Column:
    """A figure of a gate's outcome as a column."""
    def value(r: Standing) -> float:
        e: Evidence | None = r.evidence.get(gate.key)
        return e.outcome.get(shown.key, float("nan")) * shown.scale if e else float("nan")

    def text(r: Standing) -> str:
        e: Evidence | None = r.evidence.get(gate.key)
        words = shown.text(e.outcome.get(shown.key, float("nan"))) if e else "n/a"
        return words if words != "n/a" else "\u2013"

    return Column(shown.title, value, text, "right", max(96, 7 * len(shown.title) + 18), figure=shown)


def _named(get: Getter) -> list[Column]:
    """Name, verdict, then where it trades."""
    name, *where = naming(get, 168)
    return [name, verdict_column(get), *where]


class ProvingPlace(Place):
    key = "proving"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        get = lambda r: r.line  # noqa: E731
        self.state = ProvingState(s)
        self.funnel = Funnel(s.theme)
        self.page = GatePage(self.state)
        self.opening = OpeningPage(self.state)
        self.beside = QStackedWidget()
        self.beside.addWidget(self.page)
        self.beside.addWidget(self.opening)
        pages = QScrollArea()  # many settings must not make the window taller
        pages.setWidget(self.beside)
        pages.setWidgetResizable(True)
        pages.setFixedWidth(WIDTH + 14)
        pages.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.title = label("", "heading")
        self.note = label("", "small", wrap=True)
        self.rates = label("", "accent")
        self.measure = link("measure it", self.state.measure_rates,
                            tip="Walk finds of luck, and real ones, along this line (takes minutes)")
        self.lacking = label("", "accent")
        self.controls = link("add controls", self.state.add_controls, tip="Let so many run, and judge again (Ctrl+J)")
        self.asks = label("", "accent", wrap=True)
        self.mine = link("mine", lambda: self.state.answer_elsewhere(True), tip="They count here; what fell there falls here")
        self.not_mine = link("not mine", lambda: self.state.answer_elsewhere(False),
                             tip="They do not count; the answer stays")
        self.why = link("say why", self._say_why, tip="It stands in every record of rules that read that market")
        self.how_many = link("say how many", self._say_tried, tip="They count on their market")
        self.lines = combo([], "Line of gates", 150)
        self.lines.activated.connect(lambda _: self.state.choose_line(self.lines.currentText()))
        self.save = link("save as", self._save, tip="Keep this line under a name")
        self.prove = button("Run the line", self.state.start, main=True, tip="Ctrl+Return")
        self.variants = QCheckBox("variants too")
        self.variants.setToolTip("V: tick the variants of ticked families and walk them; else, of a family, the one that "
                                 "represents it")
        self.variants.toggled.connect(self.state.walk_variants)
        self.open = button("Plan the opening", self.state.open_holdout,
                           tip="Shows families and chances; opens nothing (Ctrl+H)")
        self.spent = combo([(f"Holdout: {words}", key) for key, words in WORDS.items()], "What the holdout is spent on", 236)
        self.spent.setToolTip(DIFFERENCE)
        self.spent.activated.connect(lambda _: self.state.keep_holdout_for(self.spent.currentData()))
        self.table = Table([
            *_named(get), figure("trades", get), figure("t_daily", get),
            *(_outcome(g, g.shown[0]) for g in GATES if g.shown), figure("return_drawdown", get), tried_column(get),
            Column("in one sentence", lambda r: r.words, width=560)], s.theme, "Proving", filters=True)
        second = row(self.note, 12, self.variants, 8, self.spent, margins=(0, 0, 8, 0))
        second.setStretch(0, 1)
        full = QWidget()
        full.setLayout(column(
            row(label("Line:", "heading"), self.lines, self.save, self.title, None, self.prove, self.open,
                margins=(0, 0, 8, 0)),
            second, row(self.rates, 8, self.measure, None),
            row(self.lacking, 8, self.controls, None),
            row(self.asks, 8, self.mine, self.not_mine, self.why, self.how_many, margins=(0, 0, 8, 0)), self.funnel,
            hairline(),
            row(self.table, hairline(vertical=True), pages, spacing=0), spacing=6))
        self.empty = Empty("Tick candidates on the Shelf; the line then tries to break each of them. Cheap gates come "
                           "first, the sealed holdout last.", "Tick everything on the Shelf", self.state.tick_all)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(full)
        self.which = Choice([("Line of gates", LINE), ("Walk-forward", WALK)], LINE, "Proving page")
        self.which.chosen.connect(lambda page: self.show_page(str(page)))
        self.pages = QStackedWidget()
        self.pages.addWidget(self.stack)
        self._walk: WalkPage | None = None
        self.setLayout(column(row(self.which), self.pages, margins=(20, 8, 0, 6), spacing=6))
        self.table.chosen.connect(self._chosen)
        self.funnel.picked.connect(self.choose_gate)
        self.state.moved.connect(self._moved)
        self.state.planned.connect(self._planned)
        s.resumed.connect(self._resumed)
        for signal in (s.selection_changed, s.evidence_changed, s.shelf_changed):
            signal.connect(self.refresh)

    @property
    def walk(self) -> WalkPage:
        """Walk-forward, made when first asked for."""
        if self._walk is None:
            self._walk = WalkPage(self.session)
            self.pages.addWidget(self._walk)
        return self._walk

    def show_page(self, page: str) -> None:
        """Show the line of gates, or Walk-forward."""
        self.which.set(page)
        self.pages.setCurrentWidget(self.walk if page == WALK else self.stack)

    def _resumed(self, kind: str, job: Job, result: Any) -> None:
        if kind == KIND:
            new = self._walk is None
            self.show_page(WALK)
            if new:  # it was not there to hear of it
                self.walk.state.take(job, result)

    def start(self) -> None:
        """Run what is shown."""
        if self.which.value == WALK:
            self.walk.start()
        else:
            self.state.start()

    def actions_offered(self) -> list[Action]:
        walks = lambda: self.which.value == WALK and self.walk.state.walked is not None  # noqa: E731
        return [Action("proving.run", "Run the line without the holdout, or walk", self.start, "Ctrl+Return", "proving"),
                Action("proving.line", "Proving: the line of gates", lambda: self.show_page(LINE), "Ctrl+1", "proving"),
                Action("proving.walk", "Proving: walk-forward", lambda: self.show_page(WALK), "Ctrl+2", "proving"),
                Action("proving.walk.keep", "Keep the dated strategy of the walk", lambda: self.walk.state.keep_dated(),
                       "Ctrl+K", "proving", walks),
                Action("proving.walk.due", "Make the fits that are due for the current strategy",
                       lambda: self.walk.state.extend_strategy(), "Ctrl+Shift+F", "proving"),
                Action("proving.variants", "Walk the variants of families too, or only their representatives",
                       self.variants.toggle, "V", "proving"),
                Action("proving.holdout", "Plan the opening for those that are ready; again: open it",
                       self.state.open_holdout, "Ctrl+H", "proving"),
                Action("proving.figures", "Show what the holdout showed of the chosen candidate that fell",
                       self.state.show_figures, "", "proving"),
                Action("proving.controls", "Add the controls that Luck lacks to judge ticked candidates",
                       self.state.add_controls, "Ctrl+J", "proving"),
                Action("proving.rates", "Measure how often the line is fooled", self.state.measure_rates, "", "proving"),
                *(Action(f"proving.gate.{g.key}", f"Gate: {g.title}", lambda key=g.key: self.choose_gate(key), "", "proving")
                  for g in GATES)]

    def activate(self) -> None:
        self.state.look()
        laid = self.session.laid
        if laid.prove:
            laid.prove = False
            self.show_page(LINE)
            self.state.start()

    def refresh(self) -> None:
        if self.isVisible():
            self.state.soon()

    def choose_gate(self, key: str) -> None:
        """Show a gate's figure and settings, in the place of a plan where one is shown."""
        self._fill_gate(key)
        self.beside.setCurrentWidget(self.page)

    def _fill_gate(self, key: str) -> None:
        line = self.state.line
        if line is None:
            return
        gate = next((g for g in (*line.gates, *GATES) if g.key == key), None)
        if gate is not None:
            self.funnel.choose(key)
            self.page.show_gate(gate, line)

    def _planned(self, plan: Plan | None) -> None:
        """Show a plan beside the candidates, or the gate again."""
        if plan is not None and plan.choices:
            self.opening.show_plan(plan)
            self.beside.setCurrentWidget(self.opening)
        else:
            self.beside.setCurrentWidget(self.page)
        self._say_open()

    def _say_open(self) -> None:
        line, plan = self.state.line, self.state.plan
        waiting = line.waiting if line is not None else 0
        what = "Open as planned" if plan is not None and plan.choices else "Plan the opening"
        self.open.setText(f"{what} for {number(waiting)}" if waiting else "Plan the opening")
        self.open.setEnabled(waiting > 0)

    def _say_why(self) -> None:
        text, done = QInputDialog.getText(self, "Why one market goes before another", "How that can be:")
        if done:
            self.state.answer_lead(text)

    def _say_tried(self) -> None:
        count, done = QInputDialog.getInt(self, "How many were tried", "Alternatives tried for each, before it came here:",
                                          1, 1, 2_000_000_000)
        if done:
            self.state.say_tried(count)

    def _save(self) -> None:
        name, done = QInputDialog.getText(self, "Save the line", "Name of this line:")
        if done:
            self.state.save_as(name)

    def _chosen(self, record: Standing) -> None:
        kept = self.session.shelf.body(record.line.id)
        if kept is not None:
            self.session.show_subject(Subject.of(kept))

    def _moved(self, line: LineOf) -> None:
        self.table.set_records(line.records)
        self.stack.setCurrentIndex(1 if line.ticked else 0)
        self.funnel.show_bands(line.bands, len(line.records))
        self.lines.clear()
        self.lines.addItems(list(line.names))
        self.lines.setCurrentText(line.line.name)
        self.variants.setText(f"variants too ({number(line.variants)})" if line.variants else "variants too")
        more = f", the first {number(len(line.records))} listed" if len(line.records) < line.ticked else ""
        self.title.setText(f"on {number(line.ticked)} ticked candidates{more}")
        asks = ""
        if line.waiting and line.spent == "portfolio":
            asks = (f" {number(line.waiting)} are ready and stay sealed; a portfolio of them is opened once, as a whole, and "
                    f"asks a t of daily results of {number(line.least_t, 2)}.")
        elif line.waiting == 1:
            asks = (f" Opening it for the one that is ready is opening {number(line.opening)}: it asks a t of daily results "
                    f"of {number(line.least_t, 2)}, and the verdict is final.")
        elif line.waiting:
            asks = (f" Opening it for the {number(line.waiting)} that are ready is opening {number(line.opening)}: all "
                    f"together, or a single one, must reach a t of daily results of {number(line.least_t, 2)}; near-twins "
                    "are one family. Plan it to see with what chance. Verdicts are final.")
        many = f"for {number(line.openings)} candidate{'s' if line.openings != 1 else ''} so far"
        self.note.setText(f"The holdout was opened {many if line.openings else 'for nobody yet'}.{asks}")
        self._say_rates(line)
        some = sum(len(ids) for _, ids in line.lacking.values())
        several = ", ".join(f"{number(n)} in all beside search {s}" for s, (n, _) in line.lacking.items())
        self.lacking.setText(f"Luck could not judge {number(some)} with so few controls; it needs {several}." if some else "")
        for part in (self.lacking, self.controls):
            part.setVisible(bool(some))
        self._say_open()
        asked = line.asked
        self.asks.setText(asked.words)
        self.asks.setVisible(bool(asked.words))
        for part, there in ((self.mine, asked.elsewhere), (self.not_mine, asked.elsewhere),
                            (self.why, asked.leads and not asked.elsewhere),
                            (self.how_many, asked.unknown and not asked.leads and not asked.elsewhere)):
            part.setVisible(bool(there))
        self.spent.setCurrentIndex(self.spent.findData(line.spent))
        self._fill_gate(self.funnel.chosen or self._first(line))

    def _say_rates(self, line: LineOf) -> None:
        rates = line.rates
        if rates is None:
            self.rates.setText("How often this line is fooled is not known.")
            return
        now = rates.under(line.line)
        if now is None:
            self.rates.setText("The line has changed since it was measured.")
        else:
            self.rates.setText(now[0].words() if now[1] else f"At most, since a gate asks less: {now[0].words()}")

    @staticmethod
    def _first(line: LineOf) -> str:
        """The gate at which most fell, else the first."""
        most = max(line.bands, key=lambda b: b.fell, default=None)
        return most.key if most is not None else ""
