"""Luck: shuffled histories that trade like the real one, p-values that are uniform where there is nothing to find, inference
from daily results."""

from __future__ import annotations

import numpy as np
import pytest
import statsmodels.api as sm
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from tests.build import any_seed, cross, terms, walk_bars
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.intervals import to_interval
from wolbrin.core.market.sessions import NS_A_MINUTE
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.inference import p_above, sharpe_of_days, t_needed, t_of_mean
from wolbrin.core.measures.sums import lag_of
from wolbrin.core.portfolio.plan import Member, Plan
from wolbrin.core.portfolio.played import Part, play
from wolbrin.core.rules.model import Distance
from wolbrin.core.rules.script import parse_strategy
from wolbrin.core.study.forward import day_bootstrap
from wolbrin.core.study.shuffle import deal, shuffle, shuffled, slots_of
from wolbrin.core.study.trial import permutation_p
from wolbrin.demo.generator import Shape, walk

FOLLOW = parse_strategy("name = 'follow'\nlong_entry = crosses_above(close, highest(20))\nstop = 2 * atr(14)\n")
FADE = parse_strategy("name = 'fade'\nlong_entry = crosses_below(rsi(5), 30)\nstop = 2 * atr(14)\ntarget = 2 * atr(14)\n")
EARLY = parse_strategy("name = 'early'\nlong_entry = bars_in_session() <= 2 and close > open\nstop = 3 * atr(14)\n")


def noise(seed: int, days: int = 160, sigma: float = 6.0) -> Bars:
    """A market without structure: the demo's generator with volatility that clusters by day and lives at the ends of it."""
    per = 96
    minute = np.concatenate([(19_737 + d + 2 * (d // 5)) * 1440 + 480 + 5 * np.arange(per) for d in range(days)])
    x = 2.0 * (np.arange(per) + 0.5) / per - 1.0
    session = np.repeat(np.arange(days, dtype=np.int32), per)
    shape = np.tile(0.75 + 0.75 * x * x, days)
    spec = Shape(start=8_000.0, sigma=sigma, floor=100.0, common=0.0, trend_share=0.0, trend=0.0, trend_until=0, pull=0.0,
                 gap=2.0)
    ticks, volume = walk(minute, session, session, shape, spec, np.uint64(seed), np.uint64(seed + 7))
    prices = tuple(ticks[:, i] / 100.0 for i in range(4))
    utc = terms(time_zone="UTC", sessions=({"days": ("Mon", "Tue", "Wed", "Thu", "Fri"), "open": "08:00", "close": "16:00"},))
    return to_interval(make_bars(utc, 5, minute * NS_A_MINUTE, prices, volume), 15)  # type: ignore[arg-type]


@pytest.fixture
def seed() -> int:
    """Any seed must do; a failing one is printed."""
    drawn = any_seed()
    return drawn


# Shuffled histories


@given(st.integers(0, 10_000), st.booleans(), st.sampled_from([0.0, -120.0]))
@settings(max_examples=25, deadline=None)
def test_shuffled_bars_are_whole_bars_at_the_same_times(seed: int, mirrored: bool, level: float) -> None:
    bars = walk_bars(700, seed=seed)
    if level:  # prices that cross zero
        prices = tuple(x + level for x in (bars.open, bars.high, bars.low, bars.close))
        bars = make_bars(bars.terms, 15, bars.time, prices, bars.volume)  # type: ignore[arg-type]
    made = shuffled(bars, seed, mirrored)
    np.testing.assert_array_equal(made.time, bars.time)
    np.testing.assert_array_equal(made.session, bars.session)
    assert (made.h >= np.maximum(made.o, made.c)).all()
    assert (made.l <= np.minimum(made.o, made.c)).all()
    slot, dealt = slots_of(bars), deal(bars, np.random.default_rng(seed), mirrored)
    np.testing.assert_array_equal(np.sort(dealt.bar), np.arange(len(bars)))
    np.testing.assert_array_equal(slot[dealt.bar], slot)  # bars change places within their time of day only
    day = np.unique(bars.trading_date, return_inverse=True)[1]
    np.testing.assert_allclose(np.bincount(day, made.volume), np.bincount(day, bars.volume), atol=len(bars) / 4)
    assert shuffled(bars, seed, mirrored).hash == made.hash != bars.hash
    assert shuffled(bars, seed + 1, mirrored).hash != made.hash


@pytest.mark.parametrize("mirrored", [False, True])
def test_finer_bars_are_shuffled_with_their_bars_and_add_up_to_them(mirrored: bool) -> None:
    base = walk_bars(4_000, seed=3, minutes=5)
    real = Prepared.of(to_interval(base, 15), finer=lambda: base)
    made = shuffle(real, 11, mirrored)
    assert made.fine is not None
    usable = made.fine.arrays.usable
    assert usable.mean() == pytest.approx(real.fine.arrays.usable.mean(), abs=0.02)  # type: ignore[union-attr]
    assert usable.mean() > 0.97
    what = cross(stop=Distance(unit="atr", amount=1.0), target=Distance(unit="atr", amount=1.0))
    run = backtest(made, what, Brief(fine=True))
    assert run.fine is not None
    assert len(run) > 20
    finer = made.finer()
    assert finer is not None
    assert (np.diff(finer.time) > 0).all()
    assert (finer.h >= np.maximum(finer.o, finer.c)).all()


def test_rules_trade_as_often_on_shuffled_histories_and_days_keep_their_volatility(seed: int) -> None:
    real, dealt, ranges = 0, 0, []
    for k in range(6):
        bars = noise(seed + k)
        made = shuffled(bars, seed + k, k % 2 == 1)
        for what in (FOLLOW, FADE, EARLY):
            real += len(backtest(bars, what, Brief(), detail=False))
            dealt += len(backtest(made, what, Brief(), detail=False))
        _, day = np.unique(bars.trading_date, return_inverse=True)
        sizes = [np.bincount(day, (b.h - b.l).astype(float)) for b in (bars, made)]
        ranges.append(np.corrcoef(sizes)[0, 1])
    assert dealt == pytest.approx(real, rel=0.06)
    assert min(ranges) > 0.97, "without the scaling days would have nothing in common"


def test_mirrored_shuffles_have_no_drift_and_unmirrored_ones_keep_it(seed: int) -> None:
    bars = noise(seed, 120)
    rising = make_bars(bars.terms, 15, bars.time, tuple(  # type: ignore[arg-type]
        np.round(x + 0.02 * np.arange(len(bars)), 2) for x in (bars.open, bars.high + 0.02, bars.low, bars.close + 0.02)),
        bars.volume)
    gain = rising.c[-1] - rising.o[0]
    kept = [shuffled(rising, s).c[-1] - rising.o[0] for s in range(20)]
    gone = np.array([float(shuffled(rising, s, True).c[-1] - rising.o[0]) for s in range(40)])
    assert np.mean(kept) == pytest.approx(gain, rel=0.15)
    assert abs(gone.mean()) < 4 * gone.std(ddof=1) / np.sqrt(len(gone))


@pytest.mark.parametrize("mirrored", [False, True])
def test_p_is_uniform_on_noise(mirrored: bool, seed: int) -> None:
    """The statistic is net profit of three kinds of rules (following, fading, by time of day), the histories 60 markets of
    pure noise, 19 shuffles each. p takes the values 1/20 .. 1, each as often as any other: chi-squared over quarters, at 1 in
    5,000; and p at or below 0.1 in no more cases than five standard errors above a tenth."""
    m, markets = 19, 60
    got: dict[str, list[float]] = {}
    for k in range(markets):
        real = Prepared.of(noise(seed + 1000 * k))
        dealt = [shuffle(real, s, mirrored) for s in range(m)]
        for what in (FOLLOW, FADE, EARLY):
            nets = [float(backtest(h, what, Brief(), detail=False).profits.sum()) for h in (real, *dealt)]
            got.setdefault(what.name, []).append(permutation_p(nets[0], nets[1:]))
    for name, values in got.items():
        p = np.array(values)
        # Five of the twenty values in each quarter.
        counts = np.bincount(np.minimum(((p * 20).round().astype(int) - 1) // 5, 3), minlength=4)
        assert stats.chisquare(counts).pvalue > 0.0002, (name, counts)
        assert (p <= 0.1).mean() <= 0.1 + 5 * np.sqrt(0.1 * 0.9 / markets), name


def test_p_counts_the_real_history_among_the_shuffled_ones() -> None:
    """(1 + b) / (m + 1), Phipson & Smyth 2010, equation 2: never zero."""
    assert permutation_p(5.0, [1.0, 2.0, 3.0]) == 0.25
    assert permutation_p(2.0, [1.0, 2.0, 3.0]) == 0.75
    assert permutation_p(0.0, [1.0, 2.0, 3.0]) == 1.0
    assert permutation_p(9.0, []) == 1.0


# Inference from days


@given(st.integers(2, 400), st.floats(-0.9, 0.9), st.integers(0, 999))
@settings(max_examples=40, deadline=None)
def test_t_of_days_equals_statsmodels(n: int, rho: float, seed: int) -> None:
    """Against statsmodels: a constant fitted with HAC standard errors, Bartlett weights, the same lag."""
    e = np.random.default_rng(seed).normal(0.1, 1, n)
    x = np.array([e[0]])
    for value in e[1:]:
        x = np.append(x, rho * x[-1] + value)
    fit = sm.OLS(x, np.ones(n)).fit(cov_type="HAC", cov_kwds={"maxlags": min(lag_of(n), n - 1)})
    assert t_of_mean(x) == pytest.approx(float(fit.tvalues[0]), rel=1e-9)


def test_lags_and_edges_of_the_t_of_days() -> None:
    assert [lag_of(n) for n in (1, 100, 250, 1600)] == [1, 4, 4, 7]
    for nothing in ([], [1.0], [2.0, 2.0, 2.0], [1e6, 1e6 + 1e-7]):
        assert np.isnan(t_of_mean(np.array(nothing)))
        assert np.isnan(sharpe_of_days(np.array(nothing)))
    assert p_above(t_needed(0.01)) == pytest.approx(0.01)


def test_inference_about_a_portfolio_rests_on_days_not_on_pooled_trades() -> None:
    """Ten copies of one strategy are one bet: pooled, their trades would count it ten times."""
    bars, what = walk_bars(2_000, seed=5), cross(stop=Distance(unit="atr", amount=2.0))
    alone = measure(Facts.of(backtest(bars, what, Brief(capital=1e9))))

    def traded(copies: int) -> dict[str, float]:
        members = tuple(Member(name=f"{i}", hash=f"{i}", market="AAA", interval=15) for i in range(copies))
        parts = [Part(f"{i}", Prepared.of(bars), what, Brief()) for i in range(copies)]
        return measure(play(Plan(members=members), parts, 1e9).facts)

    many = traded(10)
    assert many["t_daily"] == pytest.approx(alone["t_daily"])
    assert np.isnan(many["t"])
    assert traded(1)["t"] == pytest.approx(alone["t"])


# Bands


def test_a_bar_that_nothing_reaches_has_no_band_and_disturbs_no_other() -> None:
    rng = np.random.default_rng(2)
    moves = rng.normal(size=(40, 4))
    day = np.repeat(np.arange(10), 4)
    alone = day_bootstrap(moves[:, :2], day, 200, 0.9, 1)
    sparse = moves.copy()
    sparse[:, 3] = np.nan
    sparse[5:, 2] = np.nan
    low, high = day_bootstrap(sparse, day, 200, 0.9, 1)
    assert np.isnan([low[3], high[3]]).all()
    assert np.isfinite([low[2], high[2]]).all()
    assert low[2] <= np.nanmean(sparse[:, 2]) <= high[2]
    np.testing.assert_array_equal(low[:2], alone[0])
    np.testing.assert_array_equal(high[:2], alone[1])


