"""Several strategies on one purse: the loop against a slow twin written from the contract, and by hand."""

from __future__ import annotations

import dataclasses
import datetime as dt
from collections.abc import Sequence
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numba import typed

from tests.build import cross, walk_bars
from tests.core.test_twin import CHECKS, kernel_inputs, setups, some_books
from tests.twin.account import Account, Part
from tests.twin.slow import Entry, Reach, Setup
from wolbrin.core.engine import codes as k
from wolbrin.core.engine import kernel
from wolbrin.core.engine.account import DailyLimit, Seat, run_account
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.inputs import new_state
from wolbrin.core.engine.lent import lend
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Run, backtest
from wolbrin.core.engine.sharing import Kept, Member, Purse, Rules, Turns, share
from wolbrin.core.errors import UserError
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.terms import Margin
from wolbrin.core.rules.dated import with_schedule
from wolbrin.core.rules.model import Distance, Strategy
from wolbrin.core.rules.schedule import Schedule, Spell

DAY = 1440
ONE = dt.timedelta(days=1)


def date_of(instant: int) -> int:
    """Midnight belongs to the day that ends."""
    return (instant - 1) // DAY


@dataclasses.dataclass
class Desk:
    """Members on one account. limit: the account's."""

    parts: list[Part]
    capital: float
    limit: float | None = None
    percent: bool = False


@st.composite
def desks(draw: st.DrawFn) -> Desk:
    capital = draw(st.sampled_from([60.0, 300.0, 5_000.0]))
    parts = []
    for _ in range(draw(st.integers(1, 3))):
        setup = dataclasses.replace(draw(setups()), capital=capital)
        n, every = len(setup.close), draw(st.sampled_from([5, 15, 60, 240]))
        gaps = np.cumsum([0, *np.random.default_rng(draw(st.integers(0, 999))).choice([0, 0, 0, every, 600], n - 1)])
        start = draw(st.sampled_from([0, 5, 7, 700])) + every * np.arange(n) + gaps
        limit = draw(st.sampled_from([None, None, 5.0, 40.0]))
        parts.append(Part(setup, start.tolist(), (start + every).tolist(), setup.date,
                          draw(st.sampled_from([1.0, 1.0, 0.4, 2.5, 0.0])), draw(st.integers(0, 2)), limit,
                          draw(st.booleans())))
    return Desk(parts, capital, draw(st.sampled_from([None, None, 5.0, 60.0])), draw(st.booleans()))


def turns_of(parts: Sequence[Part]) -> tuple[Turns, np.ndarray]:
    """The order in which bars are processed, and the instants."""
    m = np.concatenate([np.full(len(p.end), i) for i, p in enumerate(parts)])
    bar = np.concatenate([np.arange(len(p.end)) for p in parts])
    start, end = (np.concatenate([np.array(getattr(p, f), np.int64) for p in parts]) for f in ("start", "end"))
    date = np.concatenate([np.array(p.date) for p in parts])
    opens = np.concatenate([np.append(True, np.diff(p.date) != 0) for p in parts])
    priority = np.array([p.priority for p in parts])
    order = np.lexsort((m, priority[m], end))
    instants = np.unique(end)
    known = np.searchsorted(instants, start, "right") - 1
    assert len(date) == len(m)
    return Turns(m[order].astype(np.int64), bar[order].astype(np.int64),
                 np.searchsorted(instants, end)[order].astype(np.int64), opens[order].astype(np.uint8),
                 known[order].astype(np.int64), np.ones(len(order), np.uint8),
                 np.array([date_of(int(t)) for t in instants], np.int64), np.array([len(p.end) - 1 for p in parts], np.int64),
                 np.lexsort((np.arange(len(parts)), priority)).astype(np.int64)), instants


def run(desk: Desk, pieces: int = 1, skips: bool = False):
    """The loop over a desk, in so many pieces. skips: bars on which nothing is asked of a member without a position."""
    parts, count = desk.parts, len(desk.parts)
    members = typed.List()
    for p in parts:
        tape, wanted, clock, finer, xs = kernel_inputs(p.setup)
        state, kept = new_state(), some_books(len(p.end))
        kernel.begin(xs, state, kept)
        state.purse[k.P_SHARED], state.purse[k.P_WEIGHT] = 1.0, p.weight
        members.append(Member(tape, wanted, clock, finer, xs, state, kept))
    turns, instants = turns_of(parts)
    if skips:
        turns.asks[:] = 0
        for m, one in enumerate(members):
            turns.asks[np.flatnonzero(turns.member == m)[one.wanted.entries]] = 1
    lent = typed.List([members[0]])
    for m, one in enumerate(members):
        lend(lent, m, one)
    limits = np.array([*(p.limit or 0.0 for p in parts), desk.limit or 0.0])
    rules = Rules(desk.capital, limits, np.array([*(p.percent for p in parts), desk.percent], np.uint8))
    full = lambda: np.full(count, desk.capital)  # noqa: E731
    purse = Purse(full(), full(), np.zeros(count), np.zeros(count, np.int64), *np.zeros((2, count), np.uint8),
                  np.full(count, k.NOTHING, np.int64), np.zeros(count, np.uint8), np.zeros(count), full(),
                  np.array([-1, 0, 0, 0]), np.full(1, desk.capital))
    room = sum(len(p.end) for p in parts) + 2
    kept = Kept(np.zeros(len(instants)), np.zeros(len(instants)), np.zeros(len(instants), np.int64),
                np.zeros((room, 2), np.int64))
    here, out = np.zeros(count, np.uint8), np.zeros(count, np.int64)
    edges = np.searchsorted(turns.instant, np.linspace(0, len(instants), pieces + 1).astype(int))
    for first, stop in pairwise(edges):
        share(lent, turns, rules, purse, kept, here, out, int(first), int(stop))
    for one in members:
        kernel.advance(one.tape, one.wanted, one.clock, one.finer, one.xs, one.state, one.books, len(one.tape.prices), 0)
        kernel.finish(one.tape, one.clock, one.xs, one.state, one.books)
    return members, purse, kept


@settings(max_examples=1500, deadline=None, suppress_health_check=CHECKS)
@given(desks(), st.integers(1, 4), st.booleans())
def test_the_account_equals_its_twin(desk: Desk, pieces: int, skips: bool) -> None:
    members, purse, kept = run(desk, pieces, skips)
    twin = Account(desk.parts, desk.capital, date_of, desk.limit, desk.percent).run()
    assert bool(purse.told[2]) == twin.ruined
    ledger = kept.ledger[:purse.told[3]]
    assert [int(m) for m in ledger[:, 0]] == [m for m, _ in twin.ledger]
    for (m, row), (_, want) in zip(ledger.tolist(), twin.ledger):
        t, f = members[m].books.trades_i[row], members[m].books.trades_f[row]
        assert [t[k.T_SIDE], t[k.T_DECISION], t[k.T_ENTRY_BAR], t[k.T_ENTRY], t[k.T_EXIT_BAR], t[k.T_EXIT],
                k.REASONS[t[k.T_REASON]]] == [want.side, want.decision, want.entry_bar, want.entry, want.exit_bar, want.exit,
                                              want.reason]
        assert f[k.F_QUANTITY] == pytest.approx(want.quantity)
        assert f[k.F_NET] == pytest.approx(want.net, rel=1e-9, abs=1e-8)
        assert f[k.F_MARGIN] == pytest.approx(want.margin)
    np.testing.assert_allclose(kept.mark, [v for _, v in twin.marks], rtol=1e-9, atol=1e-7)
    for one, part in zip(members, twin.members):
        assert one.state.counts[k.C_REJECTED] == part.counts["rejected"]
        assert one.state.counts[k.C_SKIPPED] == part.counts["skipped"]
        np.testing.assert_allclose(one.books.net[:len(part.equity)], part.equity, rtol=1e-9, atol=1e-7)


def flat_setup(prices: list[int], buys: list[int], **more: object) -> Setup:
    """Bars that stand at each price from open to close; longs decided at these bars' closes, filled at the next open."""
    n = len(prices)
    no = [False] * n
    asked = {"capital": 1_000.0, "flat": False} | more
    return Setup(prices, prices, prices, prices, [0] * n, no, [i in buys for i in range(n)], no, no, no, date=[0] * n,
                 **asked)  # type: ignore[arg-type]


def part(setup: Setup, every: int = 10, **more: object) -> Part:
    n = len(setup.close)
    start = [every * i for i in range(n)]
    return Part(setup, start, [s + every for s in start], setup.date, **more)  # type: ignore[arg-type]


def test_margin_is_taken_in_priority_order_by_hand() -> None:
    """A purse of 1,000, and margin of 600 a contract: of two that want one at the same instant, the one of higher priority
    gets it, whatever the order of the list; the other is refused by the account. What alone exceeds the purse is refused as
    margin."""
    prices = [100] * 6
    one = flat_setup(prices, [1], margin=600.0, time_exit=2)
    for first, second in ((0, 1), (1, 0)):
        members, _, kept = run(Desk([part(one, priority=first), part(one, priority=second)], 1_000.0))
        got = [len(m.books.trades_i[: m.state.s[k.S_DONE]]) for m in members]
        assert got == ([1, 0] if first == 0 else [0, 1])
        refused = members[1 if first == 0 else 0]
        assert refused.state.counts[k.C_REJECTED] == 1
        log = refused.books.log[: refused.state.s[k.S_LOGGED]]
        assert [k.WHY[e[k.L_WHY]] for e in log] == ["account"]
        assert kept.margin.max() == 600.0
    members, _, _ = run(Desk([part(dataclasses.replace(one, margin=1_200.0)), part(one)], 1_000.0))
    log = members[0].books.log[: members[0].state.s[k.S_LOGGED]]
    assert [k.WHY[e[k.L_WHY]] for e in log] == ["margin above equity"]


def test_ruin_and_daily_limits_by_hand() -> None:
    """Two longs, of 1 and 9 contracts, on prices that fall by 50 and then by 70: the account of 600 stands at 100, then is
    ruined. With a limit of 400 a day everything is out at the first fall, and nothing is entered until the next date."""
    prices = [100, 100, 50, -20, -20, -20]
    a, b = flat_setup(prices, [0, 3], capital=600.0), flat_setup(prices, [0, 3], capital=600.0, size=9.0)
    _, purse, kept = run(Desk([part(a), part(b)], 600.0))
    assert kept.mark.tolist() == [600, 600, 100, -600, -600, -600]
    assert purse.told[2] == 1
    members, purse, kept = run(Desk([part(a), part(b)], 600.0, 400.0))
    assert kept.mark.tolist() == [600, 600, 100, 100, 100, 100]
    assert [k.REASONS[m.books.trades_i[0, k.T_REASON]] for m in members] == ["daily limit"] * 2
    assert purse.told[3] == 2
    # One between its bars is closed at the end of its next one; it decides nothing there.
    slow = part(dataclasses.replace(a, long_in=[True] * 6, capital=2_000.0), every=25)
    members, purse, kept = run(Desk([slow, part(dataclasses.replace(b, size=20.0, capital=2_000.0))], 2_000.0, 900.0))
    assert [k.REASONS[m.books.trades_i[0, k.T_REASON]] for m in members] == ["daily limit"] * 2
    assert members[0].books.trades_i[0, k.T_EXIT_BAR] == 1
    assert purse.told[3] == 2


def test_the_log_of_a_stopped_account_by_hand() -> None:
    """Longs of 1 and 9 contracts; prices rise by 10 and fall by 60. A trail of 5 ticks moves at the rise, and once more at
    the close where the limit ends it, before it does. Orders that rest at the bar of ruin were placed before it, never on
    it."""
    def told(one: Member) -> list[tuple[str, str, int, str]]:
        log = one.books.log[: one.state.s[k.S_LOGGED]]
        return [(k.EVENTS[e[k.L_EVENT]], k.ORDERS[e[k.L_ORDER]], int(e[k.L_BAR]), k.WHY[e[k.L_WHY]]) for e in log]

    trail = Reach("ticks", 80.0, [], [], [])
    a = flat_setup([100, 100, 110, 120, 50, 50], [0], capital=2_000.0, trail=trail)
    b = flat_setup([100, 100, 110, 60, 50, 50], [0], capital=2_000.0, size=9.0)
    members, _, _ = run(Desk([part(a), part(b)], 2_000.0, 300.0))
    assert told(members[0])[2:] == [
        ("placed", "trail", 1, "trail"), ("moved", "trail", 2, "trail"), ("moved", "trail", 3, "trail"),
        ("cancelled", "trail", 3, "trade over"), ("filled", "exit", 3, "daily limit")]
    rests = Entry("stop", [200.0] * 6, 5)
    a = flat_setup([100, 100, 50, -20, -20, -20], [1, 3], capital=600.0, long_entry=rests)
    b = flat_setup([100, 100, 50, -20, -20, -20], [0], capital=600.0, size=9.0)
    members, purse, _ = run(Desk([part(a), part(b)], 600.0))
    assert purse.told[2] == 1
    assert told(members[0]) == [("placed", "stop entry", 1, "signal"), ("cancelled", "stop entry", 3, "ruin")]


@settings(max_examples=200, deadline=None, suppress_health_check=CHECKS)
@given(desks())
def test_with_ample_capital_members_trade_as_they_do_alone(desk: Desk) -> None:
    """Weight 1, fixed sizes, no limits, no margin that binds: every member's ledger is the one it has alone."""
    ample = [dataclasses.replace(p, weight=1.0, limit=None, setup=dataclasses.replace(
        p.setup, capital=1e9, sizing="fixed", size=1.0)) for p in desk.parts]
    members, _, kept = run(Desk(ample, 1e9))
    total = np.zeros(len(kept.mark))
    for one, p in zip(members, ample):
        tape, wanted, clock, finer, xs = kernel_inputs(p.setup)
        state, books = new_state(), some_books(len(p.end))
        kernel.simulate(tape, wanted, clock, finer, xs, state, books, 0)
        n = state.s[k.S_DONE]
        assert n == one.state.s[k.S_DONE]
        np.testing.assert_array_equal(one.books.trades_i[:n], books.trades_i[:n])
        other = [c for c in range(k.FLOAT_COLUMNS) if c != k.F_EQUITY]  # that is the account's
        np.testing.assert_array_equal(one.books.trades_f[:n, other], books.trades_f[:n, other])
        np.testing.assert_array_equal(one.books.net, books.net)
        ends = np.searchsorted(np.unique(np.concatenate([q.end for q in ample])), p.end)
        steps = np.zeros(len(total))
        steps[ends] = np.diff(books.net, prepend=1e9)
        total += np.cumsum(steps)
    np.testing.assert_allclose(kept.mark - 1e9, total, atol=1e-5)


# Strategies on an account


BRIEF = Brief(costs=Costs(slippage_ticks=1, per_contract=1.0))
LEVERED = Margin(per_contract=8_000.0)


def seat(minutes: int, seed: int, rules: Strategy | None = None, **more: object) -> Seat:
    history = Prepared.of(walk_bars(1200, seed=seed, minutes=minutes, code=f"M{minutes}", margin=LEVERED))
    return Seat(f"m{minutes}", history, rules or cross(stop=Distance(unit="atr", amount=1.5)), BRIEF, **more)  # type: ignore[arg-type]


def same_trades(a: Run, b: Run) -> None:
    other = [c for c in range(k.FLOAT_COLUMNS) if c != k.F_EQUITY]
    np.testing.assert_array_equal(a.trades_i, b.trades_i)
    np.testing.assert_array_equal(a.trades_f[:, other], b.trades_f[:, other])
    np.testing.assert_array_equal(a.log, b.log)


def test_members_of_an_account_trade_as_alone_where_nothing_binds_dated_ones_too() -> None:
    dated = with_schedule(cross(flat_by_session_end=False), Schedule(
        keys=("long.entry.rows.0.left.params.length",), titles=("fast",), market="M30", interval=30, rules="0" * 16,
        spells=tuple(Spell(first=day, values=(v,), fitted_first=day - dt.timedelta(days=9), fitted_last=day - ONE)
                     for day, v in ((dt.date(2024, 1, 20), 4.0), (dt.date(2024, 2, 5), 7.0), (dt.date(2024, 2, 9), 3.0)))))
    seats = [seat(15, 4), seat(30, 5, dated), seat(60, 6)]
    got = run_account(seats, 1e9)
    for one, run in zip(seats, got.runs):
        same_trades(run, backtest(one.history, one.strategy, dataclasses.replace(BRIEF, capital=1e9)))
    assert len(got.ledger) == sum(len(r) for r in got.runs)
    assert got.mark[-1] == pytest.approx(1e9 + sum(r.profits.sum() for r in got.runs), abs=1e-3)
    exits = [int(got.runs[m].bars.end[got.runs[m].trades_i[row, k.T_EXIT_BAR]]) for m, row in got.ledger.tolist()]
    assert exits == sorted(exits)
    alone = run_account([seats[1]], 50_000.0)
    same_trades(alone.runs[0], backtest(seats[1].history, dated, dataclasses.replace(BRIEF, capital=50_000.0)))
    assert not alone.refused()


def test_too_little_capital_refuses_whoever_comes_later() -> None:
    """10,000 hold one contract's margin of 8,000: two members never hold at once, and the one of higher priority is never
    refused by the account. Half a weight of one contract is none at all."""
    got = run_account([seat(15, 4, priority=2), seat(30, 5)], 10_000.0)
    assert got.held.max() == 1
    assert got.margin.max() == 8_000.0
    assert {r.reason for r in got.refused() if r.member == 0} >= {"account"}
    assert len(run_account([seat(15, 4, weight=0.5)], 10_000.0).runs[0]) == 0
    assert (run_account([seat(15, 4, weight=3.0)], 1e6).runs[0].trades_f[:, k.F_QUANTITY] == 3.0).all()
    for wrong, what in (([], "at least one"), ([seat(15, 4, weight=-1.0)], "0 or more"),
                        ([seat(15, 4, limit=DailyLimit(0.0))], "above zero")):
        with pytest.raises(UserError, match=what):
            run_account(wrong, 10_000.0)
    with pytest.raises(UserError, match="above zero"):
        run_account([seat(15, 4)], 0.0)
