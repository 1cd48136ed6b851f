"""The line of gates as a job: candidates one by one, every verdict into the dossier under the record it holds for."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.record import Record
from wolbrin.core.engine.run import backtest, need_bars, record_of
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.jobs import Chunk, Job, State
from wolbrin.core.market.bars import Span
from wolbrin.core.proving.gate import NOT_ENOUGH, PASSES, Case, Gate, Outcome
from wolbrin.core.proving.holdout import HoldoutGate
from wolbrin.core.proving.line import walk_line
from wolbrin.core.proving.luck import LuckGate
from wolbrin.core.proving.opening_plan import Plan
from wolbrin.core.search.candidate import Candidate, candidate_of
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.holdout import HoldoutBook
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.judging import finish_openings
from wolbrin.core.work.lines import gates_of
from wolbrin.core.work.openable import check_answered, check_openable, unanswered_of, unseen_by
from wolbrin.core.work.origins import Origins
from wolbrin.core.work.spending import check_opening
from wolbrin.core.work.standing import Standings, restand
from wolbrin.core.work.subject import Subject
from wolbrin.core.work.together import Pending, bet_of, chosen_of, open_together, planned
from wolbrin.core.work.twins import known_verdict
from wolbrin.core.work.walk_case import walk_case


@dataclass(frozen=True)
class Proved:
    """What came of one subject: outcomes gate by gate, the record they hold for, the candidate where it was run anew since
    its record could not be asked again, and a sentence where it could not be judged."""

    subject: Subject
    outcomes: tuple[Outcome, ...] = ()
    record: Record | None = None
    renewed: Candidate | None = None
    fault: str = ""


def subject_brief(footing: Footing, subject: Subject, history: Prepared) -> Brief:
    """The brief a subject is judged under: its record's, where it has one, as far as that span is still training."""
    present = footing.brief(history.bars.terms, subject.own)
    if subject.record is None or not subject.record.whole:
        return present
    asked = subject.record.brief
    border = footing.settings.of(None).model_copy(update={"most_months": None, "training_last": None}).training.last
    assert border is not None
    last = min(asked.span.last or border, border)
    return replace(asked, span=Span(asked.span.first, last), role="training")


def case_of(footing: Footing, subject: Subject, unseen: Span, origins: Origins | None = None) -> Case:
    """The case of a subject. unseen: the span of the holdout that no search has seen. origins: of the project, where luck is
    judged."""
    history = footing.histories.prepared(subject.market, subject.interval)
    origin = origins.of(subject.search, subject.market, subject.interval, subject.number) if origins is not None else None

    brief = subject_brief(footing, subject, history)

    def others() -> Sequence[tuple[Prepared, Brief]]:
        return tuple(_others(footing, subject))

    return Case(subject.strategy, history, brief, unseen, subject.tried, origin=origin, others=others,
                walk=partial(walk_case, footing, history, subject.strategy, brief),
                unanswered=partial(unanswered_of, footing, subject.strategy, history))


def _others(footing: Footing, subject: Subject) -> Iterator[tuple[Prepared, Brief]]:
    """Training histories of the market's other sources and of the other markets at a subject's interval, and of its own at
    half and twice that."""
    ground = footing.ground
    places: list[tuple[str, int, str | None]] = [(subject.market, subject.interval, s) for m, s, _ in ground.sources
                                                 if m == subject.market and s != ground.source_of(m)]
    places += [(m, subject.interval, None) for m, _ in ground.active if m != subject.market]
    places += [(subject.market, i, None) for i in (subject.interval // 2, subject.interval * 2) if i > 0]
    for market, interval, source in places:
        try:
            history = footing.histories.prepared(market, interval, source)
            brief = footing.brief(history.bars.terms)
            need_bars(history, brief.span)
        except WolbrinError:
            continue  # such as an interval that its bars cannot be made into
        yield history, brief


def prove_job(project: Project, subjects: list[Subject], *, open_holdout: bool, gates: Sequence[Gate] | None = None,
              all_gates: bool = False, notify: Callable[[Proved], None] = lambda proved: None, choice: str | None = None,
              anyway: bool = True, planned_as: Callable[[Plan, list[Pending]], None] = lambda plan, pending: None,
              plan_only: bool = False) -> Job:
    """Prepare the line for several subjects, under the settings as they are now. Verdicts that hold already are not asked
    again.

    Where the holdout is opened, everything that comes so far waits until the last subject was walked; then families are made,
    the plan is written down, and all are opened and judged at once. Stopped before, nothing is opened.

    gates: the line in use where None. all_gates: go on after a fall. notify: called after each subject on the job's thread,
    and once more when its holdout is judged. choice: which way to open (`Choice.key`), the proposed one where None. anyway:
    also where nothing has a fair chance. planned_as: told the plan before anything is opened. plan_only: open nothing.

    Raises:
        UserError: the holdout is to be opened, and is kept for a portfolio.
    """
    if open_holdout:
        check_opening(project, len(subjects), many=True)
    dossiers, footing, book = Dossiers(project), Footing.of(project), HoldoutBook(project)
    if open_holdout:
        check_answered(project)
        # An opening that was cut short is judged before anything else is.
        finish_openings(project, footing, holdout_gate_of(gates_of(project) if gates is None else gates))
    line, origins = gates_of(project) if gates is None else gates, Origins(project)
    standings, tried_on = Standings(project, line), Searches(project).tried()
    luck = next((g for g in line if isinstance(g, LuckGate)), LuckGate())
    waiting: list[tuple[Pending, HoldoutGate]] = []

    def wait(subject: Subject, case: Case, gate: HoldoutGate, record: Record) -> Outcome | None:
        """The verdict that holds already; else the case waits for the others."""
        known = known_verdict(project, footing, case, gate, name=subject.strategy.name)
        if known is None:
            case = replace(case, holdout=unseen_by(project, subject.market, subject.since, case.holdout),
                           origin=origins.of(subject.search, subject.market, subject.interval, subject.number),
                           tried_on=tried_on.get(subject.market, 0))
            check_openable(project, footing, case, subject.strategy.name)  # said before anything is opened
            waiting.append((Pending(subject, case, record, bet_of(case, luck)), gate))
        return known

    def work(subject: Subject) -> Proved:
        try:
            unseen = unseen_span(book, footing)
            case = case_of(footing, subject, unseen)
            need_bars(case.history, case.brief.span)
            record = record_of(case.history, subject.strategy, case.brief, tried=subject.tried)
            renewed, faults = None, list[str]()
            if subject.kept is not None and (subject.record is None or record.key != _comparable(subject.record)):
                renewed = candidate_of(backtest(case.history, subject.strategy, case.brief, detail=False),
                                       subject.strategy.name, "", subject.tried,
                                       subject.record.seeds if subject.record and subject.record.whole else ())
                record = renewed.record
            elif subject.record is not None and subject.record.whole:
                record = subject.record

            def opened(case: Case, gate: Gate) -> Outcome | None:
                assert isinstance(gate, HoldoutGate)
                try:
                    return wait(subject, case, gate, record)
                except WolbrinError as err:  # what was judged before it stays
                    faults.append(err.sentence())
                    return None

            held = standings.at(subject.key[0], subject.market, record).evidence
            known = {g: e.verdict == PASSES for g, e in held.items()}
            lacking = [g for g in line if g.key in held and held[g.key].verdict == NOT_ENOUGH]
            if lacking or any(g.key not in known and (open_holdout or not g.opens_holdout) for g in line):
                case = replace(case, origin=origins.of(subject.search, subject.market, subject.interval, subject.number),
                               tried_on=tried_on.get(subject.market, 0))
            known = {key: passed for key, passed in known.items()
                     if not any(g.key == key and g.asks_again(case, held[key].outcome) for g in lacking)}
            outcomes = walk_line(case, line, open_holdout=opened if open_holdout else None, all_gates=all_gates, known=known)
            return Proved(subject, tuple(outcomes), record, renewed, "".join(faults))
        except WolbrinError as err:
            return Proved(subject, fault=err.sentence())

    def keep(several: list[Proved]) -> None:
        with project.transaction():
            for proved in several:
                if proved.renewed is not None and proved.subject.kept is not None:
                    dossiers.renew(proved.subject.kept, proved.renewed)
                for outcome in proved.outcomes:
                    assert proved.record is not None
                    dossiers.testify(*proved.subject.key, outcome, proved.record)

    def commit(several: list[Proved], _: dict[str, Any]) -> None:
        keep(several)
        tell(several)

    def tell(several: list[Proved]) -> None:
        restand(project)
        for proved in several:
            notify(proved)

    def finish(state: State) -> None:
        if not waiting or state is not State.DONE:
            return
        pending = [p for p, _ in waiting]
        plan = planned(project, pending)
        planned_as(plan, pending)
        if plan_only or not plan.choices:
            return
        told = open_together(project, footing, pending, plan, chosen_of(plan, choice, anyway), waiting[0][1])
        tell([Proved(p.subject, (outcome,), p.record) for p, outcome in told])

    # One after the other where the holdout opens: near-twins of what fell fall in the order they are given in.
    return Job("Proving", "candidates", [Chunk(s) for s in subjects], work, commit=commit, finish=finish,
               width=1 if open_holdout else None)


def holdout_gate_of(gates: Sequence[Gate]) -> HoldoutGate:
    """The gate of a line that judges the sealed span."""
    return next((g for g in gates if isinstance(g, HoldoutGate)), HoldoutGate())


def _comparable(record: Record) -> str:
    """The key of a candidate's record with what a new record of the same run would say of its seeds."""
    return record.model_copy(update={"seeds": ()}).key if record.whole else ""


def unseen_span(book: HoldoutBook, footing: Footing) -> Span:
    """The sealed trading dates that no search of the project has seen.

    Raises:
        UserError: there are none.
    """
    settings = footing.settings
    first = book.unseen_first(settings.holdout_first)
    if first > settings.last:
        raise UserError(f"no sealed day is left that no search has seen (the data is used until {settings.last})", "holdout",
                        "Append newer history and set the end of the data later.")
    return Span(first, settings.last)
