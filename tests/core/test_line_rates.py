"""How often the line is fooled, and what its numbers promise, over seeds drawn anew each time."""

from __future__ import annotations

import datetime as dt
import math
from pathlib import Path

import numpy as np
import pytest
from scipy import stats

from tests.build import any_seed, walk_bars
from tests.core.planted import planted as market
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.jobs import Engine
from wolbrin.core.market.bars import Span
from wolbrin.core.proving.compare import decline_of
from wolbrin.core.proving.gate import Case
from wolbrin.core.proving.timing import TimingGate, TimingSettings
from wolbrin.core.rules.script import parse_strategy
from wolbrin.core.search.strength import strength_of
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import Settings
from wolbrin.core.study.perturb import planted
from wolbrin.core.work.rates import RatesRequest, rates_job, read_rates

RULE = parse_strategy("name = 'long'\nlong_entry = close > sma(close, 10) and rsi(7) > 45\ntime_exit = 6\n"
                      "stop = 2 * atr(14)\n")
MARKETS = 60


@pytest.fixture
def seed() -> int:
    """Any seed must do; a failing one is printed."""
    drawn = any_seed()
    return drawn


@pytest.mark.parametrize("sharpe", [0.0, 3.0])
def test_moved_entries_tell_nothing_where_there_is_nothing_to_tell(seed: int, sharpe: float) -> None:
    """On noise, and on markets that merely rise: the place among moved entries is uniform (Kolmogorov-Smirnov, steps filled
    at random), and a rule that is long passes Timing no more often than its error allows."""
    rng = np.random.default_rng(seed)
    gate = TimingGate(TimingSettings(runs=199))
    places, passed = [], 0
    for i in range(MARKETS):
        bars = walk_bars(1_600, seed=seed + i)
        if sharpe:
            bars = planted(bars, seed + i, sharpe, 1.0)
        told = gate.judge(Case(RULE, Prepared.of(bars), Brief(), Span(), 1, seed=seed + i))
        places.append(told.figures["p_moved"])
        passed += told.passed
    share = 1 - gate.options.least_percentile / 100
    assert passed / MARKETS <= share + 4 * math.sqrt(share * (1 - share) / MARKETS)
    if not sharpe:  # where it drifts, few are moved of what does not beat the drift
        filled = np.array(places) - rng.random(MARKETS) / 200
        assert stats.kstest(filled, "uniform").pvalue > 1e-4


def test_the_share_that_luck_brings_holds_on_mixtures_of_known_truth(seed: int) -> None:
    """Finds of luck and real ones together, controls of luck alone: of those whose share is at most a tenth, no more than a
    tenth are luck, on average over searches (an empirical false discovery rate, Storey & Tibshirani 2003)."""
    rng = np.random.default_rng(seed)

    def luck() -> np.ndarray:
        drawn = rng.normal(size=int(rng.integers(4_000, 6_000)))
        return drawn[drawn > 2.5]

    wrong = []
    for _ in range(400):
        lucky, real = luck(), rng.normal(4.5, 1.0, int(rng.integers(0, 60)))
        real = real[real > 2.5]
        curve = strength_of(np.concatenate([lucky, real]), [luck() for _ in range(5)])
        a, b = (sum(curve.at(float(x)) <= 0.1 for x in part) for part in (lucky, real))
        wrong.append(a / (a + b) if a + b else 0.0)
    spread = float(np.std(wrong)) / math.sqrt(len(wrong))
    assert np.mean(wrong) <= 0.1 + 4 * spread


def test_the_usual_line_is_seldom_fooled_by_whole_searches_on_noise(tmp_path: Path, seed: int) -> None:
    """Eight searches on shuffled noise, the best twenty of each: a search in a hundred may bring something that is ready, so
    that three of eight would be a chance of one in 18,000."""
    bars = market("noise", seed % 1_000, days=300)
    project = Project.create(tmp_path / "p", Settings(training_first=dt.date(2023, 1, 1), holdout_first=dt.date(2032, 1, 1),
                                                      last=dt.date(2035, 1, 1)))
    project.add_market(bars.terms, bars, "generated")
    engine = Engine(2)
    request = RatesRequest(market="TST", interval=15, searches=8, planted=0, sharpes=(), count=512, pool=200, seed=seed)
    job = rates_job(project, request)
    engine.start(job, "threads").wait()
    assert job.error is None
    found = read_rates(project, "TST", 15)
    assert found is not None
    assert len({e.search for e in found.entrants if not e.falls}) <= 2, found.words()
    engine.close()
    project.close()


def test_a_decline_is_explained_by_what_selection_leaves() -> None:
    """By hand: t of 6 in training, of which selection leaves 3; a holdout a quarter as long as training, and half as good."""
    made = decline_of(3.0, {"t_daily": 6.0, "sharpe": 2.0}, {"sharpe": 1.0}, (1_000, 250), 1.96)
    assert (made.decline, made.selection) == (50.0, 50.0)
    assert made.most == pytest.approx(100 * (0.5 + 1.96 * 1.25**0.5 / 3.0))
    assert made.power == pytest.approx(stats.norm.cdf((0.5 * 3.0 - 1.96) / 1.25**0.5))
    alone = decline_of(6.0, {"t_daily": 6.0, "sharpe": 2.0}, {"sharpe": 1.0}, (1_000, 250), 1.96)
    assert alone.selection == 0.0
