"""Every compiled kernel beside a slow twin in plain Python, and beside its own uncompiled body."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.build import cross, walk_bars
from wolbrin.core.bits import pack, unpack
from wolbrin.core.engine import codes as k
from wolbrin.core.engine import passing
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.run import backtest
from wolbrin.core.indicators import kernels as indicators
from wolbrin.core.indicators import structure
from wolbrin.core.market.sessions import NS_A_MINUTE
from wolbrin.core.measures import drawdown, facts, sums
from wolbrin.core.measures.drawdown import episodes, largest_fall
from wolbrin.core.measures.facts import Facts
from wolbrin.core.proving import monte_carlo
from wolbrin.core.proving.monte_carlo import simulate_paths
from wolbrin.core.rules import compare
from wolbrin.core.rules.compare import first_finite
from wolbrin.core.rules.model import Distance

BARS = walk_bars(700, seed=6)
MASK = 2**64 - 1


# Twins


def mixed(state: int) -> tuple[int, int]:
    """splitmix64 in Python's own integers (Steele, Lea & Flood 2014, Fast splittable pseudorandom number generators)."""
    state = (state + 0x9E3779B97F4A7C15) & MASK
    z = ((state ^ (state >> 30)) * 0xBF58476D1CE4E5B9) & MASK
    z = ((z ^ (z >> 27)) * 0x94D049BB133111EB) & MASK
    return state, z ^ (z >> 31)


def one_path(profits: list[float], length: int, path: int, seed: int, replace: bool, capital: float) -> tuple[float, ...]:
    state, _ = mixed(seed ^ ((path * 0xD1B54A32D192ED03) & MASK))
    order, n = list(profits), len(profits)
    equity = peak = lowest = capital
    fall = 0.0
    for j in range(length):
        state, z = mixed(state)
        if replace:
            x = profits[((z >> 32) * n) >> 32]
        else:
            pick = j + (((z >> 32) * (n - j)) >> 32)
            order[j], order[pick] = order[pick], order[j]
            x = order[j]
        equity += x
        peak = max(peak, equity)
        fall = max(fall, peak - equity)
        lowest = min(lowest, equity)
    return fall, lowest, equity


@given(st.lists(st.integers(-500, 500).map(float), min_size=1, max_size=30), st.integers(0, 2**40), st.booleans())
@settings(max_examples=60, deadline=None)
def test_monte_carlo_paths_equal_the_twin(profits: list[float], seed: int, replace: bool) -> None:
    length = 2 * len(profits) if replace else len(profits)
    got = simulate_paths(np.array(profits), 1000.0, 12, length=length, replace=replace, seed=seed)
    for path in range(12):
        want = one_path(profits, length, path, seed, replace, 1000.0)
        assert (got.drawdown[path], got.lowest[path], got.end[path]) == pytest.approx(want)


def test_splitmix_follows_its_published_sequence() -> None:
    """First outputs for seed 1234567, as commonly published with the reference code (quoted from memory)."""
    state, got = 1234567, []
    for _ in range(3):
        state, z = mixed(state)
        got.append(z)
    assert got == [6457827717110365317, 3203168211198807973, 9817491932198370423]
    compiled_state, compiled = np.uint64(1234567), []
    for _ in range(3):
        compiled_state, z = (np.uint64(x) for x in monte_carlo._next(compiled_state))
        compiled.append(int(z))
    assert compiled == got


def slow_episodes(equity: list[float], capital: float) -> list[tuple[int, int, int, float]]:
    """Peak, trough, recovery, depth of each drawdown, looking back from every point."""
    found = []
    points = [capital, *equity]
    i = 0
    while i < len(points) - 1:
        if points[i + 1] >= points[i]:
            i += 1
            continue
        end = next((j for j in range(i + 1, len(points)) if points[j] >= points[i]), len(points))
        stretch = points[i + 1:end]
        low = min(stretch)
        found.append((i - 1, i + stretch.index(low), end - 1, points[i] - low))
        i = end
    return found


@given(st.lists(st.integers(-40, 40), min_size=1, max_size=60))
@settings(max_examples=300, deadline=None)
def test_drawdown_episodes_equal_the_twin(steps: list[int]) -> None:
    equity = (1000 + np.cumsum(steps)).astype(float)
    got = episodes(equity, 1000.0)
    want = slow_episodes(equity.tolist(), 1000.0)
    assert list(zip(got.peak, got.trough, got.recovery, got.depth)) == want
    assert largest_fall(equity, 1000.0) == max((w[3] for w in want), default=0.0)


def test_session_kernels_equal_slow_loops() -> None:
    high, low, close, session = BARS.high, BARS.low, BARS.close, BARS.session
    opened = BARS.sessions.open[session]
    span = 60 * NS_A_MINUTE
    top, bottom = indicators.opening_range(high, low, BARS.end, session, opened, span)
    prior = indicators.prior_session(high, low, close, session)
    vwap = indicators.session_vwap(close, BARS.volume, session)
    count = indicators.session_count(session)
    for i in range(0, len(BARS), 7):
        own = [j for j in range(i + 1) if session[j] == session[i]]
        early = [j for j in own if BARS.end[j] - opened[j] <= span]
        if BARS.end[i] - opened[i] >= span and early:
            assert (top[i], bottom[i]) == (max(high[j] for j in early), min(low[j] for j in early))
        else:
            assert math.isnan(top[i])
        before = [j for j in range(i) if session[j] < session[i]]
        if before:
            last = [j for j in before if session[j] == session[before[-1]]]
            assert (prior[0][i], prior[1][i], prior[2][i]) == (max(high[j] for j in last), min(low[j] for j in last),
                                                              close[last[-1]])
        else:
            assert math.isnan(prior[0][i])
        amount = sum(BARS.volume[j] for j in own)
        assert vwap[i] == pytest.approx(sum(close[j] * BARS.volume[j] for j in own) / amount)
        assert count[i] == len(own)


def test_the_vwap_without_volume_has_no_value() -> None:
    session = np.array([0, 0, 1, 1], np.int32)
    out = indicators.session_vwap(np.array([1.0, 2.0, 3.0, 5.0]), np.array([0.0, 2.0, 0.0, 0.0]), session)
    np.testing.assert_array_equal(out, [np.nan, 2.0, np.nan, np.nan])


@given(st.integers(1, 6), st.lists(st.tuples(st.integers(0, 50), st.integers(0, 9), st.integers(0, 9)), max_size=25))
@settings(max_examples=150, deadline=None)
def test_wilder_atr_equals_exact_fractions(length: int, raw: list[tuple[int, int, int]]) -> None:
    """The recursion in exact rational arithmetic; the kernel may differ in the last bits only."""
    from fractions import Fraction

    low = np.array([r[0] for r in raw], np.int32)
    high = low + np.array([r[1] + r[2] for r in raw], np.int32)
    close = low + np.array([r[1] for r in raw], np.int32)
    got = indicators.wilder_atr(high, low, close, length)
    ranges = [Fraction(int(h - lo)) if i == 0 else Fraction(int(max(h, close[i - 1]) - min(lo, close[i - 1])))
              for i, (h, lo) in enumerate(zip(high, low))]
    value: Fraction | None = None
    for i in range(len(raw)):
        if i == length - 1:
            value = sum(ranges[:length], Fraction(0)) / length
        elif value is not None:
            value = (value * (length - 1) + ranges[i]) / length
        if value is None:
            assert math.isnan(got[i])
        else:
            assert got[i] == pytest.approx(float(value), rel=1e-13, abs=1e-13)


@given(st.lists(st.lists(st.booleans(), min_size=5, max_size=5), min_size=1, max_size=4), st.integers(0, 3))
def test_packed_signals_can_be_read_back(flags: list[list[bool]], gap: int) -> None:
    arrays: list[np.ndarray | None] = [np.array(f, np.uint8) for f in flags]
    arrays.insert(min(gap, len(arrays)), None)
    packed = unpack(pack(tuple(arrays), 5), 5)
    for bit, one in enumerate(arrays):
        want = np.zeros(5, np.uint8) if one is None else one
        np.testing.assert_array_equal(packed >> bit & 1, want)


def test_first_finite() -> None:
    x = np.array([np.nan, np.inf, 3.0, np.nan, 4.0])
    assert [first_finite(x, s) for s in range(6)] == [2, 2, 2, 4, 4, 5]


# Compiled beside uncompiled


def same(compiled: object, arguments: tuple[object, ...]) -> None:
    """Run a kernel and its py_func on copies of the same inputs; results and changed arrays must be equal."""
    one, two = (tuple(a.copy() if isinstance(a, np.ndarray) else a for a in arguments) for _ in range(2))
    with np.errstate(over="ignore", invalid="ignore"):
        a, b = compiled(*one), compiled.py_func(*two)  # type: ignore[attr-defined,operator]
    for x, y in zip((*one, *(a if isinstance(a, tuple) else (a,))), (*two, *(b if isinstance(b, tuple) else (b,)))):
        if isinstance(x, np.ndarray | float | int | np.generic):
            np.testing.assert_array_equal(x, y)


RUN = backtest(BARS, cross(stop=Distance(unit="atr", amount=1.0, length=10), flat_by_session_end=False), Brief())
T = RUN.trades_i
EQUITY = RUN.net


def held_long() -> tuple[np.ndarray, np.ndarray]:
    """A long position entered at 10, as the loop's rows have it."""
    whole, money = np.zeros((1, k.INT_COLUMNS), np.int64), np.zeros((1, k.FLOAT_COLUMNS))
    whole[0, [k.T_SIDE, k.T_ENTRY]] = 1, 10
    money[0, [k.F_QUANTITY, k.F_DRAG]] = 2.0, 0.5
    return whole, money


CASES = {
    "wilder_atr": (indicators.wilder_atr, (BARS.h, BARS.l, BARS.c, 14)),
    "opening_range": (indicators.opening_range, (BARS.high, BARS.low, BARS.end, BARS.session,
                                                 BARS.sessions.open[BARS.session], 30 * NS_A_MINUTE)),
    "prior_session": (indicators.prior_session, (BARS.high, BARS.low, BARS.close, BARS.session)),
    "session_vwap": (indicators.session_vwap, (BARS.close, BARS.volume, BARS.session)),
    "session_count": (indicators.session_count, (BARS.session,)),
    "session_open": (indicators.session_open, (BARS.open, BARS.session)),
    "cross_lines": (compare._cross_lines, (BARS.close, BARS.open, np.zeros(len(BARS), np.uint8))),
    "cross_level": (compare._cross_level, (BARS.close, 100.0, False, np.zeros(len(BARS), np.uint8))),
    "first_finite": (compare.first_finite, (np.array([np.nan, 1.0]), 0)),
    "episodes": (drawdown._episodes, (EQUITY, 50_000.0)),
    "largest_fall": (drawdown.largest_fall, (EQUITY, 50_000.0)),
    "placement": (facts._placement, (BARS.h, BARS.l, *(np.ascontiguousarray(T[:, c]) for c in (
        k.T_ENTRY_BAR, k.T_EXIT_BAR, k.T_SIDE, k.T_ENTRY, k.T_EXIT)))),
    "idle": (passing.idle, (2, 15, 5.0, 6.0, np.zeros(20), np.zeros(20), np.zeros(20, np.int8))),
    "carry": (passing.carry, (2, 18, np.zeros(k.STATE, np.int64), np.full(k.PURSE, 100.0), *held_long(), 0, 14, 5,
                              (np.arange(20, dtype=np.int32)[:, None] % 7 + np.array([8, 8, 6, 7], np.int32)).copy(),
                              np.zeros(1, np.int64), np.ones(1), np.full(k.PARAMETERS, 1.0), np.zeros(20), np.zeros(20),
                              np.zeros(20, np.int8), np.zeros(0, np.int64), np.zeros(0))),
    "summary": (sums.summary, (RUN.profits.copy(), RUN.daily[1], 100.0, 50_000.0, True, np.zeros(len(sums.COMPILED)))),
    "rank": (structure.rank_of, (np.where(np.arange(300) % 50 == 7, np.nan, np.sin(np.arange(300.0))), 20)),
    "where set": (compare.where_set, (np.arange(20, dtype=np.uint8), 4)),
}


@pytest.mark.parametrize("name", CASES)
def test_compiled_equals_interpreted(name: str) -> None:
    same(*CASES[name])


@given(st.integers(0, 2**31))
@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_placement_lies_between_worst_and_best(seed: int) -> None:
    bars = walk_bars(400, seed=seed % 10_000)
    run = backtest(bars, cross(stop=Distance(unit="ticks", amount=25)), Brief())
    for placed in Facts.of(run).placement:
        seen = placed[np.isfinite(placed)]
        assert ((seen >= 0) & (seen <= 1)).all()
