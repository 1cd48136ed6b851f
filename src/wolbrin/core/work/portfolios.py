"""Portfolios of a project's candidates: made, traded, taken apart, weighed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from pydantic import ValidationError

from wolbrin.core.engine.record import Record
from wolbrin.core.engine.run import need_bars, record_of
from wolbrin.core.errors import UserError
from wolbrin.core.faults import explain
from wolbrin.core.market.terms import MONEY_TERMS
from wolbrin.core.measures.wording import few
from wolbrin.core.portfolio.combine import correlation
from wolbrin.core.portfolio.limits import Label
from wolbrin.core.portfolio.plan import Member, Plan
from wolbrin.core.portfolio.played import Part, Played, play, sides_of, trouble_of
from wolbrin.core.portfolio.sampling import Series
from wolbrin.core.portfolio.sampling import Table as DayTable
from wolbrin.core.portfolio.weighing import Table, weigh
from wolbrin.core.portfolio.weights import EQUAL, OWN, fitted
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.naming import family_of
from wolbrin.core.store.holdout import NEAR_TWIN
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import OwnSpan
from wolbrin.core.store.shelf import Kept, Shelf
from wolbrin.core.work.footing import Footing, Request

Floats = NDArray[np.float64]
ALL = "every member"


@dataclass(frozen=True)
class Body:
    """What a member is run from. record: under which it was kept, None where that is not known."""

    name: str
    strategy: Strategy
    market: str
    interval: int
    own: OwnSpan | None = None
    record: Record | None = None


@dataclass(frozen=True)
class Desk(Request):
    """A portfolio and all it stands on, as it was when it was asked for. bodies: of the members that are on, in order."""

    footing: Footing
    plan: Plan
    bodies: tuple[Body, ...]

    @property
    def capital(self) -> float:
        """Of the account."""
        return self.plan.capital or self.footing.settings.capital

    def parts(self) -> list[Part]:
        """Members as they are run in training."""
        return [part_of(self.footing, b) for b in self.bodies]

    def played(self) -> Played:
        """The portfolio traded over training. Raises UserError where it cannot be."""
        return play(self.plan, self.parts(), self.capital)

    def records(self) -> list[Record]:
        """Of each member's run: costs, capital and span as they are in the portfolio."""
        return [record_of(p.history, p.strategy, replace(p.brief, costs=m.costs or p.brief.costs, capital=self.capital),
                          tried=self.plan.tried) for m, p in zip(self.plan.on, self.parts())]


def part_of(footing: Footing, body: Body) -> Part:
    """A member as it is run in training. Raises UserError: its market is gone or has no bars there."""
    history = footing.prepared(body.market, body.interval)
    brief = footing.brief(history.bars.terms, body.own)
    need_bars(history, brief.span)
    return Part(body.name, history, body.strategy, brief)


def member_of(kept: Kept) -> Member:
    """A candidate as a member."""
    c = kept.candidate
    return Member(candidate=kept.id, name=c.name[:80], hash=kept.hash, market=c.market, interval=c.interval)


def body_of(kept: Kept) -> Body:
    c = kept.candidate
    return Body(c.name, c.strategy, c.market, c.interval, kept.own, c.record)


def plan_of(kept: Sequence[Kept], name: str = "Portfolio", old: Plan | None = None) -> Plan:
    """A portfolio of candidates at equal shares. old: one whose settings are kept, of members too that stay in."""
    known = {m.key: m for m in old.members} if old else {}
    stay = [known[key] for key in known if key in {(k.hash, k.candidate.market, k.candidate.interval) for k in kept}]
    usual = sum(m.share for m in stay) / len(stay) if stay else 1.0  # whoever joins gets as much as the others on average
    members = []
    for k in kept:
        fresh = member_of(k).model_copy(update={"share": usual})
        had = known.get((fresh.hash, fresh.market, fresh.interval))
        members.append(had.model_copy(update={"candidate": k.id, "name": fresh.name}) if had else fresh)
    if old is None:
        return Plan(name=name, members=tuple(members))
    others = len(stay) != len(known) or len(stay) != len(kept)
    weights = OWN if others and old.weights != EQUAL else old.weights  # a scheme's shares are of the members it saw
    return Plan.model_validate(old.model_dump() | {"members": [m.model_dump() for m in members], "weights": weights})


def share_in(plan: Plan, saved: Plan) -> Plan:
    """A plan with the members of a saved portfolio beside its own: together they count as much as each of its own.

    Raises:
        UserError: one of them is in it already.
    """
    share = float(plan.shares.mean()) if plan.on else 1.0
    more = [m.model_copy(update={"share": share * float(s)}) for m, s in zip(saved.on, saved.shares)]
    members = [*(m.model_copy(update={"share": float(s)}) for m, s in zip(plan.on, plan.shares)), *more] if plan.on else more
    try:
        return Plan.model_validate(plan.model_dump() | {"members": [m.model_dump() for m in members], "weights": OWN})
    except ValidationError as err:
        raise explain(err, saved.name) from None


def kept_of(project: Project, plan: Plan, every: bool = False) -> list[Kept]:
    """The candidates of the members that are on, or of all, in order: by their id where it is still theirs, else by what they
    are. Raises UserError: one is on the Shelf no more."""
    shelf, found = Shelf(project), []
    wanted = plan.members if every else plan.on
    by_id = {k.id: k for k in shelf.bodies([m.candidate for m in wanted if m.candidate])}
    for m in wanted:
        one = by_id.get(m.candidate)
        if one is None or (one.hash, one.candidate.market, one.candidate.interval) != m.key:
            line = shelf.of_rules(*m.key)
            one = shelf.body(line.id) if line is not None else None
        if one is None:
            raise UserError(f"{m.name} on {m.market} is on the Shelf no more", plan.name,
                            "Put it back there, or take it out.")
        found.append(one)
    return found


def desk_of(project: Project, plan: Plan) -> Desk:
    """A portfolio on the project as it is now. Raises UserError: a member is gone."""
    return Desk(Footing.of(project), plan, tuple(body_of(k) for k in kept_of(project, plan)))


def cautions_of(desk: Desk, made: Played) -> list[str]:
    """What is to be said of a portfolio before it is trusted, a sentence each."""
    found = trouble_of(made)
    guessed = {b.market: desk.footing.settings.assumed_of(b.market) for b in desk.bodies}
    told = [f"{market} ({', '.join(n for n in MONEY_TERMS if n in terms)})" for market, terms in guessed.items()
            if set(MONEY_TERMS) & set(terms)]
    if told:
        found.append(f"All money rests on assumed terms of {', '.join(told)}: check them with your broker and set them.")
    changed = [b.name for b, p in zip(desk.bodies, made.parts)
               if b.record is not None and b.record.whole and b.record.history != p.history.bars.hash]
    if changed:
        since = "it was" if len(changed) == 1 else "they were"
        found.append(f"The history of {few(changed)} has changed since {since} kept: "
                     "what is shown is of the history as it is now.")
    table = made.table[1]
    matrix = correlation(table)
    twins = [(made.parts[i].name, made.parts[j].name, float(matrix[i, j]))
             for i, j in zip(*np.triu_indices(len(matrix), 1)) if matrix[i, j] >= NEAR_TWIN]
    for a, b, r in twins[:3]:
        found.append(f"{a} and {b} are nearly the same bet (correlation {r:.2f}): together they are one, at twice the size.")
    spans = [(run.bars.trading_date[run.first], run.bars.trading_date[run.last - 1]) for run in made.runs
             if run.last > run.first]
    if spans and max(s[0] for s in spans) > min(s[1] for s in spans):
        found.append("Its members have no day in common: what is shown adds up times that did not meet.")
    return found


def labels_of(desk: Desk) -> list[Label]:
    """What each member belongs to."""
    return [Label(b.market, family_of(b.strategy) or "price", sides_of(b.strategy)) for b in desk.bodies]


def days_of(desk: Desk) -> DayTable:
    """Daily results of each member alone at its own size on the whole capital, which weights are found from."""
    series = []
    for m, part in zip(desk.plan.on, desk.parts()):
        one = Plan(members=(m.model_copy(update={"share": 1.0, "contracts": None, "limit": None}),))
        run = play(one, [part], desk.capital).runs[0]
        series.append(Series(*run.daily, run.daily_share))
    return DayTable.of(series)


def weights_of(desk: Desk, scheme: str) -> Plan:
    """The portfolio with the shares of a scheme, within its limits. Raises UserError where they cannot be found."""
    daily = np.ascontiguousarray(days_of(desk).profit.T)
    shares = fitted(scheme, daily, labels_of(desk), desk.plan.limits, [b.name for b in desk.bodies])
    return desk.plan.with_shares(shares.tolist(), scheme)


def weight_table(desk: Desk) -> Table:
    """All schemes beside each other, walked forward; the portfolio's own shares where they are of none."""
    daily = np.ascontiguousarray(days_of(desk).profit.T)
    own = desk.plan.shares if desk.plan.weights == OWN else None
    return weigh(daily, labels_of(desk), desk.plan.limits, [b.name for b in desk.bodies], own)
