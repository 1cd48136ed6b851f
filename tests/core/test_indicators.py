"""One contract suite over every indicator of the catalogue, and values against independent computations."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.build import instants, terms, walk_bars
from wolbrin.core.errors import UserError
from wolbrin.core.indicators import fused
from wolbrin.core.indicators.catalogue import BY_KEY, CATALOGUE, find
from wolbrin.core.indicators.columns import Columns
from wolbrin.core.indicators.kernels import wilder_atr
from wolbrin.core.indicators.model import Indicator
from wolbrin.core.indicators.ta import talib
from wolbrin.core.market.bars import make_bars
from wolbrin.core.store import ground
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import Settings

BARS = walk_bars(900, seed=11)
FRAME = pd.DataFrame({"o": BARS.open, "h": BARS.high, "l": BARS.low, "c": BARS.close, "v": BARS.volume})


def value(key: str, output: str = "value", field: str | None = None, bars=BARS, **params: float) -> np.ndarray:
    return Columns(bars).indicator(key, params, output, field or BY_KEY[key].field)


@pytest.mark.parametrize("entry", CATALOGUE, ids=lambda e: e.key)
def test_contract(entry: Indicator) -> None:
    """Shape, warm-up, finite values after it, determinism, no look-ahead, a stated formula and source."""
    assert entry.formula
    assert entry.reference
    settings = entry.defaults()
    for output in entry.outputs:
        whole = Columns(BARS).indicator(entry.key, settings, output.key, entry.field)
        again = Columns(BARS).indicator(entry.key, settings, output.key, entry.field)
        np.testing.assert_array_equal(whole, again)
        assert whole.shape == (len(BARS),)
        assert whole.dtype == np.float64
        assert not np.isinf(whole).any()
        if entry.warm_up is not None:
            start = entry.warm_up(settings)
            # Outputs of one indicator may start earlier than its slowest one, never later.
            assert np.isfinite(whole[start:]).all()
        for cut in (150, 401, 733):
            part = Columns(BARS.take(cut)).indicator(entry.key, settings, output.key, entry.field)
            np.testing.assert_array_equal(part, whole[:cut], err_msg=f"{entry.key} {output.key} looks ahead")


@pytest.mark.parametrize("entry", CATALOGUE, ids=lambda e: e.key)
def test_mirrors_lead_back(entry: Indicator) -> None:
    for output in entry.outputs:
        if output.mirror:
            key, other = output.mirror
            back = BY_KEY[key].output(other).mirror
            assert back == (entry.key, output.key)


def test_wilder_atr_follows_the_contract() -> None:
    """Wilder 1978 as the contract fixes it: worked by hand. TR: 4 (high - low), 5, 6, then 2; mean of three is 5."""
    high, low, close = (np.array(x) for x in ([14, 15, 17, 14], [10, 11, 11, 12], [11, 15, 13, 13]))
    # TR2 = max(15, 11) - min(11, 11) = 4; TR3 = max(17, 15) - min(11, 15) = 6; TR4 = max(14, 13) - min(12, 13) = 2
    out = wilder_atr(high, low, close, 3)
    assert np.isnan(out[:2]).all()
    assert out[2] == pytest.approx((4 + 4 + 6) / 3)
    assert out[3] == pytest.approx((out[2] * 2 + 2) / 3)


def test_wilder_atr_equals_pandas() -> None:
    previous = FRAME.c.shift()
    tr = pd.concat([FRAME.h - FRAME.l, (FRAME.h - previous).abs(), (FRAME.l - previous).abs()], axis=1).max(axis=1)
    want = np.full(len(tr), np.nan)
    want[13] = tr[:14].mean()
    for i in range(14, len(tr)):
        want[i] = (want[i - 1] * 13 + tr[i]) / 14
    np.testing.assert_allclose(value("atr"), want, rtol=1e-12)


def test_averages_and_bands_equal_pandas() -> None:
    close = FRAME.c
    np.testing.assert_allclose(value("sma"), close.rolling(20).mean(), rtol=1e-9)
    np.testing.assert_allclose(value("deviation"), close.rolling(20).std(ddof=0), rtol=1e-6)
    upper = close.rolling(20).mean() + 2 * close.rolling(20).std(ddof=0)
    np.testing.assert_allclose(value("bands", "upper"), upper, rtol=1e-8)
    weights = np.arange(1, 21)
    weighted = close.rolling(20).apply(lambda x: (x * weights).sum() / weights.sum(), raw=True)
    np.testing.assert_allclose(value("wma"), weighted, rtol=1e-9)
    seed = close.copy()
    seed.iloc[19] = close[:20].mean()
    seed.iloc[:19] = np.nan
    ema = seed[19:].ewm(alpha=2 / 21, adjust=False).mean()
    np.testing.assert_allclose(value("ema")[19:], ema, rtol=1e-9)


def test_oscillators_equal_pandas() -> None:
    change = FRAME.c.diff()
    def wilder(x: pd.Series) -> np.ndarray:
        out = np.full(len(x), np.nan)
        out[14] = x[1:15].mean()
        for i in range(15, len(x)):
            out[i] = (out[i - 1] * 13 + x[i]) / 14
        return out
    up, down = wilder(change.clip(lower=0)), wilder(-change.clip(upper=0))
    np.testing.assert_allclose(value("rsi"), 100 * up / (up + down), rtol=1e-9)
    typical = (FRAME.h + FRAME.l + FRAME.c) / 3
    mean = typical.rolling(20).mean()
    spread = typical.rolling(20).apply(lambda x: np.abs(x - x.mean()).mean(), raw=True)
    np.testing.assert_allclose(value("cci"), (typical - mean) / (0.015 * spread), rtol=1e-7)  # Lambert 1980
    fast = 100 * (FRAME.c - FRAME.l.rolling(14).min()) / (FRAME.h.rolling(14).max() - FRAME.l.rolling(14).min())
    k = fast.rolling(3).mean()
    np.testing.assert_allclose(value("stochastic", "d")[17:], k.rolling(3).mean()[17:], rtol=1e-8)
    np.testing.assert_allclose(value("momentum")[10:], (FRAME.c - FRAME.c.shift(10))[10:], atol=1e-9)


def test_extremes_leave_the_present_bar_out() -> None:
    np.testing.assert_allclose(value("highest"), FRAME.h.rolling(20).max().shift(1))
    np.testing.assert_allclose(value("lowest", length=1), FRAME.l.shift(1))


def test_session_indicators_equal_pandas() -> None:
    session = pd.Series(BARS.session)
    typical = (FRAME.h + FRAME.l + FRAME.c) / 3
    vwap = (typical * FRAME.v).groupby(session).cumsum() / FRAME.v.groupby(session).cumsum()
    np.testing.assert_allclose(value("vwap"), vwap, rtol=1e-12)
    np.testing.assert_array_equal(value("bars_in_session"), session.groupby(session).cumcount() + 1)
    np.testing.assert_array_equal(value("session_open"), FRAME.o.groupby(session).transform("first"))
    high = FRAME.h.groupby(session).max()
    prior = session.map(dict(zip(high.index[1:], high.to_numpy()[:-1])))
    np.testing.assert_array_equal(value("prior_session", "high"), prior)
    inside = BARS.end - BARS.sessions.open[BARS.session] <= 30 * 60 * 10**9
    ranged = session.map(FRAME.h[inside].groupby(session[inside]).max())
    known = BARS.end - BARS.sessions.open[BARS.session] >= 30 * 60 * 10**9
    np.testing.assert_array_equal(value("opening_range", "high"), np.where(known, ranged, np.nan))
    local = pd.DatetimeIndex(BARS.end.view("datetime64[ns]")).tz_localize("UTC").tz_convert("Europe/Oslo")
    np.testing.assert_array_equal(value("time_of_day"), local.hour * 100 + local.minute)
    np.testing.assert_array_equal(value("weekday"), local.day_of_week + 1)


def test_bodies_are_exact_decimals() -> None:
    """0.05 above the open is 0.05, not 0.04999 or 0.05001."""
    bars = make_bars(terms(tick_size=0.05), 15, instants(1, 15),
                     tuple(np.array([x]) for x in (70.1, 70.3, 70.0, 70.15)))  # type: ignore[arg-type]
    assert value("body", bars=bars)[0] == 0.05
    assert value("range", bars=bars)[0] == 0.3


def test_unknown_indicator_is_a_sentence() -> None:
    with pytest.raises(UserError, match="there is no indicator"):
        find("magic")


def test_histories_share_room_for_their_columns(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What was used longest ago lets go of its columns, those of other intervals too; asked again they are the same."""
    bars = walk_bars(900, seed=4, code="AAA")
    project = Project.create(tmp_path / "p", Settings(training_first=dt.date(2024, 1, 1), holdout_first=dt.date(2024, 4, 1),
                                                      last=dt.date(2024, 12, 31)))
    project.add_market(bars.terms, bars, "test")
    ways = [project.prepared("AAA", minutes) for minutes in (15, 30, 60)]
    before = [one.columns.indicator("sma", {"length": 5}, "value", "close").copy() for one in ways]
    ways[0].columns.other(None, 60)[0].indicator("sma", {"length": 5}, "value", "close")
    assert ways[0].columns.weight() > ways[0].columns.bytes_held > 0
    monkeypatch.setattr(ground, "ROOM", ways[1].columns.weight())
    project.prepared("AAA", 60)
    assert [one.columns.weight() > 0 for one in ways] == [False, True, True]
    again = [one.columns.indicator("sma", {"length": 5}, "value", "close") for one in ways]
    for was, now in zip(before, again):
        np.testing.assert_array_equal(was, now)
    project.close()


def test_columns_stay_within_their_budget() -> None:
    small = Columns(BARS, budget=3 * len(BARS) * 8)
    for length in range(2, 30):
        small.indicator("sma", {"length": length}, "value", "close")
    assert small.bytes_held <= 3 * len(BARS) * 8
    np.testing.assert_array_equal(small.indicator("sma", {"length": 5}, "value", "close"), value("sma", length=5))


@given(st.lists(st.tuples(st.sampled_from(["sma", "ema", "rsi"]), st.integers(2, 60)), min_size=1, max_size=9),
       st.integers(0, 30), st.integers(0, 2**31))
@settings(max_examples=60, deadline=None)
def test_what_is_computed_together_equals_talib_and_what_is_computed_alone(wanted: list[tuple[str, int]], missing: int,
                                                                         seed: int) -> None:
    """Averages, RSI and ATR in one pass: TA-Lib to 1e-9 relative, and the very bits of each on its own."""
    bars = walk_bars(300, seed=seed % 10_000)
    x = bars.close.copy()
    x[:missing] = np.nan
    wishes = [fused.Wish(kind, length) for kind, length in wanted] + [fused.Wish("atr", 14)]  # type: ignore[arg-type]
    made = fused.together(x, wishes, (bars.h, bars.l, bars.c))
    for (kind, length), got in zip(wanted, made):
        want = {"sma": talib.SMA, "ema": talib.EMA, "rsi": talib.RSI}[kind](x, length)
        np.testing.assert_allclose(got, want, rtol=1e-9, atol=1e-12)
        np.testing.assert_array_equal(got, fused.alone(x, kind, length))  # type: ignore[arg-type]
    np.testing.assert_array_equal(made[-1], wilder_atr(bars.h, bars.l, bars.c, 14))
