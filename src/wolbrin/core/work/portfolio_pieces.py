"""A portfolio taken apart, piece by piece, beside the window: the whole, then without each member, then with each other
one."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from wolbrin.core.jobs import Chunk, Job, Work
from wolbrin.core.portfolio.contributions import Change, change_with, change_without
from wolbrin.core.portfolio.plan import Member
from wolbrin.core.portfolio.told import Told, tell
from wolbrin.core.portfolio.weighing import Table
from wolbrin.core.store.project import Project
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.work.footing import Request
from wolbrin.core.work.portfolios import (
    Body,
    Desk,
    body_of,
    cautions_of,
    kept_of,
    member_of,
    part_of,
    weight_table,
)
from wolbrin.core.work.standing import READY, STANDS

MOST_OTHERS = 12  # of those that may join


def told_of(desk: Desk, markets: Sequence[str] = ()) -> Told:
    """Trade a portfolio and say what there is to say. Raises UserError where it cannot be traded."""
    played = desk.played()
    return tell(played, cautions_of(desk, played), desk.records(), markets)


@dataclass(frozen=True)
class Others(Request):
    """A portfolio and those that may join it."""

    desk: Desk
    others: tuple[tuple[Member, Body], ...]


def piece(asked: Others, unit: tuple[str, int]) -> Change:
    """One change: ("without", place) or ("with", place among the others)."""
    desk, (kind, at) = asked.desk, unit
    if kind == "without":
        return change_without(desk.plan, desk.parts(), desk.capital, at)
    member, body = asked.others[at]
    return change_with(desk.plan, desk.parts(), desk.capital, member, part_of(desk.footing, body), at)


def units_of(asked: Others, without: bool = True) -> list[tuple[str, int, str]]:
    """All changes of one member, in order: what, its place among the members or the others, and whose."""
    bodies = asked.desk.bodies if without and len(asked.desk.bodies) > 1 else ()
    return [*(("without", i, b.name) for i, b in enumerate(bodies)),
            *(("with", i, m.name) for i, (m, _) in enumerate(asked.others))]


def changes_job(asked: Others, sink: Callable[[tuple[str, int], Change], None], without: bool = True) -> Job:
    """All changes of one member, in order; sink gets each with what it is. without: those that leave one out too."""
    units = [(kind, at) for kind, at, _ in units_of(asked, without)]
    waiting = iter(units)
    return Job("Leave one out, add one", "portfolios", [Chunk(u) for u in units], Work(piece, asked),
               lambda change: sink(next(waiting), change))


def others_of(project: Project, desk: Desk, most: int = MOST_OTHERS) -> Others:
    """Those that may join: proved candidates that are in it not yet, the best by return over drawdown; members that are off
    first."""
    from_plan = [m for m in desk.plan.members if not m.on]
    inside = {m.key for m in desk.plan.members}
    found = [(m, body_of(k)) for m, k in zip(from_plan, kept_of(project, desk.plan.model_copy(update={
        "members": tuple(m.model_copy(update={"on": True}) for m in from_plan)})))] if from_plan else []
    ids = [r["id"] for r in project.rows("SELECT id FROM candidates WHERE stands IN (?, ?) ORDER BY m_return_drawdown DESC, "
                                         "id LIMIT ?", READY, STANDS, most + len(inside))]
    for k in Shelf(project).bodies(ids):
        if (k.hash, k.candidate.market, k.candidate.interval) not in inside and len(found) < most:
            found.append((member_of(k), body_of(k)))
    return Others(desk, tuple(found))


def weigh_job(desk: Desk, notify: Callable[[Table], None]) -> Job:
    """All schemes of weights beside each other."""
    return Job("Weigh members", "steps", [Chunk(None)], lambda _: weight_table(desk), notify)
