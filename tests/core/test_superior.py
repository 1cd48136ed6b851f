"""The test over everything that was tried, against `arch` and against what it promises."""

from __future__ import annotations

import numpy as np
import pytest
from arch.bootstrap import SPA, StationaryBootstrap, StepM

from wolbrin.core.search.superior import long_run_deviations, statistics_of, superior

DAYS = 400


def universe(seed: int, series: int, good: int = 0, lift: float = 0.25) -> np.ndarray:
    """Noise of very different loudness; the first `good` earn."""
    rng = np.random.default_rng(seed)
    common = rng.normal(size=(1, DAYS))
    daily = rng.normal(size=(series, DAYS)) + 0.5 * common
    daily[:good] += lift
    return daily * np.exp(rng.normal(0, 1.5, (series, 1)))


@pytest.mark.parametrize("seed", range(6))
def test_superior_ability_equals_arch_on_series_scaled_by_hand(seed: int) -> None:
    """The package's studentized form does not divide; series divided by hand go in."""
    daily = universe(seed, 30, good=seed % 3)
    block = 5.0
    scaled = daily / long_run_deviations(daily, block)[:, None]
    theirs = SPA(np.zeros(DAYS), -scaled.T, block_size=5, reps=2_000, seed=seed)
    theirs.compute()
    want = float(theirs.pvalues["consistent"])
    assert superior(daily, block=block).best == pytest.approx(want, abs=4 * np.sqrt(2 * max(want, 0.005) / 2_000))


def test_long_run_deviations_are_those_that_the_bootstrap_sees() -> None:
    rng = np.random.default_rng(5)
    x = rng.normal(size=DAYS)
    x[1:] += 0.6 * x[:-1]
    means = StationaryBootstrap(8, x, seed=2).apply(lambda y: np.array([y.mean()]), 4_000).ravel()
    assert long_run_deviations(x[None, :], 8.0)[0] == pytest.approx(means.std() * np.sqrt(DAYS), rel=0.06)


def test_steps_find_what_the_first_would_hide() -> None:
    """At least what one step rejects, and as `arch` where its stepwise test ends."""
    daily = universe(3, 60, good=4, lift=0.3)
    made = superior(daily, block=5.0)
    statistic = statistics_of(daily, 5.0)
    found = {i for i in range(60) if made.at(float(statistic[i])) <= 0.05}
    scaled = daily / long_run_deviations(daily, 5.0)[:, None]
    theirs = StepM(np.zeros(DAYS), -scaled.T, size=0.05, block_size=5, reps=2_000, seed=1)
    theirs.compute()
    assert found == set(theirs.superior_models) == set(range(4))
    everything = superior(universe(4, 5, good=5, lift=0.6), block=5.0)
    assert everything.p.max() < 0.01, "where all are better, all are found"


def test_a_series_has_its_own_p_though_the_universe_is_kept_in_single_precision() -> None:
    """Of strong and of negative ones alike, also of one whose run began some days later; one that was not in the universe
    has the p of the next weaker, whatever its sign, and 1 below all."""
    daily = universe(11, 80, good=3) * 1e4
    daily[7, :60] = 0.0
    made = superior(daily.astype(np.float32).astype(np.float64), block=5.0)
    order = np.argsort(-statistics_of(daily.astype(np.float32).astype(np.float64), 5.0), kind="stable")
    place = np.argsort(order)
    for i in range(80):
        statistic, p = made.of(daily[i, 60:] if i == 7 else daily[i])
        assert p == made.p[place[i]]
        assert statistic == pytest.approx(float(statistics_of(daily[i:i + 1], 5.0)[0]), rel=1e-5)
    for above in (0, 20, 70):
        between = (made.statistic[above] + made.statistic[above + 1]) / 2
        assert made.at(between) == made.p[above + 1]
    assert made.at(made.statistic[0] + 1.0) == made.p[0]
    assert made.at(made.statistic[-1] - 1.0) == 1.0
    assert made.of(daily[0] * 2.0)[1] == made.p[int(np.searchsorted(-made.statistic, -made.of(daily[0] * 2.0)[0]))]
    assert np.isnan(made.of(np.zeros(400))[1])


def test_luck_is_seldom_superior_and_what_never_moves_says_nothing() -> None:
    """The first error over 300 universes of noise stays near what is allowed, within its own error; whatever the seeds."""
    p = np.array([superior(universe(s, 40), seed=s, reps=400).best for s in range(300)])
    for level in (0.05, 0.1, 0.25):
        assert (p <= level).mean() <= level + 4 * np.sqrt(level * (1 - level) / 300)
    flat = superior(np.zeros((5, DAYS)))
    assert np.isnan(flat.best)
    assert np.isnan(flat.at(2.0))
    only = superior(np.vstack([universe(1, 3), np.zeros((2, DAYS))]))
    assert (len(only.p), only.tried) == (3, 5)
    assert only.at(99.0) <= only.at(0.0)
