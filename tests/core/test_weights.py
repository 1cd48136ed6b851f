"""Weights: against closed forms, hand-worked trees, plain search, and noise."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy.optimize import minimize
from sklearn.covariance import ledoit_wolf

from tests.build import any_rng
from wolbrin.core.errors import UserError
from wolbrin.core.portfolio.growth import growth_optimal
from wolbrin.core.portfolio.limits import Label, Limits, bounds_of, nearest
from wolbrin.core.portfolio.sharpe_test import sharpe_difference_p
from wolbrin.core.portfolio.weighing import HELD, weigh
from wolbrin.core.portfolio.weights import (
    BY_SCHEME,
    SCHEMES,
    WEEK,
    covariance,
    fitted,
    hierarchical_weights,
    risk_parity,
    risk_shares,
)

MARKETS = [Label(f"M{i % 3}", f"F{i % 2}", "long only" if i % 4 else "both sides") for i in range(9)]
FREE = bounds_of(Limits(), MARKETS)


def days(rng: np.random.Generator, d: int, n: int, common: float = 0.5) -> np.ndarray:
    return (rng.normal(size=(d, n)) + common * rng.normal(size=(d, 1))) * rng.uniform(20, 400, n) + rng.uniform(-3, 20, n)


def covariance_of(one: float, two: float, rho: float) -> np.ndarray:
    return np.array([[one * one, rho * one * two], [rho * one * two, two * two]])


def test_two_and_three_members_by_closed_forms() -> None:
    rng = np.random.default_rng(1)
    x = days(rng, 800, 2)
    sigma = covariance(x)
    s1, s2 = np.sqrt(np.diag(sigma))
    rho = sigma[0, 1] / s1 / s2
    free = bounds_of(Limits(), MARKETS[:2])
    # Textbook minimum variance of two: (s2^2 - rho s1 s2) / (s1^2 + s2^2 - 2 rho s1 s2), within 0 and 1.
    first = min(1.0, max(0.0, (s2 * s2 - rho * s1 * s2) / (s1 * s1 + s2 * s2 - 2 * rho * s1 * s2)))
    assert BY_SCHEME["variance"].fit(x, free)[0] == pytest.approx(first, abs=1e-9)
    # Two of equal risk: in inverse proportion to their deviations, whatever their correlation (Maillard et al. 2010, section
    # 2).
    assert BY_SCHEME["erc"].fit(x, free)[0] == pytest.approx((1 / s1) / (1 / s1 + 1 / s2), abs=1e-9)
    assert BY_SCHEME["volatility"].fit(x, free)[0] == pytest.approx((1 / x[:, 0].std()) / (1 / x.std(axis=0)).sum())
    # Uncorrelated: minimum variance goes by inverse variance, equal risk by inverse deviation.
    three = np.array([1.0, 4.0, 16.0])
    np.testing.assert_allclose(risk_parity(np.diag(three)), (1 / np.sqrt(three)) / (1 / np.sqrt(three)).sum(), atol=1e-10)


def test_shrunk_covariance_is_that_of_a_general_library() -> None:
    for seed, d, n in ((1, 120, 6), (2, 30, 25), (3, 900, 3)):
        x = days(np.random.default_rng(seed), d, n)
        deviation = x.std(axis=0)
        want, shrunk = ledoit_wolf(x / deviation)
        np.testing.assert_allclose(covariance(x), want * np.outer(deviation, deviation), rtol=1e-9)
        assert 0 < shrunk <= 1


def test_hierarchical_weights_by_hand() -> None:
    """Two that are alike, and one apart, deviations 1, 1, 2. The tree puts the two together; the list is the one apart, then
    the two. Variances of the halves: 4, and of the pair at half each 0.5 + 0.5 * 0.8 = 0.9. So the one apart gets 0.9 /
    4.9."""
    matrix = np.array([[1.0, 0.8, 0.0], [0.8, 1.0, 0.0], [0.0, 0.0, 1.0]])
    deviation = np.array([1.0, 1.0, 2.0])
    w = hierarchical_weights(matrix * np.outer(deviation, deviation), matrix)
    np.testing.assert_allclose(w, [4 / 4.9 / 2, 4 / 4.9 / 2, 0.9 / 4.9], atol=1e-12)


@pytest.mark.parametrize("seed", range(4))
def test_every_scheme_sums_to_one_and_does_what_it_says(seed: int) -> None:
    rng = np.random.default_rng(seed)
    x = days(rng, 600, 9)
    sigma = covariance(x)
    found = {s.key: s.fit(x, FREE) for s in SCHEMES}
    for w in found.values():
        assert w.sum() == pytest.approx(1)
        assert (w >= 0).all()
    erc = found["erc"] * (sigma @ found["erc"])
    np.testing.assert_allclose(erc / erc.sum(), 1 / 9, atol=1e-8)
    np.testing.assert_allclose(risk_shares(x, found["equal"]).sum(), 1)

    def variance(w: np.ndarray) -> float:
        return float(w @ sigma @ w)

    def ratio(w: np.ndarray) -> float:
        path = np.cumsum(x @ w)[np.append(np.arange(WEEK - 1, 599, WEEK), 599)]
        return path[-1] / max((np.maximum.accumulate(np.maximum(path, 0)) - path).max(), 1e-12)

    for w in rng.dirichlet(np.full(9, 0.5), 400):
        assert variance(found["variance"]) <= variance(w) * (1 + 1e-9)
        assert ratio(found["drawdown"]) >= ratio(w) * (1 - 1e-6)
    scale = variance(found["equal"])
    apart = minimize(lambda w: variance(w) / scale, np.full(9, 1 / 9), method="SLSQP", bounds=[(0, 1)] * 9,
                     constraints=[{"type": "eq", "fun": lambda w: w.sum() - 1}], options={"ftol": 1e-13, "maxiter": 500})
    assert variance(found["variance"]) <= apart.fun * scale * (1 + 1e-6)


@pytest.mark.parametrize("limits", [Limits(member=0.15), Limits(market=0.4, side=0.7), Limits(member=0.2, family=0.5,
                                                                                              market=0.35)])
def test_limits_are_kept_by_every_scheme(limits: Limits) -> None:
    x = days(np.random.default_rng(5), 500, 9)
    bounds = bounds_of(limits, MARKETS)
    for s in SCHEMES:
        w = s.fit(x, bounds)
        assert bounds.held(w), s.key
        assert w.sum() == pytest.approx(1)
    far = np.zeros(9)
    far[0] = 1.0
    near = nearest(far, bounds)
    rng = np.random.default_rng(6)
    for w in rng.dirichlet(np.ones(9), 3000):
        if bounds.held(w):
            assert ((near - far) ** 2).sum() <= ((w - far) ** 2).sum() + 1e-7


@pytest.mark.parametrize(("limits", "said"), [
    (Limits(member=0.1), "at most 10% in one member cannot be kept by 9"), (Limits(market=0.3), "at most 30% in one market"),
    (Limits(side=0.45), "at most 45% in one side"),
    (Limits(family=0.5, market=0.34, side=0.6, member=0.12), "no shares keep all limits together")])
def test_limits_that_cannot_be_kept_are_named(limits: Limits, said: str) -> None:
    with pytest.raises(UserError, match=said):
        bounds_of(limits, MARKETS)


def test_what_cannot_be_weighed_says_so() -> None:
    x = days(np.random.default_rng(7), 100, 3)
    x[:, 1] = 0.0
    with pytest.raises(UserError, match="Quiet never makes or loses anything"):
        fitted("erc", x, MARKETS[:3], Limits(), ["A", "Quiet", "B"])
    with pytest.raises(UserError, match="9 trading dates are too few"):
        fitted("erc", x[:9], MARKETS[:3], Limits())
    with pytest.raises(UserError, match="no way to find weights"):
        fitted("magic", x, MARKETS[:3], Limits())
    same = np.repeat(days(np.random.default_rng(8), 100, 1), 3, axis=1)  # a sample covariance that cannot be inverted
    for s in SCHEMES:
        assert s.fit(same, bounds_of(Limits(), MARKETS[:3])).sum() == pytest.approx(1), s.key


def test_equal_uncorrelated_parts_are_calmer_by_the_root_of_their_number() -> None:
    x = any_rng().normal(size=(4000, 64)) * 100
    for n in (4, 16, 64):
        assert (x[:, :n].mean(axis=1).std() * math.sqrt(n)) == pytest.approx(100, rel=0.08)
        np.testing.assert_allclose(BY_SCHEME["erc"].fit(x[:, :n], bounds_of(Limits(), [Label(str(i)) for i in range(n)])),
                                   1 / n,
                                   rtol=0.15)


def test_no_fit_sees_the_days_it_is_judged_on() -> None:
    rng = np.random.default_rng(9)
    x = days(rng, 700, 5)
    whole = weigh(x, MARKETS[:5])
    changed = x.copy()
    changed[-HELD:] = days(rng, HELD, 5) * 3
    other = weigh(changed, MARKETS[:5])
    for a, b in zip(whole.rows, other.rows):
        kept = len(a.walked) - len(a.walked) % HELD - HELD
        np.testing.assert_array_equal(a.walked[:kept], b.walked[:kept])
        np.testing.assert_allclose(a.walked.sum(), a.net)
    assert whole.begin == 250
    assert whole.fits == math.ceil(450 / HELD)
    assert math.isnan(whole.of("equal").p)


def test_equal_weights_are_recommended_unless_another_is_better_beyond_noise() -> None:
    """Members that are all alike: whatever a scheme finds there is noise. Of any seed at most 1 in 10 or so says
    otherwise."""
    rng = any_rng()
    labels = [Label(str(i)) for i in range(6)]
    wrong = sum(weigh(rng.normal(5, 100, (900, 6)), labels, seed=i).recommended != "equal" for i in range(12))
    assert wrong <= 4
    # As good, and twenty times as loud: equal weights drown in them. Sharpe ratios of about 0.7 and 6.5 over five years.
    loud = rng.normal(20, 100, (1500, 6))
    loud[:, :2] = rng.normal(20, 2_000, (1500, 2))
    table = weigh(loud, labels)
    assert table.recommended in ("volatility", "variance", "erc", "hrp")
    assert "better beyond noise" in table.why


def test_the_difference_of_sharpe_ratios_holds_its_size_and_finds_what_is_there() -> None:
    rng = any_rng()
    found = []
    for seed in range(120):
        common = rng.standard_t(5, size=(500, 1))
        x = common + 0.7 * rng.standard_t(5, size=(500, 2)) + 0.05
        found.append(sharpe_difference_p(x[:, 0], x[:, 1] * 40, seed, 199) < 0.05)
    assert np.mean(found) < 0.15
    better = rng.normal(0.3, 1, 800)
    assert sharpe_difference_p(better, better + rng.normal(-0.25, 0.4, 800)) < 0.05
    assert math.isnan(sharpe_difference_p(better, better * 7)), "the same ratio is no difference"
    assert math.isnan(sharpe_difference_p(better[:15], better[1:16]))


def test_the_fastest_growth_of_a_coin_is_kellys() -> None:
    """A coin that wins its stake with p 0.6: 2p - 1 = 0.2 of the account (Kelly 1956)."""
    tosses = np.repeat([1.0, -1.0], [600, 400]) * 100
    assert growth_optimal(tosses, 1_000.0) == pytest.approx(0.2 * 1_000 / 100, rel=1e-6)
    assert growth_optimal(-tosses, 1_000.0) == 0.0
    assert math.isnan(growth_optimal(np.zeros(5), 1_000.0))
