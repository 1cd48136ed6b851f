"""The kernel against the slow twin, on generated bars, signals and options together."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.twin.slow import Setup, Simulator
from wolbrin.core.engine import codes as k
from wolbrin.core.engine import kernel
from wolbrin.core.engine.kernel import Money, Plan, simulate

AMOUNTS = st.sampled_from([0.3, 1.0, 1.5, 2.0, 2.5, 4.0, 7.0])


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
    atr = rng.choice([0.1, 0.5, 1.0, 2.5, 3.5], n)
    atr[: draw(st.integers(0, 3))] = np.nan
    unit = st.sampled_from(["ticks", "atr"])
    stop = draw(st.none() | st.tuples(unit, AMOUNTS))
    target = draw(st.none() | st.tuples(st.sampled_from(["ticks", "atr", *(["stop"] if stop else [])]), AMOUNTS))
    nights = np.cumsum(rng.integers(0, 2, 2 * n)) if draw(st.booleans()) else np.zeros(0, np.int64)
    return Setup(
        open_.tolist(), high.tolist(), low.tolist(), close.tolist(), session.tolist(), last.tolist(),
        *(f.tolist() for f in flags), stop, target, atr.tolist(), atr.tolist(), draw(st.booleans()),
        draw(st.sampled_from(["reverse", "close", "ignore"])), draw(st.booleans()), draw(st.none() | st.integers(1, 6)),
        draw(st.sampled_from([0.5, 1.0, 3.0])), draw(st.sampled_from([30.0, 200.0, 10_000.0])),
        draw(st.sampled_from([1.0, 0.25, 12.5])), draw(st.sampled_from([0.0, 1.0])), draw(st.sampled_from([0.0, 1.5])),
        draw(st.sampled_from([0.0, 2.4])), draw(st.sampled_from([0.0, 0.02])), draw(st.sampled_from([0.0, 3.0])),
        draw(st.sampled_from([0.0, -0.7])) if len(nights) else 0.0,
        draw(st.sampled_from([0.0, 0.3])) if len(nights) else 0.0, nights[::2].tolist(), nights[1::2].tolist(),
        *draw(st.sampled_from([(0.0, 0.0), (60.0, 0.0), (0.0, 5.0)])))


def run_kernel(s: Setup, function=simulate, detail: bool = True):
    n = len(s.close)
    bits = sum(np.array(f, np.uint8) << np.uint8(b) for b, f in enumerate((s.long_in, s.short_in, s.long_out, s.short_out)))
    plan = Plan(s.this_close, k.ON_OPPOSITE[s.on_opposite], s.flat, k.UNIT[s.stop[0] if s.stop else None],
                s.stop[1] if s.stop else 0.0, k.UNIT[s.target[0] if s.target else None],
                s.target[1] if s.target else 0.0, s.time_exit or 0, s.quantity)
    money = Money(s.capital, s.tick_money, s.spread, s.slippage, s.commission, s.percent, s.minimum, s.swap_long,
                  s.swap_short, s.margin, s.leverage)
    nights = [np.array(x or [0] * n, np.int64) for x in (s.nights_start, s.nights_end)]
    ti, tf = np.zeros((n + 2, k.INT_COLUMNS), np.int64), np.zeros((n + 2, k.FLOAT_COLUMNS))
    net, gross, position = np.zeros(n), np.zeros(n if detail else 0), np.zeros(n if detail else 0, np.int8)
    ticks = [np.array(x, np.int32) for x in (s.open, s.high, s.low, s.close, s.session)]
    count, counts = function(*ticks, np.array(s.last_bar, np.uint8), bits.astype(np.uint8), np.array(s.stop_atr),
                             np.array(s.target_atr), *nights, plan, money, ti, tf, net, gross, position)
    return ti[:count], tf[:count], net, counts


@settings(max_examples=2500, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(setups())
def test_kernel_equals_twin(s: Setup) -> None:
    ti, tf, net, counts = run_kernel(s)
    twin = Simulator(s).run()
    assert len(ti) == len(twin.trades)
    unit = s.tick_money * s.quantity
    for t, f, w in zip(ti, tf, twin.trades):
        none = k.NO_LEVEL
        assert [t[k.T_SIDE], t[k.T_DECISION], t[k.T_ENTRY_BAR], t[k.T_ENTRY], t[k.T_EXIT_BAR], t[k.T_EXIT],
                k.REASONS[t[k.T_REASON]], bool(t[k.T_AMBIGUOUS]), t[k.T_HELD]] == [
            w.side, w.decision, w.entry_bar, w.entry, w.exit_bar, w.exit, w.reason, w.ambiguous, w.held]
        assert t[k.T_STOP] == (none if w.stop is None else w.stop)
        assert t[k.T_TARGET] == (none if w.target is None else w.target)
        for got, want in ((f[k.F_GROSS], w.gross), (f[k.F_NET], w.net), (f[k.F_FINANCING], w.financing),
                          (t[k.T_WORST] * unit, w.mae), (t[k.T_BEST] * unit, w.mfe)):
            assert got == pytest.approx(want, abs=1e-8)
    np.testing.assert_allclose(net, twin.equity, atol=1e-8)
    for name, value in twin.counts.items():
        assert counts[k.COUNTS.index(name)] == value, name
    assert bool(counts[k.C_RUINED]) == (twin.ruined or twin.cash <= 0)


@settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
@given(setups())
def test_compiled_equals_interpreted_and_detail_changes_nothing(s: Setup) -> None:
    """numba's py_func on the same inputs; and the statistics-only run against the detailed one."""
    compiled = run_kernel(s)
    for other in (run_kernel(s, kernel.simulate.py_func), run_kernel(s, detail=False)):
        for a, b in zip(compiled, other):
            np.testing.assert_array_equal(a, b)


@settings(max_examples=150, deadline=None, suppress_health_check=list(HealthCheck))
@given(setups(), st.floats(0.1, 0.95))
def test_cutting_the_data_changes_nothing_before_the_cut(s: Setup, share: float) -> None:
    cut = max(1, int(len(s.close) * share))
    ti, _, net, _ = run_kernel(s)
    part = Setup(**{key: (value[:cut] if isinstance(value, list) else value) for key, value in vars(s).items()})
    ti_cut, _, net_cut, _ = run_kernel(part)
    done = ti[ti[:, k.T_EXIT_BAR] < cut - 1]
    np.testing.assert_array_equal(ti_cut[: len(done)], done)
    np.testing.assert_array_equal(net_cut[: cut - 1], net[: cut - 1])


def test_rounding_of_levels() -> None:
    """An exact half goes away from zero, within 1e-6 tick; negative levels mirror positive ones."""
    for x, want in ((2.5, 3), (-2.5, -3), (2.4999995, 3), (2.49999, 2), (-2.4999995, -3), (0.0, 0), (1e6 + 0.5, 1e6 + 1)):
        assert kernel.nearest(x) == want
        assert kernel.nearest(-x) == -want
    assert math.copysign(1, kernel.financing_of(Money(*[0.0] * 12), 1, 3, 1.0)) == 1.0
