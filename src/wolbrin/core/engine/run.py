"""A backtest from the outside: request in, run out. Every place, job and command goes through `backtest`."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.deciding import Deciding
from wolbrin.core.engine.inputs import (
    NO_BOOKS,
    NO_FINER,
    NO_LOG,
    NO_NIGHTS,
    Books,
    Clock,
    Money,
    Plan,
    State,
    Tape,
    books,
    new_state,
    parameters,
)
from wolbrin.core.engine.kernel import advance, begin, finish, simulate
from wolbrin.core.engine.prepare import FineBars, Prepared, as_prepared
from wolbrin.core.engine.record import Record, charged_by, markets_in, others_read, own_read
from wolbrin.core.engine.sharing import Member
from wolbrin.core.engine.version import engine_version
from wolbrin.core.errors import Door, UserError
from wolbrin.core.market.bars import Bars, Floats, Ints, Span, day_of
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.market.terms import Terms
from wolbrin.core.rules.dated import check_place, steps_of, undated
from wolbrin.core.rules.decide import Decisions
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.mirror import entry_orders
from wolbrin.core.rules.model import Distance, Strategy

STEP = 1024  # bars between two looks at the room for the log
EVENTS_A_BAR = 32  # more than one bar can bring


@dataclass(frozen=True, repr=False)
class Run:
    """The outcome of one backtest over bars [first, last) of `bars`.

    trades_i: int64[m, INT_COLUMNS], trades_f: float64[m, FLOAT_COLUMNS], see codes. net, gross: float64[last - first]
    equity in account money at each close. position: int8[last - first]. log: int64[e, LOG_COLUMNS], the order log. The
    three latter are empty in a statistics-only run. rates: account money for a unit of quote money at each bar's end,
    float64[last - first], or [1] where it is fixed. fault: why the run ended before its span did, in words, or "".
    ready: the history as it was made ready. first_rate: the rate at the first bar's start.
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
    log: Ints = field(default_factory=lambda: NO_LOG)
    rates: Floats = field(default_factory=lambda: np.ones(1))
    fine: FineBars | None = None
    fault: str = ""
    ready: Prepared | None = None
    first_rate: float = 1.0

    def __len__(self) -> int:
        return len(self.trades_i)

    def __repr__(self) -> str:
        return (f"Run({self.strategy.name} on {self.bars.terms.code} {interval_words(self.bars.interval)}, "
                f"{self.brief.span}: "
                f"{len(self):,} trades)")

    @property
    def profits(self) -> Floats:
        """Net per trade, float64[m]."""
        return self.trades_f[:, k.F_NET]

    def decided_by(self, trade: int) -> Strategy:
        """The rules that decided a trade: with dated numbers, those in force then."""
        step = steps_of(self.strategy)[int(self.trades_i[trade, k.T_NUMBERS])]
        return step.strategy or undated(self.strategy)

    @property
    def tick_value(self) -> float:
        """Quote money for one tick on one contract."""
        return self.bars.terms.tick_value

    @property
    def unit(self) -> Floats:
        """Account money for one tick on each trade's quantity, at its exit's rate, float64[m]."""
        return self.tick_value * self.trades_f[:, k.F_RATE] * self.trades_f[:, k.F_QUANTITY]

    def instants(self, bar: Ints, at: Ints, fine: Ints) -> Ints:
        """Fill instants, UTC ns: the bar's end for fills at a close, else its start or the finer bar's."""
        moments = np.where(at == k.AT_CLOSE, self.bars.end[bar], self.bars.time[bar])
        if self.fine is None:
            return moments
        return np.where(fine >= 0, self.fine.time[np.maximum(fine, 0)], moments)

    @property
    def entry_time(self) -> Ints:
        t = self.trades_i
        return self.instants(t[:, k.T_ENTRY_BAR], t[:, k.T_ENTRY_AT], t[:, k.T_ENTRY_FINE])

    @property
    def exit_time(self) -> Ints:
        t = self.trades_i
        return self.instants(t[:, k.T_EXIT_BAR], t[:, k.T_EXIT_AT], t[:, k.T_EXIT_FINE])

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
    def in_market(self) -> NDArray[np.bool_]:
        """Bars on which a position was held after the open's fills and before the close's, bool[last - first]."""
        t, size = self.trades_i, self.last - self.first
        begin = t[:, k.T_ENTRY_BAR] + (t[:, k.T_ENTRY_AT] == k.AT_CLOSE) - self.first
        stop = t[:, k.T_EXIT_BAR] + (t[:, k.T_EXIT_AT] != k.AT_OPEN) - self.first
        held = np.zeros(size + 1, np.int32)
        np.add.at(held, np.minimum(begin, size), 1)
        np.add.at(held, np.minimum(np.maximum(stop, begin), size), -1)
        return np.cumsum(held[:size]) > 0

    @cached_property
    def daily_share(self) -> NDArray[np.float32]:
        """Share of each trading date's bars in the market, float32[d], dates as in `daily`."""
        days, size = self.daily[0], self.last - self.first
        if not len(days):
            return np.zeros(0, np.float32)
        dates = self.bars.trading_date[self.first:self.last]
        starts = np.searchsorted(dates, days)
        return (np.add.reduceat(self.in_market, starts) / np.diff(np.append(starts, size))).astype(np.float32)

    @cached_property
    def fingerprint(self) -> str:
        """Digest of ledger and equity, to tell whether two runs are bit-identical."""
        digest = hashlib.sha256()
        for part in (self.trades_i, self.trades_f, self.net):
            digest.update(np.ascontiguousarray(part).tobytes())
        return digest.hexdigest()[:16]

    def record(self, *, tried: int = 1, seeds: tuple[int, ...] = ()) -> Record:
        """What made this run; the same record gives the same bits. tried: alternatives looked at to find the rules."""
        ready = self.ready if self.ready is not None else Prepared.of(self.bars)
        return record_of(ready, self.strategy, self.brief, tried=tried, seeds=seeds)


def record_of(ready: Prepared, strategy: Strategy | None, brief: Brief, *, tried: int = 1, seeds: tuple[int, ...] = (),
              rules: str = "") -> Record:
    """The record of a strategy under a brief on a history; of a whole search where there is no one strategy.

    rules: what stands for the strategy's hash then, such as the digest of the limits it is drawn under.
    """
    terms = ready.bars.terms
    brief = brief.on(terms)
    histories = others_read(strategy, ready.columns) if strategy is not None else {}
    rates = ready.rates() if terms.conversion_market else None
    if rates is not None:
        histories[f"conversion {terms.conversion_market}"] = rates.hash
    answers = {m: said for m, said in ready.answers.items() if m in markets_in(histories)}
    fine = brief.fine and ready.fine is not None
    finer = ready.finer() if fine else None
    if finer is not None:
        histories["finer bars"] = finer.hash
    traded = {"fill": strategy.fill, "flat_by_session_end": strategy.flat_by_session_end} if strategy is not None else {}
    return Record(engine=engine_version(), market=terms.code, source=ready.source, interval=ready.bars.interval,
                  history=ready.bars.hash, histories=histories, own_indicators=own_read(strategy) if strategy else {},
                  strategy=strategy_hash(strategy) if strategy is not None else rules, first=brief.span.first,
                  last=brief.span.last, role=brief.role, costs=brief.paid, costs_assumed=brief.costs_assumed,
                  assumed=brief.assumed,
                  capital=brief.capital, most_bars=brief.most_bars, fine_fills=fine, seeds=seeds, tried=tried,
                  answers=answers, charged=charged_by(terms, brief.paid), **traded)


def check(bars: Bars, strategy: Strategy, brief: Brief) -> None:
    """Refuse what cannot be run, in words."""
    terms = bars.terms
    if strategy.flat_by_session_end and not terms.scheduled:
        raise UserError("flat by session end needs a session schedule", terms.code,
                        "Give the market its sessions, or switch the rule off.",
                        Door(f"Give {terms.code} its sessions", "sessions"))
    if brief.capital <= 0:
        raise UserError("the starting capital must be above zero", "capital", "Enter the account's size.",
                        Door("Set the capital", "capital"))
    fixed = strategy.sizing.kind == "fixed"
    if fixed and np.floor(strategy.quantity / terms.lot_step + 1e-6) * terms.lot_step < terms.minimum_lot - 1e-9:
        raise UserError(f"a quantity of {strategy.quantity:g} is below the smallest lot of {terms.minimum_lot:g}",
                        f"{terms.code}, quantity", f"Trade at least {terms.minimum_lot:g}.",
                        Door("Change the size of a trade", "size"))


def need_bars(history: Prepared | Bars, span: Span) -> None:
    """Refuse a span that holds no bar, before anything is asked of it. Raises UserError."""
    bars = as_prepared(history).bars
    first, last = bars.range_of(span)
    if last <= first:
        raise UserError(f"there are no bars in {span}", bars.terms.code,
                        f"Its bars run from {day_of(bars.trading_date[0])} to {day_of(bars.trading_date[-1])}; choose a span "
                        "that meets them.", Door("Change the span", "span"))


def plan_of(strategy: Strategy, terms: Terms) -> Plan:
    """The strategy's scalars as the kernel takes them."""
    stop, target, trail, start, even = (
        (k.UNIT[d.unit], d.amount) if d else (k.NONE, 0.0) for d in strategy.distances)
    long_order, short_order = entry_orders(strategy)
    steps = 1.0 / terms.lot_step
    whole = float(round(steps)) if abs(steps - round(steps)) < 1e-9 * steps else 0.0
    sizing = strategy.sizing
    return Plan(strategy.fill == "this close", k.ON_OPPOSITE[strategy.on_opposite], strategy.flat_by_session_end,
                strategy.time_exit or 0, k.ENTRY[long_order.kind], k.ENTRY[short_order.kind], long_order.bars,
                short_order.bars, long_order.touch_ticks, short_order.touch_ticks, *stop, *target, *trail,
                strategy.trail.step_ticks if strategy.trail else 0, *start, *even,
                strategy.break_even.plus_ticks if strategy.break_even else 0, strategy.filters.most_entries or 0,
                k.SIZING[sizing.kind], strategy.quantity if sizing.kind == "fixed" else sizing.amount, terms.lot_step,
                whole, terms.minimum_lot)


def money_of(terms: Terms, brief: Brief) -> Money:
    """The account's and the market's scalars as the kernel takes them."""
    costs = brief.on(terms).paid
    return Money(brief.capital, terms.tick_value, costs.spread_ticks, costs.slippage_ticks, costs.per_contract,
                 costs.percent, costs.minimum, *costs.financing(terms), terms.margin.per_contract or 0.0,
                 terms.margin.leverage or 0.0, costs.roll_ticks)


def fault_words(code: int, bars: Bars, bar: int, strategy: Strategy) -> str:
    """Why a run ended early: the setting and the bar."""
    name = k.FAULTS[code]
    places: dict[str, Distance | None] = dict(zip(("stop", "target", "trail", "start after", "break even"),
                                                  strategy.distances))
    when = f"{day_of(int(bars.trading_date[bar])):%d %b %Y}, bar {bar + 1}"
    if name == "quantity":
        kind = strategy.sizing.kind
        return (f"On {when} the order would be for more than {k.LARGEST_QUANTITY:.0e} contracts (sizing: {kind}). The run "
                "ends there; lower the sizing, or widen the stop it is measured by.")
    if name == "entry level":
        return f"On {when} the entry level lies more than 2 billion ticks away. The run ends there; check the level."
    distance = places[name]
    unit = f" ({distance.amount:g}, unit {distance.unit})" if distance else ""
    return (f"On {when} the {name} would stand more than 2 billion ticks away{unit}. The run ends there; check the "
            "setting and the market's tick and point value.")


class Going:
    """A run under way: it goes on bar by bar, or in one go, and can be looked at in between. Indicators are computed once
    over the history given; no value depends on a later bar, so nothing is known too early.

    first: its first bar in the history.
    """

    def __init__(self, history: Prepared | Bars, strategy: Strategy, brief: Brief, *, detail: bool = True,
                 decisions: Decisions | None = None) -> None:
        """See `backtest`. Raises UserError: a request that cannot be run."""
        ready = as_prepared(history)
        terms = ready.bars.terms
        check_place(strategy, terms.code, ready.bars.interval, interval_words(ready.bars.interval))
        steps = steps_of(strategy)
        for step in steps:
            check(ready.bars, step.strategy or strategy, brief)
        brief = brief.on(terms)
        self.strategy, self.brief, self._detail = strategy, brief, detail
        self._deciding = Deciding(ready, steps, undated(strategy), decisions)
        first, last = ready.bars.range_of(brief.span)
        if brief.most_bars is not None:
            first = max(first, last - brief.most_bars)
        first = max(first, self._deciding.begins(0))
        self._deciding.at = self._deciding.step_at(first)
        self.first = max(first, self._deciding.decisions(self._deciding.at).warm)
        self._deciding.at = self._deciding.step_at(self.first)
        self._xs = np.stack([parameters(plan_of(self._deciding.strategy(step), terms), money_of(terms, brief))
                             for step in range(len(steps))])
        self.state, self.log_cut = new_state(), False
        self._take(ready, max(last, self.first))
        self.books = self._room(NO_BOOKS)
        begin(self._xs, self.state, self.books)
        self.state.s[k.S_NUMBERS] = self._deciding.at

    def _take(self, ready: Prepared, last: int) -> None:
        """Ready the loop's inputs for bars first .. last - 1 of a history."""
        bars, brief, first = ready.bars, self.brief, self.first
        part = slice(first, last)
        self.ready, self.size = ready, last - first
        financed = brief.paid.roll_ticks != 0.0 or any(brief.paid.financing(bars.terms))
        nights = ready.nights if financed else (NO_NIGHTS, NO_NIGHTS)
        rates = ready.conversion
        self._fine = ready.fine if brief.fine else None

        def cut(column: NDArray) -> NDArray:
            # One value alone means "the same at every bar": a single bar's is written twice.
            shown = column[part] if len(column) > 1 else column
            return np.repeat(shown, 2) if len(column) > 1 and len(shown) == 1 else shown

        dates = bars.trading_date[part] if self._deciding.counts_entries else np.zeros(1, np.int32)
        self._clock = Clock(cut(nights[0]), cut(nights[1]), cut(rates[0]), cut(rates[1]), dates)
        self._finer = ready.finer_arrays(first, last, financed) if self._fine else NO_FINER
        self._tape = Tape(bars.prices[part], bars.session[part], bars.last[part])
        self._wanted = self._deciding.wanted(first, last)

    def _room(self, old: Books, log: int = 0, spare: int = 0) -> Books:
        """Books with room for every trade and bar: each trade needs an entry signal of its own, and one row more holds the
        position that is open; and room for so many more. What stands in the old ones is kept."""
        self.look_at_log(old)
        log = max(log, 8 * len(self._wanted.entries) + 64) if self._detail else 0
        trades = int(self.state.s[k.S_DONE]) + len(self._wanted.entries) + int(self._deciding.at > 0)
        made = books(max(trades, len(old.trades_i) - 2) + spare // 8, max(self.size, len(old.net)) + spare,
                     max(log, len(old.log)), self._detail)
        for new, before in zip(made, old):
            new[:len(before)] = before  # type: ignore[arg-type, index]
        return made

    def look_at_log(self, books: Books | None = None) -> None:
        """Whether the log may have been too short for what was walked so far (`log_cut`). The bar of an account's ruin takes
        back what it logged, so a log may have been full although its count is lower by now."""
        room = len((self.books if books is None else books).log)
        self.log_cut = self.log_cut or (self._detail and int(self.state.s[k.S_LOGGED]) > max(room - EVENTS_A_BAR, 0))

    def _renew(self) -> None:
        """What the step wants that decides now, with the exits of positions and orders of earlier ones."""
        last = self.first + self.size
        self._wanted = self._deciding.wanted(self.first, last, self.state, self.books.trades_i)
        self.state.s[k.S_NUMBERS] = self._deciding.at
        self.state.s[k.S_WHICH] = 0
        # One more: an order that waits may still become a trade.
        if int(self.state.s[k.S_DONE]) + len(self._wanted.entries) + 3 > len(self.books.trades_i):
            self.books = self._room(self.books)

    @property
    def rate_end(self) -> Floats:
        """Account money for a unit of quote money at each bar's end, float64[size], or [1] where it is fixed."""
        return self._clock.rate_end

    @property
    def bar(self) -> int:
        """How many bars have been walked."""
        return int(self.state.s[k.S_BAR] + self.state.s[k.S_TAIL])

    def advance(self, until: int) -> None:
        """Go on to bar `until` (exclusive, counted from `first`)."""
        until = min(until, self.size)
        while self.bar < until and not self.state.s[k.S_FAULT]:
            border = self.border
            if self.bar >= border:
                self.turn()
                continue
            step = min(until, self.bar + STEP, border)
            need = int(self.state.s[k.S_LOGGED]) + EVENTS_A_BAR * (step - self.bar)
            if self._detail and need > len(self.books.log):
                self.books = self._room(self.books, 2 * need)
            advance(self._tape, self._wanted, self._clock, self._finer, self._xs, self.state, self.books, step, 0)

    # On a purse that is shared; see `account`

    def share(self, weight: float, log: int = 0) -> None:
        """Trade on a purse that others share, before the first bar. weight: by which sizes are multiplied; log: room for so
        many events."""
        self.books = self._room(self.books, log)
        self.state.purse[k.P_SHARED], self.state.purse[k.P_WEIGHT] = 1.0, weight

    def weigh(self, weight: float) -> None:
        """By which sizes of later entries are multiplied."""
        self.state.purse[k.P_WEIGHT] = weight

    def member(self) -> Member:
        """What the loop of an account walks; to be asked again after `turn`."""
        return Member(self._tape, self._wanted, self._clock, self._finer, self._xs, self.state, self.books)

    @property
    def border(self) -> int:
        """The bar from which on other numbers decide, counted from `first`; `size` where none do."""
        return self._deciding.stands_until(self.first + self.size) - self.first

    def turn(self) -> None:
        """Let the numbers decide that are in force from `border` on."""
        self._deciding.at = self._deciding.step_at(self.first + self.border)
        self._renew()

    def extend(self, history: Prepared) -> None:
        """Go on over a longer history that begins with the one so far: bars that have arrived since. The first bar of the run
        stays where it is, so a run must have begun (`size` above 0) before it is extended."""
        self._deciding.take(history)
        self._take(history, max(len(history.bars), self.first))
        if self._deciding.at:
            self._renew()
        if len(self._wanted.entries) + 2 > len(self.books.trades_i) or self.size > len(self.books.net):
            self.books = self._room(self.books, spare=self.size)

    def whole(self) -> Run:
        """The run to the end of its span in one go, from the start."""
        if len(self._deciding.steps) > 1:
            self.advance(self.size)
            return self.so_far()
        if self.size:
            inputs = self._tape, self._wanted, self._clock, self._finer, self._xs
            simulate(*inputs, self.state, self.books, 0)
            if self._detail and self.state.s[k.S_LOGGED] > len(self.books.log):
                self.books = self._room(NO_BOOKS, int(self.state.s[k.S_LOGGED]))  # now the room is known
                simulate(*inputs, self.state, self.books, 0)
        return self._outcome(self.state, self.books, self.ready)

    def so_far(self, shown: Prepared | None = None) -> Run:
        """The run as it would be if the data ended at the last bar walked. shown: the history up to there."""
        s, purse, counts, wi, wf = self.state
        state = State(s.copy(), purse.copy(), counts.copy(), wi.copy(), wf.copy())
        kept = self._room(self.books, int(s[k.S_LOGGED]) + EVENTS_A_BAR if self._detail else 0)  # ending it logs more
        finish(self._tape, self._clock, self._xs, state, kept)
        return self._outcome(state, kept, shown or self.ready)

    def _outcome(self, state: State, kept: Books, ready: Prepared) -> Run:
        s, first = state.s, self.first
        count, done = int(s[k.S_DONE]), int(s[k.S_BAR])
        booked = kept.trades_i[:count].copy()
        booked[:, (k.T_DECISION, k.T_ENTRY_BAR, k.T_EXIT_BAR)] += first
        log = kept.log[:int(s[k.S_LOGGED])].copy()
        log[:, k.L_BAR] += first
        named = {name: int(value) for name, value in zip(k.COUNTS, state.counts)}
        named["left out"] = ready.bars.left_out
        fault = fault_words(int(s[k.S_FAULT]), ready.bars, first + done - 1,
                           self._deciding.strategy(self._deciding.at)) if s[k.S_FAULT] else ""
        rates = self._clock.rate_end
        return Run(ready.bars, self.strategy, self.brief, first, first + done, booked, kept.trades_f[:count].copy(),
                   kept.net[:done], kept.gross[:done], kept.position[:done], named, log,
                   rates[:max(done, 1)] if len(rates) > 1 else rates, self._fine, fault, ready,
                   float(self._clock.rate_start[0]) if self.size else np.nan)


def backtest(history: Prepared | Bars, strategy: Strategy, brief: Brief, *, detail: bool = True,
             decisions: Decisions | None = None) -> Run:
    """Run a strategy over a history.

    Args:
        history: bars, or bars already prepared. Earlier bars than the span's serve as warm-up; later ones are cut.
        detail: also give gross equity and position per bar, and the order log.
        decisions: decision arrays already at hand; computed when absent.
    Raises:
        UserError: a request that cannot be run.
    """
    return Going(history, strategy, brief, detail=detail, decisions=decisions).whole()
