"""Judging on the holdout: once, for good, by a plan that was written down before. Every way to sealed bars leads through
here."""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from wolbrin.core.engine.record import Record
from wolbrin.core.engine.run import record_of
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Span
from wolbrin.core.measures.inference import t_of_mean
from wolbrin.core.measures.wording import number
from wolbrin.core.portfolio.played import Part, Played
from wolbrin.core.proving.families import side_by_side
from wolbrin.core.proving.gate import FALLS, PASSES, Case, Outcome
from wolbrin.core.proving.gatekeeping import OF_FAMILY, OF_WHOLE, STANDS, Opened, gatekeep
from wolbrin.core.proving.holdout import HoldoutGate, Looked, looked_at
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.ground import Histories
from wolbrin.core.store.holdout import SHOWN, HoldoutBook, Opening, level_of, t_for
from wolbrin.core.store.plans import CANDIDATES, PORTFOLIO, Member, OpeningPlan, Plans, StoredPlan
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.sealed import Wanted, check_sealed, open_again, open_sealed, room_for_verdicts
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.openable import check_answered, check_openable, unseen_by
from wolbrin.core.work.origins import Origins
from wolbrin.core.work.twins import known_verdict, training_daily, without_look
from wolbrin.core.work.walk_schedule import carried_on, carries_on

NOT_AGAIN = ("its bars, costs or rules are no longer those it was opened with, and its opening was cut short before a "
             "verdict: it cannot be judged again")


@dataclass(frozen=True)
class Seen:
    """What the sealed bars showed of one member: looked and its daily results, or why it cannot be judged."""

    case: Case
    looked: Looked | None
    daily: tuple[np.ndarray, np.ndarray] | None
    fault: str = ""


def member_of(case: Case, name: str, record: Record | None = None, **more: Any) -> Member:
    """A case as a plan of an opening holds it. record: under which it was kept, where that is its own."""
    history = case.history
    made = record_of(history, case.strategy, case.brief, tried=case.tried)
    if record is None or record.model_copy(update={"seeds": ()}).key != made.key:
        record = made
    return Member(name=name, hash=strategy_hash(case.strategy), market=history.bars.terms.code,
                  interval=history.bars.interval, strategy=case.strategy, tried=case.tried, record=record, **more)


def wanted_of(plan: Sequence[tuple[Member, Span]], why: str) -> list[Wanted]:
    """What is asked of the door for some members, each with the days that are looked at."""
    return [Wanted(m.market, m.interval, span, f"{why}: {m.name} on {m.market}", m.hash) for m, span in plan]


def through(footing: Footing, whole: Histories, case: Case) -> Strategy:
    """The strategy as it trades the opened span: dated numbers are fitted on where they come due, by the procedure that was
    frozen with the strategy; each fit sees no bar after its training."""
    if not carries_on(case.strategy):
        return case.strategy
    last = case.holdout.last
    assert last is not None
    history = whole.prepared(case.history.bars.terms.code, case.history.bars.interval)
    return carried_on(footing, case.strategy, case.brief, last, history).strategy


def _case(footing: Footing, origins: Origins, plan: OpeningPlan, m: Member) -> Case:
    """The case of a member, as it was when the plan was made. Raises UserError where it is another by now."""
    history = footing.histories.prepared(m.market, m.interval)
    brief = replace(m.record.brief, role="training")
    if record_of(history, m.strategy, brief).key != m.record.model_copy(update={"seeds": ()}).key:
        raise UserError(NOT_AGAIN, m.name, "")
    return Case(m.strategy, history, brief, Span(plan.first, plan.last), m.tried,
                origin=origins.of(m.search, m.market, m.interval, m.number) if m.search is not None else None)


def _look(footing: Footing, origins: Origins, plan: OpeningPlan, m: Member, gate: HoldoutGate,
          whole: Histories) -> Seen:
    """Run one member on opened bars."""
    history = footing.histories.prepared(m.market, m.interval)
    try:
        case = _case(footing, origins, plan, m)
        looked, daily = gate.looked_daily(replace(case, opened=whole.prepared(m.market, m.interval),
                                                  carried=through(footing, whole, case)))
        return Seen(case, looked, daily)
    except UserError as err:
        case = Case(m.strategy, history, m.record.brief, Span(plan.first, plan.last), m.tried)
        return Seen(case, None, None, err.sentence())


def _whole_t(plan: OpeningPlan, seen: Sequence[Seen]) -> float:
    """t of the daily results of all representatives together, each in units of its training deviation."""
    parts = [(m.weight, s.daily) for m, s in zip(plan.members, seen) if m.weight > 0 and s.daily is not None]
    if not parts:
        return math.nan
    _, table = side_by_side([d for _, d in parts])
    return t_of_mean(table @ np.array([w for w, _ in parts]))


def judge_plan(project: Project, footing: Footing, stored: StoredPlan, whole: Histories, gate: HoldoutGate,
               free: Callable[[], None] = lambda: None) -> list[tuple[Member, Outcome]]:
    """Look at everything that a plan opened, judge it all, and write every verdict down in one transaction.

    free: called right before that. The same plan on the same bars gives the same verdicts, so that an opening that was cut
    short is judged again without anybody having learned of it.
    """
    plan, book, origins = stored.plan, HoldoutBook(project), Origins(project)
    seen = [_look(footing, origins, plan, m, gate, whole) for m in plan.members]

    def t_of(s: Seen) -> float:
        return s.looked.figures["t_daily"] if s.looked is not None and gate.sound(s.looked) else math.nan

    families = plan.families
    whole_t = _whole_t(plan, seen) if plan.whole else None
    opened = gatekeep([[t_of(seen[i]) for i in f] for f in families], plan.level, whole_t)
    at = now()
    rows = [(plan.members[i], *_outcome(plan, gate, seen[i], opened, f, j, at), training_daily(seen[i].case.history,
                                                                                              plan.members[i].strategy))
            for f, family in enumerate(families) for j, i in enumerate(family)]
    free()
    with project.transaction():
        for m, outcome, told, d in rows:
            book.judge(at, m.market, m.hash, m.name, outcome.verdict, outcome.reason, d, told)
            Dossiers(project).testify(m.hash, m.market, m.interval, outcome, m.record)
        Plans(project).finish(stored.id)
    project.journal.write()
    return [(m, outcome) for m, outcome, _, _ in rows]


def _outcome(plan: OpeningPlan, gate: HoldoutGate, s: Seen, opened: Opened, f: int, j: int, at: str) -> tuple[Outcome, str]:
    """What is told of one member, and what is kept for whoever asks (JSON)."""
    verdict, needed = opened.verdicts[f][j], opened.needed[f][j]
    tried = s.case.tried
    if s.looked is None:
        return without_look(gate, False, f"Looked at, and not to be judged: {s.fault}", "not enough to judge", tried), ""
    asked = needed if needed == needed else opened.whole if opened.whole == opened.whole else t_for(plan.number, 1)
    full = gate.verdict(s.case, s.looked, asked)
    if verdict == STANDS:
        k = len(plan.families)
        more = ""
        if len(plan.members) > 1:
            many = f"{k} famil{'ies' if k != 1 else 'y'}"
            more = f" Opened with {number(len(plan.members) - 1)} others in {many}" + (
                f"; together they stand too (t {number(opened.whole, 2)} was needed)." if plan.whole else ".")
        return replace(full, passed=True, reason=full.reason + more), ""
    told = json.dumps({"reason": full.reason, "headline": full.headline, "figures": {
        k: v for k, v in full.figures.items() if v == v}})
    reason, of = _why(plan, opened, verdict, at), verdict if verdict in (OF_FAMILY, OF_WHOLE) else ""
    return without_look(gate, False, reason, of or "fell", tried, of), told


def _why(plan: OpeningPlan, opened: Opened, verdict: str, at: str) -> str:
    """Why something does not stand: that it does not, and nothing of what was seen."""
    n, k = len(plan.members), len(plan.families)
    if n == 1:
        return f"Opened on {at[:10]} as opening {plan.number}, and fell."
    begin = f"Opened on {at[:10]} with {number(n - 1)} other{'s' if n > 2 else ''} in {k} famil{'ies' if k != 1 else 'y'}"
    if verdict == OF_FAMILY:
        return f"{begin}: its family stands, it does not by itself."
    if verdict == OF_WHOLE:
        return f"{begin}: together they stand (t {number(opened.whole, 2)} was needed), its family does not by itself."
    if plan.whole:
        return f"{begin}: together they did not stand, and all fell."
    return f"{begin}: its family fell."


def open_plan(project: Project, footing: Footing, plan: Callable[[int], OpeningPlan], members: Sequence[tuple[Member, Span]],
              gate: HoldoutGate, why: str) -> tuple[list[tuple[Member, Outcome]], Histories]:
    """Write a plan down, open, judge.

    Raises:
        UserError, EnvironmentTrouble: there is nothing to open, it cannot be written down, or an opening that was cut short
            was judged only now, which may have changed what is to be opened; nothing was counted then.
    """
    if finish_openings(project, footing, gate):
        raise UserError("an opening that had been cut short was judged only now", "holdout", "Look at what came of it, then "
                        "ask again.")
    with room_for_verdicts(project.folder, len(members)) as free:
        whole, stored = open_sealed(project, footing.ground, wanted_of(members, why), plan)
        return judge_plan(project, footing, stored, whole, gate, free), whole


def finish_openings(project: Project, footing: Footing, gate: HoldoutGate) -> list[tuple[Member, Outcome]]:
    """Judge again, by its plan, every opening of candidates that was cut short before its verdicts were kept."""
    out: list[tuple[Member, Outcome]] = []
    for stored in Plans(project).unfinished():
        if stored.plan.kind != CANDIDATES:
            continue
        with room_for_verdicts(project.folder, len(stored.plan.members)) as free:
            out += judge_plan(project, footing, stored, open_again(footing.ground), gate, free)
    return out


def judge_whole(project: Project, footing: Footing, cases: Sequence[tuple[Case, str]], gate: HoldoutGate, *,
                name: str, together: Callable[[Sequence[Part]], Played], keep: Callable[[Outcome, Outcome], None],
                tried: int = 1, body: str = "") -> Outcome:
    """The verdict of the holdout on several candidates as one portfolio: one opening, judged once. Its members were seen
    then, and none of them can get a verdict of its own any more; that is written down with it, in one transaction. An opening
    of the same portfolio that was cut short goes on under its number.

    cases: each with the name of its candidate. together: trades them. keep: writes the verdict down, as it is told and in
    full: of a fall nothing is told but that it fell. tried: combinations it was chosen from. body: what is opened, as JSON.
    Raises:
        UserError: one of them has no sealed bars; nothing was counted then.
    """
    book = HoldoutBook(project)
    check_answered(project)
    for case, who in cases:
        check_openable(project, footing, case, who)
    finish_openings(project, footing, gate)
    span = cases[0][0].holdout
    assert span.first is not None
    assert span.last is not None
    members = [member_of(case, who) for case, who in cases]
    before = next((p for p in Plans(project).unfinished() if p.plan.kind == PORTFOLIO and p.plan.portfolio == body
                   and p.plan.last == span.last), None)

    def plan(opening: int) -> OpeningPlan:
        assert span.first is not None
        assert span.last is not None
        return OpeningPlan(kind="portfolio", number=opening, level=level_of(opening), first=span.first, last=span.last,
                           members=tuple(members), portfolio=body, why=f"portfolio {name}")

    with room_for_verdicts(project.folder, len(cases)) as free:
        if before is None:
            wanted = wanted_of([(m, span) for m in members], f"portfolio {name}")
            whole, stored = open_sealed(project, footing.ground, wanted, plan)
        else:
            whole, stored = open_again(footing.ground), before
        opening = stored.plan.number
        outcome: Outcome | None = None
        fault: UserError | None = None
        try:
            training, sealed = list[Part](), list[Part]()
            for case, who in cases:
                market, interval = case.history.bars.terms.code, case.history.bars.interval
                brief = replace(case.brief, span=case.holdout, most_bars=None, role="holdout")
                sealed.append(Part(who, whole.prepared(market, interval), through(footing, whole, case), brief))
                training.append(Part(who, case.history, case.strategy, case.brief))
            ahead, after = together(training), together(sealed)
            looked = looked_at(ahead.facts, ahead.daily, after.facts, after.daily)
            first = replace(cases[0][0], tried=max(tried, *(c.tried for c, _ in cases)), origin=None)
            full = gate.verdict(first, looked, t_for(opening, 1))
            outcome = full if full.passed else without_look(
                gate, False, f"Opened on {now()[:10]} as a whole, as opening {opening}, and fell.", "fell", first.tried)
        except UserError as err:
            fault = err
        told = "could not be judged" if outcome is None else "stands" if outcome.passed else "fell"
        daily = [training_daily(case.history, case.strategy) for case, _ in cases]
        free()
        with project.transaction():
            if outcome is not None:
                keep(outcome, full)
            for m, d in zip(members, daily):
                reason = (f"Seen on {now()[:10]} as a member of {name}, which {told}: of itself nothing can be told any "
                          "more.")
                book.judge(now(), m.market, m.hash, m.name, FALLS, reason, d)
            Plans(project).finish(stored.id)
        project.journal.write()
        if outcome is None:
            assert fault is not None
            raise fault
        return outcome


def look_beyond(project: Project, footing: Footing, case: Case, gate: HoldoutGate, span: Span, *, name: str,
                why: str) -> tuple[Outcome, Histories]:
    """Open sealed bars for somebody who wants to see a run there. Looking is judging: rules without a verdict get theirs now,
    on the whole unseen span, before anything is shown; a later look stands beside it and changes nothing. Where they do not
    stand, figures of what fell are shown by that, which is written down.

    Returns the verdict and the histories with their sealed bars.
    Raises:
        UserError: there are no sealed bars in the span; nothing was counted then.
    """
    market, hash = case.history.bars.terms.code, strategy_hash(case.strategy)
    finish_openings(project, footing, gate)
    made = known_verdict(project, footing, case, gate, name=name)
    if made is None:
        check_answered(project)
        case = replace(case, holdout=unseen_by(project, market, "", case.holdout))
        check_openable(project, footing, case, name)
        first, last = case.holdout.first, case.holdout.last
        assert first is not None
        assert last is not None
        reached = Span(max(first, span.first) if span.first else first, min(span.last or last, last))
        member = member_of(case, name)

        def plan(opening: int) -> OpeningPlan:
            return OpeningPlan(number=opening, level=level_of(opening), first=first, last=last, members=(member,), why=why)

        told, whole = open_plan(project, footing, plan, [(member, reached)], gate, why)
        made = told[0][1]
    else:
        whole = open_again(footing.ground)
        check_sealed(footing.ground, whole, Wanted(market, case.history.bars.interval, span, why, hash))
    if made.verdict != PASSES:
        show(project, market, hash, name)
    return made, whole


def show(project: Project, market: str, hash: str, name: str) -> None:
    """Write down that figures of what does not stand were looked at: whatever is kept on that market from now on can be ready
    and no more, until there are bars that nobody has seen."""
    with project.transaction():
        HoldoutBook(project).add(Opening(now(), f"figures of {name} on {market} were looked at", SHOWN, market, hash,
                                         last=project.market(market).last[:10]))
    project.journal.write()


def figures_of(project: Project, footing: Footing, gate: HoldoutGate, market: str, hash: str) -> Outcome:
    """What the sealed bars showed of rules that do not stand, on demand. It is written down first (`show`).

    Raises:
        UserError: they have no verdict, they stand, or nothing was kept.
    """
    book = HoldoutBook(project)
    final = book.final(market, hash)
    if final is None:
        raise UserError("it was not opened: there is nothing to show", market, "Open the holdout for it first.")
    if final.verdict == PASSES:
        raise UserError("it stands, and its figures are in its dossier", final.name, "")
    told = next((j.told for j in reversed(book.judged(market)) if j.hash == hash and j.told), "")
    if not told:
        raise UserError("it fell without a look of its own: there are no figures", final.name, "")
    kept = json.loads(told)
    plan = next((p.plan for p in reversed(Plans(project).all()) if any((m.market, m.hash) == (final.market, hash)
                                                                      for m in p.plan.members)), None)
    if plan is None:
        raise UserError("the plan of its opening is gone", final.name, "")
    m = next(m for m in plan.members if m.hash == hash)
    whole = open_again(footing.ground)
    show(project, final.market, hash, final.name)
    seen = _look(footing, Origins(project), plan, m, gate, whole)
    tables = seen.looked.tables if seen.looked is not None else {}
    of = final.verdict if final.verdict != FALLS else ""
    outcome = Outcome(gate.key, False, f"{final.reason} {kept['reason']}", str(kept["headline"]),
                      gate.settings | {"tried": m.tried}, {k: float(v) for k, v in kept["figures"].items()}, gate.settings,
                      tables, of=of)
    Dossiers(project).testify(hash, final.market, m.interval, outcome, m.record)
    return outcome
