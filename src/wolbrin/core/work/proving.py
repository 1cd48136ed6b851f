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
from wolbrin.core.proving.against_luck import LuckGate
from wolbrin.core.proving.gate import NOT_ENOUGH, PASSES, Case, Gate, Origin, Outcome
from wolbrin.core.proving.holdout import HoldoutGate
from wolbrin.core.proving.line import walk_line
from wolbrin.core.search.candidate import Candidate, candidate_of
from wolbrin.core.store.dossier import Dossiers, Evidence
from wolbrin.core.store.holdout import HoldoutBook
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.judging import Batch, decide, judge
from wolbrin.core.work.lines import gates_of
from wolbrin.core.work.origins import Origins
from wolbrin.core.work.spending import check_opening
from wolbrin.core.work.standing import Standings, restand
from wolbrin.core.work.subject import Subject
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
                walk=partial(walk_case, footing, history, subject.strategy, brief))


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
              all_gates: bool = False, notify: Callable[[Proved], None] = lambda proved: None) -> Job:
    """Prepare the line for several subjects, under the settings as they are now. Verdicts that hold already are not asked
    again.

    Opening the holdout is counted once per subject that reaches it; all of one job are one opening, whose chance of error
    they share, and are judged together once the last of them was looked at, or the job was stopped. gates: the line in use
    where None. all_gates: go on after a fall. notify: called after each subject on the job's thread, and once more when its
    holdout is judged.

    Raises:
        UserError: the holdout is to be opened, and is kept for a portfolio.
    """
    if open_holdout:
        check_opening(project, len(subjects), many=True)
    dossiers, footing, book = Dossiers(project), Footing.of(project), HoldoutBook(project)
    batch, line, origins = Batch(len(subjects)), gates_of(project) if gates is None else gates, Origins(project)
    standings, tried_on = Standings(project, line), Searches(project).tried()
    looked: list[tuple[Subject, HoldoutGate, Record]] = []  # in the order in which the batch waits

    def work(subject: Subject) -> Proved:
        try:
            unseen = unseen_span(book, footing)
            case = case_of(footing, subject, unseen)
            need_bars(case.history, case.brief.span)
            record = record_of(case.history, subject.strategy, case.brief, tried=subject.tried)
            renewed = None
            if subject.kept is not None and (subject.record is None or record.key != _comparable(subject.record)):
                renewed = candidate_of(backtest(case.history, subject.strategy, case.brief, detail=False),
                                       subject.strategy.name, "", subject.tried,
                                       subject.record.seeds if subject.record and subject.record.whole else ())
                record = renewed.record
            elif subject.record is not None and subject.record.whole:
                record = subject.record

            def opened(case: Case, gate: Gate) -> Outcome | None:
                assert isinstance(gate, HoldoutGate)
                made = judge(project, footing, case, gate, name=subject.strategy.name, batch=batch, why="proving")
                if made is None:
                    looked.append((subject, gate, record))
                return made

            held = standings.at(subject.key[0], subject.market, record).evidence
            known = {g: e.verdict == PASSES for g, e in held.items()}
            lacked = held.get(LuckGate.key)
            if (any(g.key not in known and (open_holdout or not g.opens_holdout) for g in line)
                    or (lacked is not None and lacked.verdict == NOT_ENOUGH)):
                case = replace(case, origin=origins.of(subject.search, subject.market, subject.interval, subject.number),
                               tried_on=tried_on.get(subject.market, 0))
            if lacked is not None and more_than_then(lacked, case.origin):
                del known[LuckGate.key]
            outcomes = walk_line(case, line, open_holdout=opened if open_holdout else None, all_gates=all_gates, known=known)
            return Proved(subject, tuple(outcomes), record, renewed)
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

    def finish(_: State) -> None:
        if not looked:
            return
        with project.transaction():
            made = [Proved(subject, (outcome,), record) for (subject, _, record), (_, outcome)
                    in zip(looked, decide(project, looked[0][1], batch))]
            keep(made)
        tell(made)

    # One after the other where the holdout opens, and no verdict before all of them were looked at.
    return Job("Proving", "candidates", [Chunk(s) for s in subjects], work, commit=commit, finish=finish,
               width=1 if open_holdout else None)


def more_than_then(lacked: Evidence, origin: Origin | None) -> bool:
    """Whether Luck could not judge, and more controls are there now."""
    now_there = origin.curve.controls if origin is not None and origin.curve is not None else 0
    return lacked.verdict == NOT_ENOUGH and now_there > lacked.outcome.get("controls", 0)


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
