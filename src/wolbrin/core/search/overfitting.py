"""Overfitting by combinatorially symmetric cross-validation (Bailey, Borwein, Lopez de Prado & Zhu 2017).

The days are cut into an even number of blocks. For every choice of half of them, a rule chooses a set by those days, and is
judged by its rank on the other half. Looked at for two rules: the largest Sharpe ratio, and the center of the best plateau.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit
from wolbrin.core.search.plateau import OUTSIDE, UNKNOWN

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
BLOCKS = (16, 14, 12, 10, 8)
EFFORT = 3e9  # sets * neighbors * choices that are worth the wait


@njit(cache=True, nogil=True)
def _sharpes(sums: Floats, squares: Floats, days: Ints, chosen: Ints, out: Floats) -> None:
    """Daily Sharpe ratio of each set over the chosen blocks; 0 where its results do not move.

    sums, squares: float64[n, blocks]. days: int64[blocks]. chosen: numbers of blocks.
    """
    count = 0
    for b in chosen:
        count += days[b]
    for i in range(len(sums)):
        total = 0.0
        square = 0.0
        for b in chosen:
            total += sums[i, b]
            square += squares[i, b]
        mean = total / count
        variance = (square - count * mean * mean) / (count - 1)
        out[i] = mean / np.sqrt(variance) if variance > 1e-12 * square / count else 0.0


@njit(cache=True, nogil=True)
def _median(found: Floats, count: int) -> float:
    part = np.sort(found[:count])
    return 0.5 * (part[(count - 1) // 2] + part[count // 2])


@njit(cache=True, nogil=True)
def validate(sums: Floats, squares: Floats, days: Ints, choices: Ints, around: Ints, out: Floats) -> None:
    """Walk all choices of blocks.

    choices: int64[c, half]. around: int64[n, k], see plateau.scores; k 0: no plateau rule. out: float64[c, 6]: for the
    largest, then for the plateau: Sharpe ratio inside, outside, and the relative rank outside (0 to 1; ties in the middle).
    """
    n, blocks = sums.shape
    inside = np.empty(n)
    outside = np.empty(n)
    found = np.empty(max(1, around.shape[1]))
    others = np.empty(blocks - choices.shape[1], np.int64)
    for c in range(len(choices)):
        chosen = choices[c]
        at = 0
        for b in range(blocks):
            if not (chosen == b).any():
                others[at] = b
                at += 1
        _sharpes(sums, squares, days, chosen, inside)
        _sharpes(sums, squares, days, others, outside)
        worst = inside.min()
        pick = np.array([np.argmax(inside), -1])
        best = -np.inf
        lowest = -np.inf
        for i in range(n if around.shape[1] else 0):
            count = 0
            reach = 0
            known = True
            for k in range(around.shape[1]):
                place = around[i, k]
                if place == OUTSIDE:
                    continue
                if place == UNKNOWN:
                    known = False
                    break
                found[count] = worst if place < 0 else inside[place]
                reach += found[count] >= best
                count += 1
            if known and count and 2 * reach >= count:  # else its median is below the best already
                middle = _median(found, count)
                low = found[:count].min()
                # Among equals as plateau.best_plateau takes them: the better worst, then the better set.
                if middle > best or (middle == best and (low > lowest or (low == lowest and inside[i] > inside[pick[1]]))):
                    best = middle
                    lowest = low
                    pick[1] = i
        for rule in range(2):
            i = pick[rule]
            if i < 0:
                out[c, 3 * rule:3 * rule + 3] = np.nan
                continue
            below = 0
            equal = 0
            for j in range(n):
                if outside[j] < outside[i]:
                    below += 1
                elif outside[j] == outside[i]:
                    equal += 1
            out[c, 3 * rule] = inside[i]
            out[c, 3 * rule + 1] = outside[i]
            out[c, 3 * rule + 2] = (below + 0.5 * (equal + 1)) / (n + 1)


@dataclass(frozen=True)
class Rule:
    """How a rule of choosing does. overfitting: chance that what it chooses lies below the median outside. loss: that it
    loses outside. inside, outside: mean daily Sharpe ratio of what it chooses."""

    name: str
    overfitting: float
    loss: float
    inside: float
    outside: float

    def words(self) -> str:
        """In one sentence."""
        if not math.isfinite(self.overfitting):
            return f"Chosen by the {self.name}: no value."
        hundred = 100 * self.overfitting
        return (f"Chosen by the {self.name}: on other days below the median of all sets in {hundred:.0f} of 100 cuts, a loss "
                f"in {100 * self.loss:.0f} of 100, Sharpe ratio of a day {self.inside:.3f} inside and {self.outside:.3f} "
                "outside.")


FLAT = "On a flat plateau the chance to lie below the median is near one half, and harmless: look at the losses."


@dataclass(frozen=True)
class Overfitting:
    """largest: the rule that takes the best set. plateau: the one that takes the best plateau's center. blocks, choices: how
    the days were cut; sets: how many there were; days: of the smallest and of the largest block, which differ by one where
    blocks do not divide them (by two where each is made of two)."""

    largest: Rule
    plateau: Rule
    blocks: int
    choices: int
    sets: int
    days: tuple[int, int] = (0, 0)

    def words(self) -> str:
        """How the days were cut, in one sentence."""
        few, many = self.days
        return (f"The days are cut into {self.blocks} blocks of {few}{f' or {many}' if many > few else ''}; none is left "
                "out.") if many else ""


def blocks_for(sets: int, neighbors: int, days: int) -> int:
    """The largest number of blocks that is worth the wait and leaves each some days; 0 where there are too few days."""
    for blocks in BLOCKS:
        effort = sets * max(1, neighbors) * math.comb(blocks, blocks // 2)
        if days >= 10 * blocks and (effort <= EFFORT or blocks == BLOCKS[-1]):
            return blocks
    return 0


def block_sums(daily: Floats, blocks: int) -> tuple[Floats, Floats, Ints]:
    """float64[n, blocks] twice: sums and sums of squares of daily results, float[n, d]; int64[blocks]: days of each."""
    edges = np.linspace(0, daily.shape[1], blocks + 1).astype(np.int64)
    x = np.nan_to_num(daily.astype(np.float64))
    return (np.add.reduceat(x, edges[:-1], axis=1), np.add.reduceat(x * x, edges[:-1], axis=1), np.diff(edges))


def overfitting(sums: Floats, squares: Floats, days: Ints, around: Ints) -> Overfitting:
    """Judge both rules. See `block_sums` and plateau.Surroundings."""
    n, blocks = sums.shape
    choices = np.array(list(combinations(range(blocks), blocks // 2)), np.int64)
    out = np.full((len(choices), 6), np.nan)
    if n > 1:
        validate(np.ascontiguousarray(sums), np.ascontiguousarray(squares), days, choices, around, out)

    def rule(name: str, part: Floats) -> Rule:
        part = part[np.isfinite(part).all(axis=1)]
        if not len(part):
            return Rule(name, math.nan, math.nan, math.nan, math.nan)
        logit = np.log(part[:, 2] / (1.0 - part[:, 2]))
        return Rule(name, float((logit <= 0).mean()), float((part[:, 1] < 0).mean()), float(part[:, 0].mean()),
                    float(part[:, 1].mean()))

    return Overfitting(rule("largest value", out[:, :3]), rule("plateau's center", out[:, 3:]), blocks, len(choices), n,
                       (int(days.min()), int(days.max())))
