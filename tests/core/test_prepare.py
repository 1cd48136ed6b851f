"""What readies a history for the simulator, against pandas and plain loops: finer bars, conversion rates, nights, bits."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.build import cross, walk_bars
from wolbrin.core.bits import entries_of, pack, unpack
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import FineBars, Prepared, rates_at
from wolbrin.core.engine.run import backtest
from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.intervals import DAILY, to_interval
from wolbrin.core.market.sessions import rollovers
from wolbrin.core.rules.compare import where_set
from wolbrin.core.rules.model import Distance, Strategy, Trail

FINE = walk_bars(1800, seed=31, minutes=5)


def without(bars: Bars, gone: np.ndarray) -> Bars:
    keep = ~gone
    return make_bars(bars.terms, bars.interval, bars.time[keep], (bars.open[keep], bars.high[keep], bars.low[keep],
                                                                bars.close[keep]), bars.volume[keep])


@pytest.mark.parametrize("interval", [15, 60, DAILY])
def test_finer_bars_that_made_a_bar_add_up_to_it(interval: int) -> None:
    wide = to_interval(FINE, interval)
    laid = FineBars.under(wide, FINE)
    assert laid.arrays.usable.all()
    assert laid.arrays.first[-1] == len(FINE)
    for i in (0, 7, len(wide) - 1):
        a, b = laid.arrays.first[i:i + 2]
        assert laid.arrays.high[a:b].max() == wide.h[i]
        assert laid.time[a] >= wide.time[i]
        assert laid.time[b - 1] < wide.end[i]


@given(st.integers(0, 10**6))
@settings(max_examples=40, deadline=None)
def test_a_bar_is_usable_exactly_where_its_finer_bars_add_up(seed: int) -> None:
    gone = np.random.default_rng(seed).random(len(FINE)) < 0.1
    wide, left = to_interval(FINE, 15), without(FINE, gone)
    laid = FineBars.under(wide, left)
    for i in range(len(wide)):
        inside = (left.time >= wide.time[i]) & (left.time < wide.end[i])
        same = bool(inside.any()) and (left.o[inside][0], left.h[inside].max(), left.l[inside].min(), left.c[inside][-1]) == (
            wide.o[i], wide.h[i], wide.l[i], wide.c[i])
        assert bool(laid.arrays.usable[i]) == same


@given(st.integers(0, 10**6), st.booleans())
@settings(max_examples=30, deadline=None)
def test_conversion_rates_equal_an_asof_join(seed: int, inverse: bool) -> None:
    rng = np.random.default_rng(seed)
    bars = walk_bars(300, seed=3, conversion_market="RATE", conversion_inverse=inverse)
    rates = without(walk_bars(250, seed=4, minutes=30, code="RATE"), rng.random(250) < 0.3)
    quotes = pd.DataFrame({"at": rates.end, "rate": 1 / rates.close if inverse else rates.close})
    for moments in (bars.time, bars.end):
        want = pd.merge_asof(pd.DataFrame({"at": moments}), quotes, on="at").rate.to_numpy()
        np.testing.assert_array_equal(rates_at(bars, rates, moments), want)


def test_nights_are_counted_between_any_two_moments() -> None:
    bars = walk_bars(400, seed=9, financing={"long": -1.0, "time": "17:00", "triple": "Wed"})
    instants, nights = rollovers(bars.terms, int(bars.time[0]), int(bars.end[-1]))
    start, end = Prepared.of(bars).nights
    for a, b in ((0, 399), (10, 200), (50, 51)):
        held = nights[(instants >= bars.time[a]) & (instants < bars.end[b])].sum()
        assert end[b] - start[a] == held


@given(st.lists(st.integers(0, 255), max_size=70), st.integers(1, 255))
@settings(max_examples=200, deadline=None)
def test_bits_are_found_as_numpy_finds_them(values: list[int], mask: int) -> None:
    bits = np.array(values, np.uint8)
    np.testing.assert_array_equal(where_set(bits, mask), np.flatnonzero(bits & mask))
    flags = [(bits >> b) & 1 for b in range(3)]
    packed = pack((flags[0], None, flags[2]), len(bits))
    np.testing.assert_array_equal(unpack(packed, len(bits)), bits & 5)
    begin, stop = len(bits) // 3, len(bits) - len(bits) // 4
    np.testing.assert_array_equal(entries_of(packed[:, 0], packed[:, 2], begin, stop), np.flatnonzero(bits[begin:stop] & 5))


def test_an_order_log_longer_than_its_room_is_complete() -> None:
    """Trails that move at every bar outgrow the first room; the run is made again with more and gives the same bits."""
    what: Strategy = cross(trail=Trail(distance=Distance(unit="ticks", amount=4000)), flat_by_session_end=False)
    run = backtest(walk_bars(3000, seed=2, sigma=3.0), what, Brief())
    bare = backtest(walk_bars(3000, seed=2, sigma=3.0), what, Brief(), detail=False)
    assert run.fingerprint == bare.fingerprint
    assert (np.diff(run.log[:, k.L_BAR]) >= 0).all()
    assert (run.log[:, k.L_EVENT] == k.FILLED).sum() == 2 * len(run)
