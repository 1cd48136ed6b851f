"""A backtest from the outside: request in, run out. Every place, job and command goes through `backtest`."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field
from functools import cached_property
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.kernel import Money, Plan, simulate
from wolbrin.core.errors import UserError
from wolbrin.core.indicators.columns import Columns
from wolbrin.core.market.bars import Bars, Floats, Ints, Span
from wolbrin.core.market.sessions import rollovers
from wolbrin.core.market.terms import Model, Terms
from wolbrin.core.rules.decide import LONG_IN, SHORT_IN, Decisions, decide
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Strategy

ENGINE_VERSION = "1"
ENTRIES = np.uint8(LONG_IN | SHORT_IN)
NO_NIGHTS = np.zeros(1, np.int64)
NO_CURVE = np.zeros(0, np.float64)
NO_POSITION = np.zeros(0, np.int8)


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
    """

    span: Span = Span()
    costs: Costs = Costs()
    capital: float = 50_000.0
    most_bars: int | None = None


@dataclass(frozen=True)
class Run:
    """The outcome of one backtest over bars [first, last) of `bars`.

    trades_i: int64[m, INT_COLUMNS], trades_f: float64[m, FLOAT_COLUMNS], see codes. net, gross: float64[last - first]
    equity in account money at each close. position: int8[last - first]. The two latter are empty in a
    statistics-only run.
    """

    bars: Bars
    strategy: Strategy
    brief: Brief
    first: int
    last: int
    trades_i: Ints
    trades_f: Floats
    net: Floats
    gross: Floats
    position: NDArray[np.int8]
    counts: dict[str, int] = field(default_factory=dict)

    def __len__(self) -> int:
        return len(self.trades_i)

    @property
    def profits(self) -> Floats:
        """Net per trade, float64[m]."""
        return self.trades_f[:, k.F_NET]

    @property
    def tick_money(self) -> float:
        return self.bars.terms.tick_value * self.bars.terms.conversion_rate

    def instants(self, bar: Ints, at: Ints) -> Ints:
        """Fill instants, UTC ns: the bar's end for fills at a close, its start otherwise."""
        return np.where(at == k.AT_CLOSE, self.bars.end[bar], self.bars.time[bar])

    @property
    def entry_time(self) -> Ints:
        return self.instants(self.trades_i[:, k.T_ENTRY_BAR], self.trades_i[:, k.T_ENTRY_AT])

    @property
    def exit_time(self) -> Ints:
        return self.instants(self.trades_i[:, k.T_EXIT_BAR], self.trades_i[:, k.T_EXIT_AT])

    @cached_property
    def daily(self) -> tuple[NDArray[np.int32], Floats]:
        """Trading dates (int32[d], days since 1970) and daily P/L (float64[d]): change of net equity from one
        trading date's end to the next, the first from the starting capital. Dates without bars are absent."""
        if self.last <= self.first:
            return np.zeros(0, np.int32), np.zeros(0)
        ends = self.bars.day_ends
        ends = ends[(ends >= self.first) & (ends < self.last - 1)]
        ends = np.append(ends, self.last - 1)
        equity = self.net[ends - self.first]
        return self.bars.trading_date[ends], np.diff(equity, prepend=self.brief.capital)

    @cached_property
    def fingerprint(self) -> str:
        """Digest of ledger and equity, to tell whether two runs are bit-identical."""
        digest = hashlib.sha256()
        for part in (self.trades_i, self.trades_f, self.net):
            digest.update(np.ascontiguousarray(part).tobytes())
        return digest.hexdigest()[:16]

    def record(self) -> dict[str, object]:
        """What made this run; the same record gives the same bits."""
        span = self.brief.span
        return {"engine": ENGINE_VERSION, "market": self.bars.terms.code, "interval": self.bars.interval,
                "history": self.bars.hash, "strategy": strategy_hash(self.strategy),
                "first": span.first.isoformat() if span.first else None,
                "last": span.last.isoformat() if span.last else None,
                "costs": self.brief.costs.model_dump(), "capital": self.brief.capital, "most_bars": self.brief.most_bars,
                "fill": self.strategy.fill, "flat_by_session_end": self.strategy.flat_by_session_end}


def _nights(bars: Bars) -> tuple[Ints, Ints]:
    """Rollover nights before each bar's start and end, and ROLL for each roll of a continuous future."""
    instants, nights = rollovers(bars.terms, int(bars.time[0]), int(bars.end[-1]))
    rolls = np.asarray(bars.rolls, np.int64)
    total = np.concatenate(([0], np.cumsum(nights)))

    def before(moments: Ints, side: Literal["left", "right"]) -> Ints:
        # The bar that begins a new month opens after the roll; the bar before it closes before the roll.
        return total[np.searchsorted(instants, moments, "left")] + np.searchsorted(rolls, moments, side) * k.ROLL

    return before(bars.time, "right"), before(bars.end, "left")


def settled_quantity(strategy: Strategy, terms: Terms) -> float:
    """The fixed quantity rounded down to the lot step; 0 when that is below the minimum lot."""
    steps = np.floor(strategy.quantity / terms.lot_step + 1e-6)
    quantity = float(round(steps * terms.lot_step, 12))
    return quantity if quantity >= terms.minimum_lot - 1e-9 else 0.0


def check(bars: Bars, strategy: Strategy, brief: Brief) -> None:
    """Refuse what cannot be run, in words."""
    terms = bars.terms
    if strategy.flat_by_session_end and not terms.scheduled:
        raise UserError("flat by session end needs a session schedule", terms.code,
                        "Give the market its sessions, or switch the rule off.")
    if brief.capital <= 0:
        raise UserError("the starting capital must be above zero", "capital", "Enter the account's size.")
    if settled_quantity(strategy, terms) == 0.0:
        raise UserError(f"a quantity of {strategy.quantity:g} is below the smallest lot of {terms.minimum_lot:g}",
                        f"{terms.code}, quantity", f"Trade at least {terms.minimum_lot:g}.")


@dataclass(frozen=True)
class Prepared:
    """A history made ready for many runs: bars and shared indicator columns."""

    bars: Bars
    columns: Columns

    @classmethod
    def of(cls, bars: Bars) -> Prepared:
        return cls(bars, Columns(bars))

    @cached_property
    def nights(self) -> tuple[Ints, Ints]:
        """What financing and rolls count, made when a run first needs it."""
        return _nights(self.bars)


def backtest(history: Prepared | Bars, strategy: Strategy, brief: Brief, *, detail: bool = True,
             decisions: Decisions | None = None) -> Run:
    """Run a strategy over a history.

    Args:
        history: bars, or bars already prepared. Earlier bars than the span's serve as warm-up; later ones are cut.
        detail: also give gross equity and position per bar.
        decisions: decision arrays already at hand; computed when absent.
    Raises:
        UserError: a request that cannot be run.
    """
    ready = history if isinstance(history, Prepared) else Prepared.of(history)
    bars, terms, costs = ready.bars, ready.bars.terms, brief.costs
    check(bars, strategy, brief)
    made = decisions or decide(ready.columns, strategy)
    first, last = bars.range_of(brief.span)
    if brief.most_bars is not None:
        first = max(first, last - brief.most_bars)
    first = max(first, made.warm)
    size = max(0, last - first)
    stop, target = strategy.stop, strategy.target
    last = first + size
    plan = Plan(strategy.fill == "this close", k.ON_OPPOSITE[strategy.on_opposite],
                strategy.flat_by_session_end, k.UNIT[stop.unit if stop else None], stop.amount if stop else 0.0,
                k.UNIT[target.unit if target else None], target.amount if target else 0.0, strategy.time_exit or 0,
                settled_quantity(strategy, terms))
    money = Money(brief.capital, terms.tick_value * terms.conversion_rate, costs.spread_ticks, costs.slippage_ticks,
                  costs.per_contract, costs.percent, costs.minimum, *costs.financing(terms),
                  terms.margin.per_contract or 0.0, terms.margin.leverage or 0.0, costs.roll_ticks)
    financed = costs.roll_ticks != 0.0 or any(costs.financing(terms))
    nights = ready.nights if financed else (NO_NIGHTS, NO_NIGHTS)
    net = np.empty(size)
    gross = np.empty(size) if detail else NO_CURVE
    position = np.empty(size, np.int8) if detail else NO_POSITION
    part = slice(first, last)
    # Every trade needs an entry signal of its own; one row more holds the position that is open.
    room = int(np.count_nonzero(made.signals[part] & ENTRIES)) + 2
    trades_i = np.empty((room, k.INT_COLUMNS), np.int64)
    trades_f = np.empty((room, k.FLOAT_COLUMNS))

    def cut(column: NDArray) -> NDArray:
        return column[part] if len(column) > 1 else column

    count, counts = simulate(bars.o[part], bars.h[part], bars.l[part], bars.c[part], bars.session[part],
                             bars.last[part], made.signals[part], cut(made.stop_atr), cut(made.target_atr),
                             cut(nights[0]), cut(nights[1]), plan, money, trades_i, trades_f, net, gross,
                             position)
    booked = trades_i[:count].copy()
    booked[:, (k.T_DECISION, k.T_ENTRY_BAR, k.T_EXIT_BAR)] += first
    named = {name: int(value) for name, value in zip(k.COUNTS, counts)}
    named["left out"] = bars.left_out
    return Run(bars, strategy, brief, first, last, booked, trades_f[:count].copy(), net, gross, position, named)
