"""One set for a basket of markets, by a stated rule, and the best set of each market by itself."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import UserError

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
MEDIAN_RANK, WORST_MARKET, SUM = "median rank", "worst market", "sum"
RULES = (MEDIAN_RANK, WORST_MARKET, SUM)


@dataclass(frozen=True)
class Basket:
    """sets: int64[s], numbers that all places share (place of a set within its place's grid), in order of value. value:
    float64[s], higher is better. by_place: float64[s, places], scores. best: row of each place's best, -1 for none."""

    rule: str
    sets: Ints
    value: Floats
    by_place: Floats
    best: Ints

    def words(self) -> str:
        """What the rule does."""
        return {MEDIAN_RANK: "the set whose median rank over the places is best (0 the last, 1 the first)",
                WORST_MARKET: "the set whose worst place does best",
                SUM: "the set with the largest sum over the places"}[self.rule]


def check_rule(rule: str) -> str:
    """The rule. Raises UserError where there is none of that name."""
    if rule not in RULES:
        raise UserError(f'there is no basket rule "{rule}"', "--basket", f"There are {', '.join(RULES)}.")
    return rule


def ranks(score: Floats) -> Floats:
    """float64[n]: share of the values that lie below, ties in the middle; NaN is below all numbers."""
    filled = np.where(np.isfinite(score), score, -np.inf)
    order = np.sort(filled)
    low, high = np.searchsorted(order, filled, "left"), np.searchsorted(order, filled, "right")
    return (low + high - 1) / 2.0 / max(1, len(filled) - 1)


def basket(places: Ints, sets: Ints, score: Floats, passes: NDArray[np.bool_], count: int, rule: str) -> Basket:
    """Put sets of several places side by side.

    places, sets: int64[n], where each row was run and which set it is there. score: float64[n], NaN for none; rows that do
    not pass the floors have none. count: of places. Only sets that were run in every place take part.
    """
    found, column = np.unique(sets, return_inverse=True)
    table = np.full((len(found), count), np.nan)
    ran = np.zeros((len(found), count), bool)
    table[column, places] = np.where(passes, score, np.nan)
    ran[column, places] = True
    best = np.full(count, -1, np.int64)
    for place in range(count):
        at = np.flatnonzero((places == place) & passes & np.isfinite(score))
        if len(at):
            best[place] = at[np.argmax(score[at])]
    whole = ran.all(axis=1)
    found, table = found[whole], table[whole]
    if not len(found):
        return Basket(rule, found, np.zeros(0), table, best)
    if rule == MEDIAN_RANK:
        value = np.median(np.stack([ranks(table[:, p]) for p in range(count)], axis=1), axis=1)
        value = np.where(np.isfinite(table).any(axis=1), value, np.nan)
    else:
        value = table.min(axis=1) if rule == WORST_MARKET else table.sum(axis=1)
    order = np.lexsort((found, -np.where(np.isfinite(value), value, -np.inf)))
    return Basket(rule, found[order], value[order], table[order], best)
