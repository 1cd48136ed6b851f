"""Project settings: one typed schema that drives validation and storage."""

from __future__ import annotations

import datetime as dt
from typing import Any, Literal

from pydantic import Field, model_validator

from wolbrin.core.engine.brief import Brief, Role
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Span
from wolbrin.core.market.costs import Costs, cost_facts
from wolbrin.core.market.terms import ASSUMABLE, Terms
from wolbrin.core.models import Model

OWN_COSTS = "own costs"
CONTRACT_COSTS = ""  # the cost set that is the contract terms' own


class OwnSpan(Model):
    """A strategy's own training span, where it trains on less than the project: a later begin, an earlier end, or both."""

    first: dt.date | None = None
    last: dt.date | None = None

    @model_validator(mode="after")
    def _ordered(self) -> OwnSpan:
        if self.first is not None and self.last is not None and self.first > self.last:
            raise ValueError("the strategy's own training span ends before it begins")
        return self


class Settings(Model):
    """What belongs to a project beside its strategies and evidence.

    holdout_first is the border: the first sealed trading date, for all markets. training_last: training ends that day
    already; the day before the border where absent.
    cost_sets: named costs by market code; cost_set: the chosen one by market code, the contract terms where absent.
    assumed: by market code, terms that nobody has set yet and no file shows (see ASSUMABLE).
    most_bars, most_months: only the last so much of the training span, for quick tests; at most one of them.
    """

    desk: str = "Desk"
    currency: str = "EUR"
    capital: float = Field(50_000.0, gt=0, le=1e12, description="starting capital, account currency")
    training_first: dt.date = dt.date(2016, 1, 1)
    holdout_first: dt.date = dt.date(2022, 7, 1)
    last: dt.date = dt.date(2025, 12, 31)
    training_last: dt.date | None = None
    cost_sets: dict[str, dict[str, Costs]] = {}
    cost_set: dict[str, str] = {}
    assumed: dict[str, tuple[str, ...]] = {}
    most_bars: int | None = Field(None, ge=10, le=100_000_000)
    most_months: int | None = Field(None, ge=1, le=1200)
    fine_fills: bool = Field(False, description="walk bars of the market's own interval inside each bar traded on")
    theme: Literal["paper", "dusk"] = "paper"

    @model_validator(mode="before")
    @classmethod
    def _upgrade(cls, data: Any) -> Any:
        """Settings written before cost sets had one set of costs a market."""
        if isinstance(data, dict) and "costs" in data:
            data = dict(data)
            old = data.pop("costs")
            if not all(isinstance(x, dict) for x in (old, data.get("cost_sets", {}), data.get("cost_set", {}))):
                raise ValueError("costs stand by market")
            data["cost_sets"] = {code: {OWN_COSTS: costs} for code, costs in old.items()} | data.get("cost_sets", {})
            data["cost_set"] = dict.fromkeys(old, OWN_COSTS) | data.get("cost_set", {})
        if isinstance(data, dict) and "assumed_costs" in data:  # one mark a market, until each term had its own
            data = dict(data)
            markets = data.pop("assumed_costs")
            if not isinstance(markets, list | tuple) or not isinstance(data.get("assumed", {}), dict):
                raise ValueError("what is assumed stands by market")
            data["assumed"] = {str(code): ASSUMABLE for code in markets} | data.get("assumed", {})
        return data

    @model_validator(mode="after")
    def _ordered(self) -> Settings:
        if not self.training_first < self.holdout_first <= self.last:
            raise ValueError("the training span must begin before the holdout, and the holdout before the end")
        if self.training_last is not None and not self.training_first <= self.training_last < self.holdout_first:
            raise ValueError("training must end before the holdout begins, and not before it begins itself")
        if self.most_bars is not None and self.most_months is not None:
            raise ValueError("limit the history by bars or by months, not both")
        return self

    def of(self, own: OwnSpan | None) -> Settings:
        """The settings under which a strategy with a span of its own is tested. It trains on less, never on more.

        Raises:
            UserError: nothing of its own span lies in the project's training span.
        """
        if own is None:
            return self
        whole = self.model_copy(update={"most_months": None}).training
        first = max(filter(None, (own.first, whole.first)))
        last = min(filter(None, (own.last, whole.last)))
        if first > last:
            raise UserError(f"this strategy's own training span ({Span(own.first, own.last)}) holds no day of the project's "
                            f"({whole})", "training span", "Give it another span, or the project's.")
        return self.model_copy(update={"training_first": first, "training_last": last})

    def assumed_of(self, code: str) -> tuple[str, ...]:
        """Terms of a market that rest on nothing but custom, in the order of ASSUMABLE."""
        mine = self.assumed.get(code, ())
        return tuple(name for name in ASSUMABLE if name in mine)

    def told(self, code: str, *terms: str) -> Settings:
        """Settings under which some terms of a market are no longer assumed."""
        left = tuple(t for t in self.assumed_of(code) if t not in terms)
        others = {k: v for k, v in self.assumed.items() if k != code}
        return self.model_copy(update={"assumed": others | ({code: left} if left else {})})

    @property
    def training(self) -> Span:
        first, last = self.training_first, self.training_last_day
        if self.most_months is not None:
            after = last + dt.timedelta(days=1)
            index = after.year * 12 + after.month - 1 - self.most_months
            if index >= 12:
                first = max(first, dt.date(index // 12, index % 12 + 1, min(after.day, 28)))
        return Span(first, last)

    @property
    def holdout(self) -> Span:
        return Span(self.holdout_first, self.last)

    @property
    def training_last_day(self) -> dt.date:
        """The last trading date of training."""
        return self.training_last or self.holdout_first - dt.timedelta(days=1)

    def sets_of(self, terms: Terms) -> dict[str, Costs]:
        """All cost sets of a market by name, the contract terms' own first."""
        return {CONTRACT_COSTS: Costs.of(terms)} | self.cost_sets.get(terms.code, {})

    def costs_of(self, terms: Terms, name: str | None = None) -> Costs:
        """Costs of a market: of the named set, else of the chosen one."""
        sets = self.sets_of(terms)
        return sets.get(self.cost_set.get(terms.code, CONTRACT_COSTS) if name is None else name, sets[CONTRACT_COSTS])

    def with_own_costs(self, terms: Terms, **changes: float | None) -> Settings:
        """Settings under which some costs of a market are changed: of the chosen cost set, or in one of the user's own where
        the contract terms are chosen. From then on these are not assumed."""
        name = self.cost_set.get(terms.code, CONTRACT_COSTS) or OWN_COSTS
        costs = Costs.model_validate(self.costs_of(terms).model_dump() | changes)
        sets = self.cost_sets | {terms.code: self.cost_sets.get(terms.code, {}) | {name: costs}}
        made = self.model_copy(update={"cost_sets": sets, "cost_set": self.cost_set | {terms.code: name}})
        return made.told(terms.code, *(d.fact.term for d in cost_facts() if d.key in changes and d.fact.term))

    def brief(self, terms: Terms, span: Span | None = None, role: Role = "training") -> Brief:
        """The question a run asks: training span unless told otherwise, this project's costs, capital and limit."""
        return Brief(span or self.training, self.costs_of(terms), self.capital,
                     self.most_bars if span is None else None, self.fine_fills, role, self.assumed_of(terms.code))
