"""Finds of a search as families: near-twins and variants of one idea, the strongest simple one first.

Average linkage on the correlation of daily results of training (`proving.families`, cut at CUT). A family is one bet,
whatever its number; how many bets all finds are together is told by the effective number of bets of their correlations.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from wolbrin.core.measures.inference import effective_bets
from wolbrin.core.measures.wording import number
from wolbrin.core.proving.families import CUT, Bet, correlations, families_of, parts_of
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.found import finds_of, set_families
from wolbrin.core.store.project import Project
from wolbrin.core.store.series import unpack

MOST = 2_000  # finds that are grouped, the strongest; what is weaker stays by itself


@dataclass(frozen=True)
class FoundFamily:
    """Shelf ids of one family, its representative first. alike: mean correlation of daily results between members, NaN of
    one."""

    members: tuple[int, ...]
    alike: float

    @property
    def leads(self) -> int:
        return self.members[0]

    @property
    def words(self) -> str:
        """Such as "12 stand behind it, alike by 0.81"; "" of one."""
        behind = len(self.members) - 1
        verb = "stands" if behind == 1 else "stand"
        return f"{number(behind)} {verb} behind it, alike by {self.alike:.2f}" if behind else ""


@dataclass(frozen=True)
class Families:
    """families: the strongest first. kept: finds; bets: how many they are worth, the effective number of bets of each market
    summed, NaN of none."""

    families: tuple[FoundFamily, ...]
    kept: int
    bets: float

    @property
    def words(self) -> str:
        """Such as "237 finds are 5 families, worth 3.4 bets"."""
        if not self.kept:
            return ""
        one = self.kept == 1
        return (f"{number(self.kept)} find{' is' if one else 's are'} {number(len(self.families))} "
                f"famil{'y' if len(self.families) == 1 else 'ies'}, worth {number(self.bets, 1)} "
                f"bet{'' if number(self.bets, 1) == '1.0' else 's'} (correlation of daily results from {CUT:g} on average)")

    @property
    def short(self) -> str:
        """Such as "237 finds, 5 families, 3.4 bets"."""
        if not self.kept:
            return ""
        finds = "find" if self.kept == 1 else "finds"
        families = "family" if len(self.families) == 1 else "families"
        bets = "bet" if number(self.bets, 1) == "1.0" else "bets"
        return (f"{number(self.kept)} {finds}, {number(len(self.families))} {families}, "
                f"{number(self.bets, 1)} {bets}")


def families_in(project: Project, search: int) -> Families:
    """The finds of a search that are on the Shelf, as families."""
    found = finds_of(project, search, MOST)
    families: list[tuple[float, FoundFamily]] = []
    bets, known = 0.0, 0
    for place in dict.fromkeys((k.market, k.interval) for k in found):
        mine = [k for k in found if (k.market, k.interval) == place]
        some = [Bet(k.name, k.hash, k.market, unpack(k.packed), k.t, k.t if math.isfinite(k.t) else 0.0,
                    _parts(k.hash, k.body)) for k in mine]
        known += len(some)
        matrix = correlations([b.daily for b in some])
        bets += effective_bets(matrix)
        for family in families_of(some):
            at = np.array(family.members)
            several = matrix[np.ix_(at, at)]
            n = len(at)
            alike = float((several.sum() - n) / (n * (n - 1))) if n > 1 else math.nan
            families.append((some[at[0]].t, FoundFamily(tuple(mine[i].id for i in at.tolist()), alike)))
    ordered = tuple(f for _, f in sorted(families, key=lambda pair: (-pair[0], pair[1].leads)))
    return Families(ordered, known, bets if known else math.nan)


def settle_families(project: Project, search: int) -> Families:
    """Group a search's finds, and write down on the Shelf who represents whom."""
    found = families_in(project, search)
    set_families(project, {f.leads: f.members for f in found.families})
    return found


_known_parts: dict[str, int] = {}


def _parts(hash: str, body: str) -> int:
    """How many parts rules have; rules do not change under their hash."""
    if hash not in _known_parts:
        if len(_known_parts) > 100_000:
            _known_parts.clear()
        _known_parts[hash] = parts_of(Strategy.model_validate_json(body))
    return _known_parts[hash]
