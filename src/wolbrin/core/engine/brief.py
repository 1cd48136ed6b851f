"""What a run asks beside strategy and bars: span, costs, capital."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

from wolbrin.core.market.bars import Span
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.terms import COST_TERMS, Terms

# What the bars of a span are to whoever judges the result. "free": no project and so no border; "whole": training and
# holdout in one run.
Role = Literal["training", "holdout", "whole", "block", "rehearsal", "free"]


@dataclass(frozen=True)
class Brief:
    """What a run asks beside strategy and bars: decision span, costs and starting capital (account money).

    costs: the market's own where none are named; trading free must be asked for (`Costs.none()`).
    most_bars: only the last so many bars of the span decide, for quick tests; None for all.
    fine: walk the bars of a shorter interval inside each bar, where the history has them.
    role: what the span is. assumed: terms that nobody has set and no file shows (see market.terms.ASSUMABLE).
    """

    span: Span = Span()
    costs: Costs | None = None
    capital: float = 50_000.0
    most_bars: int | None = None
    fine: bool = False
    role: Role = "free"
    assumed: tuple[str, ...] = ()

    def on(self, terms: Terms) -> Brief:
        """The brief on a market, with the costs that are charged there."""
        return self if self.costs is not None else replace(self, costs=Costs.of(terms))

    @property
    def paid(self) -> Costs:
        """The costs that are charged. Raises ValueError where the market's own are meant and it is not known which (`on`)."""
        if self.costs is None:
            raise ValueError("this brief takes a market's own costs; ask for brief.on(terms) first")
        return self.costs

    @property
    def costs_assumed(self) -> bool:
        """Whether any cost is assumed."""
        return any(name in COST_TERMS for name in self.assumed)
