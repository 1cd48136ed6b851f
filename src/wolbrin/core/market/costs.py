"""What trading costs: one declared list, from which forms, options, words and records are made."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from wolbrin.core.market.declared import Declared, Fact, declared
from wolbrin.core.market.terms import Terms
from wolbrin.core.models import Model

FREE = "free of costs"


class Costs(Model):
    """What trading costs, laid over the market's own terms; money in account currency. To add one: a
    field with its `Fact`."""

    spread_ticks: Annotated[float, Fact(
        "spread", "ticks", "half is paid at each fill", "--spread", "spread {:g}", scaled=True, term="spread",
        of_terms="spread_ticks", hint="ticks, half at each fill", digits=1, most=1e5)] = Field(0.0, ge=0)
    slippage_ticks: Annotated[float, Fact(
        "slippage", "ticks", "paid at each market or stop fill", "--slippage", "slippage {:g}", scaled=True, term="slippage",
        of_terms="slippage_ticks", hint="ticks a market or stop fill", digits=1, most=1e5)] = Field(0.0, ge=0)
    per_contract: Annotated[float, Fact(
        "commission", "account money", "a contract and side", "--commission", "{:.2f} a side", scaled=True, term="commission",
        of_terms="commission.per_contract", hint="a contract and side, and", short="a side")] = Field(0.0, ge=0)
    percent: Annotated[float, Fact(
        "commission, % of notional", "% of notional", "a side, beside the commission a contract", "--percent", "{:g}%",
        scaled=True, term="commission", of_terms="commission.percent", hint="% of notional; at least", short="%", digits=4,
        step=0.001, most=100)] = Field(0.0, ge=0)
    minimum: Annotated[float, Fact(
        "least commission", "account money", "least charge a side", "--minimum", "at least {:.2f}", scaled=True,
        term="commission", of_terms="commission.minimum", hint="a side", short="at least", beside=True)] = Field(0.0, ge=0)
    financing_long: Annotated[float | None, Fact(
        "financing long", "ticks a night", "of a contract held long, negative is paid; the contract terms' where absent",
        "--financing-long", "financing long {:g}",
        of_terms="financing.long", hint="ticks a night, \u2212 is paid", digits=3, step=0.1, most=1e5)] = None
    financing_short: Annotated[float | None, Fact(
        "financing short", "ticks a night", "of a contract held short, negative is paid; the contract terms' where absent",
        "--financing-short", "financing short {:g}",
        of_terms="financing.short", hint="ticks a night", digits=3, step=0.1, most=1e5)] = None
    roll_ticks: Annotated[float, Fact(
        "roll", "ticks", "for holding over a roll of a continuous future", "--roll", "roll {:g}", scaled=True,
        hint="ticks for holding over one", digits=1, most=1e5)] = Field(0.0, ge=0)

    @classmethod
    def none(cls) -> Costs:
        """Trading free of all costs, nights too: to be asked for, and every result says so."""
        return cls(financing_long=0.0, financing_short=0.0)

    @classmethod
    def of(cls, terms: Terms) -> Costs:
        """A market's own."""
        at = {d.path: d for d in declared(type(terms))}
        return cls.model_validate({d.key: at[tuple(d.fact.of_terms.split("."))].of(terms) for d in declared(cls)
                                   if d.fact.of_terms and not d.optional})

    @property
    def free(self) -> bool:
        """Whether nothing at all is charged, but for financing that the contract terms hold."""
        return not any(d.of(self) for d in declared(type(self)))

    def scaled(self, factor: float) -> Costs:
        """Trading costs times `factor`; financing stays, since it can be an income."""
        return self.model_validate({d.key: d.of(self) * factor if d.fact.scaled else d.of(self)
                                    for d in declared(type(self))})

    def dearer(self, other: Costs) -> Costs:
        """The higher of both, each by each; what is not multiplied (financing) is this one's."""
        return self.model_validate({d.key: max(d.of(self), d.of(other)) if d.fact.scaled else d.of(self)
                                    for d in declared(type(self))})

    def financing(self, terms: Terms) -> tuple[float, float]:
        """Long and short rate in ticks a night."""
        own = terms.financing
        return (own.long if self.financing_long is None else self.financing_long,
                own.short if self.financing_short is None else self.financing_short)

    def told(self, other: Costs) -> tuple[str, ...]:
        """Which costs differ between two sets, as ASSUMABLE calls them: somebody has said them."""
        return tuple({d.fact.term for d in declared(type(self)) if d.fact.term and d.of(self) != d.of(other)})

    def __repr__(self) -> str:
        return f"Costs({self.words()})"

    def words(self) -> str:
        """All of them in one line, such as "2.40 a side + slippage 1"; those that are not charged are left out."""
        parts = [d.fact.word.format(d.of(self)) for d in declared(type(self)) if d.of(self)]
        return " + ".join(parts) or FREE


def cost_facts() -> tuple[Declared, ...]:
    """The declared list of costs."""
    return declared(Costs)
