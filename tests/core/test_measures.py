"""Measures against hand-worked examples, pandas, and real daily series."""

from __future__ import annotations

import math

import numpy as np
import pandas as pd
import pytest
from arch.data import nasdaq, sp500
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.build import cross, entry, num, price, row, terms, walk_bars
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.run import backtest
from wolbrin.core.market.bars import make_bars
from wolbrin.core.market.costs import Costs
from wolbrin.core.measures.catalogue import BY_KEY, MEASURES, measure
from wolbrin.core.measures.drawdown import depth_below_peak, episodes
from wolbrin.core.measures.facts import NS_A_DAY, Facts
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.rules.model import Distance, Side, Strategy


def facts(profits: list[float], equity: list[float] | None = None, capital: float = 1000.0, **more: object) -> Facts:
    x = np.array(profits, float)
    curve = np.array(equity if equity is not None else capital + np.cumsum(x), float)
    base: dict[str, object] = {
        "capital": capital, "profits": x, "r": x / 50, "risk_share": np.full(len(x), 0.05),
        "exit_year": np.full(len(x), 2020), "equity": curve, "times": (1 + np.arange(len(curve))) * NS_A_DAY,
        "begin": 0, "daily": np.diff(curve, prepend=capital), "exposed": 1, "bars": 4}
    return Facts(**(base | more))  # type: ignore[arg-type]


def test_worked_example() -> None:
    """Ten trades by hand: wins 300 + 100 + 200 + 400, losses 50 + 150 + 100 + 100 + 50, one flat."""
    f = facts([300, -50, -150, 100, 0, 200, -100, -100, 400, -50])
    got = measure(f)
    want = {"net": 550, "gross_profit": 1000, "gross_loss": -450, "trades": 10, "profit_factor": 1000 / 450, "win_rate": 40,
            "average": 55, "average_win": 250, "average_loss": -90, "payoff": 250 / 90, "break_even_rate": 100 * 90 / 340,
            "max_drawdown": 200, "max_drawdown_percent": 100 * 200 / 1300, "return_drawdown": 550 / 200, "losing_run": 2,
            "best_trades": 100 * 400 / 550, "best_year": 100.0, "exposure": 25, "expectancy": 1.1, "loss_at_stop": 5.0,
            # Falls: 1300 to 1100, recovered at 1500 never before: 1100 .. 1200, 1200, 1400 recovers on day 6.
            "average_drawdown": (200 + 200 + 50) / 3, "under_water": 5.0}
    for key, value in want.items():
        assert got[key] == pytest.approx(value), key
    sd = np.std(f.profits, ddof=1)
    assert got["t"] == pytest.approx(55 / (sd / math.sqrt(10)))


def test_without_trades_sums_are_zero_and_ratios_have_no_value() -> None:
    got = measure(facts([], [1000.0, 1000.0]))
    for key in ("net", "gross_profit", "gross_loss", "trades", "max_drawdown", "max_drawdown_percent", "under_water"):
        assert got[key] == 0, key
    for key in ("profit_factor", "win_rate", "average", "payoff", "t", "sharpe", "sortino", "return_drawdown", "calmar",
                "expectancy", "average_drawdown", "best_trades", "best_year"):
        assert math.isnan(got[key]), key
        assert worded(key, got[key]) == "n/a"


def test_no_made_up_caps() -> None:
    got = measure(facts([10, 20]))
    assert math.isnan(got["profit_factor"])
    assert math.isnan(got["return_drawdown"])
    assert math.isnan(measure(facts([-10, -20]))["best_trades"])
    assert math.isnan(measure(facts([-2000], capital=1000))["cagr"])


@given(st.lists(st.floats(-900, 900, allow_nan=False).map(lambda x: round(x, 2)), min_size=1, max_size=60))
@settings(max_examples=200, deadline=None)
def test_drawdowns_equal_pandas(steps: list[float]) -> None:
    equity = 50_000 + np.cumsum(steps)
    with_start = pd.Series(np.concatenate(([50_000.0], equity)))
    peak = with_start.cummax()
    f = facts(steps, equity.tolist(), 50_000.0)
    assert BY_KEY["max_drawdown"].of(f) == pytest.approx(float((peak - with_start).max()))
    assert BY_KEY["max_drawdown_percent"].of(f) == pytest.approx(100 * float(((peak - with_start) / peak).max()))
    np.testing.assert_allclose(depth_below_peak(equity, 50_000.0), (with_start - peak)[1:], atol=1e-9)
    e = episodes(equity, 50_000.0)
    assert (e.peak < e.trough).all()
    assert (e.trough < e.recovery).all()
    assert (np.diff(e.peak) > 0).all()


@pytest.mark.parametrize("load", [sp500.load, nasdaq.load])
def test_ratios_on_real_daily_series(load) -> None:
    """The daily index series of the `arch` package: Sharpe, Sortino, CAGR and drawdown against plain pandas."""
    close = load()["Adj Close"].to_numpy(float)
    held = 100.0 * close
    f = facts([float(held[-1] - held[0])], held[1:].tolist(), capital=float(held[0]))
    daily = np.diff(held) / held[0]
    got = measure(f, ("sharpe", "sortino", "cagr", "max_drawdown_percent", "calmar"))
    assert got["sharpe"] == pytest.approx(daily.mean() / daily.std(ddof=1) * math.sqrt(252))
    assert got["sortino"] == pytest.approx(daily.mean() / math.sqrt((np.minimum(daily, 0) ** 2).mean()) * math.sqrt(252))
    days = len(daily)
    assert got["cagr"] == pytest.approx(100 * ((held[-1] / held[0]) ** (365.25 / days) - 1))
    series = pd.Series(held)
    assert got["max_drawdown_percent"] == pytest.approx(100 * float((1 - series / series.cummax()).max()))
    assert got["calmar"] == pytest.approx(got["cagr"] / got["max_drawdown_percent"])


def test_end_to_end_on_a_real_daily_series() -> None:
    """S&P 500 days from the `arch` package through bars, rules, simulator and measures: buy and hold by arithmetic."""
    frame = sp500.load().iloc[-1500:]
    round_ = lambda name: frame[name].to_numpy(float).round(2)  # noqa: E731
    high = np.maximum.reduce([round_(c) for c in ("Open", "High", "Low", "Close")])
    low = np.minimum.reduce([round_(c) for c in ("Open", "High", "Low", "Close")])
    time = frame.index.to_numpy("datetime64[ns]").view(np.int64)
    market = terms(sessions=(), time_zone="UTC", tick_size=0.01, point_value=1.0, commission={"per_contract": 2.0})
    bars = make_bars(market, 1440, time, (round_("Open"), high, low, round_("Close")))
    always = Strategy(long=entry(row(price(), "above", num(0))), short=Side(mode="off"), flat_by_session_end=False)
    run = backtest(bars, always, Brief(costs=Costs.of(market), capital=10_000.0))
    got = measure(Facts.of(run))
    assert len(run) == 1
    assert got["buy_and_hold"] == pytest.approx(round_("Close")[-1] - round_("Open")[0] - 4.0)
    assert got["net"] == pytest.approx(round_("Close")[-1] - round_("Open")[1] - 4.0)
    assert run.net[-1] - 10_000 == pytest.approx(got["net"])


def test_measures_of_a_run_equal_pandas() -> None:
    bars = walk_bars(4000, seed=8)
    run = backtest(bars, cross(stop=Distance(unit="atr", amount=1.5)), Brief(costs=Costs(slippage_ticks=1)))
    f = Facts.of(run)
    got = measure(f)
    frame = pd.DataFrame({"net": run.net, "day": bars.trading_date[run.first:run.last]})
    ends = frame.groupby("day").net.last()
    daily = ends.diff().fillna(ends.iloc[0] - 50_000.0) / 50_000.0
    assert got["sharpe"] == pytest.approx(daily.mean() / daily.std() * math.sqrt(252))
    assert got["exposure"] == pytest.approx(100 * run.counts["exposed"] / len(run.net))
    t = run.trades_i
    index = int(np.argmax(t[:, k.T_HELD]))
    first, last, side = t[index, k.T_ENTRY_BAR], t[index, k.T_EXIT_BAR], t[index, k.T_SIDE]
    top = max(bars.h[first:last + 1].max(), t[index, k.T_EXIT], t[index, k.T_ENTRY])
    low = min(bars.l[first:last + 1].min(), t[index, k.T_EXIT], t[index, k.T_ENTRY])
    want = (top - t[index, k.T_ENTRY]) / (top - low) if side > 0 else (t[index, k.T_ENTRY] - low) / (top - low)
    assert f.placement[0][index] == pytest.approx(want)
    share = run.trades_f[:, k.F_RISK] / run.trades_f[:, k.F_EQUITY]
    assert got["loss_at_stop_worst"] == pytest.approx(100 * np.nanmax(share))


def test_every_measure_is_described_once_and_worded() -> None:
    assert len({m.key for m in MEASURES}) == len(MEASURES)
    assert all(m.definition and m.title for m in MEASURES)
    assert [number(x, d) for x, d in ((1234.5, 1), (-0.001, 2), (-12.0, 0), (math.inf, 0))] == [
        "1,234.5", "0.00", "\u221212", "\u221e"]
    assert number(5.0, 0, sign=True) == "+5"
    assert worded("win_rate", 41.25) == "41.2%"
