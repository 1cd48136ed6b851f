"""Portfolios taken elsewhere, and read back."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.portfolio.file import file_of, read_portfolio_file
from wolbrin.core.portfolio.plan import Plan
from wolbrin.core.search.candidate import candidate_of
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.portfolios import Body, kept_of, part_of
from wolbrin.core.written import write_text

ORIGIN = "portfolio file"


def write_portfolio(project: Project, plan: Plan, path: Path) -> None:
    """Write a portfolio with its strategies. Raises UserError where a member is gone."""
    kept = kept_of(project, plan, every=True)
    write_text(path, file_of(plan, [k.candidate.strategy for k in kept]).model_dump_json(indent=1) + "\n")


@dataclass(frozen=True)
class ReadBack:
    """plan: with the ids of this project's Shelf; new: names of candidates that were put there."""

    plan: Plan
    new: tuple[str, ...]


def read_portfolio(project: Project, path: Path) -> ReadBack:
    """Read a portfolio; strategies that are not on the Shelf are run on training and put there, open and not proved.

    Raises:
        UserError: it is none, or its markets are not in this project (which).
    """
    made = read_portfolio_file(path)
    footing, shelf, dossiers = Footing.of(project), Shelf(project), Dossiers(project)
    known = {code for code, _ in footing.ground.active}
    missing = sorted({m.market for m in made.plan.members} - known)
    if missing:
        raise UserError(f"it trades {', '.join(missing)}, which this project does not have", str(path),
                        "Import them first, under the same codes.")
    members, new = [], []
    for member, strategy in zip(made.plan.members, made.strategies):
        line = shelf.of_rules(member.hash, member.market, member.interval)
        if line is None:
            part = part_of(footing, Body(member.name, strategy, member.market, member.interval))
            run = backtest(part.history, part.strategy, part.brief)
            tried = max(1, dossiers.searches.tried_on(member.market))
            dossiers.keep(candidate_of(run, member.name, ORIGIN, tried))
            line = shelf.of_rules(member.hash, member.market, member.interval)
            new.append(member.name)
        members.append(member.model_copy(update={"candidate": line.id if line is not None else 0}))
    return ReadBack(made.plan.model_copy(update={"members": tuple(members)}), tuple(new))
