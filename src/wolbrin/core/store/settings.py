"""Project settings: one typed schema that drives validation and storage."""

from __future__ import annotations

import datetime as dt
from typing import Literal

from pydantic import Field, model_validator

from wolbrin.core.engine.run import Brief, Costs
from wolbrin.core.market.bars import Span
from wolbrin.core.market.terms import Model, Terms


class Settings(Model):
    """What belongs to a project beside its strategies and evidence."""

    desk: str = "Desk"
    currency: str = "EUR"
    capital: float = Field(50_000.0, gt=0, le=1e12, description="starting capital, account currency")
    training_first: dt.date = dt.date(2016, 1, 1)
    holdout_first: dt.date = dt.date(2022, 7, 1)
    last: dt.date = dt.date(2025, 12, 31)
    costs: dict[str, Costs] = Field({}, description="costs by market code; the contract terms where absent")
    theme: Literal["paper", "dusk"] = "paper"

    @model_validator(mode="after")
    def _ordered(self) -> Settings:
        if not self.training_first < self.holdout_first <= self.last:
            raise ValueError("the training span must begin before the holdout, and the holdout before the end")
        return self

    @property
    def training(self) -> Span:
        return Span(self.training_first, self.holdout_first - dt.timedelta(days=1))

    @property
    def holdout(self) -> Span:
        return Span(self.holdout_first, self.last)

    def costs_of(self, terms: Terms) -> Costs:
        return self.costs.get(terms.code) or Costs.of(terms)

    def brief(self, terms: Terms, span: Span | None = None) -> Brief:
        """The question a run asks: training span unless told otherwise, this project's costs and capital."""
        return Brief(span or self.training, self.costs_of(terms), self.capital)
