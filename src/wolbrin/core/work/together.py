"""What is opened together: bets, families, the ways to open and their power; then the opening itself."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from wolbrin.core.engine.record import Record
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Span, day_number
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.wording import number
from wolbrin.core.proving.families import CUT, Bet, parts_of
from wolbrin.core.proving.gate import Case, Outcome
from wolbrin.core.proving.holdout import HoldoutGate
from wolbrin.core.proving.luck import LuckGate
from wolbrin.core.proving.opening_plan import LEAST_POWER, Choice, Plan, plan_of, told
from wolbrin.core.proving.power import expected_t
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.store.holdout import HoldoutBook, level_of
from wolbrin.core.store.plans import Member, OpeningPlan, Plans
from wolbrin.core.store.project import Project
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.judging import member_of, open_plan
from wolbrin.core.work.subject import Subject


@dataclass(frozen=True)
class Pending:
    """A candidate that came to the holdout, all else passed. record: under which it is judged."""

    subject: Subject
    case: Case
    record: Record
    bet: Bet


def bet_of(case: Case, gate: LuckGate | None = None) -> Bet:
    """A candidate as training shows it. case: with what its search knows of luck."""
    asked, share = (gate or LuckGate()).passed_at(case)
    t = measure(Facts.of(case.run), ("t_daily",))["t_daily"]
    return Bet(case.strategy.name, strategy_hash(case.strategy), case.history.bars.terms.code, case.run.daily, t,
               expected_t(t, asked, share if math.isfinite(share) else 0.0), parts_of(case.strategy))


def sealed_days(case: Case) -> int:
    """About how many trading days are sealed for a case, by how many training has in a year; no sealed bar is read."""
    first, last, days = case.holdout.first, case.holdout.last, case.run.daily[0]
    if first is None or last is None or len(days) < 2:
        return 0
    a_day = len(days) / (int(days[-1]) - int(days[0]) + 1)
    return max(0, round(a_day * (day_number(last) - day_number(first) + 1)))


def planned(project: Project, pending: Sequence[Pending]) -> Plan:
    """Families, ways to open, and what the next opening would ask."""
    opening = HoldoutBook(project).next_batch()
    days = min((sealed_days(p.case) for p in pending), default=0)
    return plan_of([p.bet for p in pending], days, level_of(opening), opening)


def before_words(project: Project, pending: Sequence[Pending]) -> str:
    """What was opened before on these markets, in words; "" before any."""
    out = []
    for market in dict.fromkeys(p.subject.market for p in pending):
        families, stood = Plans(project).before(market)
        if families:
            out.append(f"on {market} {families} famil{'ies were' if families > 1 else 'y was'} opened before, "
                       f"{stood if stood else 'none'} of them stand{'s' if stood < 2 else ''}")
    text = "; ".join(out)
    return f"{text[:1].upper()}{text[1:]}." if text else ""


def as_json(plan: Plan, chosen: Choice | None = None) -> dict[str, object]:
    """A plan as plain data (docs/command-line.md)."""
    first = [plan.bets[f.representative] for f in plan.families]
    return {"opening": plan.number, "level": plan.level, "cut": CUT, "training_days": plan.training,
            "sealed_days": plan.sealed,
            "words": told(plan), "weak": plan.weak if plan.choices else False,
            "proposed": plan.proposed.key if plan.choices else None, "chosen": chosen.key if chosen else None,
            "families": [{"representative": b.name, "market": b.market, "members": [plan.bets[i].name for i in f.members],
                          "t": b.t, "t_without_selection": b.expected} for b, f in zip(first, plan.families)],
            "correlation": plan.correlation.tolist(),
            "choices": [{"key": c.key, "families": c.families, "whole_first": c.whole, "chance": c.chance,
                         "chance_of_a_family": c.family, "expected_families": c.expected, "each": list(c.each),
                         "t_whole": c.t_whole if c.whole else None, "t_best": c.t_best} for c in plan.choices],
            "longer": [{"days": d, "chance": chance} for d, chance in plan.longer]}


def chosen_of(plan: Plan, key: str | None, anyway: bool) -> Choice:
    """The way to open that was asked for, the proposed one where none was.

    Raises:
        UserError: there is none such, or nothing has a fair chance and that was not meant.
    """
    choice = plan.proposed if key is None else plan.choice(key)
    if choice is None:
        raise UserError(f'there is no way "{key}" to open these', "holdout",
                        f"Ways are {', '.join(c.key for c in plan.choices)}.")
    if not choice.chance >= LEAST_POWER and not anyway:
        raise UserError(f"the chance that anything stands is {number(100 * choice.chance)}%: this opening would hardly tell "
                        "an edge from none, and is counted all the same", "holdout", "Leave it sealed until more bars are "
                        "there, or say that you mean it (--anyway; in the window: press again).")
    return choice


def open_together(project: Project, footing: Footing, pending: Sequence[Pending], plan: Plan, choice: Choice,
                  gate: HoldoutGate, why: str = "proving") -> list[tuple[Pending, Outcome]]:
    """Open the families of a choice, by a plan that is written down first, and judge them.

    Raises:
        UserError, EnvironmentTrouble: it cannot be opened, or not written down; nothing was counted then.
    """
    families = plan.opened(choice)
    members: list[tuple[Pending, Member]] = []
    for at, family in enumerate(families):
        for j, i in enumerate(family.members):
            one, spread = pending[i], plan.bets[i].deviation
            weight = 1.0 / spread if j == 0 and spread > 0 else 0.0
            members.append((one, member_of(one.case, one.subject.strategy.name, one.record, family=at, weight=weight,
                                           search=one.subject.search, number=one.subject.number)))
    first = max(one.case.holdout.first for one, _ in members if one.case.holdout.first is not None)
    last = max(one.case.holdout.last for one, _ in members if one.case.holdout.last is not None)
    choices = tuple({"key": c.key, "chance": c.chance, "family": c.family} for c in plan.choices)

    def made(opening: int) -> OpeningPlan:
        return OpeningPlan(number=opening, level=level_of(opening), whole=choice.whole, first=first, last=last,
                           members=tuple(m for _, m in members), why=why, chance=choice.chance, choices=choices)

    told_, _ = open_plan(project, footing, made, [(m, Span(first, last)) for _, m in members], gate, why)
    by = {(m.hash, m.market, m.interval): outcome for m, outcome in told_}
    return [(one, by[m.hash, m.market, m.interval]) for one, m in members]
