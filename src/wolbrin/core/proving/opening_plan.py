"""The plan of an opening: which families, in which order of tests, with what chance; fixed before a sealed bar is read."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.measures.inference import t_needed
from wolbrin.core.measures.wording import number
from wolbrin.core.proving.families import Bet, Family, correlations, families_of
from wolbrin.core.proving.power import Reach

Floats = NDArray[np.float64]
DRAWS, MOST_DRAWN = 20_000, 2_000_000  # openings that are drawn, and t in all
LENGTHS = (0.5, 1.5, 2.0, 3.0)  # of the holdout, times as long, whose chances are told too
SEED = 19790601
LEAST_POWER = 0.2  # chance below which an opening asks once more
MOST_COUNTED = 12  # families of which each number of the best is a choice
TIE = 0.02  # chances that are as good as alike


@dataclass(frozen=True)
class Choice:
    """One way to open. families: how many of the strongest. whole: whether all of them together are tested first. chance:
    that anything stands: the whole, where it is tested, else any family; family: that any family does; expected: how many do
    on average; each: chance of each, the strongest first. t_whole, t_best: what the whole and the best family are asked."""

    families: int
    whole: bool
    chance: float
    family: float
    expected: float
    each: tuple[float, ...]
    t_whole: float
    t_best: float

    @property
    def key(self) -> str:
        """Such as "whole-5" or "families-3"."""
        return f"{'whole' if self.whole else 'families'}-{self.families}"

    def words(self, of: int) -> str:
        """In a few words, out of so many families."""
        if self.families == 1:
            return "the only family" if of == 1 else "the strongest family alone"
        all_ = "both families" if of == 2 else f"all {self.families} families"
        which = all_ if self.families == of else f"the {self.families} strongest families"
        return f"{which}, together first" if self.whole else f"{which}, each by itself"


@dataclass(frozen=True)
class Plan:
    """bets: what would be opened. families: the strongest first. expected: t of each family's representative, without
    selection; correlation: of representatives, float64[k, k]. choices: ways to open, the proposed one first. training,
    sealed: days. level: what this opening may spend; number: of the opening. longer: the chance of the most powerful way if
    so many days were sealed, for LENGTHS."""

    bets: tuple[Bet, ...]
    families: tuple[Family, ...]
    correlation: Floats
    choices: tuple[Choice, ...]
    training: int
    sealed: int
    level: float
    number: int
    longer: tuple[tuple[int, float], ...] = ()

    @property
    def proposed(self) -> Choice:
        return self.choices[0]

    @property
    def weak(self) -> bool:
        """Whether no way to open has a fair chance to show anything."""
        return not self.proposed.chance >= LEAST_POWER

    def choice(self, key: str) -> Choice | None:
        """A way by its key; None where there is none such."""
        return next((c for c in self.choices if c.key == key), None)

    def opened(self, choice: Choice) -> tuple[Family, ...]:
        """The families that a choice opens."""
        return self.families[:choice.families]


def plan_of(bets: Sequence[Bet], sealed: int, level: float, opening: int) -> Plan:
    """The families of some candidates and the ways to open them. sealed: days that would be opened."""
    families = families_of(bets)
    first = [bets[f.representative] for f in families]
    training = max((len(b.daily[0]) for b in bets), default=0)
    matrix = correlations([b.daily for b in first])
    expected = np.array([b.expected for b in first])
    found = ways(expected, matrix, training, sealed, level)
    days = [round(sealed * x) for x in LENGTHS] if found and sealed else []
    longer = tuple((d, ways(expected, matrix, training, d, level)[0].chance) for d in days)
    return Plan(tuple(bets), families, matrix, found, training, sealed, level, opening, longer)


def ways(expected: Floats, matrix: Floats, training: int, sealed: int, level: float) -> tuple[Choice, ...]:
    """Every way to open, the one with most power first; of two nearly as good the one that rather lets a family stand.

    expected: float64[k], t in training without selection, falling. matrix: correlation of their training days. Holdout t
    are drawn with what training leaves open of their means (a fixed seed: the same candidates give the same figures).
    """
    k = len(expected)
    if not k or not training:
        return ()
    reach = [Reach.of(float(e), training, sealed) for e in expected]
    values, vectors = np.linalg.eigh(matrix)
    root = vectors * np.sqrt(np.maximum(values, 0.0))
    noise = np.random.default_rng(SEED).standard_normal((max(2_000, min(DRAWS, MOST_DRAWN // k)), k)) @ root.T
    t = np.array([r.mean for r in reach]) + reach[0].spread * noise
    made = []
    for m in sorted({*range(1, min(k, MOST_COUNTED) + 1), k}):
        part, size = t[:, :m], math.sqrt(max(float(matrix[:m, :m].sum()), 1e-12))
        passed = _holm(part, level)
        for whole in ((True, False) if m > 1 else (False,)):
            gate = part.sum(axis=1) / size >= t_needed(level) if whole else np.ones(len(part), bool)
            got = passed & gate[:, None]
            any_family = float(got.any(axis=1).mean())
            made.append(Choice(m, whole, float(gate.mean()) if whole else any_family, any_family,
                               float(got.sum(axis=1).mean()), tuple(got.mean(axis=0).tolist()),
                               t_needed(level) if whole else math.nan, t_needed(level / m)))
    best = max(c.chance for c in made)
    near = [c for c in made if c.chance >= best - TIE]
    first = max(near, key=lambda c: (c.family, c.families))
    return (first, *sorted((c for c in made if c is not first), key=lambda c: (-c.families, not c.whole)))


def _holm(t: Floats, level: float) -> NDArray[np.bool_]:
    """bool[n, m]: who passes, row by row (Holm 1979)."""
    n, m = t.shape
    order = np.argsort(-t, axis=1)
    ranked = np.take_along_axis(t, order, axis=1) >= np.array([t_needed(level / (m - i)) for i in range(m)])
    ranked = np.logical_and.accumulate(ranked, axis=1)
    out = np.zeros((n, m), bool)
    np.put_along_axis(out, order, ranked, axis=1)
    return out


def told(plan: Plan) -> str:
    """What would be opened and with what chance, in a sentence or two."""
    if not plan.choices:
        return "Nothing is ready to be opened."
    p, bets, k = plan.proposed, len(plan.bets), len(plan.families)
    many = f"{number(bets)} candidates are {number(k)} famil{'ies' if k != 1 else 'y'}" if bets > 1 else "One candidate"
    asks = (f"all together need a t of {number(p.t_whole, 2)}, then the best family {number(p.t_best, 2)}" if p.whole else
            f"the best needs a t of {number(p.t_best, 2)}" if p.families > 1 else f"it needs a t of {number(p.t_best, 2)}")
    what = "the whole stands" if p.whole else "it stands" if p.families == 1 else "any of them stands"
    return (f"{many}. Most power: {p.words(k)} ({asks}); chance that {what}: "
            f"{number(100 * p.chance)}%{f', that a family does: {number(100 * p.family)}%' if p.whole else ''}.")
