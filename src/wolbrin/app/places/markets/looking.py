"""The work behind the import page, in the background: guessing layouts, reading, judging, taking in. It shows nothing."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Signal

from wolbrin.app.session import Session
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.jobs import Job, State
from wolbrin.core.market.findings import Finding
from wolbrin.core.market.importing.append import Joined
from wolbrin.core.market.importing.files import Piece, pieces
from wolbrin.core.market.importing.layout import Layout
from wolbrin.core.market.importing.read import Imported
from wolbrin.core.market.terms import Terms
from wolbrin.core.work.importing import known_clock_of, known_rows, read_job, weigh
from wolbrin.core.work.looking import (
    Judged,
    Opened,
    Wishes,
    judge_all,
    judge_months,
    look_job,
    open_files,
    reopened,
)
from wolbrin.core.work.starting import (
    Spans,
    add_first_strategy,
    likely_rule,
    spans_for,
    take_in_every,
    take_in_months,
)

# What options of the command line are called among what was said of a market.
ANSWERS = {"--zone": "zone", "--stamp": "stamp", "--point-value": "point_value", "--spread-unit": "spread_unit",
           "kind": "kind",
           "exchange": "exchange"}


class Looking(QObject):
    """Files that are looked into. Each request supersedes the one before.

    Signals: opened_all, when layouts are guessed; month_judged, when a contract month has shown the layout of all;
    read_over(sentence), when reading ended, empty when it went well; judged_over; refused(sentence), when files cannot be
    looked into or judged; taken(source, rows, remarks), when all is in the project; not_taken(sentence).
    """

    opened_all = Signal()
    read_over = Signal(str)
    judged_over = Signal()
    month_judged = Signal()
    refused = Signal(str)
    taken = Signal(object, int, object)
    not_taken = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.found: list[Piece] = []
        self.opened: list[Opened] = []
        self.judged: list[Judged] = []
        self.months: list[tuple[str, Imported]] = []  # contract months, each read for itself
        self.read_under: Layout | None = None  # how they were read
        self.month: Judged | None = None  # what they show of zone and terms
        self.spans: Spans | None = None
        self.wishes = Wishes()
        self.answers: dict[str, dict[str, Any]] = {}  # by market, what the user has said of it; see ANSWERS
        self.code_said = ""
        self.job: Job | None = None
        self.judging = False  # what is judged is about to be another
        self._asked = 0

    @property
    def busy(self) -> bool:
        return self.job is not None and not self.job.state.over

    @property
    def all_read(self) -> bool:
        return bool(self.opened) and all(o.read is not None for o in self.opened)

    def forget(self) -> None:
        """Drop everything; what runs is stopped."""
        self._asked += 1
        self.judging = False
        if self.job is not None:
            self.job.stop()
            self.job = None
        self.found, self.opened, self.judged, self.months, self.month = [], [], [], [], None
        self.spans, self.code_said = None, ""
        self.wishes, self.answers = Wishes(), {}

    def stale(self) -> None:
        """The rows have to be read again, under another layout."""
        self._asked += 1
        self.judging = False
        self.judged, self.months = [], []

    def open(self, paths: list[Path]) -> None:
        """Find the files and guess their layouts. (Folders may be deep, and workbooks are read to know what they are.)"""
        self.forget()
        asked = self._asked

        def work() -> tuple[list[Piece], list[Opened]] | WolbrinError:
            try:
                found = pieces(paths)
                return found, open_files(found, Wishes())
            except WolbrinError as err:
                return err

        def done(made: tuple[list[Piece], list[Opened]] | WolbrinError) -> None:
            if asked == self._asked:
                if isinstance(made, WolbrinError):
                    self.refused.emit(made.sentence())
                else:
                    self.found, self.opened = made
                    self.opened_all.emit()

        self.session.compute("Look into files", work, done)

    def answer(self, code: str, option: str, value: str) -> None:
        """Remember what the user has said of a market."""
        field = ANSWERS[option]
        self.answers.setdefault(code, {})[field] = float(value) if field == "point_value" else value

    def said(self, code: str, option: str) -> Any:
        """What the user has said of a market with an option; None where nothing."""
        return self.answers.get(code, {}).get(ANSWERS[option])

    def wishes_of(self, code: str, base: Wishes) -> Wishes:
        """What was said of a market, over what holds for all."""
        mine = self.answers.get(code, {})
        clock = {k: v for k, v in mine.items() if k in ("zone", "stamp")}
        return replace(base, **clock, said=replace(base.said, **{k: v for k, v in mine.items() if k not in clock}))

    def settle(self, option: str, value: str) -> None:
        """A question about the layout was answered; it is not asked again."""
        for o in self.opened:
            o.guess = replace(o.guess, findings=tuple(
                Finding(f.what, value, "As you said.") if f.option == option else f for f in o.guess.findings))

    def read(self, layout: Layout, months: bool, at: int = 0) -> None:
        """Read everything; layout: of the market at `at`, and of those in the same files. Others keep their own."""
        outcome: list[Any] = []
        self.read_under = layout
        if months:
            job = self.session.attempt(lambda: read_job(self.found, layout, outcome.append, True))
        else:
            mine = self.opened[at].pieces
            again = [reopened(o, layout if o.pieces is mine else o.reader.layout) for o in self.opened]
            job = self.session.attempt(lambda: look_job(self.found, self.wishes, outcome.append, again))
        if job is None:
            return
        self.job = job

        def over(done: Job) -> None:
            if done is not self.job:
                return
            self.job = None
            if done.state is State.DONE and outcome:
                if months:
                    self.months = outcome[0]
                else:
                    self.opened = outcome[0]
                self.read_over.emit("")
                return
            error = done.error
            self.read_over.emit("Stopped; nothing was kept." if error is None else
                                error.sentence() if isinstance(error, WolbrinError) else str(error))

        self.session.start(job, "threads", over)

    def judge(self, target: Terms | None, source: str) -> None:
        """Decide zone, end of the bar and terms; target: of the market that is there already, into which the files go."""
        if not self.all_read:
            return
        self._asked += 1
        self.judging = True
        asked, opened, project = self._asked, list(self.opened), self.session.project
        one = len({o.code for o in opened}) == 1
        target = target if one else None
        wishes = replace(self.wishes, terms=target, currency=self.session.settings.currency,
                         code=(target.code if target else self.code_said) if one else "")

        def work() -> tuple[Spans | None, list[Judged]] | WolbrinError:
            try:
                spans = spans_for(project, opened)
                border = spans.border if spans else project.settings.holdout_first
                told = replace(wishes, border=border, old=known_rows(project, target.code, source) if target else None,
                               before=known_clock_of(project, target.code, source) if target else "")
                return spans, judge_all(opened, lambda code: self.wishes_of(code, told))
            except WolbrinError as err:
                return err

        def done(made: tuple[Spans | None, list[Judged]] | WolbrinError) -> None:
            if asked != self._asked:
                return
            self.judging = False
            if isinstance(made, WolbrinError):
                self.judged = []
                self.refused.emit(made.sentence())
            else:
                self.spans, self.judged = made
                self.judged_over.emit()

        self.session.compute("Judge the files", work, done)

    def judge_month(self, target: Terms | None) -> None:
        """Decide zone, end of the bar and terms of contract months by all of them, before each is read for itself."""
        self._asked += 1
        self.judging = True
        asked, opened = self._asked, self.opened[0]
        wishes = replace(self.wishes, terms=target, currency=self.session.settings.currency, code=self.code_said,
                         border=self.session.project_settings.holdout_first)

        def work() -> Judged | WolbrinError:
            try:
                return judge_months(opened, self.wishes_of(opened.code, wishes))
            except WolbrinError as err:
                return err

        def done(made: Judged | WolbrinError) -> None:
            if asked != self._asked:
                return
            self.judging = False
            if isinstance(made, WolbrinError):
                self.refused.emit(made.sentence())
            else:
                self.month = made
                self.month_judged.emit()

        self.session.compute("Judge a contract month", work, done)

    def weigh(self, market: str, source: str, imported: Imported, then: Any) -> None:
        """Compare rows with a source that is there; then(joined or error)."""
        project = self.session.project

        def work() -> Joined | WolbrinError:
            try:
                return weigh(project, market, source, imported.raw)
            except WolbrinError as err:
                return err

        self.session.compute("Compare with the source", work, then)

    def take(self, source: str, keep: str) -> None:
        """Keep what was judged: every market whole, or none of it. The first history gets a first strategy."""
        project, judged, spans = self.session.project, list(self.judged), self.spans
        first = not self.session.markets

        def work() -> Any:
            made, remarks = take_in_every(project, judged, source, keep, spans)
            if first and not project.strategies():
                add_first_strategy(project, judged[0].code)
            return made, sum(len(j.imported.raw) for j in judged), remarks

        self._take(work)

    def take_months(self, terms: Terms, layout: Layout, keep: str) -> None:
        """Keep contract months, each as a source of its own, and join them where their rows tell how."""
        project, read = self.session.project, list(self.months)
        assumed = self.month.assumed if self.month is not None else ()
        first = not self.session.markets
        origin = ", ".join(p.name for p in self.found[:20])

        def work() -> Any:
            try:
                rule, lack = likely_rule(read), []
            except UserError as err:
                rule, lack = None, [f"{err.what[0].upper()}{err.what[1:]}: join them here, by days or dates."]
            made, notes = take_in_months(project, terms, read, layout, origin, keep, assumed, rule)
            if first and rule is not None and not project.strategies():
                add_first_strategy(project, terms.code)
            return made, sum(len(i.raw) for _, i in read), [*lack, *(f"{n[0].upper()}{n[1:]}." for n in notes)]

        self._take(work)

    def _take(self, work: Any) -> None:
        def safely() -> Any:
            try:
                return work()
            except WolbrinError as err:
                return err

        def done(made: Any) -> None:
            if isinstance(made, WolbrinError):
                self.not_taken.emit(made.sentence())
            else:
                self.taken.emit(*made)

        self.session.compute("Take in", safely, done)
