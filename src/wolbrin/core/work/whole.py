"""A portfolio's holdout: opened once, for the whole."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np

from wolbrin.core.errors import Door, UserError
from wolbrin.core.market.bars import Span
from wolbrin.core.market.costs import Costs
from wolbrin.core.measures.wording import number
from wolbrin.core.portfolio.plan import Plan
from wolbrin.core.portfolio.played import Part, play
from wolbrin.core.proving.gate import PASSES, Case, Outcome
from wolbrin.core.search.superior import LEAST_DAYS, draws, usual_block
from wolbrin.core.store.database import Database
from wolbrin.core.store.holdout import HoldoutBook
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.shelf import Kept
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.judging import finish_openings, judge_whole, show
from wolbrin.core.work.openable import unseen_by
from wolbrin.core.work.opening import holdout_gate
from wolbrin.core.work.portfolios import kept_of
from wolbrin.core.work.proving import case_of, unseen_span
from wolbrin.core.work.standing import READY, Standings, restand
from wolbrin.core.work.subject import Subject
from wolbrin.core.work.twins import known_verdict

VERDICTS = "verdicts on portfolios"
REPS = 2_000


def open_portfolio(project: Project, plan: Plan) -> Outcome:
    """Open the holdout once for a portfolio as a whole, as it trades: its shares, account and limits, at the project's costs
    or a member's own where those are higher.

    Raises:
        UserError: one of its members is not ready, there are none, or there are no sealed bars.
    """
    finish_openings(project, Footing.of(project), holdout_gate(project))
    restand(project)
    standings, footing = Standings(project), Footing.of(project)
    if not plan.on:
        raise UserError("a portfolio needs at least one candidate", "portfolio", "Tick those that are ready.")
    kept = kept_of(project, plan)
    for one in kept:
        stands = standings.of(one).stands
        if stands != READY:
            before = verdict_on(project, [k.id for k in kept])
            if before:
                raise UserError(f"{plan.name} is not ready: its members were opened as a whole before. {before}", "portfolio",
                                "A holdout is opened once; choose other members that are ready.")
            raise UserError(f"{one.candidate.name} is not ready ({stands})", "portfolio",
                            "A portfolio is opened as a whole while all its members are proved and still sealed: run the "
                            "line, or leave it out.", Door("Go to Proving", "proving"))
    unseen = unseen_span(HoldoutBook(project), footing)
    cases, members = [], []
    for one, member in zip(kept, plan.on):
        subject = Subject.of(one)
        case = case_of(footing, Subject(subject.strategy, subject.market, subject.interval, subject.tried, own=subject.own),
                       unseen)
        # A portfolio is chosen now, whenever its members were kept.
        case = replace(case, holdout=unseen_by(project, subject.market, "", case.holdout))
        cases.append((case, one.candidate.name))
        members.append(member.model_copy(update={"costs": dearer(member.costs, case.costs)}))
    latest = max(c.holdout.first for c, _ in cases if c.holdout.first is not None)
    cases = [(replace(c, holdout=Span(latest, c.holdout.last)), who) for c, who in cases]
    gate = holdout_gate(project)
    for case, who in cases:
        told = known_verdict(project, footing, case, gate, name=who)
        if told is not None:  # a near-twin of what fell: its fall is written down as its own
            restand(project)
            raise UserError(f"{who} cannot be opened any more: {told.reason}", "portfolio", "Leave it out.")
    opened = plan.model_copy(update={"members": tuple(members)})
    capital = plan.capital or footing.settings.capital
    together = partial(play, opened, capital=capital)
    together(parts_of(cases))  # what cannot be traded is said before anything is opened

    def keep(outcome: Outcome, full: Outcome) -> None:
        known: list[dict[str, Any]] = project.get_value(VERDICTS, [])
        of = {"reason": full.reason, "figures": {k: v for k, v in full.figures.items() if v == v},
              "interval": interval_of(full)}
        told = of if outcome.passed else {"reason": outcome.reason, "figures": {}, "interval": {}, "sealed": of}
        project.set_value(VERDICTS, [*known, {"created": now(), "name": plan.name, "members": [k.id for k in kept],
                                              "markets": sorted({c.history.bars.terms.code for c, _ in cases}),
                                              "verdict": outcome.verdict, "plan": opened.model_dump(mode="json"), **told}])

    outcome = judge_whole(project, footing, cases, gate, name=plan.name, together=together, keep=keep, tried=plan.tried,
                          body=opened.model_dump_json())
    restand(project)
    return outcome


def portfolio_figures(project: Project, name: str) -> dict[str, Any]:
    """What the sealed bars showed of a portfolio that fell as a whole, on demand: whatever is kept on its markets from then
    on can be ready and no more, until there are bars that nobody has seen.

    Raises:
        UserError: no portfolio of that name fell.
    """
    known = portfolio_verdicts(project)
    at = next((i for i in range(len(known) - 1, -1, -1) if known[i]["name"] == name and known[i]["verdict"] != PASSES), None)
    if at is None:
        raise UserError(f'no portfolio "{name}" fell in the holdout', "holdout", "Figures of what stands are shown.")
    told = known[at].pop("sealed", None)
    if told is not None:
        with project.transaction():
            for market in known[at].get("markets", ()):
                show(project, market, "", name)
            known[at] |= told | {"reason": f"{known[at]['reason']} {told['reason']}"}
            project.set_value(VERDICTS, known)
    return known[at]


def parts_of(cases: Sequence[tuple[Case, str]]) -> list[Part]:
    """Members as they are run in training."""
    return [Part(who, case.history, case.strategy, case.brief) for case, who in cases]


def dearer(own: Costs | None, project: Costs) -> Costs:
    """The higher of a member's own costs and the project's, each by each: nobody opens the holdout at costs of a wish.
    Financing is the project's."""
    if own is None:
        return project
    return project.dearer(own)


def interval_of(outcome: Outcome) -> dict[str, float]:
    """What the sealed days leave open of the mean of a day: a 95% interval of it (stationary bootstrap, Politis & Romano
    1994), money, and of the net of the whole span."""
    table = outcome.tables.get("equity", {})
    if "net" not in table or "sealed" not in table:
        return {}
    path = np.asarray(table["net"], np.float64)
    sealed = np.diff(path, prepend=0.0)[np.asarray(table["sealed"]) > 0]
    if len(sealed) < LEAST_DAYS:
        return {}
    sums = draws(len(sealed), usual_block(len(sealed)), REPS, 1).astype(np.float64) @ sealed * len(sealed)
    low, high = (float(x) for x in np.percentile(sums, (2.5, 97.5)))
    return {"net_low": low, "net_high": high, "days": float(len(sealed))}


def portfolio_verdicts(db: Database) -> list[dict[str, Any]]:
    """Every portfolio that was opened as a whole, oldest first: created, name, members (Shelf ids), verdict, reason,
    figures."""
    return list(db.get_value(VERDICTS, []))


def verdict_on(db: Database, members: list[int]) -> str:
    """The last verdict on a portfolio of exactly these members, in words; "" before any."""
    found = [v for v in portfolio_verdicts(db) if sorted(v["members"]) == sorted(members)]
    if not found:
        return ""
    last = found[-1]
    told = last.get("interval") or {}
    spread = (f" Days drawn anew leave the net of such a span between {number(told['net_low'])} and "
              f"{number(told['net_high'])} (95%)." if told else "")
    return f"{last['name']} {'stands' if last['verdict'] == PASSES else 'falls'} in the holdout: {last['reason']}{spread}"


def seen_members(db: Database, kept: list[Kept]) -> list[str]:
    """Names of candidates whose holdout was opened before: a portfolio that is chosen among them is chosen on seen data."""
    finals = HoldoutBook(db).finals()
    return [k.candidate.name for k in kept if (k.candidate.market, k.hash) in finals]
