"""What a run asks beside strategy and bars: span, costs, capital."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from pydantic import Field

from wolbrin.core.market.bars import Span
from wolbrin.core.market.terms import COST_TERMS, Terms
from wolbrin.core.models import Model

# What the bars of a span are to whoever judges the result. "free": no project and so no border; "whole": training and
# holdout in one run.
Role = Literal["training", "holdout", "whole", "block", "rehearsal", "free"]


class Costs(Model):
    """What trading costs, laid over the market's own terms; money in account currency."""

    spread_ticks: float = Field(0.0, ge=0)
    slippage_ticks: float = Field(0.0, ge=0)
    per_contract: float = Field(0.0, ge=0)
    percent: float = Field(0.0, ge=0)
    minimum: float = Field(0.0, ge=0)
    financing_long: float | None = Field(None, description="ticks a night; the contract terms' own where absent")
    financing_short: float | None = None
    roll_ticks: float = Field(0.0, ge=0, description="ticks for holding over a roll of a continuous future")

    @classmethod
    def of(cls, terms: Terms) -> Costs:
        c = terms.commission
        return cls(spread_ticks=terms.spread_ticks, slippage_ticks=terms.slippage_ticks,
                   per_contract=c.per_contract, percent=c.percent, minimum=c.minimum)

    def scaled(self, factor: float) -> Costs:
        """Trading costs times `factor`; financing stays, since it can be an income."""
        rates = ("financing_long", "financing_short")
        return Costs(**{k: v if k in rates else v * factor for k, v in self.model_dump().items()})

    def financing(self, terms: Terms) -> tuple[float, float]:
        """Long and short rate in ticks a night."""
        own = terms.financing
        return (own.long if self.financing_long is None else self.financing_long,
                own.short if self.financing_short is None else self.financing_short)


@dataclass(frozen=True)
class Brief:
    """What a run asks beside strategy and bars: decision span, costs and starting capital (account money).

    most_bars: only the last so many bars of the span decide, for quick tests; None for all.
    fine: walk the bars of a shorter interval inside each bar, where the history has them.
    role: what the span is. assumed: terms that nobody has set and no file shows (see market.terms.ASSUMABLE).
    """

    span: Span = Span()
    costs: Costs = Costs()
    capital: float = 50_000.0
    most_bars: int | None = None
    fine: bool = False
    role: Role = "free"
    assumed: tuple[str, ...] = ()

    @property
    def costs_assumed(self) -> bool:
        """Whether any cost is assumed."""
        return any(name in COST_TERMS for name in self.assumed)
