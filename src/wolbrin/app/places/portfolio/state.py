"""What the Portfolio place is about: the ticked candidates on an account. Knows no widget."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

from pydantic import ValidationError
from PySide6.QtCore import QObject, QTimer, Signal

from wolbrin.app.fitting import fit_first
from wolbrin.app.session import Session
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.export.portfolio_report import report_steps
from wolbrin.core.export.steps import export_job
from wolbrin.core.faults import explain
from wolbrin.core.jobs import Job
from wolbrin.core.portfolio.choosing import Choice
from wolbrin.core.portfolio.contributions import Change
from wolbrin.core.portfolio.plan import Plan
from wolbrin.core.portfolio.told import Told
from wolbrin.core.portfolio.weighing import Table
from wolbrin.core.portfolio.weights import OWN
from wolbrin.core.proving.gate import Outcome
from wolbrin.core.store.portfolios import Portfolios, Saved
from wolbrin.core.store.shelf import Kept
from wolbrin.core.work.portfolio_files import ReadBack, read_portfolio, write_portfolio
from wolbrin.core.work.portfolio_find import CONTROLS, Asked, Found, ask, chosen_plan, find_job
from wolbrin.core.work.portfolio_pieces import Others, changes_job, others_of, told_of, units_of, weigh_job
from wolbrin.core.work.portfolios import Desk, desk_of, kept_of, plan_of, share_in, weights_of
from wolbrin.core.work.standing import READY, STANDS, Standings, proved_ids, restand
from wolbrin.core.work.subject import Subject
from wolbrin.core.work.whole import open_portfolio, portfolio_figures, seen_members, verdict_on

MOST = 60
DRAFT = "portfolio draft"
FIND = "find"
PAINTED = 60  # milliseconds
STILL = "The portfolio is still being traded; try again when it is done."


class PortfolioState(QObject):
    """emptied: nothing is ticked; shown: the portfolio was traded anew; failed: it cannot be, with the reason; planned: its
    settings changed; weighed, taken_apart, found: more is known of it; taking_apart: that begins; saved: the saved ones
    changed; busy: work began or ended."""

    emptied = Signal()
    shown = Signal()
    failed = Signal(str)
    planned = Signal()
    weighed = Signal()
    taking_apart = Signal()
    taken_apart = Signal()
    found_some = Signal()
    saved = Signal()
    busy = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.kept: list[Kept] = []
        self.plan = Plan(members=())
        self.told: Told | None = None
        self.table: Table | None = None
        self.without: list[Change] = []
        self.added: list[Change] = []
        self.waiting: list[tuple[str, int, str]] = []  # of one less, one more: what, its place, whose
        self.found: Found | None = None
        self.standing: list[str] = []
        self.seen: tuple[str, ...] = ()
        self.verdict = ""
        self.jobs: dict[str, Job] = {}
        self.trading = False
        self._meant: Plan | None = None  # whose holdout was asked for once
        self._shown = ""  # the portfolio whose figures were asked about
        self.markets: tuple[str, ...] = ()
        self._wanted: Any = None
        try:
            self.plan = Plan.model_validate(session.project.get_value(DRAFT, {"members": []}))
        except ValidationError:
            self.plan = Plan(members=())

    # The portfolio itself

    @property
    def currency(self) -> str:
        """Of the account."""
        return self.session.settings.currency

    @property
    def capital(self) -> float:
        """Of the account."""
        return self.plan.capital or self.session.settings.capital

    def look(self) -> None:
        """Trade the ticked candidates, unless that is shown."""
        s = self.session
        ids = s.shelf.ticked()
        if not ids:
            self._wanted = self.told = None
            self.trading = False
            self.emptied.emit()
            return
        if len(ids) > MOST:
            s.note(f"A portfolio of more than {MOST} strategies is not shown; untick some, or choose a few under find.",
                   "caution")
            ids = ids[:MOST]
        wanted = tuple(ids), s.settings.model_dump_json()
        if wanted != self._wanted:
            self._wanted = wanted
            self.kept = s.shelf.bodies(ids)
            self._take(plan_of(self.kept, old=self.plan))

    def change(self, **settings: Any) -> bool:
        """Other settings of the portfolio. Returns whether they can be."""
        return self._changed(self.plan.model_dump() | settings)

    def change_member(self, at: int, **fields: Any) -> bool:
        """Other fields of a member, by its place. A share of the user's own is no scheme's."""
        data = self.plan.model_dump()
        data["members"] = [m | fields if i == at else m for i, m in enumerate(data["members"])]
        if "share" in fields:
            shares = iter(self.plan.split.tolist())
            for i, (m, old) in enumerate(zip(data["members"], self.plan.members)):
                if old.on and i != at:
                    m["share"] = next(shares)
                elif old.on:
                    next(shares)
            data["weights"] = OWN
        return self._changed(data)

    def _changed(self, data: dict[str, Any]) -> bool:
        try:
            after = Plan.model_validate(data)
        except ValidationError as err:
            self.session.note(explain(err, "portfolio").sentence(), "caution")
            self.planned.emit()  # so that what is shown is what holds
            return False
        self._settle(after)
        return True

    def _settle(self, after: Plan) -> None:
        """Take other settings, undoably; whoever is ticked then stays in it."""
        before = self.plan
        if after != before:
            self.session.do("Change the portfolio", lambda: self._take(plan_of(self.kept, old=after)),
                            lambda: self._take(plan_of(self.kept, old=before)))

    def _take(self, plan: Plan) -> None:
        self.plan = plan
        self.session.remember(DRAFT, plan.model_dump(mode="json"))
        self.table, self.without, self.added, self.waiting = None, [], [], []
        for what in set(self.jobs) - {FIND}:  # they were about what it was before
            self.jobs[what].stop()
        self.trading = True
        self.planned.emit()
        self._trade()

    def _trade(self) -> None:
        s, plan, wanted, kept, markets = self.session, self.plan, self._wanted, self.kept, self.markets

        def work() -> tuple[Told, list[str], tuple[str, ...], str]:
            told = told_of(desk_of(s.project, plan), markets)
            standings = Standings(s.project)
            return (told, [standings.of(k).stands for k in kept], tuple(seen_members(s.project, kept)),
                    verdict_on(s.project, [k.id for k in kept]))

        def over() -> bool:
            """Whether it is still the one that is looked at; it is traded now."""
            still = wanted == self._wanted and plan is self.plan
            self.trading = self.trading and not still
            return still

        def show(made: tuple[Told, list[str], tuple[str, ...], str]) -> None:
            if over():
                self.told, self.standing, self.seen, self.verdict = made
                self.shown.emit()

        def failed(why: WolbrinError) -> None:
            if over():
                self.told = None
                self.failed.emit(why.sentence())

        s.compute("Trade the portfolio", work, show, "portfolio", failed)

    def tick_best(self) -> None:
        """Tick the distinct candidates, or those that stand."""
        s = self.session
        ids = s.project.get_value("distinct", []) or proved_ids(s.project)
        if not ids:
            s.note("Nothing is proved yet; run the line in Proving, or tick candidates on the Shelf.", "caution")
            s.place_wanted.emit("proving")
            return
        s.select(ids)

    def size_for_all(self) -> None:
        """Take the smallest size at which every member trades at least its smallest lot."""
        if self.told is not None:
            size = self.told.played.least_size
            if size == size:
                self.change(size=size)

    # Weights, and one member less or more

    def _desk(self) -> Desk | None:
        return self.session.attempt(lambda: desk_of(self.session.project, self.plan)) if self.plan.on else None

    def use_scheme(self, key: str) -> None:
        """Take the shares of a scheme."""
        desk = self._desk()
        if desk is None:
            return
        plan = self.plan

        def done(made: Plan) -> None:
            if plan is self.plan:
                self._settle(made)

        def refused(why: WolbrinError) -> None:
            self._caution(why)
            self.planned.emit()

        self.session.compute("Weigh members", lambda: weights_of(desk, key), done, "weights", refused)

    def weigh(self) -> None:
        """Put all schemes beside each other, walked forward."""
        desk, plan = self._desk(), self.plan
        if desk is not None:
            def there(table: Table) -> None:
                if plan is self.plan:
                    self.table = table
                    self.weighed.emit()

            self._start("weigh", weigh_job(desk, self.session.on_ui(there)))

    def take_apart(self) -> None:
        """Trade the portfolio without each of its members, and with each of those that may join."""
        s, plan = self.session, self.plan
        self.without, self.added, self.waiting = [], [], []

        def one(unit: tuple[str, int], change: Change) -> None:
            if plan is self.plan:
                (self.without if unit[0] == "without" else self.added).append(change)
                self.waiting = self.waiting[1:]
                self.taken_apart.emit()

        def begin(others: Others) -> None:
            if plan is self.plan:
                self.waiting = units_of(others)
                self.taking_apart.emit()
                # Once the rows are painted: a whole table beside work that holds the interpreter takes several times as long.
                QTimer.singleShot(PAINTED, self, lambda: start(others))

        def start(others: Others) -> None:
            if plan is self.plan:
                self._start("apart", changes_job(others, s.on_ui(one)))

        s.compute("Ready the changes", lambda: others_of(s.project, desk_of(s.project, plan)), begin, "changes",
                  self._caution)

    def _caution(self, why: WolbrinError) -> None:
        self.session.note(why.sentence(), "caution")

    def _start(self, what: str, job: Job) -> None:
        """Begin long work; of a kind of it only the newest goes on."""
        if what in self.jobs:
            self.jobs[what].stop()
        self.jobs[what] = job
        self.session.start(job, "threads", partial(self._ended, what))
        self.busy.emit()

    def _ended(self, what: str, job: Job) -> None:
        if self.jobs.get(what) is job:
            del self.jobs[what]
        self.busy.emit()

    def leave_out(self, at: int) -> None:
        """Really leave a member out: by its place among those that are on."""
        self._settle(self.plan.without(at))

    # Finding

    def find(self, choice: Choice, controls: int = CONTROLS, standing: str = "proved") -> None:
        """Choose k of the proved candidates, or of the ticked ones."""
        s, settings = self.session, self.plan
        ids = s.shelf.ticked()

        def work() -> Asked:
            if standing != "ticked":
                restand(s.project)
                ids[:] = [r["id"] for r in s.project.rows("SELECT id FROM candidates WHERE stands IN (?, ?) ORDER BY "
                                                          "m_return_drawdown DESC, id", READY, STANDS)]
            return ask(s.project, ids, choice, settings)

        def there(found: Found) -> None:
            self.found = found
            self.found_some.emit()
            s.counts_changed.emit()

        def begin(request: Asked) -> None:
            self._start(FIND, find_job(s.project, ids, request, s.on_ui(there), controls))

        s.compute("Ready the search", work, begin, "find portfolios", self._caution)

    def take_found(self, at: int) -> None:
        """Make one of the combinations found the portfolio."""
        found = self.found
        if found is None:
            return
        plan = chosen_plan(found.plan, found.chosen.members[at].tolist(), found.tried)
        self._load(plan.model_copy(update={"name": self.plan.name}))

    def _load(self, plan: Plan) -> None:
        kept = self.session.attempt(lambda: kept_of(self.session.project, plan, every=True))
        if kept is None:
            return
        self.plan = plan_of(kept, old=plan)
        self._wanted = None
        self.session.select([k.id for k in kept])
        self.look()

    # Saved ones

    def saved_ones(self) -> list[Saved]:
        """Oldest first."""
        return Portfolios(self.session.project).all()

    def save(self, name: str) -> bool:
        """Keep the portfolio under a name; False, with a note, where there is none."""
        s, told = self.session, self.told
        if told is None or self.trading:
            s.note("There is no portfolio to save yet." if told is None else STILL, "caution")
            return False
        named = self.session.attempt(lambda: self._named(name))
        if named is None:
            return False
        kept = s.attempt(lambda: Portfolios(s.project).keep(named, told.figures, told.records))
        if kept is None:
            return False
        self.plan = named.model_copy(update={"name": kept})
        s.note(f"{kept} saved with {len(named.on)} strategies.")
        s.counts_changed.emit()
        self.saved.emit()
        return True

    def _named(self, name: str) -> Plan:
        try:
            return Plan.model_validate(self.plan.model_dump() | {"name": " ".join(name.split()) or "Portfolio"})
        except ValidationError as err:
            raise explain(err, "name") from None

    def open_saved(self, one: Saved) -> None:
        """Make a saved portfolio the one that is looked at."""
        self._load(one.plan)

    def add_saved(self, one: Saved) -> None:
        """Let the members of a saved portfolio join, together as much as each of those that are in it."""
        joined = self.session.attempt(lambda: share_in(self.plan, one.plan))
        if joined is not None:
            self._load(joined)

    def verdict_of(self, one: Saved) -> str:
        """What the holdout said of a saved portfolio; "" before it was opened."""
        return verdict_on(self.session.project, [m.candidate for m in one.plan.on])

    def hold(self, markets: tuple[str, ...]) -> None:
        """Compare with buying and holding these markets; none for those of the members."""
        self.markets = markets
        if self.told is not None:
            self._trade()

    def remove_saved(self, one: Saved) -> None:
        """Forget it."""
        self.session.attempt(lambda: Portfolios(self.session.project).remove(one.id))
        self.session.counts_changed.emit()
        self.saved.emit()

    def write_report(self, path: Path) -> None:
        """Write the report, with what is known of weights and of one member less or more."""
        if self.trading:
            self.session.note(STILL, "caution")
        elif self.told is not None:
            self.session.start(export_job(path, report_steps(self.told, path, self.currency, self.without, self.added,
                                                             self.table)), "threads")

    def write_file(self, path: Path) -> None:
        """Write the portfolio with its strategies, to take elsewhere."""
        def write() -> bool:
            write_portfolio(self.session.project, self.plan, path)
            return True

        if self.session.attempt(write):
            self.session.note(f"Written to {path}.")

    def read_file(self, path: Path) -> None:
        """Read a portfolio back; its strategies join the Shelf."""
        s = self.session

        def done(back: ReadBack) -> None:
            s.note(f"{back.plan.name} read, {len(back.new)} of its {len(back.plan.members)} strategies new on the Shelf.")
            s.shelf_changed.emit()
            self._load(back.plan)

        s.compute("Read the portfolio", lambda: read_portfolio(s.project, path), done)

    def show_figures(self, name: str) -> None:
        """Show what sealed bars showed of a portfolio that fell as a whole; asked about once more, since it has a price."""
        s = self.session
        if self._shown != name:
            self._shown = name
            s.note(f"Whatever is kept on the markets of {name} after that can become ready and no more, until there are bars "
                   "that nobody has seen. To see the figures all the same, ask again.", "caution")
            return
        self._shown = ""

        def work() -> str:
            try:
                return str(portfolio_figures(s.project, name)["reason"])
            except UserError as err:
                return err.sentence()

        def done(words: str) -> None:
            s.note(words, "caution")
            s.evidence_changed.emit()
            self._trade()

        s.compute("Figures of what fell", work, done)

    def open_holdout(self, name: str) -> None:
        """Open the holdout once for the whole; counted, and final. What can be opened is asked about once more."""
        s = self.session
        if self.told is None or self.trading:
            s.note("There is no portfolio to open yet." if self.told is None else STILL, "caution")
            return
        plan = self.session.attempt(lambda: self._named(name))
        if plan is None:
            return
        ready = all(x == READY for x, m in zip(self.standing, self.plan.members) if m.on)
        if ready and self._meant is not self.plan:
            self._meant = self.plan
            s.note(f"The sealed bars are opened once for these {len(plan.on)} members together, and of none of them can "
                   "anything be told after that. To open them, press again.", "caution")
            return
        self._meant = None

        def done(found: Outcome) -> None:
            s.note(f"{plan.name} {'stands' if found.passed else 'falls'} in the holdout: {found.reason}")
            for signal in (s.evidence_changed, s.shelf_changed, s.counts_changed):
                signal.emit()
            self._trade()

        fit_first(s, lambda: [Subject.of(k) for k in kept_of(s.project, plan) if k.candidate.strategy.schedule is not None],
                  lambda: s.compute("Open the holdout", lambda: open_portfolio(s.project, plan), done))

