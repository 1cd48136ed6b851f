"""A portfolio as one JSON file: members' strategies and the account, to take elsewhere and read back."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Literal

from pydantic import Field, ValidationError

from wolbrin.core.errors import UserError
from wolbrin.core.faults import explain
from wolbrin.core.models import Model, read_json
from wolbrin.core.portfolio.plan import MOST_MEMBERS, Plan
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Strategy


class PortfolioFile(Model):
    """plan: with all its members; strategies: of each, in order."""

    format: Literal["wolbrin.portfolio.file"] = "wolbrin.portfolio.file"
    version: Literal[1] = 1
    plan: Plan
    strategies: tuple[Strategy, ...] = Field(max_length=MOST_MEMBERS)


def file_of(plan: Plan, strategies: Sequence[Strategy]) -> PortfolioFile:
    """What is written. strategies: of all members, in order. Ids of a Shelf mean nothing elsewhere and are left out."""
    members = tuple(m.model_copy(update={"candidate": 0}) for m in plan.members)
    return PortfolioFile(plan=plan.model_copy(update={"members": members}), strategies=tuple(strategies))


def read_portfolio_file(path: Path) -> PortfolioFile:
    """Read a file that `file_of` made.

    Raises:
        UserError: it is none, or its members and strategies do not belong together; says where.
    """
    data = read_json(path, "portfolio")
    if not isinstance(data, dict) or data.get("format") != "wolbrin.portfolio.file":
        raise UserError("this is no portfolio file", str(path), "Choose one that `wolbrin portfolio export` wrote.")
    try:
        made = PortfolioFile.model_validate(data)
    except ValidationError as err:
        raise explain(err, str(path)) from None
    if len(made.strategies) != len(made.plan.members):
        raise UserError(f"it has {len(made.plan.members)} members and {len(made.strategies)} strategies", str(path),
                        "Write it again where it comes from.")
    for at, (member, strategy) in enumerate(zip(made.plan.members, made.strategies)):
        if strategy_hash(strategy) != member.hash:
            raise UserError(f"the strategy of {member.name} is not the one that the portfolio was made of",
                            f"{path}, member {at + 1}", "Write it again where it comes from.")
    return made
