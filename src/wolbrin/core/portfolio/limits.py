"""Limits on the shares of a portfolio: of one member, one market, one family of rules, one side."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from wolbrin.core.errors import UserError
from wolbrin.core.models import Model

Floats = NDArray[np.float64]
Share = Annotated[float, Field(gt=0, le=1)]
CLOSE = 1e-9
WHAT = {"member": "one member", "market": "one market", "family": "one family of rules", "side": "one side"}


class Limits(Model):
    """Most that may lie in one member, market, family of rules, or side (long only, short only, both); None for no limit."""

    member: Share | None = None
    market: Share | None = None
    family: Share | None = None
    side: Share | None = None

    @property
    def any(self) -> bool:
        """Whether there is a limit at all."""
        return any(v is not None for v in (self.member, self.market, self.family, self.side))

    def words(self) -> str:
        """The limits in words."""
        said = [f"{WHAT[key]} at most {value:.0%}" for key, value in self.model_dump().items() if value is not None]
        return ", ".join(said) or "no limits"


@dataclass(frozen=True)
class Label:
    """What a member belongs to."""

    market: str
    family: str = ""
    side: str = "both sides"


@dataclass(frozen=True)
class Bounds:
    """groups: float64[g, n], 1 where a member belongs to a group; caps: float64[g], most of each; most: of one member."""

    groups: Floats
    caps: Floats
    most: float

    def held(self, weights: Floats) -> bool:
        """Whether weights keep within the limits."""
        return bool((weights <= self.most + CLOSE).all() and (self.groups @ weights <= self.caps + CLOSE).all())


def bounds_of(limits: Limits, labels: Sequence[Label]) -> Bounds:
    """Limits as they apply to members.

    Raises:
        UserError: no shares that sum to 1 keep within them; says which limit, or that it is all of them together.
    """
    n = len(labels)
    rows, caps = [], []
    for key in ("market", "family", "side"):
        cap = getattr(limits, key)
        values = [getattr(label, key) for label in labels]
        if cap is None:
            continue
        names = list(dict.fromkeys(values))
        if len(names) * cap < 1.0 - CLOSE:
            raise UserError(f"at most {cap:.0%} in {WHAT[key]} cannot be kept by {len(names)} "
                            f"({', '.join(sorted(names)[:6])}): together they would make {len(names) * cap:.0%}",
                            f"limit of {WHAT[key]}", f"Allow at least {1 / len(names):.0%}, or add members elsewhere.")
        for name in names:
            rows.append([1.0 if v == name else 0.0 for v in values])
            caps.append(cap)
    most = limits.member if limits.member is not None else 1.0
    if n * most < 1.0 - CLOSE:
        raise UserError(f"at most {most:.0%} in one member cannot be kept by {n}: together they would make {n * most:.0%}",
                        "limit of one member", f"Allow at least {1 / n:.0%}, or add members.")
    made = Bounds(np.array(rows).reshape(len(rows), n), np.array(caps), most)
    if rows and limits.any and not _feasible(made, n):
        raise UserError(f"no shares keep all limits together ({limits.words()})", "limits", "Loosen one of them, or add "
                        "members of another market, family or side.")
    return made


def _feasible(bounds: Bounds, n: int) -> bool:
    from scipy.optimize import linprog  # late

    found = linprog(np.zeros(n), A_ub=bounds.groups, b_ub=bounds.caps, A_eq=np.ones((1, n)), b_eq=[1.0],
                    bounds=(0.0, bounds.most))
    return bool(found.status == 0)


def nearest(weights: Floats, bounds: Bounds) -> Floats:
    """The weights within the limits that lie nearest to those given (least squares), which sum to 1."""
    if bounds.held(weights):
        return weights
    return least(lambda w: float(((w - weights) ** 2).sum()), lambda w: 2.0 * (w - weights), weights, bounds)


def least(cost: object, slope: object, start: Floats, bounds: Bounds) -> Floats:
    """Weights that sum to 1 within the limits at which a smooth convex cost is least (sequential least squares, Kraft 1988).
    slope: its gradient."""
    from scipy.optimize import LinearConstraint, minimize  # late

    n = len(start)
    constraints = [LinearConstraint(np.ones((1, n)), 1.0, 1.0)]
    if len(bounds.caps):
        constraints.append(LinearConstraint(bounds.groups, -np.inf, bounds.caps))
    found = minimize(cost, start, jac=slope, method="SLSQP", bounds=[(0.0, bounds.most)] * n, constraints=constraints,
                     options={"maxiter": 500, "ftol": 1e-14})
    w = np.clip(found.x, 0.0, bounds.most)
    return w / w.sum()
