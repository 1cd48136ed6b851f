"""Study figures against pandas and SciPy; shuffled histories; trials and how many pass by luck."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from scipy import stats

from tests.build import cross, walk_bars
from wolbrin.core.batch.many import Many
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Engine, State
from wolbrin.core.market.bars import Span
from wolbrin.core.measures.catalogue import SUMMARY, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.rules.conditions import shipped
from wolbrin.core.rules.formula import parse_condition
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import Settings
from wolbrin.core.study.forward import apart, study
from wolbrin.core.study.groups import groups
from wolbrin.core.study.shuffle import shuffled
from wolbrin.core.study.spread import normal_overlay, spread
from wolbrin.core.study.trial import FIGURES, CommonExit, field_rows, luck, passes
from wolbrin.core.work.funnel import funnel
from wolbrin.core.work.trialing import TrialRequest, candidate_from_trial, last_trial, trial_job

BARS = walk_bars(3000, seed=21)
READY = Prepared.of(BARS)
WHEN = parse_condition("crosses_above(rsi(5), 40)")
HORIZON = 6


def figures_of(history: Prepared, strategies: list[Strategy]) -> np.ndarray:
    """FIGURES of some strategies, as a trial has them."""
    return Many(history, Brief()).evaluate(strategies).figures[:, [SUMMARY.index(key) for key in FIGURES]]


def frame() -> pd.DataFrame:
    """The history as a plain table, with the move from the next open to each later close."""
    table = pd.DataFrame({"open": BARS.open, "high": BARS.high, "low": BARS.low, "close": BARS.close, "session": BARS.session,
                          "date": BARS.trading_date, "end": pd.to_datetime(BARS.end).tz_localize("UTC")})
    for h in range(1, HORIZON + 1):
        same = table["session"].shift(-h) == table["session"]
        table[f"m{h}"] = (table["close"].shift(-h) - table["open"].shift(-1)).where(same)
    return table


@pytest.mark.parametrize("side", [1, -1])
@pytest.mark.parametrize("unit", ["points", "ATR", "money"])
def test_study_figures_equal_pandas_and_scipy(side: int, unit: str) -> None:
    made = study(READY, WHEN, side, Span(), horizon=HORIZON, unit=unit, resamples=50)  # type: ignore[arg-type]
    table = frame()
    ranges = pd.concat([table["high"] - table["low"], (table["high"] - table["close"].shift()).abs(),
                        (table["low"] - table["close"].shift()).abs()], axis=1).max(axis=1)
    atr = ranges.copy()  # Wilder's average, from its definition
    atr[:13] = np.nan
    atr[13] = ranges[:14].mean()
    for i in range(14, len(atr)):
        atr[i] = (atr[i - 1] * 13 + ranges[i]) / 14
    scale = {"points": 1.0, "ATR": 1 / atr, "money": 100.0}[unit]
    columns = [f"m{h}" for h in range(1, HORIZON + 1)]
    moves = table[columns].mul(side).mul(scale, axis=0) if unit == "ATR" else table[columns] * side * scale
    fired = moves.iloc[made.at]
    assert len(made.at) == made.firings > 50
    for got, want in ((made.mean, fired.mean()), (made.median, fired.median()), (made.lower, fired.quantile(0.25)),
                      (made.upper, fired.quantile(0.75)), (made.baseline, moves.iloc[len(BARS) - made.bars:].mean())):
        np.testing.assert_allclose(got, want, rtol=1e-9, atol=1e-12)
    # Random bars at the same times of day, their mean over ever more draws.
    clock = table["end"].dt.tz_convert("Europe/Oslo").dt.strftime("%H:%M")
    by_time = moves.iloc[len(BARS) - made.bars:].groupby(clock[len(BARS) - made.bars:])
    shares = clock.iloc[made.at].value_counts()
    total, size = by_time.sum().loc[shares.index], by_time.count().loc[shares.index]
    share = shares / by_time.size().loc[shares.index]
    np.testing.assert_allclose(made.clock, total.mul(share, axis=0).sum() / size.mul(share, axis=0).sum(), rtol=1e-9)
    # One sample against zero.
    sample = made.at_bar(4)
    told = made.spread(4)
    test = stats.ttest_1samp(sample, 0.0)
    np.testing.assert_allclose([told.t, told.skew, told.sd, told.mean, told.up], [
        test.statistic, stats.skew(sample), sample.std(ddof=1), sample.mean(), 100 * (sample > 0).mean()])
    edges = np.histogram_bin_edges(sample, 20)
    np.testing.assert_allclose(normal_overlay(sample, edges),
                               np.diff(stats.norm.cdf(edges, sample.mean(), sample.std(ddof=1))) * len(sample), atol=1e-9)
    assert made.best == int(np.argmax(made.mean - made.baseline)) + 1


def test_excursions_overlaps_and_groups_by_hand() -> None:
    made = study(READY, WHEN, 1, Span(), horizon=HORIZON, inside_session=False)
    for f in (0, 10, 40):
        i = int(made.at[f])
        lows = [BARS.low[i + 1:i + 1 + h].min() - BARS.open[i + 1] for h in range(1, HORIZON + 1)]
        highs = [BARS.high[i + 1:i + 1 + h].max() - BARS.open[i + 1] for h in range(1, HORIZON + 1)]
        np.testing.assert_allclose(made.against[f], lows)
        np.testing.assert_allclose(made.favour[f], highs)
        heat, best = (x[f] for x in made.heat_before_best(HORIZON))
        at = int(np.argmax(np.array(highs) >= highs[-1]))
        assert (heat, best) == (lows[at], highs[-1])
    for got, table in zip(made.typical_excursions, (made.against, made.favour)):
        np.testing.assert_array_equal(got, pd.DataFrame(table).median())
    single = study(READY, WHEN, 1, Span(), horizon=HORIZON, overlapping=False)
    assert (np.diff(single.at) >= HORIZON).all()
    assert single.left_out == made.firings - len(single.at) > 0
    assert single.overlapping == 0 < made.overlapping
    assert apart(np.array([1, 3, 6, 7, 12]), 5).tolist() == [1, 6, 12]
    table = frame().iloc[made.at]
    full = study(READY, WHEN, 1, Span(), horizon=HORIZON)
    for one, key in zip(groups(READY, full, 2), (table["end"].dt.tz_convert("Europe/Oslo").dt.strftime("%H"),
                                                pd.to_datetime(table["date"], unit="D").dt.strftime("%a"),
                                                pd.to_datetime(table["date"], unit="D").dt.strftime("%Y"))):
        want = table["m2"].groupby(key).mean().dropna()
        assert dict(zip(one.names, (s.mean for s in one.spreads))) == pytest.approx(want.to_dict())
    quarters = groups(READY, full, 2)[3]
    assert [s.count for s in quarters.spreads] == pytest.approx([len(full.at_bar(2)) / 4] * 4, abs=1.01)
    assert np.isnan(spread(np.array([0.1, 0.1, 0.1])).t)
    with pytest.raises(UserError, match="state of the position"):
        study(READY, parse_condition("bars_held > 2"), 1, Span())


def test_a_shuffled_history_keeps_its_bars_and_loses_its_order() -> None:
    dealt = shuffled(BARS, 4)
    for f in (lambda b: b.time, lambda b: b.session, lambda b: b.trading_date):
        np.testing.assert_array_equal(f(dealt), f(BARS))
    assert (dealt.h >= np.maximum(dealt.o, dealt.c)).all()
    assert (dealt.l > 0).all()
    assert dealt.hash != BARS.hash
    np.testing.assert_array_equal(shuffled(BARS, 4).c, dealt.c)
    rho = stats.spearmanr(np.diff(BARS.c), np.diff(dealt.c)).statistic
    assert abs(rho) < 0.08


def test_luck_expected_is_the_luck_found_on_noise() -> None:
    """On histories that are noise, as many tests pass as their shuffles let one expect: both means of many histories agree
    within three standard errors of their differences."""
    rows = field_rows([(c.name, c.condition()) for c in shipped()[:40:2]], ["long", "short"],
                      CommonExit(unit="bars", bars=6, flat_by_session_end=False))
    gaps = []
    for seed in range(24):
        bars = walk_bars(700, seed=7000 + seed, sigma=15.0)
        real = figures_of(Prepared.of(bars), [r.strategy for r in rows])
        ready = Prepared.of(shuffled(bars, seed))
        dealt = figures_of(ready, [r.strategy for r in rows])
        told = luck(real, [dealt], 0.5, 5)
        assert told is not None
        gaps.append(told.actual - told.expected)
    assert abs(np.mean(gaps)) < 3 * np.std(gaps, ddof=1) / np.sqrt(len(gaps)) + 1e-9


def test_rows_of_a_trial_are_what_they_say() -> None:
    rows = field_rows([("up", parse_condition("rises(close, 2)")), ("held", parse_condition("bars_held > 1"))],
                      ["long", "short", "both"], CommonExit(unit="money", stop=300, target=450))
    assert [r.name for r in rows] == ["up, long", "up, short", "up"]
    run = backtest(READY, rows[1].strategy, Brief())
    np.testing.assert_array_equal(figures_of(READY, [rows[1].strategy])[0],
                                  list(measure(Facts.of(run), FIGURES).values()))
    assert set(run.trades_i[:, 0]) == {-1}
    table = np.array([[1.0, 3.0, 2.0, 9.0, 50.0, 1.0, 0], [1.0, np.nan, np.nan, 9.0, 100.0, 0, 0],
                      [-1.0, -1, 0.5, 9, 9, 1, 0], [1.0, 3.0, 2.0, 4.0, 50.0, 1.0, 0]])
    assert passes(table, 2.0, 5).tolist() == [True, True, False, False]


def test_a_trial_runs_in_the_background_is_kept_and_makes_candidates(tmp_path: Path) -> None:
    settings = Settings(training_first="2024-01-01", holdout_first="2024-03-01", last="2024-12-31")  # type: ignore[arg-type]
    project = Project.create(tmp_path / "p", settings)
    for seed, code in enumerate(("AAA", "BBB")):
        bars = walk_bars(1500, seed=seed, code=code)
        project.add_market(bars.terms, bars, "test")
    rows = field_rows([(c.name, c.condition()) for c in shipped()[:23]], ["both"], CommonExit())
    bad = cross(name="elsewhere").model_copy(update={"filters": cross().filters})
    request = TrialRequest(rows=(*rows, rows[0].model_copy(update={"name": "again", "strategy": bad})),
                           columns=(("AAA", 15), ("BBB", 30)), shuffles=2)
    engine, seen = Engine(2), []
    job, result = trial_job(project, request, lambda r: seen.append(r))
    assert engine.start(job, "threads").wait() is State.DONE
    assert seen[-1] is result
    assert np.isfinite(result.figures[..., 3]).all()
    assert np.isfinite(result.dealt[..., 3]).all()
    again = last_trial(project, "field")
    assert again is not None
    np.testing.assert_array_equal(again.figures, result.figures)
    np.testing.assert_array_equal(again.dealt, result.dealt)
    assert last_trial(project, "variants") is None
    assert funnel(project)["tried"] == 48
    assert Dossiers(project).searches.tried_on("AAA") == 24
    assert Dossiers(project).searches.sharpe_on("AAA").count > 10
    told = result.luck(0.0, 1)
    assert told is not None
    assert (told.tests, told.shuffles, told.actual) == (48, 2, int(result.passed(0.0, 1).sum()))
    made = candidate_from_trial(project, result, 2, 1)
    assert (made.market, made.interval, made.tried) == ("BBB", 30, 24)
    assert made.summary["net"] == result.figures[2, 1, 0]
    direct = backtest(project.prepared("BBB", 30), rows[2].strategy, project.settings.brief(bars.terms), detail=False)
    assert made.summary["trades"] == len(direct)
    with pytest.raises(UserError, match="nothing to try"):
        trial_job(project, TrialRequest(rows=(), columns=(("AAA", 15),)))
    engine.close()
    project.close()


def test_a_condition_that_hardly_fires_gives_no_figures_and_no_error() -> None:
    never = study(READY, parse_condition("close > 1e9"), 1, Span(), horizon=3)
    assert (never.firings, never.best, len(never.at_bar(2))) == (0, 0, 0)
    assert np.isnan(never.mean).all()
    assert np.isnan(never.low).all()
    heat, best = never.heat_before_best(3)
    assert (len(heat), len(best)) == (0, 0)
    assert all(not g.names or g.title == "volatility" for g in groups(READY, never, 1))
    bar = int(np.argmax(BARS.close[500:2000])) + 500
    once = study(READY, parse_condition(f"close >= {float(BARS.close[bar])!r} and bars_in_session() == "
                                        f"{int(READY.columns.indicator('bars_in_session', {}, 'value', 'close')[bar])}"),
                 1, Span(), horizon=3, inside_session=False)
    assert once.firings >= 1
    told = once.spread(1)
    assert told.count == once.firings
    assert np.isnan(told.t) or told.count > 1
    rare = study(READY, WHEN, 1, Span(), horizon=HORIZON, overlapping=False, resamples=20)
    assert rare.counted[0] <= len(rare.at)
    assert (rare.low <= rare.high).all()


def test_a_study_sees_the_span_and_nothing_after_it() -> None:
    cut = BARS.range_of(Span())[1] - 400
    last = BARS.trading_date[cut]
    span = Span(None, (np.datetime64(0, "D") + int(last)).astype(object))
    whole = study(READY, WHEN, 1, span, horizon=HORIZON, inside_session=False, resamples=30)
    stop = BARS.range_of(span)[1]
    part = study(Prepared.of(BARS.take(stop)), WHEN, 1, span, horizon=HORIZON, inside_session=False, resamples=30)
    for name in ("mean", "median", "low", "high", "baseline", "clock", "moves", "against", "favour"):
        np.testing.assert_array_equal(getattr(whole, name), getattr(part, name))
