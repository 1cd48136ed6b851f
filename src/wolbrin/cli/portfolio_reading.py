"""What people write about a portfolio on the command line, read into its plan."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

from pydantic import ValidationError

from wolbrin.core.errors import UserError
from wolbrin.core.faults import explain
from wolbrin.core.market.costs import Costs
from wolbrin.core.portfolio.limits import Limits
from wolbrin.core.portfolio.plan import LossLimit, Member, Plan
from wolbrin.core.portfolio.weights import OWN, SCHEMES
from wolbrin.core.store.portfolios import Portfolios
from wolbrin.core.store.project import Project
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.work.portfolios import desk_of, kept_of, plan_of, share_in, weights_of


def number_of(text: str, option: str) -> float:
    """A number as written. Raises UserError for another text."""
    try:
        return float(text)
    except ValueError:
        raise UserError(f'"{text}" is no number', option, "Write one such as 0.25.") from None


def loss_of(text: str, option: str) -> LossLimit:
    """"500" (money) or "2%" (of the account)."""
    percent = text.strip().endswith("%")
    return checked(lambda: LossLimit(amount=number_of(text.strip().rstrip("%"), option), percent=percent), option)


def checked(make: Callable[[], Any], where: str) -> Any:
    """What a model makes of what was written; a sentence where it refuses."""
    try:
        return make()
    except ValidationError as err:
        raise explain(err, where) from None


def pairs(texts: Sequence[str], option: str) -> dict[str, str]:
    """ "3=0.4": of which candidate, and what."""
    out = {}
    for text in texts:
        name, sign, value = text.rpartition("=")
        if not sign or not name.strip() or not value.strip():
            raise UserError(f'"{text}" says nothing about a member', option,
                            f"Write its id or name and a value, such as {option} 3=0.4.")
        out[name.strip()] = value.strip()
    return out


def costs_of(text: str, option: str) -> Costs:
    """ "per_contract:2.4,slippage_ticks:1": own costs of a member."""
    values = {}
    for part in text.split(","):
        key, sign, value = part.partition(":")
        if not sign or key.strip() not in Costs.model_fields:
            raise UserError(f'"{part}" is no cost', option, f"Known are {', '.join(Costs.model_fields)}; write for example "
                            "per_contract:2.4,slippage_ticks:1.")
        values[key.strip()] = number_of(value, option)
    return checked(lambda: Costs(**values), option)


def with_members(plan: Plan, texts: Sequence[str], option: str, change: Callable[[Member, str], dict[str, Any]]) -> Plan:
    """A plan whose members are changed as written, by id or name."""
    for who, value in pairs(texts, option).items():
        at = [i for i, m in enumerate(plan.members) if str(m.candidate) == who or m.name == who]
        if not at:
            known = ", ".join(f"{m.candidate} ({m.name})" for m in plan.members[:8])
            raise UserError(f'no member is called "{who}"', option, f"Its members are {known}.")
        old = plan.members[at[0]]
        data = old.model_dump() | change(old, value)
        new = checked(partial(Member.model_validate, data), f"{option} {who}")
        plan = plan.model_copy(update={"members": tuple(new if i == at[0] else m for i, m in enumerate(plan.members))})
    return plan


def start(project: Project, ids: Sequence[int], saved: str | None, others: Sequence[str]) -> Plan:
    """The plan to begin with: candidates, or a saved portfolio that they join; saved portfolios beside them."""
    fresh = Shelf(project).bodies(ids)
    plan = Portfolios(project).named(saved).plan if saved else checked(lambda: plan_of(fresh), "portfolio")
    if saved and fresh:
        there = kept_of(project, plan, every=True)
        plan = checked(lambda: plan_of([*there, *(k for k in fresh if k.id not in {t.id for t in there})], old=plan),
                       "portfolio")
    for other in others:
        plan = share_in(plan, Portfolios(project).named(other).plan)
    return plan


def settle(plan: Plan, **given: Any) -> Plan:
    """A plan with the settings that were given; those that are None stay."""
    data = {k: v for k, v in given.items() if v is not None}
    return checked(lambda: Plan.model_validate(plan.model_dump() | data), "portfolio")


def limits_of(member: float | None, market: float | None, family: float | None, side: float | None) -> Limits | None:
    """Limits that were written, None where none was."""
    if all(v is None for v in (member, market, family, side)):
        return None
    return checked(lambda: Limits(member=member, market=market, family=family, side=side), "limits")


def weighed(project: Project, plan: Plan, weights: str | None) -> Plan:
    """A plan with the shares of a scheme. Raises UserError for an unknown one."""
    if weights is None or weights == OWN:
        return plan
    if weights not in [s.key for s in SCHEMES]:
        raise UserError(f'"{weights}" is no way to find weights', "--weights",
                        f"Known are {', '.join(s.key for s in SCHEMES)}, {OWN}.")
    return weights_of(desk_of(project, plan), weights)
