"""Elsewhere: unchanged rules on other sources, markets and intervals.

Distances in ticks and money rescaled to how far bars reach."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import partial

import numpy as np
from pydantic import Field

from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.figures.figure import Figure
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.catalogue import BY_KEY, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import Case, Gate, GateTable, Outcome, Shown
from wolbrin.core.rules.dated import changed
from wolbrin.core.rules.model import Distance, Strategy
from wolbrin.core.study.perturb import usual_range

KEYS = ("net", "trades", "profit_factor", "return_drawdown", "t_daily")


class ElsewhereSettings(Model):
    """least_share: of the other markets and intervals that must earn, percent; those with fewer than least_trades trades say
    nothing."""

    least_share: float = Field(50.0, ge=0, le=100, title="% of places that earn, at least")
    least_trades: int = Field(20, ge=1, title="trades there, at least")


def rescaled(strategy: Strategy, factor: dict[str, float]) -> Strategy:
    """The rules with every distance in a unit of `factor` multiplied, those in ticks kept whole."""
    def change(value: object) -> object:
        if isinstance(value, Distance) and value.unit in factor:
            amount = value.amount * factor[value.unit]
            return value.model_copy(update={"amount": max(1.0, float(round(amount))) if value.unit == "ticks" else amount})
        if isinstance(value, Model):
            found = {name: change(getattr(value, name)) for name in type(value).model_fields}
            return value.model_copy(update={n: v for n, v in found.items() if v is not getattr(value, n)})
        return value

    made = change(strategy)
    assert isinstance(made, Strategy)
    return made


@dataclass(frozen=True)
class ElsewhereGate(Gate):
    """Common practice, no source: an edge that has a reason is seldom of one market alone."""

    options: ElsewhereSettings = ElsewhereSettings()
    key = "elsewhere"
    title = "Elsewhere"
    shown = (Shown("share", "others that earn", "percent", "other markets, intervals and sources with enough trades whose "
                   "net is "
                   "above zero", digits=0, better=1),)
    more = (Figure("places", "places", "count", "other markets, intervals and sources that were looked at"),)
    tables = (GateTable("elsewhere", "Elsewhere", (
        Figure("where", "where", "", "market, interval and source"), *(BY_KEY[k] for k in KEYS))),)
    figure = "share"
    picture = ("elsewhere", "net", "")
    setting = "least_share"

    def describe(self) -> str:
        return f"{self.options.least_share:g}% of others earn"

    def clause(self, figures: dict[str, float]) -> str:
        return f"earns on {number(figures['share'])}% of other places"

    def judge(self, case: Case) -> Outcome:
        o, own = self.options, case.history.bars
        reach = float(np.median(usual_range(own)))
        rows: list[tuple[str, dict[str, float]]] = []
        for history, brief in case.others():
            bars = history.bars
            there = float(np.median(usual_range(bars)))
            ticks = there / reach if reach > 0 else 1.0
            money = ticks * bars.terms.tick_value / own.terms.tick_value
            try:
                factor = {"ticks": ticks, "money": money}
                there_too = changed(case.strategy, partial(rescaled, factor=factor), bars.terms.code, bars.interval)
                run = backtest(history, there_too, brief, detail=False)
            except UserError:
                continue  # such as a market without sessions for rules that end with the session
            name = f"{bars.terms.code} {interval_words(bars.interval)}"
            if (bars.terms.code, bars.interval) == (own.terms.code, own.interval):
                name += f" from {history.source}"
            rows.append((name, measure(Facts.of(run), KEYS)))
        enough = [(name, f) for name, f in rows if f["trades"] >= o.least_trades]
        table = {"elsewhere": {"where": np.array([n for n, _ in rows], "U40"),
                               **{k: np.array([f[k] for _, f in rows], np.float64) for k in KEYS}}}
        if not enough:
            return self.unsure(case, f"No other market or interval gives {o.least_trades} trades.",
                               {"places": float(len(rows)), "share": math.nan}, table)
        earns = [name for name, f in enough if f["net"] > 0]
        share = 100.0 * len(earns) / len(enough)
        words = f"Earns on {len(earns)} of {len(enough)} other markets and intervals ({', '.join(n for n, _ in enough)})"
        figures = {"places": float(len(enough)), "share": share}
        return (self.passes if share >= o.least_share else self.falls)(case, f"{words}.", figures, table)
