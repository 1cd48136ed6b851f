"""Enough evidence: so few trades, or so short a record, say nothing; and what is too good is mostly a fault."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from pydantic import Field

from wolbrin.core.engine import codes as k
from wolbrin.core.figures.figure import Figure
from wolbrin.core.measures.catalogue import BY_KEY, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import Case, Gate, Outcome, Shown
from wolbrin.core.search.deflated import least_days, shape_of

KEYS = ("trades", "trades_per_year", "profit_factor", "win_rate", "sharpe_daily", "best_year", "net")
SHORT = 3  # years of trades, below which the best year says nothing


class EvidenceSettings(Model):
    """least_trades, least_a_year, least_a_side: of training; a side that is not traded is not asked. sure: that the true
    Sharpe ratio is above zero, for the length of the record. The largest profit factor, win rate without a stop, and share of
    the profit from the best year that are still believed (common practice, no source); without_best: so many of the best
    trades must not be all of the profit."""

    least_trades: int = Field(50, ge=2, title="trades, at least")
    least_a_year: float = Field(10.0, ge=0, title="trades a year, at least")
    least_a_side: int = Field(0, ge=0, title="trades of a side, at least")
    sure: float = Field(0.95, ge=0.5, lt=1, title="sure of a profit (0 to 1)")
    most_profit_factor: float = Field(7.0, gt=1, title="profit factor, at most")
    most_wins_without_stop: float = Field(90.0, gt=0, le=100, title="% wins without stop, at most")
    without_best: int = Field(5, ge=0, title="profit without the best")
    most_of_best_year: float = Field(80.0, gt=0, title="% from the best year, at most")


@dataclass(frozen=True)
class EvidenceGate(Gate):
    """Trades, all, a year and by side; minimum track record length (Bailey & Lopez de Prado 2012); too good to be true."""

    options: EvidenceSettings = EvidenceSettings()
    key = "evidence"
    title = "Evidence"
    shown = (Shown("trades", "trades", "count", "closed trades of training", better=1, digits=0),
             Shown("days_needed", "days needed", "days", "trading dates that it takes to be as sure as is asked of a true "
                   "Sharpe "
                   "ratio above zero, skewness and kurtosis allowed for", digits=0, better=-1,
                   source="Bailey & Lopez de Prado 2012"))
    more = (Figure("longs", "long trades", "count", "closed trades bought first"),
            Figure("shorts", "short trades", "count", "closed trades sold first"),
            Figure("days", "days", "days", "trading dates of training", better=1),
            Figure("without_best", "net without the best", "money", "net profit less the best trades, so many as are set",
                   better=1),
            *(BY_KEY[key] for key in KEYS if key != "trades"))
    figure = "trades"
    setting = "least_trades"

    def describe(self) -> str:
        o = self.options
        return f"{o.least_trades} trades, {o.least_a_year:g} a year"

    def clause(self, figures: dict[str, float]) -> str:
        return f"{number(figures['trades'])} trades, profit factor {number(figures['profit_factor'], 2)}"

    def judge(self, case: Case) -> Outcome:
        o, run = self.options, case.run
        figures = measure(Facts.of(run), KEYS)
        sides = run.trades_i[:, k.T_SIDE]
        longs, shorts = int((sides > 0).sum()), int((sides < 0).sum())
        daily = run.daily[1]
        skew, kurtosis = shape_of(daily)
        needed = least_days(figures["sharpe_daily"], 0.0, skew, kurtosis, o.sure)
        figures |= {"longs": float(longs), "shorts": float(shorts), "days": float(len(daily)), "days_needed": needed,
                    "without_best": float(np.sort(run.profits)[:max(0, len(run) - o.without_best)].sum())}
        trades, few = len(run), [n for n in (longs, shorts) if 0 < n < o.least_a_side]
        if trades < o.least_trades:
            return self.unsure(case, f"{number(trades)} trades; {o.least_trades} are needed to judge.", figures)
        if figures["trades_per_year"] < o.least_a_year:
            return self.unsure(case, f"{number(figures['trades_per_year'], 1)} trades a year; {o.least_a_year:g} are needed "
                                     "to judge.", figures)
        if few:
            return self.unsure(case, f"One side has {few[0]} trades; {o.least_a_side} are needed to judge.", figures)
        if not math.isfinite(needed):
            return self.falls(case, "Loses in training: no record is long enough.", figures)
        if len(daily) < needed:
            return self.unsure(case, f"{number(len(daily))} days; to be {o.sure:.0%} sure of a profit at this Sharpe ratio "
                                     f"takes {number(math.ceil(needed))}.", figures)
        reason = self._too_good(case, figures)
        if reason:
            return self.falls(case, f"Too good to be true: {reason}. Look for a fault in rules, data or fills.", figures)
        words = f"{number(trades)} trades over {number(len(daily))} days; {number(math.ceil(needed))} would do"
        return self.passes(case, f"{words}.", figures)

    def _too_good(self, case: Case, f: dict[str, float]) -> str:
        o = self.options
        if f["profit_factor"] > o.most_profit_factor or (math.isnan(f["profit_factor"]) and f["net"] > 0):
            return f"profit factor {number(f['profit_factor'], 2)}"
        if case.strategy.stop is None and f["win_rate"] > o.most_wins_without_stop:
            return f"{number(f['win_rate'], 0)}% of trades win, without a stop"
        if f["without_best"] <= 0:
            return f"without its best {o.without_best} trades nothing is left of the profit"
        years = len(set(Facts.of(case.run).exit_year.tolist()))
        if years >= SHORT and f["best_year"] > o.most_of_best_year:
            return f"one year earns {number(f['best_year'], 0)}% of the profit"
        return ""
