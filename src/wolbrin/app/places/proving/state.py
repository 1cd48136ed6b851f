"""What the Proving place is about: where the ticked candidates stand on the line. Knows no widget."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from PySide6.QtCore import QObject, Signal

from wolbrin.app.candidates import REST
from wolbrin.app.fitting import fit_first
from wolbrin.app.session import Session
from wolbrin.app.soon import Soon
from wolbrin.app.tables.kept import Standing
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Job, State
from wolbrin.core.measures.wording import number
from wolbrin.core.proving.gate import FALLS, PASSES, Gate
from wolbrin.core.proving.line import Line, Step
from wolbrin.core.proving.opening_plan import LEAST_POWER, Plan
from wolbrin.core.store.found import variants_of_ticked
from wolbrin.core.store.holdout import t_for
from wolbrin.core.store.wanted import Wanted
from wolbrin.core.work.asking import Asked, asked_for, say_tried
from wolbrin.core.work.controls import more_controls_job
from wolbrin.core.work.controls import wanted as wanted_controls
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.judging import figures_of
from wolbrin.core.work.leads import answer_lead
from wolbrin.core.work.lines import find_line, line_of, save_line, saved_lines, use_line
from wolbrin.core.work.opening import holdout_gate
from wolbrin.core.work.proving import Proved, prove_job
from wolbrin.core.work.rates import Rates, RatesRequest, rates_job, read_rates
from wolbrin.core.work.spending import Spent, check_opening, spend_on, spent_on
from wolbrin.core.work.standing import READY, Standings, restand
from wolbrin.core.work.subject import Subject
from wolbrin.core.work.together import before_words

MOST = 2_000  # ticked candidates that are listed with their verdicts


@dataclass(frozen=True)
class Band:
    """One gate: entered, passed, fell, could not be judged; the rest are not asked yet."""

    key: str
    title: str
    threshold: str
    entered: int
    passed: int
    fell: int
    unsure: int
    sealed: bool


@dataclass(frozen=True)
class LineOf:
    """What is shown: the line and its gates, the names of all lines, verdicts of those listed, bands over them, ticked ones
    in all, and those that are ready. opening: number of the next one; openings: how many there were. rates: measured last on
    the market of the brief. least_t: t of daily results that a single one would need; spent: what the holdout is kept for.
    lacking: by search, how many controls in all the ticked ones need that Luck could not judge for want of them, and their
    Shelf ids. asked: what must be answered before anything is opened. variants: ticked ones that another ticked one
    represents."""

    line: Line
    names: tuple[str, ...]
    gates: tuple[Gate, ...]
    records: list[Standing]
    bands: list[Band]
    ticked: int
    waiting: int
    opening: int
    openings: int
    rates: Rates | None = None
    least_t: float = 0.0
    spent: Spent = "candidates"
    lacking: dict[int, tuple[int, list[int]]] = field(default_factory=dict)
    asked: Asked = Asked()
    variants: int = 0


def bands_of(records: list[Standing], gates: Sequence[Gate]) -> list[Band]:
    """How the line narrows, gate by gate."""
    bands, alive = [], records
    for gate in gates:
        judged = [r for r in alive if gate.key in r.evidence]
        passed = [r for r in judged if r.evidence[gate.key].verdict == PASSES]
        fell = sum(r.evidence[gate.key].verdict == FALLS for r in judged)
        unsure = len(judged) - len(passed) - fell
        bands.append(Band(gate.key, gate.title, gate.describe(), len(alive), len(passed), fell, unsure, gate.opens_holdout))
        alive = passed
    return bands


class ProvingState(QObject):
    """moved: a new `LineOf` is there. planned: the plan of an opening, or None when there is none any more."""

    moved = Signal(object)
    planned = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.session = session
        self.line: LineOf | None = None
        self.job: Job | None = None
        self._meant = 0  # so many were asked about
        self._shown = 0  # the candidate whose figures were asked about
        self.plan: Plan | None = None
        self.before = ""  # what was opened before on these markets, in words
        self.choice = ""  # which way to open
        self.variants = False  # whether variants of families are walked too
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
        market, interval = self.session.market, self.session.interval
        variants = self.variants

        def work() -> LineOf:
            line = line_of(project)
            gates = line.gates()
            restand(project, gates)
            wanted = Wanted(ticked=True, representatives=not variants)
            standings = Standings(project, gates)
            records, candidates = [], []
            for one, record in shelf.lines_with_records(shelf.ids(wanted)[:MOST].tolist()):
                candidates.append((one.id, record))
                place = standings.at(one.hash, one.market, record, since=one.created)
                records.append(Standing(one, place.evidence, place.words(gates)))
            waiting = shelf.count(Wanted(ticked=True, stands=READY))
            opening = project.book.next_batch()
            names = tuple(dict.fromkeys([*saved_lines(project), line.name]))
            rates = read_rates(project, market, interval) if market else None
            return LineOf(line, names, gates, records, bands_of(records, gates), shelf.count(wanted), waiting,
                          opening, project.openings(), rates, t_for(opening, 1),
                          spent_on(project), wanted_controls(project, [r.line.id for r in records]),
                          asked_for(project, Footing.of(project), candidates),
                          shelf.count(Wanted(ticked=True)) - shelf.count(Wanted(ticked=True, representatives=True)))

        def done(line: LineOf) -> None:
            if self.plan is not None and (self.plan.number != line.opening or len(self.plan.bets) != line.waiting):
                self._plan(None)  # it speaks of others
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

    # The line

    def _use(self, line: Line, text: str) -> None:
        """Judge by another line, undoably."""
        s = self.session
        before = line_of(s.project)

        def take(one: Line) -> None:
            use_line(s.project, one)
            s.evidence_changed.emit()
            self.look()

        try:
            line.gates()
        except UserError as err:
            s.note(err.sentence(), "error")
            return
        if line != before:
            s.do(text, lambda: take(line), lambda: take(before))

    def set_gate(self, key: str, settings: dict[str, Any]) -> None:
        """Other settings for a gate; verdicts under the old ones stay in the dossiers."""
        line = line_of(self.session.project)
        steps = [s.model_copy(update={"settings": settings}) if s.gate == key else s for s in line.steps]
        if not any(s.gate == key for s in steps):
            steps.append(Step(gate=key, settings=settings))
        self._use(line.model_copy(update={"steps": tuple(steps)}), "Change a gate")

    def switch(self, key: str, on: bool) -> None:
        """Take a gate into the line, or leave it out."""
        line = line_of(self.session.project)
        steps = [s.model_copy(update={"on": on}) if s.gate == key else s for s in line.steps]
        if not any(s.gate == key for s in steps):
            steps.append(Step(gate=key, on=on))
        self._use(line.model_copy(update={"steps": tuple(steps)}), "Take in a gate" if on else "Leave out a gate")

    def move(self, key: str, by: int) -> None:
        """Ask a gate earlier or later among those that are on."""
        line = line_of(self.session.project)
        keys = [s.gate for s in line.steps if s.on]
        if key not in keys or not 0 <= keys.index(key) + by < len(keys):
            return
        other = keys[keys.index(key) + by]
        steps = list(line.steps)
        at = {s.gate: i for i, s in enumerate(steps)}
        steps[at[key]], steps[at[other]] = steps[at[other]], steps[at[key]]
        self._use(line.model_copy(update={"steps": tuple(steps)}), "Move a gate")

    def choose_line(self, name: str) -> None:
        """Judge by a saved line."""
        if name != line_of(self.session.project).name:
            try:
                self._use(find_line(self.session.project, name), "Choose a line")
            except UserError as err:
                self.session.note(err.sentence(), "error")

    def save_as(self, name: str) -> None:
        """Keep the line in use under a name."""
        s = self.session
        line = line_of(s.project).model_copy(update={"name": name.strip()})
        try:
            save_line(s.project, line)
        except UserError as err:
            s.note(err.sentence(), "error")
            return
        self._use(line, "Save the line")
        s.note(f"The line is saved as {line.name}.")

    def measure_rates(self) -> None:
        """How often luck becomes ready on this line, on the market of the brief, in the background."""
        s = self.session
        if not s.market:
            return
        made = s.attempt(lambda: rates_job(s.project, RatesRequest(market=s.market, interval=s.interval)))
        if made is not None:
            s.start(made, "threads", lambda _: self.look())

    def start(self) -> None:
        """Judge every ticked candidate by all gates but the holdout."""
        self._run(Wanted(ticked=True, representatives=not self.variants), False, "Tick candidates on the Shelf first.")

    def walk_variants(self, on: bool) -> None:
        """Walk variants of families too, or of each only the one that represents it; variants of what is ticked are ticked
        with it."""
        self.variants = on
        if on:
            self.session.tick(variants_of_ticked(self.session.project))
        self.look()

    def add_controls(self) -> None:
        """Let as many controls run as Luck lacks to judge ticked candidates, one search after the other, and judge again."""
        s, line = self.session, self.line
        if line is None or not line.lacking:
            s.note("Luck lacks no controls: none of the ticked ones waits for them.", "caution")
            return
        if self.running:
            s.note("The line is running; stop it first.", "caution")
            return
        self._next_controls(list(line.lacking.items()), [])

    def _next_controls(self, left: list[tuple[int, tuple[int, list[int]]]], ids: list[int]) -> None:
        s = self.session
        if not left:
            self._judge(lambda: [Subject.of(k) for k in s.shelf.bodies(ids)], False, "")
            return
        (search, (needed, some)), rest = left[0], left[1:]

        def over(job: Job) -> None:
            if job.state is State.DONE:
                self._next_controls(rest, [*ids, *some])
            else:
                self._over(job)

        def begin(job: Job) -> None:
            if not self.running:
                self.job = s.start(job, "threads", over)

        s.compute("Prepare further controls", lambda: more_controls_job(s.project, search, needed), begin)

    def keep_holdout_for(self, what: Spent) -> None:
        """For candidates one by one, or for a portfolio as a whole."""
        s, before = self.session, spent_on(self.session.project)

        def take(one: Spent) -> None:
            spend_on(s.project, one)
            self.look()

        if what != before:
            s.do("Keep the holdout", lambda: take(what), lambda: take(before))

    def open_holdout(self) -> None:
        """Plan the opening for those that are ready, which opens nothing; asked again, open as planned. Every opening is
        counted for good. Very many, and what has hardly a chance, are asked about once more."""
        s, line = self.session, self.line
        waiting = line.waiting if line is not None else 0
        try:
            check_opening(s.project, waiting, many=self._meant == waiting > 0)
        except UserError as err:
            if spent_on(s.project) != "portfolio":
                self._meant = waiting
                s.note(f"{err.sentence()} To do it all the same, press again.", "caution")
            else:
                s.note(err.sentence(), "caution", err.door)
            return
        none = "No ticked candidate is ready: run the line first."
        if self.plan is None or not self.plan.choices:
            wanted = Wanted(ticked=True, stands=READY)
            fit_first(s, lambda: [Subject.of(k) for k in s.shelf.bodies(s.shelf.ids(wanted).tolist())
                                  if k.candidate.strategy.schedule is not None],
                      lambda: self._run(wanted, True, none, plan_only=True))
            return
        choice = self.plan.choice(self.choice) or self.plan.proposed
        if not choice.chance >= LEAST_POWER and self._meant != -waiting:
            self._meant = -waiting
            s.note(f"The chance that anything stands is {number(100 * choice.chance)}%: this opening would hardly tell an "
                   "edge from none, and is counted all the same. To open it anyway, press again.", "caution")
            return
        self._meant = 0
        self._run(Wanted(ticked=True, stands=READY), True, none)

    def choose(self, key: str) -> None:
        """Which way to open."""
        self.choice = key

    def leave_sealed(self) -> None:
        """Forget the plan; nothing was opened."""
        self._plan(None)

    def _plan(self, plan: Plan | None, before: str = "") -> None:
        self.plan, self.before = plan, before
        self.choice = plan.proposed.key if plan is not None and plan.choices else ""
        self.planned.emit(plan)

    # Answers

    def answer_elsewhere(self, mine: bool) -> None:
        """Say whether openings of the same bars in other projects were one's own."""
        self._answer(lambda: self.session.project.journal.answer(mine))

    def answer_lead(self, because: str) -> None:
        """Say why one market goes before another."""
        line = self.line
        if line is not None and line.asked.leads:
            one = line.asked.leads[0]
            self._answer(lambda: answer_lead(self.session.project, one.other, one.traded, because))

    def say_tried(self, tried: int) -> None:
        """Say how many were tried for the candidates of which nothing says it."""
        line = self.line
        if line is not None and line.asked.unknown:
            ids = line.asked.unknown
            self._answer(lambda: say_tried(self.session.project, ids, tried))

    def _answer(self, act: Callable[[], object]) -> None:
        """Write an answer down beside the window, and look again."""
        self.session.compute("Write an answer down", act, lambda _: self._answered())

    def _answered(self) -> None:
        for signal in (self.session.evidence_changed, self.session.counts_changed):
            signal.emit()
        self.look()

    def show_figures(self) -> None:
        """Show what sealed bars showed of the candidate that is shown, where it does not stand; asked about once more, since
        it has a price."""
        s, subject = self.session, self.session.subject
        if subject is None or subject.kept is None:
            s.note("Choose a candidate that was opened and does not stand.", "caution")
            return
        if self._shown != subject.kept:
            self._shown = subject.kept
            s.note(f"Whatever is kept on {subject.market} after that can become ready and no more, until there are bars that "
                   "nobody has seen. To see the figures all the same, ask again.", "caution")
            return
        self._shown = 0
        hash, market, _ = subject.key

        def work() -> str:
            try:
                return figures_of(s.project, Footing.of(s.project), holdout_gate(s.project), market, hash).reason
            except UserError as err:
                return err.sentence()

        def done(words: str) -> None:
            s.note(words, "caution")
            self._answered()

        s.compute("Figures of what fell", work, done)

    def _run(self, wanted: Wanted, holdout: bool, none: str, plan_only: bool = False) -> None:
        s = self.session
        if self.running:
            s.note("The line is running; stop it first.", "caution")
            return
        self._judge(lambda: [Subject.of(k) for k in s.shelf.bodies(s.shelf.ids(wanted).tolist())], holdout, none, plan_only)

    def _judge(self, asked: Callable[[], list[Subject]], holdout: bool, none: str, plan_only: bool = False) -> None:
        s, choice = self.session, self.choice or None
        planned = s.on_ui(lambda told: self._plan(*told))

        def work() -> Job | None:
            restand(s.project)
            subjects = asked()
            if not subjects:
                return None
            return prove_job(s.project, subjects, open_holdout=holdout, notify=s.on_ui(self._proved), choice=choice,
                             plan_only=plan_only, planned_as=lambda plan, waiting: planned(
                                 (plan, before_words(s.project, waiting))) if plan_only else None)

        def begin(job: Job | None) -> None:
            if job is None:
                s.note(none, "caution")
            elif not self.running:
                self.job = s.start(job, "threads", self._over)
                if holdout and not plan_only:
                    self._plan(None)

        s.compute("Prepare the line", work, begin)

    def _over(self, _: Job) -> None:
        for signal in (self.session.evidence_changed, self.session.shelf_changed, self.session.counts_changed):
            signal.emit()
        self.look()

    def _proved(self, proved: Proved) -> None:
        if proved.fault:
            self.session.note(f"{proved.subject.strategy.name}: {proved.fault}", "caution")
        self.session.evidence_changed.emit()
