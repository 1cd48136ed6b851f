"""All there is to say of a portfolio that was traded."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.record import Record
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.inference import effective_bets
from wolbrin.core.portfolio.chances import Chances, chances
from wolbrin.core.portfolio.combine import correlation
from wolbrin.core.portfolio.contributions import Contributions, contributions
from wolbrin.core.portfolio.over_time import Use, correlation_inside, held_throughout, use_of
from wolbrin.core.portfolio.played import Played

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Told:
    """figures: of the whole; each: of every member as it traded here. bets: how many different ones they are worth.
    cautions: a sentence each. inside: mean correlation of members lately, dates and values. holding: P/L of buying and
    holding at each instant. records: of each member's run."""

    played: Played
    figures: dict[str, float]
    each: tuple[dict[str, float], ...]
    bets: float
    cautions: tuple[str, ...]
    parts: Contributions
    use: Use
    inside: tuple[NDArray[np.int32], Floats]
    holding: Floats
    chances: Chances
    records: tuple[Record, ...]

    @property
    def names(self) -> list[str]:
        """Of the members, with their markets."""
        return [f"{p.name} {p.history.bars.terms.code}" for p in self.played.parts]


def tell(played: Played, cautions: Sequence[str] = (), records: Sequence[Record] = (), markets: Sequence[str] = ()) -> Told:
    """Say it. markets: of buying and holding, those of the members where none is named."""
    bets = effective_bets(correlation(played.table[1])) if len(played.parts) > 1 else 1.0
    return Told(played, measure(played.facts), tuple(measure(Facts.of(run)) for run in played.runs), bets, tuple(cautions),
                contributions(played), use_of(played), correlation_inside(played), held_throughout(played, markets),
                chances(played.daily[1], played.capital), tuple(records))
