"""What each member adds: to profit, risk and the worst drawdowns; what would remain without it; what another would add."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import UserError
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.drawdown import episodes
from wolbrin.core.portfolio.combine import correlation
from wolbrin.core.portfolio.plan import Member, Plan
from wolbrin.core.portfolio.played import Part, Played, play
from wolbrin.core.portfolio.weights import risk_shares

Floats = NDArray[np.float64]
KEYS = ("net", "max_drawdown", "return_drawdown", "under_water", "sharpe")
WORST = 5  # drawdowns of the whole that are taken apart


@dataclass(frozen=True)
class Fall:
    """One of the deepest drawdowns of the whole. begin, trough: UTC ns; depth: money; each: float64[n] what each member made
    from its peak to its trough (sums to minus the depth)."""

    begin: int
    trough: int
    depth: float
    each: Floats


@dataclass(frozen=True)
class Contributions:
    """Of each member, float64[n]: net (money) and its share; risk: share of the variance of daily results; average: mean
    correlation with the others. falls: deepest first."""

    net: Floats
    share: Floats
    risk: Floats
    average: Floats
    falls: tuple[Fall, ...]


def contributions(made: Played) -> Contributions:
    """What each member adds to a portfolio that was traded."""
    n = len(made.parts)
    net = np.array([float(run.profits.sum()) for run in made.runs])
    total = float(net.sum())
    table = made.table[1]
    risk = risk_shares(table, np.ones(n)) if len(table) > 1 else np.full(n, np.nan)
    matrix = correlation(table)
    np.fill_diagonal(matrix, np.nan)
    known = np.isfinite(matrix)
    average = np.divide(np.where(known, matrix, 0).sum(axis=1), known.sum(axis=1), out=np.full(n, np.nan),
                        where=known.any(axis=1))
    found = episodes(made.equity, made.capital)
    falls = []
    start = np.zeros(n)
    for at in np.argsort(-found.depth, kind="stable")[:WORST].tolist():
        peak, trough = int(found.peak[at]), int(found.trough[at])
        before = made.each[peak] if peak >= 0 else start
        falls.append(Fall(int(made.instants[peak]) if peak >= 0 else made.facts.begin, int(made.instants[trough]),
                          float(found.depth[at]), made.each[trough] - before))
    return Contributions(net, net / total if total > 0 else np.full(n, np.nan), risk, average, tuple(falls))


@dataclass(frozen=True)
class Change:
    """A portfolio with one member less or more. name: whose; figures: of KEYS; at: place among those that are on, or of the
    candidates; fault: why it could not be traded, in words."""

    name: str
    at: int
    figures: dict[str, float]
    fault: str = ""


def _tried(plan: Plan, parts: Sequence[Part], capital: float, name: str, at: int) -> Change:
    try:
        return Change(name, at, measure(play(plan, parts, capital).facts, KEYS))
    except UserError as err:
        return Change(name, at, dict.fromkeys(KEYS, float("nan")), err.sentence())


def change_without(plan: Plan, parts: Sequence[Part], capital: float, at: int) -> Change:
    """The portfolio really traded without one of its members, the others at the sizes that they have."""
    left = [p for i, p in enumerate(parts) if i != at]
    return _tried(plan.without(at), left, capital, parts[at].name, at)


def change_with(plan: Plan, parts: Sequence[Part], capital: float, member: Member, part: Part, at: int) -> Change:
    """The portfolio really traded with another one too, at its own size; it comes last in priority. at: its place among those
    that may join."""
    more = member.model_copy(update={"priority": max(m.priority for m in plan.on)})
    return _tried(plan.with_member(more), [*parts, part], capital, part.name, at)
