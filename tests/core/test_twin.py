"""The kernel against the slow twin, on generated bars, signals and options together."""

from __future__ import annotations

import dataclasses
import itertools
import math

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.twin.slow import Entry, Reach, Setup, Simulator
from wolbrin.core import bits
from wolbrin.core.compiled import form_of
from wolbrin.core.engine import codes as k
from wolbrin.core.engine import kernel, position
from wolbrin.core.engine.inputs import (
    NO_ELDER,
    NO_FINER,
    NO_FLOATS,
    NO_LOG,
    NO_POSITION,
    NOTHING_ASKED,
    Books,
    Clock,
    Elder,
    Finer,
    Money,
    Plan,
    Tape,
    Wanted,
    books,
    gathered,
    new_state,
    parameters,
)
from wolbrin.core.engine.kernel import simulate
from wolbrin.core.measures.drawdown import largest_fall
from wolbrin.core.measures.sums import fall_that_counts

AMOUNTS = st.sampled_from([0.3, 1.0, 1.5, 2.0, 2.5, 4.0, 7.0])
CHECKS = list(HealthCheck)


def reaches(draw: st.DrawFn, rng: np.random.Generator, n: int, close: np.ndarray, units: list[str], side: int) -> Reach:
    """A distance of any unit; levels scatter around the close and may be missing or on the wrong side."""
    unit = draw(st.sampled_from(units))
    atr = rng.choice([0.1, 0.5, 1.0, 2.5, 3.5], n)
    atr[: draw(st.integers(0, 3))] = np.nan
    away = rng.choice([-1.0, 0.0, 0.4, 1.5, 2.5, 4.0, 6.0], (2, n))
    away[:, rng.random(n) < 0.1] = np.nan
    amount = draw(AMOUNTS)
    return Reach(unit, amount * (3.0 if unit == "money" else 1.0), atr.tolist(), (close + side * away[0]).tolist(),
                 (close - side * away[1]).tolist())


def entries(draw: st.DrawFn, rng: np.random.Generator, n: int, close: np.ndarray) -> Entry:
    kind = draw(st.sampled_from(["market", "stop", "limit"]))
    levels = close + rng.choice([-3.0, -1.5, -0.5, 0.0, 0.5, 1.0, 2.5, 4.0], n)
    levels[rng.random(n) < 0.05] = np.nan
    return Entry(kind, levels.tolist(), draw(st.integers(1, 4)), draw(st.sampled_from([0, 0, 1, 2])))


def split(rng: np.random.Generator, bar: tuple[int, int, int, int]) -> list[tuple[int, int, int, int]]:
    """Finer bars that add up to a bar: a random path through its extremes, cut into pieces."""
    o, h, low, c = bar
    inner = rng.integers(low, h + 1, int(rng.integers(0, 8))).tolist()
    turns = [h, low] if rng.random() < 0.5 else [low, h]
    places = sorted(rng.integers(0, len(inner) + 1, 2).tolist())
    path = [o, *inner[: places[0]], turns[0], *inner[places[0]: places[1]], turns[1], *inner[places[1]:], c]
    cuts = sorted({0, len(path), *rng.integers(1, len(path), 3).tolist()})
    return [(p[0], max(p), min(p), p[-1]) for a, b in itertools.pairwise(cuts) if (p := path[a:b])]


@st.composite
def setups(draw: st.DrawFn) -> Setup:
    n = draw(st.integers(1, 60))
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    base = draw(st.sampled_from([100, 40, 0, -30]))
    close = base + np.cumsum(rng.integers(-4, 5, n))
    open_ = np.concatenate(([base], close[:-1])) + rng.integers(-2, 3, n)
    high = np.maximum(open_, close) + rng.integers(0, 4, n)
    low = np.minimum(open_, close) - rng.integers(0, 4, n)
    length = draw(st.integers(2, 12))
    session = np.arange(n) // length
    last = np.append(session[1:] != session[:-1], True)
    # Some sessions lose their last bar: the flag is then on no bar of that session.
    if draw(st.booleans()):
        last &= rng.random(n) > 0.5
    rate = draw(st.sampled_from([0.05, 0.2, 0.5]))
    flags = rng.random((4, n)) < rate
    blocked = rng.random(n) < draw(st.sampled_from([0.0, 0.3]))
    plain = ["ticks", "atr", "money", "percent"]
    stop = reaches(draw, rng, n, close, [*plain, "level"], -1) if draw(st.booleans()) else None
    also = [*plain, "stop"] if stop else plain
    target = reaches(draw, rng, n, close, [*also, "level"], 1) if draw(st.booleans()) else None
    trail = reaches(draw, rng, n, close, also, 1) if draw(st.integers(0, 2)) == 0 else None
    start = reaches(draw, rng, n, close, also, 1) if trail and draw(st.booleans()) else None
    even = reaches(draw, rng, n, close, also, 1) if draw(st.integers(0, 2)) == 0 else None
    finer: list[list[tuple[int, int, int, int]]] = []
    if draw(st.integers(0, 2)) == 0:
        finer = [split(rng, (int(a), int(b), int(c), int(d))) if rng.random() > 0.15 else []
                 for a, b, c, d in zip(open_, high, low, close)]
    nights = np.cumsum(rng.integers(0, 2, 2 * n)) if draw(st.booleans()) else np.zeros(0, np.int64)
    fine_nights = [sorted(rng.integers(nights[2 * i], nights[2 * i + 1] + 1, len(f)).tolist()) if f else []
                   for i, f in enumerate(finer)] if len(nights) else []
    for i, f in enumerate(fine_nights):
        if f:
            f[0] = int(nights[2 * i])
    rates: list[list[float]] = [[], []]
    if draw(st.integers(0, 2)) == 0:
        walked = np.exp(np.cumsum(rng.normal(0, 0.03, 2 * n)))
        walked[: 2 * draw(st.integers(0, 2))] = np.nan
        rates = [walked[::2].tolist(), walked[1::2].tolist()]
    sizings = ["fixed", "fixed", "percent", "notional", *(["risk", "risk"] if stop else [])]
    sizing = draw(st.sampled_from(sizings))
    capital = draw(st.sampled_from([30.0, 200.0, 10_000.0]))
    size = {"fixed": draw(st.sampled_from([0.5, 1.0, 3.0])), "percent": draw(st.sampled_from([50.0, 300.0])),
            "notional": draw(st.sampled_from([100.0, 500.0])), "risk": draw(st.sampled_from([1.0, 5.0]))}[sizing]
    return Setup(
        open_.tolist(), high.tolist(), low.tolist(), close.tolist(), session.tolist(), last.tolist(),
        *(f.tolist() for f in flags), blocked.tolist(), (session // draw(st.integers(1, 2))).tolist(), finer, fine_nights,
        entries(draw, rng, n, close), entries(draw, rng, n, close), stop, target, trail,
        draw(st.sampled_from([0, 1, 3])), start, even, draw(st.sampled_from([0, 1, -1])), draw(st.sampled_from([0, 0, 1, 2])),
        draw(st.booleans()), draw(st.sampled_from(["reverse", "close", "ignore"])), draw(st.booleans()),
        draw(st.none() | st.integers(1, 6)), sizing, size, draw(st.sampled_from([0.1, 0.5])),
        draw(st.sampled_from([0.0, 0.5])), capital, draw(st.sampled_from([1.0, 0.25, 12.5])), *rates,
        draw(st.sampled_from([0.0, 1.0])), draw(st.sampled_from([0.0, 1.5])), draw(st.sampled_from([0.0, 2.4])),
        draw(st.sampled_from([0.0, 0.02])), draw(st.sampled_from([0.0, 3.0])),
        draw(st.sampled_from([0.0, -0.7])) if len(nights) else 0.0,
        draw(st.sampled_from([0.0, 0.3])) if len(nights) else 0.0, nights[::2].tolist(), nights[1::2].tolist(),
        *draw(st.sampled_from([(0.0, 0.0), (60.0, 0.0), (0.0, 5.0)])))


@st.composite
def dated(draw: st.DrawFn) -> tuple[Setup, dict[int, Setup]]:
    """A setup, and others of the same bars with other numbers and conditions that decide from some bars on."""
    first = draw(setups())
    n, later = len(first.close), {}
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    for bar in sorted(draw(st.sets(st.integers(1, max(1, n - 1)), max_size=4))):
        change: dict[str, object] = {f: (rng.random(n) < 0.2).tolist() for f in ("long_in", "short_in", "long_out",
                                                                                   "short_out", "blocked")}
        for name in ("stop", "target", "trail", "start_after", "even"):
            if (one := getattr(first, name)) is not None:
                change[name] = dataclasses.replace(one, amount=one.amount * draw(st.sampled_from([0.5, 1.5, 3.0])))
        for name in ("long_entry", "short_entry"):
            change[name] = dataclasses.replace(getattr(first, name), bars=draw(st.integers(1, 4)),
                                               touch=draw(st.integers(0, 2)))
        change["time_exit"] = first.time_exit and draw(st.integers(1, 6))
        change["most_entries"] = first.most_entries and draw(st.integers(1, 2))
        change["size"] = first.size * draw(st.sampled_from([0.5, 1.0, 2.0]))
        later[bar] = dataclasses.replace(first, **change)
    return first, {b: s for b, s in later.items() if b < n}


def kernel_inputs(s: Setup):
    """What the loop is given for a setup: tape, wanted, clock, finer, numbers."""
    n = len(s.close)
    flags = [np.array(f, np.uint8) for f in (s.long_in, s.short_in, s.long_out, s.short_out, s.blocked or [False] * n)]
    edge = None
    session = np.array(s.session, np.int32)
    last = np.array(s.last_bar, np.uint8)
    if s.flat:
        edge = ((last != 0) | np.append(False, session[1:] != session[:-1])).astype(np.uint8)
    amount = lambda r: r.amount if r else 0.0  # noqa: E731
    unit = lambda r: k.UNIT[r.unit if r else None]  # noqa: E731
    lot_inverse = round(1 / s.lot) if abs(1 / s.lot - round(1 / s.lot)) < 1e-9 else 0.0
    a, b = s.long_entry, s.short_entry
    plan = Plan(s.this_close, k.ON_OPPOSITE[s.on_opposite], s.flat, s.time_exit or 0, k.ENTRY[a.kind], k.ENTRY[b.kind],
                a.bars, b.bars, a.touch, b.touch, unit(s.stop), amount(s.stop), unit(s.target), amount(s.target),
                unit(s.trail), amount(s.trail), s.trail_step, unit(s.start_after), amount(s.start_after), unit(s.even),
                amount(s.even), s.even_plus, s.most_entries, k.SIZING[s.sizing], s.size, s.lot, float(lot_inverse),
                s.least_lot)
    money = Money(s.capital, s.tick_value, s.spread, s.slippage, s.commission, s.percent, s.minimum, s.swap_long,
                  s.swap_short, s.margin, s.leverage, 0.0)
    col = lambda x, blank=0.0: np.array(x, float) if x else np.array([blank])  # noqa: E731
    nights = [np.array(x or [0], np.int64) for x in (s.nights_start, s.nights_end)]
    at = np.flatnonzero(flags[0] | flags[1])
    atrs = [r.atr if r else [] for r in (s.stop, s.target, s.trail, s.start_after, s.even)]
    levels = [getattr(r, side) if r else [] for r in (s.stop, s.target) for side in ("long", "short")]
    needs, need_of = gathered([np.array(v) if v else None for v in (*atrs, *levels, a.levels, b.levels)], at)
    clock = Clock(*nights, col(s.rate_start, 1.0), col(s.rate_end, 1.0), np.array(s.date or [0], np.int32))
    finer = NO_FINER
    if s.finer:
        every = np.array([x for f in s.finer for x in f], np.int32).reshape(-1, 4).T
        counts = [len(f) for f in s.finer]
        fine_nights = np.array([x for f in s.finer_nights for x in f] or [0], np.int64)
        finer = Finer(np.concatenate(([0], np.cumsum(counts))).astype(np.int64), (np.array(counts) > 0).astype(np.uint8),
                      *(np.ascontiguousarray(x) for x in every), fine_nights)
    prices = np.array([s.open, s.high, s.low, s.close], np.int32).T.copy()
    tape = Tape(prices, session, last)
    wanted = Wanted(bits.pack((*flags, edge), n), at, needs, need_of, NOTHING_ASKED, 0)
    return tape, wanted, clock, finer, parameters(plan, money).reshape(1, -1)


def some_books(n: int, detail: bool = True) -> Books:
    """Books full of zeros, so that what is not written is alike."""
    made = books(n, n, 40 * n + 40 if detail else 0, detail)
    for part in made:
        part[...] = 0
    return made


def run_kernel(s: Setup, function=simulate, detail: bool = True):
    n, state, kept = len(s.close), new_state(), some_books(len(s.close), detail)
    function(*kernel_inputs(s), state, kept, 0)
    assert state.s[k.S_BAR] == n
    done = state.s[k.S_DONE]
    return kept.trades_i[:done], kept.trades_f[:done], kept.net, state.counts, kept.log[: state.s[k.S_LOGGED]]


def entry_events(log: np.ndarray) -> list[tuple[str, int, int]]:
    """Events of entry orders as the twin records them."""
    names = ("placed", "filled", "skipped", "rejected")
    return [(k.EVENTS[e[k.L_EVENT]], int(e[k.L_SIDE]), int(e[k.L_BAR])) for e in log
            if e[k.L_ORDER] < k.ENTRIES_END and k.EVENTS[e[k.L_EVENT]] in names]


def run_dated(first: Setup, later: dict[int, Setup]):
    """A run whose numbers and conditions change at bars, as `Going` makes it: exits of what is alive stand beside."""
    n, state, kept = len(first.close), new_state(), some_books(len(first.close))
    made = [kernel_inputs(s) for s in (first, *later.values())]
    xs = np.concatenate([m[4] for m in made])
    tape, _, clock, finer, _ = made[0]
    kernel.begin(xs, state, kept)
    bars = [0, *later, n]
    for step, (begin, stop) in enumerate(itertools.pairwise(bars)):
        done = state.s[k.S_DONE]
        alive = {int(kept.trades_i[done, k.T_NUMBERS])} if kept.trades_i[done, k.T_SIDE] else set()
        alive |= {int(w[k.O_NUMBERS]) for w in state.wi[:3] if w[k.O_SIDE]}
        rows = sorted(alive - {step})
        state.s[k.S_NUMBERS], state.s[k.S_WHICH] = step, 0
        wanted = made[step][1]
        now = (wanted.entries >= begin) & (wanted.entries < stop)
        elder = NO_ELDER
        if rows:
            words = np.stack([made[r][1].words for r in rows])
            words[:, :, :2] = 0
            elder = Elder(np.array(rows), words, NO_ELDER.asked, NO_ELDER.tables)
        wanted = Wanted(wanted.words, wanted.entries[now], np.ascontiguousarray(wanted.needs[:, now]), wanted.need_of,
                        NOTHING_ASKED, 0, elder)
        kernel.advance(tape, wanted, clock, finer, xs, state, kept, stop, 0)
    kernel.finish(tape, clock, xs, state, kept)
    done = state.s[k.S_DONE]
    return kept.trades_i[:done], kept.trades_f[:done], kept.net, state.counts, kept.log[: state.s[k.S_LOGGED]]


@settings(max_examples=2000, deadline=None, suppress_health_check=CHECKS)
@given(setups())
def test_kernel_equals_twin(s: Setup) -> None:
    same_as_twin(s, run_kernel(s), Simulator(s).run())


@settings(max_examples=1000, deadline=None, suppress_health_check=CHECKS)
@given(dated())
def test_kernel_with_dated_numbers_equals_twin(both: tuple[Setup, dict[int, Setup]]) -> None:
    same_as_twin(both[0], run_dated(*both), Simulator(*both).run())


def same_as_twin(s: Setup, run, twin: Simulator) -> None:
    ti, tf, net, counts, log = run
    assert len(ti) == len(twin.trades)
    for t, f, w in zip(ti, tf, twin.trades):
        none = k.NO_LEVEL
        assert [t[k.T_SIDE], t[k.T_KIND], t[k.T_DECISION], t[k.T_ENTRY_BAR], t[k.T_ENTRY], t[k.T_EXIT_BAR], t[k.T_EXIT],
                k.REASONS[t[k.T_REASON]], bool(t[k.T_AMBIGUOUS]), t[k.T_HELD]] == [
            w.side, k.ENTRY[w.kind], w.decision, w.entry_bar, w.entry, w.exit_bar, w.exit, w.reason, w.ambiguous, w.held]
        assert t[k.T_STOP] == (none if w.stop is None else w.stop)
        assert t[k.T_TARGET] == (none if w.target is None else w.target)
        unit = s.tick_value * f[k.F_RATE] * f[k.F_QUANTITY]
        for got, want in ((f[k.F_QUANTITY], w.quantity), (f[k.F_GROSS], w.gross), (f[k.F_NET], w.net),
                          (f[k.F_FINANCING], w.financing), (t[k.T_WORST] * unit, w.mae), (t[k.T_BEST] * unit, w.mfe),
                          (f[k.F_RISK], w.risk)):
            assert got == pytest.approx(want, rel=1e-9, abs=1e-8, nan_ok=True)
    np.testing.assert_allclose(net, twin.equity, rtol=1e-9, atol=1e-7)
    for name, value in twin.counts.items():
        assert counts[k.COUNTS.index(name)] == value, name
    assert bool(counts[k.C_RUINED]) == (twin.ruined or twin.cash <= 1e-9 * s.capital)
    assert entry_events(log) == twin.events
    assert np.isfinite(np.delete(tf, k.F_RISK, axis=1)).all()
    assert np.isfinite(net).all()


@settings(max_examples=60, deadline=None, suppress_health_check=CHECKS)
@given(setups())
def test_compiled_equals_interpreted_and_detail_changes_nothing(s: Setup) -> None:
    """numba's py_func on the same inputs; and the statistics-only run against the detailed one."""
    compiled = run_kernel(s)
    for other in (run_kernel(s, kernel.simulate.py_func), run_kernel(s, detail=False)):
        for a, b in zip(compiled[:4], other[:4]):
            np.testing.assert_array_equal(a, b)


@settings(max_examples=300, deadline=None, suppress_health_check=CHECKS)
@given(setups(), st.lists(st.floats(0, 1), max_size=6), st.booleans())
def test_a_run_cut_at_any_bars_gives_the_same_bits(s: Setup, shares: list[float], blind: bool) -> None:
    """begin, advance as often as one likes, finish. blind: nothing beyond the bars asked for is there yet."""
    n = len(s.close)
    whole = run_kernel(s)
    tape, wanted, clock, finer, xs = kernel_inputs(s)
    state, kept = new_state(), some_books(n)
    kernel.begin(xs, state, kept)
    for until in sorted({*(int(x * n) for x in shares), n}):
        shown, known, past = tape, wanted, clock
        if blind:
            shown = Tape(*(x[:until].copy() for x in tape))
            flags = bits.unpack(wanted.words, n)[:until]
            m = int(np.searchsorted(wanted.entries, until))
            known = Wanted(bits.pack(tuple(flags >> b & 1 for b in range(k.SIGNALS)), until), wanted.entries[:m].copy(),
                           wanted.needs[:, :m].copy(), wanted.need_of, NOTHING_ASKED, 0)
            # One value alone means "the same at every bar", see `Going`.
            past = Clock(*(np.repeat(x[:1], 2) if len(x) > 1 and until == 1 else x[:until].copy() if len(x) > 1 else x
                           for x in clock))
        if until:
            kernel.advance(shown, known, past, finer, xs, state, kept, until, 0)
    kernel.finish(tape, clock, xs, state, kept)
    done = state.s[k.S_DONE]
    for a, b in zip(whole, (kept.trades_i[:done], kept.trades_f[:done], kept.net, state.counts,
                            kept.log[: state.s[k.S_LOGGED]])):
        np.testing.assert_array_equal(a, b)


def test_numbers_that_change_between_two_bars_leave_orders_and_positions_their_own() -> None:
    """Worked by hand: prices stand at 100. A long from bar 1, decided with a stop of 5 ticks and out after 4 bars, keeps both
    when 2 ticks and 2 bars stand from bar 2 on; the next one goes by these. A stop order that rests at 103 with its stop of 5
    keeps that, too, when it fills after the change."""
    n = 12
    flat, no = [100] * n, [False] * n
    long_in = [i in (0, 6) for i in range(n)]

    def setup(**more: object) -> Setup:
        given = {"time_exit": 4, "stop": Reach("ticks", 5.0)} | more
        return Setup(flat, [101] * n, [99] * n, flat, [0] * n, no, long_in, no, no, no, flat=False, **given)  # type: ignore[arg-type]

    def run(first: Setup, then: Setup, change: int) -> tuple[np.ndarray, np.ndarray]:
        tape, wanted, clock, finer, xs = kernel_inputs(first)
        both = np.concatenate([xs, kernel_inputs(then)[4]])
        state, kept = new_state(), some_books(n)
        kernel.begin(both, state, kept)
        kernel.advance(tape, wanted, clock, finer, both, state, kept, change, 0)
        state.s[k.S_NUMBERS] = 1
        kernel.advance(tape, wanted, clock, finer, both, state, kept, n, 0)
        kernel.finish(tape, clock, both, state, kept)
        return kept.trades_i[: state.s[k.S_DONE]], kept.trades_f[: state.s[k.S_DONE]]

    later = setup(time_exit=2, stop=Reach("ticks", 2.0), size=3.0)
    trades, money = run(setup(), later, 2)
    columns = [k.T_ENTRY_BAR, k.T_STOP, k.T_EXIT_BAR]
    assert trades[:, columns].tolist() == [[1, 95, 5], [7, 98, 9]]
    assert trades[:, k.T_NUMBERS].tolist() == [0, 1]
    assert money[:, k.F_QUANTITY].tolist() == [1.0, 3.0]
    flat[3] = 103
    resting = Entry("stop", [103.0] * n, 6)
    spiked = [dataclasses.replace(s, long_entry=resting, high=[101, 101, 101, 104, *[101] * 8]) for s in (setup(), later)]
    trades, money = run(*spiked, 2)
    assert trades[0, columns[:2]].tolist() == [3, 98]
    assert (trades[0, k.T_DECISION], money[0, k.F_QUANTITY], trades[0, k.T_NUMBERS]) == (0, 1.0, 0)


@settings(max_examples=300, deadline=None, suppress_health_check=CHECKS)
@given(setups())
def test_the_lean_form_of_the_loop_gives_the_same_bits(s: Setup) -> None:
    """The lean form: nets, equity at the ends of dates, largest fall, counts."""
    n = len(s.close)
    plain = dataclasses.replace(s, trail=None, start_after=None, even=None, finer=[], finer_nights=[], long_entry=Entry(),
                                short_entry=Entry(), swap_long=0.0, swap_short=0.0, nights_start=[], nights_end=[],
                                rate_start=[], rate_end=[])
    inputs = kernel_inputs(plain)
    _, tf, net, counts, _ = run_kernel(plain)
    ends = np.unique(np.append(np.flatnonzero(np.diff(inputs[0].session)), n - 1)).astype(np.int64)
    lean = Books(np.zeros((2, k.INT_COLUMNS), np.int64), np.zeros((2, k.FLOAT_COLUMNS)), NO_LOG, NO_FLOATS, NO_FLOATS,
                 NO_POSITION, np.zeros(n + 2), ends, np.full(len(ends), np.nan))
    state = new_state()
    form_of(simulate, FULL=False, KEEP=False)(*inputs, state, lean, 0)
    np.testing.assert_array_equal(lean.nets[: state.s[k.S_DONE]], tf[:, k.F_NET])
    np.testing.assert_array_equal(lean.day_equity, net[ends])
    assert fall_that_counts(state.purse[k.P_FALL], state.purse[k.P_PEAK]) == largest_fall(net, plain.capital)
    np.testing.assert_array_equal(state.counts, counts)


@settings(max_examples=150, deadline=None, suppress_health_check=CHECKS)
@given(setups(), st.floats(0.1, 0.95))
def test_cutting_the_data_changes_nothing_before_the_cut(s: Setup, share: float) -> None:
    cut = max(1, int(len(s.close) * share))
    ti, _, net, _, _ = run_kernel(s)

    def short(value: object) -> object:
        if isinstance(value, list):
            return value[:cut]
        if isinstance(value, Reach | Entry):
            return dataclasses.replace(value, **{f.name: short(getattr(value, f.name)) for f in dataclasses.fields(value)})
        return value

    part = Setup(**{key: short(value) for key, value in vars(s).items()})  # type: ignore[arg-type]
    ti_cut, _, net_cut, _, _ = run_kernel(part)
    done = ti[ti[:, k.T_EXIT_BAR] < cut - 1]
    np.testing.assert_array_equal(ti_cut[: len(done)], done)
    np.testing.assert_array_equal(net_cut[: cut - 1], net[: cut - 1])


def test_rounding_of_levels() -> None:
    """An exact half goes away from zero, within 1e-6 tick; negative levels mirror positive ones."""
    for x, want in ((2.5, 3), (-2.5, -3), (2.4999995, 3), (2.49999, 2), (-2.4999995, -3), (0.0, 0), (1e6 + 0.5, 1e6 + 1)):
        assert position.nearest(x) == want
        assert position.nearest(-x) == -want
    assert math.copysign(1, position.financing_ticks(np.zeros(k.PARAMETERS), 1, 3)) == 1.0
