"""Strategies and single runs."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import Any

import pandas as pd

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.ledger import ledger, order_log
from wolbrin.core.engine.record import Record
from wolbrin.core.engine.run import Run as CoreRun
from wolbrin.core.engine.run import backtest as run_backtest
from wolbrin.core.engine.run import need_bars
from wolbrin.core.errors import UserError
from wolbrin.core.faults import validated
from wolbrin.core.market.bars import Span
from wolbrin.core.market.costs import FREE, Costs
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.catalogue import BY_KEY, measure
from wolbrin.core.measures.cautions import cautions
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.wording import worded
from wolbrin.core.proving.gate import Case
from wolbrin.core.proving.monte_carlo import MonteCarloGate, MonteCarloSettings
from wolbrin.core.rules.model import Strategy, load_strategy
from wolbrin.core.rules.script import parse_strategy
from wolbrin.core.rules.templates import templates
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.one_run import OneRun
from wolbrin.core.work.starting import template_named
from wolbrin.face.histories import MarketBars
from wolbrin.face.shown import Told, dated, frame
from wolbrin.face.working import say_compiling

SHOWN = ("net", "trades", "profit_factor", "win_rate", "average", "max_drawdown", "return_drawdown", "sharpe", "t_daily")


def strategy(what: str | Path | Strategy) -> Strategy:
    """A strategy from its text, a file, or the name of a template.

    Args:
        what: text in the formula language (docs/rules.md), such as
            ``"long_entry = crosses_above(close, sma(20))\\nstop = 2 * atr(14)"``; the path of a .json strategy file or of a
            text file; or a template's name (see `wolbrin strategy templates`). A strategy is given back.
    Raises:
        UserError: the text cannot be read; it says line and column, and what to write instead.

    Example:
        >>> wb.strategy("long_entry = close > sma(20)").long.mode
        'own'
    """
    if isinstance(what, Strategy):
        return what
    text = str(what)
    if "\n" not in text and text.endswith(".json"):
        return load_strategy(Path(text))
    if "\n" not in text and "=" not in text:
        named = [t.name for t in templates()]
        if text.strip().casefold() in {n.casefold() for n in named}:
            return template_named(text).strategy()
        path = Path(text)
        if path.is_file():
            return parse_strategy(path.read_text())
        raise UserError(f'"{text}" is no strategy', "strategy",
                        f"Write its rules, name a file, or a template: {', '.join(named)}.")
    return parse_strategy(text)


class Run(Told):
    """What came of one run. Everything is worked out when it is first asked for.

    Attributes: `trades`, `orders`, `equity` (DataFrames), `daily` (Series), `measures` (Series), `cautions`, `record`,
    `strategy`, `costs`; `core` is the run as the core has it.
    """

    def __init__(self, core: CoreRun, currency: str = "", history: MarketBars | None = None) -> None:
        self.core = core
        self.currency = currency or core.bars.terms.quote_currency
        self.history = history

    @property
    def strategy(self) -> Strategy:
        return self.core.strategy

    @property
    def costs(self) -> Costs:
        """What was charged."""
        return self.core.brief.paid

    @cached_property
    def trades(self) -> pd.DataFrame:
        """The ledger, one row a trade, indexed by its number; columns and units as `wolbrin figure` has them (money in
        account currency, times in UTC, NaN where there is no value)."""
        return frame(ledger(self.core), "number")

    @cached_property
    def orders(self) -> pd.DataFrame:
        """Every order's events in order: number, event, order, side, time (UTC), price, reason, trade."""
        return frame(order_log(self.core))

    @cached_property
    def equity(self) -> pd.DataFrame:
        """By bar, indexed by its end (UTC): net and gross equity (money), position (-1, 0, 1)."""
        c = self.core
        end = c.bars.end[c.first:c.last].view("datetime64[ns]")
        return frame({"time": end, "net": c.net, "gross": c.gross, "position": c.position}, "time")

    @cached_property
    def daily(self) -> pd.Series:
        """Change of net equity by trading date, money, float64[d]."""
        days, profit = self.core.daily
        return pd.Series(profit, dated(days), name="net")

    @cached_property
    def measures(self) -> pd.Series:
        """All measures by key, float64; NaN where one has no value. `wolbrin figure KEY` says what each is."""
        return pd.Series(measure(Facts.of(self.core)), name="value")

    @cached_property
    def cautions(self) -> list[str]:
        """What to look at before believing it, a sentence each."""
        return [c.text for c in cautions(self.core)]

    @cached_property
    def record(self) -> Record:
        """What made it: the same record gives the same bits."""
        return self.core.record()

    def _title(self) -> str:
        c, m = self.core, measure(Facts.of(self.core), SHOWN)
        paid = FREE if self.costs.free and not any(self.costs.financing(c.bars.terms)) else f"costs {self.costs.words()}"
        fault = f"; {c.fault}" if c.fault else ""
        return (f"{c.strategy.name} on {c.bars.terms.code} {interval_words(c.bars.interval)}, {c.brief.span}: "
                f"{len(c):,} trades, net {worded('net', m['net'], True)} {self.currency}, {paid}{fault}")

    def _rows(self) -> list[tuple[str, str]]:
        m = measure(Facts.of(self.core), SHOWN)
        return [(BY_KEY[key].title, worded(key, m[key])) for key in SHOWN] + [("to look at", c) for c in self.cautions[:3]]


def span_of(first: str | dt.date | None, last: str | dt.date | None) -> Span | None:
    """A span as people write it; None where neither end is named. Raises UserError."""
    def day(text: str | dt.date | None) -> dt.date | None:
        if text is None or isinstance(text, dt.date):
            return text
        try:
            return dt.date.fromisoformat(text)
        except ValueError:
            raise UserError(f'"{text}" is not a date like 2022-06-30', "first, last", "Write year-month-day.") from None

    return None if first is None and last is None else Span(day(first), day(last))


def backtest(history: MarketBars, rules: str | Path | Strategy, *, costs: Costs | None = None, capital: float | None = None,
             first: str | dt.date | None = None, last: str | dt.date | None = None, fine: bool | None = None) -> Run:
    """Run a strategy over a history.

    Args:
        history: from `wb.bars`, or from a project, whose settings, costs and seal then hold.
        rules: as `wb.strategy` takes them.
        costs: instead of the market's own; `wb.Costs.none()` trades free, and every result says so.
        capital: starting capital, account money; 50,000, or the project's.
        first, last: trading dates between which it decides; all, or the project's training span.
        fine: walk the bars of the shorter interval inside each bar, where the history has them.
    Raises:
        UserError: it cannot be run, holds no bar, or asks for sealed days.

    Example:
        >>> wb.backtest(h, "long_entry = crosses_above(close, sma(20))\\nstop = 2 * atr(14)").trades  # doctest: +SKIP
    """
    say_compiling()
    what, span = strategy(rules), span_of(first, last)
    own = history._own
    if own is not None:
        one = OneRun(Footing.of(own), what, history.terms.code, history.interval, None, span, costs, capital, fine)
        return Run(one.run(), own.settings.currency, history)
    brief = Brief(span or Span(), costs, 50_000.0 if capital is None else capital, fine=bool(fine))
    need_bars(history.ready, brief.span)
    return Run(run_backtest(history.ready, what, brief), history=history)


class MonteCarlo(Told):
    """What chance makes of a run's trades. `figures` (Series), `fan` (DataFrame by trade: p5 to p95, actual, money),
    `capital` (by risk of ruin)."""

    def __init__(self, outcome: Any, gate: MonteCarloGate) -> None:
        self.outcome, self._gate = outcome, gate
        self.figures = pd.Series(outcome.figures, name="value")

    @property
    def fan(self) -> pd.DataFrame:
        return frame(dict(self.outcome.tables["fan"]), "trade")

    @property
    def capital(self) -> pd.DataFrame:
        return frame(dict(self.outcome.tables["capital"]), "risk")

    @property
    def distributions(self) -> pd.DataFrame:
        """Percentiles over the paths: drawdown, trades under water, lowest and end equity."""
        return frame(dict(self.outcome.tables["distributions"]), "percent")

    def _title(self) -> str:
        return str(self.outcome.reason)

    def _rows(self) -> list[tuple[str, str]]:
        return [(one.title, one.text(self.outcome.figures[one.key])) for one in self._gate.shown
                if one.key in self.outcome.figures]


def monte_carlo(run: Run, *, paths: int = 10_000, seed: int = 20260101, **settings: Any) -> MonteCarlo:
    """Reshuffle a run's trades, and draw them anew in blocks of neighbors for the risk of ruin.

    Args:
        paths: how many of each. seed: the same seed gives the same bits.
        settings: as the gate Monte Carlo has them: `left_out` (share of trades), `slippage` (mean ticks more a fill),
            `ruin_share`, `drawn` ("blocks" or "singly").
    Raises:
        UserError: a setting has no sense, or there are too few trades.
    """
    gate = replace(MonteCarloGate(), options=validated(MonteCarloSettings, {"paths": paths, **settings}, "monte_carlo"))
    ready = run.history.ready if run.history is not None else run.core.ready
    assert ready is not None
    case = Case(run.strategy, ready, run.core.brief, Span(), 1, seed=seed)
    case.__dict__["run"] = run.core  # what was run is not run again
    outcome = gate.judge(case)
    if "fan" not in outcome.tables:
        raise UserError(outcome.reason.rstrip("."), "monte_carlo", "Give it a run with more trades.")
    return MonteCarlo(outcome, gate)
