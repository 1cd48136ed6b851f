"""Project settings: one typed schema that drives validation and storage."""

from __future__ import annotations

import datetime as dt
from typing import Any, Literal

from pydantic import Field, model_validator

from wolbrin.core.engine.run import Brief, Costs
from wolbrin.core.market.bars import Span
from wolbrin.core.market.terms import Model, Terms
from wolbrin.core.rules.model import Strategy

OWN_COSTS = "own costs"
CONTRACT_COSTS = ""  # the cost set that is the contract terms' own


class SpanOf(Model):
    """Training and holdout of one strategy, where they differ from the project's."""

    training_first: dt.date
    holdout_first: dt.date
    last: dt.date


class Settings(Model):
    """What belongs to a project beside its strategies and evidence.

    cost_sets: named costs by market code; cost_set: the chosen one by market code, the contract terms where absent.
    spans: training and holdout by strategy name, where a strategy has its own.
    most_bars, most_months: only the last so much of the training span, for quick tests; at most one of them.
    """

    desk: str = "Desk"
    currency: str = "EUR"
    capital: float = Field(50_000.0, gt=0, le=1e12, description="starting capital, account currency")
    training_first: dt.date = dt.date(2016, 1, 1)
    holdout_first: dt.date = dt.date(2022, 7, 1)
    last: dt.date = dt.date(2025, 12, 31)
    cost_sets: dict[str, dict[str, Costs]] = {}
    cost_set: dict[str, str] = {}
    spans: dict[str, SpanOf] = {}
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
            data["cost_sets"] = {code: {OWN_COSTS: costs} for code, costs in old.items()} | data.get("cost_sets", {})
            data["cost_set"] = dict.fromkeys(old, OWN_COSTS) | data.get("cost_set", {})
        return data

    @model_validator(mode="after")
    def _ordered(self) -> Settings:
        every = [(self.training_first, self.holdout_first, self.last)]
        every += [(s.training_first, s.holdout_first, s.last) for s in self.spans.values()]
        for first, border, last in every:
            if not first < border <= last:
                raise ValueError("the training span must begin before the holdout, and the holdout before the end")
        if self.most_bars is not None and self.most_months is not None:
            raise ValueError("limit the history by bars or by months, not both")
        return self

    def of(self, strategy: Strategy) -> Settings:
        """The settings under which a strategy is tested: its own spans where it has some."""
        own = self.spans.get(strategy.name)
        return self if own is None else self.model_copy(update=own.model_dump())

    @property
    def training(self) -> Span:
        first, last = self.training_first, self.holdout_first - dt.timedelta(days=1)
        if self.most_months is not None:
            index = self.holdout_first.year * 12 + self.holdout_first.month - 1 - self.most_months
            if index >= 12:
                first = max(first, dt.date(index // 12, index % 12 + 1, min(self.holdout_first.day, 28)))
        return Span(first, last)

    @property
    def holdout(self) -> Span:
        return Span(self.holdout_first, self.last)

    def sets_of(self, terms: Terms) -> dict[str, Costs]:
        """All cost sets of a market by name, the contract terms' own first."""
        return {CONTRACT_COSTS: Costs.of(terms)} | self.cost_sets.get(terms.code, {})

    def costs_of(self, terms: Terms, name: str | None = None) -> Costs:
        """Costs of a market: of the named set, else of the chosen one."""
        sets = self.sets_of(terms)
        return sets.get(self.cost_set.get(terms.code, CONTRACT_COSTS) if name is None else name, sets[CONTRACT_COSTS])

    def brief(self, terms: Terms, span: Span | None = None) -> Brief:
        """The question a run asks: training span unless told otherwise, this project's costs, capital and limit."""
        return Brief(span or self.training, self.costs_of(terms), self.capital,
                     self.most_bars if span is None else None, self.fine_fills)
