"""Sweep, Discover, study, proving, portfolio and rehearsal against independent computations."""

from __future__ import annotations

import datetime as dt
import json
import math
from dataclasses import replace

import numpy as np
import pytest
from scipy import stats

from tests.build import cross, entry, ind, num, price, row, walk_bars
from wolbrin.core.batch.many import Many, days_of
from wolbrin.core.batch.variants import Variants
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Span
from wolbrin.core.market.costs import Costs
from wolbrin.core.measures.catalogue import SUMMARY, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.portfolio.combine import correlation
from wolbrin.core.portfolio.distinct import distinct_subset
from wolbrin.core.proving.gate import Case, Gate, Outcome
from wolbrin.core.proving.holdout import HoldoutGate, HoldoutSettings
from wolbrin.core.proving.line import GATES, walk_line
from wolbrin.core.proving.monte_carlo import MonteCarloGate, MonteCarloSettings, risk_of_ruin, simulate_paths
from wolbrin.core.rehearsal.session import Rehearsal, same_ledger
from wolbrin.core.rules.axes import Axis, combinations, named_variants, variant
from wolbrin.core.rules.model import Distance, Strategy
from wolbrin.core.search.maps import MapSide, binned, map_of
from wolbrin.core.study.forward import forward_moves, study

BARS = walk_bars(3000, seed=21)
READY = Prepared.of(BARS)
STOPPED = cross(stop=Distance(unit="atr", amount=1.5), target=Distance(unit="stop", amount=2.0))


def test_a_sweep_block_equals_single_backtests() -> None:
    """Shared indicators and reused decisions must not change a bit."""
    axes = (Axis.spread("long.entry.rows.0.left.params.length", "fast", 3, 7, 2),
            Axis.spread("stop.amount", "stop", 1.0, 2.0, 0.5), Axis.spread("target.amount", "target", 1.0, 2.0, 1.0))
    every = combinations(axes, 100)
    assert len(every) == 3 * 3 * 2
    brief = Brief(costs=Costs(slippage_ticks=1))
    days = days_of(READY, brief)
    block = Variants(STOPPED, axes, Many(READY, brief)).evaluate(every, days)
    assert block.settings.tolist() == [list(v) for v in every]
    for values, figures, daily in zip(every, block.figures, block.daily):
        rules = variant(STOPPED, axes, values)
        assert rules is not None
        one = backtest(BARS, rules, brief)
        np.testing.assert_array_equal(figures, list(measure(Facts.of(one), SUMMARY).values()))
        np.testing.assert_array_equal(daily[np.isfinite(daily)], one.daily[1].astype(np.float32))
        assert days[np.isfinite(daily)].tolist() == one.daily[0].tolist()


def test_what_the_model_refuses_is_left_out_and_counted() -> None:
    """A time exit of no bars is no strategy: in a sweep as in a trial."""
    strategy = STOPPED.model_copy(update={"time_exit": 5})
    axes = (Axis("time_exit", "time exit", (-1.0, 0.0, 4.0)), Axis("stop.amount", "stop", (1.0, 2.0)))
    block = Variants(strategy, axes, Many(READY, Brief())).evaluate(combinations(axes, 10))
    assert block.settings.tolist() == [[4.0, 1.0], [4.0, 2.0]]
    assert block.refused == 4
    assert len(named_variants(strategy, axes, 10)) == 2


def test_axes_are_free_of_drift_and_refuse_nonsense() -> None:
    assert Axis.spread("k", "t", 0.1, 0.5, 0.1).values == (0.1, 0.2, 0.3, 0.4, 0.5)
    for args in ((1, 5, 0), (5, 1, 1), (0, 1e9, 0.1)):
        with pytest.raises(UserError):
            Axis.spread("k", "t", *args)
    with pytest.raises(UserError, match="more than are tried"):
        combinations(tuple(Axis.spread(str(i), "t", 0, 999, 1) for i in range(3)), 1_000_000)
    with pytest.raises(UserError, match="no number"):
        combinations((), 10)


def test_heat_maps_take_the_median_over_other_numbers() -> None:
    a, b, c = (1.0, 2.0), (5.0, 6.0, 7.0), (0.0, 1.0)
    rng = np.random.default_rng(1)
    settings_ = np.array([(x, y, z) for x in a for y in b for z in c])
    values = rng.normal(size=12)
    got = map_of(settings_, values, MapSide(0, a), MapSide(1, b))
    assert got.shape == (3, 2)
    for i, j in np.ndindex(got.shape):
        assert got[i, j] == np.median(values[(settings_[:, 0] == a[j]) & (settings_[:, 1] == b[i])])
    part = map_of(settings_[:3], np.where(np.arange(3) == 1, np.nan, values[:3]), MapSide(0, a), MapSide(1, b))
    assert part[0, 0] == values[0], "what is not known takes no part"
    assert np.isnan(part).sum() == 4, "cells not reached yet stay empty"
    nested = map_of(settings_, values, MapSide(0, a, 2, c), MapSide(1, b))
    assert nested.tolist() == [[values[(settings_ == (x, y, z)).all(axis=1)][0] for z in c for x in a] for y in b]
    grouped, middles = binned(settings_[:, 1], b, 2)
    assert (middles, set(grouped.tolist())) == ((6.0, 7.0), {6.0, 7.0}), "5 and 6 stand together"


# Study


def test_forward_moves_by_hand() -> None:
    at = np.array([100, 101, len(BARS) - 2])
    moves = forward_moves(READY, at, 3, 1, False, len(BARS))
    assert moves[0, 0] == BARS.close[101] - BARS.open[101]
    assert moves[0, 2] == BARS.close[103] - BARS.open[101]
    assert moves[2, 0] == BARS.close[-1] - BARS.open[-1]
    assert np.isnan(moves[2, 1:]).all()
    np.testing.assert_array_equal(forward_moves(READY, at, 3, -1, False, len(BARS)), -moves)
    inside = forward_moves(READY, np.array([30]), 10, 1, True, len(BARS))  # bar 30 is near the end of its session
    same = BARS.session[31:41] == BARS.session[30]
    np.testing.assert_array_equal(np.isfinite(inside[0]), same)


def test_the_bootstrap_band_covers_the_truth() -> None:
    """On noise with a known mean of zero, a 90% band must hold zero in about 90 of 100 histories (Efron & Tibshirani
    1993, ch. 13, percentile intervals); binomial bounds at one in ten thousand."""
    hits, runs = 0, 60
    for seed in range(runs):
        bars = walk_bars(1200, seed=1000 + seed, sigma=20.0)
        when = entry(row(ind("rsi", length=5), "crosses below", num(40))).entry
        made = study(Prepared.of(bars), when, 1, Span(), horizon=4, resamples=400, confidence=0.9, seed=seed)
        hits += bool(made.low[3] <= 0.0 <= made.high[3])
    low, high = stats.binom.ppf((0.0001, 0.9999), runs, 0.9)
    assert low <= hits <= high


def test_study_figures_equal_numpy() -> None:
    when = entry(row(price(), "crosses above", ind("sma", length=20))).entry
    made = study(READY, when, 1, Span(dt.date(2024, 1, 15), dt.date(2024, 3, 29)), horizon=8, inside_session=False)
    assert made.moves.shape == (made.firings, 8)
    np.testing.assert_allclose(made.mean, np.nanmean(made.moves, axis=0))
    np.testing.assert_allclose(made.median, np.nanmedian(made.moves, axis=0))
    assert (made.low <= made.mean).all()
    assert (made.mean <= made.high).all()
    with pytest.raises(UserError, match="no condition"):
        study(READY, entry().entry, 1, Span())
    with pytest.raises(UserError, match="horizon"):
        study(READY, when, 1, Span(), horizon=0)


# Proving


def test_reshuffling_keeps_the_sum_and_changes_the_path() -> None:
    profits = np.random.default_rng(2).normal(5, 50, 400).round(2)
    paths = simulate_paths(profits, 10_000.0, 500, seed=3)
    np.testing.assert_allclose(paths.end, 10_000 + profits.sum())
    assert len(np.unique(paths.drawdown.round(6))) > 450
    again = simulate_paths(profits, 10_000.0, 500, seed=3)
    np.testing.assert_array_equal(paths.drawdown, again.drawdown)
    np.testing.assert_array_equal(simulate_paths(profits, 10_000.0, 100, seed=3).drawdown, paths.drawdown[:100])


def test_reshuffled_drawdowns_equal_numpy_in_distribution() -> None:
    """The kernel's drawdowns against NumPy permutations: two-sample Kolmogorov-Smirnov, fixed at one in a thousand."""
    profits = np.random.default_rng(5).normal(3, 40, 150)
    paths = simulate_paths(profits, 5_000.0, 4000, seed=11)
    equity = 5000 + np.random.default_rng(6).permuted(np.tile(profits, (4000, 1)), axis=1).cumsum(axis=1)
    peak = np.maximum(np.maximum.accumulate(equity, axis=1), 5000)
    assert stats.ks_2samp(paths.drawdown, (peak - equity).max(axis=1)).pvalue > 0.001


@pytest.mark.parametrize(("p", "stake"), [(0.5, 10), (0.52, 10), (0.55, 8), (0.47, 6)])
def test_risk_of_ruin_is_feller_gamblers_ruin(p: float, stake: int) -> None:
    """Feller 1968, An Introduction to Probability Theory, vol. 1, XIV.2: with unit bets won with probability p, a
    gambler with stake z playing against an infinitely rich one is ruined with probability min(1, (q/p)^z); XIV.4
    gives the finite game, here by dynamic programming over the same number of bets."""
    bets = 400
    mass = np.zeros(stake + bets + 1)
    mass[stake] = 1.0
    ruined = 0.0
    for _ in range(bets):
        moved = np.zeros_like(mass)
        moved[1:] += mass[:-1] * p
        moved[:-1] += mass[1:] * (1 - p)
        ruined += moved[0]
        moved[0] = 0.0
        mass = moved
    wins = round(1000 * p)
    profits = np.concatenate([np.ones(wins), -np.ones(1000 - wins)])
    paths = simulate_paths(profits, float(stake), 20_000, length=bets, replace=True, seed=17)
    got = risk_of_ruin(paths, 0.0)
    assert got == pytest.approx(ruined, abs=4.5 * math.sqrt(ruined * (1 - ruined) / 20_000) + 1e-9)
    assert ruined <= min(1.0, ((1 - p) / p) ** stake) + 1e-12


def test_gates_share_one_contract() -> None:
    history = READY
    case = Case(STOPPED, history, Brief(Span(None, dt.date(2024, 4, 1))), Span(dt.date(2024, 4, 2), None), 10, opened=history)
    for gate in GATES:
        a, b = gate.judge(case), gate.judge(replace(case))
        assert repr(a) == repr(b)
        assert a.verdict == "not enough" or a.enough
        assert a.settings == gate.settings == json.loads(json.dumps(gate.settings))
        assert a.gate == gate.key
        assert a.reason.endswith(".")
        assert gate.describe()
        assert a.headline
    nothing = Case(Strategy(), history, case.brief, case.holdout, 1, opened=history)
    assert not any(gate.judge(nothing).passed for gate in GATES)


def test_the_line_stops_where_a_candidate_falls_and_keeps_the_holdout_sealed() -> None:
    case = Case(STOPPED, READY, Brief(Span(None, dt.date(2024, 4, 1))), Span(dt.date(2024, 4, 2), None), 10)
    easy = (MonteCarloGate(MonteCarloSettings(least_return_drawdown=-1e9, largest_risk=1.0)),
            HoldoutGate(HoldoutSettings(least_trades=1)))
    hard = (MonteCarloGate(MonteCarloSettings(least_return_drawdown=1e9)), HoldoutGate())
    def opened(one: Case, gate: Gate) -> Outcome:
        return gate.judge(replace(one, opened=READY))

    assert [o.gate for o in walk_line(case, easy, open_holdout=opened)] == ["monte_carlo", "holdout"]
    assert [o.gate for o in walk_line(case, easy)] == ["monte_carlo"]
    assert [o.gate for o in walk_line(case, hard, open_holdout=opened)] == ["monte_carlo"]
    sealed = walk_line(case, easy, open_holdout=opened)[1]
    alone = backtest(READY, STOPPED, Brief(case.holdout))
    assert sealed.figures["net"] == pytest.approx(alone.profits.sum())


# Portfolio


def test_correlation_equals_numpy_and_scipy() -> None:
    table = np.random.default_rng(3).normal(size=(300, 5)) @ np.random.default_rng(4).normal(size=(5, 5))
    table[:, 4] = 0.0
    got = correlation(table)
    np.testing.assert_allclose(got[:4, :4], np.corrcoef(table[:, :4].T), atol=1e-12)
    assert got[0, 1] == pytest.approx(stats.pearsonr(table[:, 0], table[:, 1]).statistic)
    assert np.isnan(got[4]).all()


def test_distinct_subset_takes_the_best_of_each_kind() -> None:
    matrix = np.array([[1, 0.9, 0.1], [0.9, 1, 0.2], [0.1, 0.2, 1.0]])
    assert distinct_subset(matrix, [1.0, 2.0, 0.5]) == [1, 2]
    assert distinct_subset(matrix, [1.0, 2.0, 0.5], 0.15) == [1]




# Rehearsal


@pytest.mark.parametrize("fill", ["next open", "this close"])
def test_a_rehearsal_equals_the_batch_run(fill: str) -> None:
    what = STOPPED.model_copy(update={"fill": fill})
    played = Rehearsal(BARS, what, Brief(costs=Costs(slippage_ticks=1)), Span(dt.date(2024, 5, 1), dt.date(2024, 5, 20)))
    closed: list[tuple[int, ...]] = []
    while not played.over:
        shot = played.step(3)
        done = shot.run.trades_i[: shot.closed]
        assert [tuple(t) for t in done[: len(closed)]] == closed  # what was reported closed stays as it was
        closed = [tuple(t) for t in done]
        assert shot.position in (-1, 0, 1)
    assert same_ledger(shot.run, played.batch())
    assert len(closed) > 3
    with pytest.raises(UserError, match="no bars after"):
        Rehearsal(BARS, what, Brief(), Span(dt.date(2040, 1, 1), None))
