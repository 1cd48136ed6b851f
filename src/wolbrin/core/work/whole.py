"""A portfolio's holdout: opened once, for the whole."""

from __future__ import annotations

from typing import Any

from wolbrin.core.errors import Door, UserError
from wolbrin.core.proving.gate import PASSES, Outcome
from wolbrin.core.store.database import Database
from wolbrin.core.store.holdout import HoldoutBook
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.shelf import Kept
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.judging import judge_whole
from wolbrin.core.work.opening import holdout_gate
from wolbrin.core.work.proving import case_of, unseen_span
from wolbrin.core.work.standing import READY, Standings, restand
from wolbrin.core.work.subject import Subject

VERDICTS = "verdicts on portfolios"


def open_portfolio(project: Project, kept: list[Kept], name: str) -> Outcome:
    """Open the holdout once for several candidates as one portfolio at equal weight, under the present costs and capital.

    Raises:
        UserError: one of them is not ready, there are none, or there are no sealed bars.
    """
    restand(project)
    standings, footing = Standings(project), Footing.of(project)
    if not kept:
        raise UserError("a portfolio needs at least one candidate", "portfolio", "Tick those that are ready.")
    for one in kept:
        stands = standings.of(one).stands
        if stands != READY:
            raise UserError(f"{one.candidate.name} is not ready ({stands})", "portfolio",
                            "A portfolio is opened as a whole while all its members are proved and still sealed: run the "
                            "line, or leave it out.", Door("Go to Proving", "proving"))
    unseen = unseen_span(HoldoutBook(project), footing)
    cases = []
    for one in kept:
        subject = Subject.of(one)
        case = case_of(footing, Subject(subject.strategy, subject.market, subject.interval, subject.tried, own=subject.own),
                       unseen)
        cases.append((case, one.candidate.name))
    outcome = judge_whole(project, footing, cases, holdout_gate(project), name=name)
    with project.transaction():
        known: list[dict[str, Any]] = project.get_value(VERDICTS, [])
        project.set_value(VERDICTS, [*known, {"created": now(), "name": name, "members": [k.id for k in kept],
                                              "verdict": outcome.verdict, "reason": outcome.reason,
                                              "figures": {k: v for k, v in outcome.figures.items() if v == v}}])
    restand(project)
    return outcome


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
    return f"{last['name']} {'stands' if last['verdict'] == PASSES else 'falls'} in the holdout: {last['reason']}"


def seen_members(db: Database, kept: list[Kept]) -> list[str]:
    """Names of candidates whose holdout was opened before: a portfolio that is chosen among them is chosen on seen data."""
    finals = HoldoutBook(db).finals()
    return [k.candidate.name for k in kept if (k.candidate.market, k.hash) in finals]
