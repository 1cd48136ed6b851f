"""Choosing k of n: against plain enumeration."""

from __future__ import annotations

from dataclasses import replace
from itertools import combinations

import numpy as np
import pytest

from wolbrin.core.errors import UserError
from wolbrin.core.portfolio.choosing import (
    AIMS,
    Choice,
    Pool,
    Ready,
    check_choice,
    equally_good,
    evolved,
    joined,
    part_of_all,
    shuffled_apart,
)


def pool_of(seed: int, d: int = 200, n: int = 9) -> Pool:
    rng = np.random.default_rng(seed)
    daily = (rng.normal(size=(d, n)) + 0.6 * rng.normal(size=(d, 1))) * 100 + rng.uniform(-10, 30, n)
    return Pool(daily, np.corrcoef(daily.T), np.arange(n) % 4, np.arange(n) % 3, rng.uniform(500, 3000, n))


def plainly(pool: Pool, c: Choice) -> list[tuple[float, tuple[int, ...]]]:
    found = []
    for some in combinations(range(pool.daily.shape[1]), c.k):
        at = list(some)
        x = pool.daily[:, at].sum(axis=1)
        path = np.cumsum(x)
        fall = float((np.maximum.accumulate(np.maximum(path, 0)) - path).max())
        margin = float(pool.margin[at].sum())
        if ((c.correlation is not None and any(pool.matrix[a, b] >= c.correlation for a, b in combinations(at, 2)))
                or (c.per_market and np.bincount(pool.market[at]).max() > c.per_market)
                or (c.per_family and np.bincount(pool.family[at]).max() > c.per_family)
                or (c.drawdown and fall > c.drawdown) or (c.margin and margin > c.margin)
                or (c.capital and margin + fall > c.capital)):
            continue
        score = {"net": path[-1], "sharpe": x.mean() / x.std(ddof=1) * np.sqrt(252),
                 "return_drawdown": path[-1] / fall}[c.aim]
        found.append((float(score), some))
    return sorted(found, key=lambda f: (-f[0], f[1]))


@pytest.mark.parametrize("aim", AIMS)
@pytest.mark.parametrize("limits", [{}, {"correlation": 0.3}, {"per_market": 1, "per_family": 2},
                                    {"drawdown": 2500.0}, {"margin": 5000.0, "capital": 8000.0}])
def test_every_combination_as_by_plain_counting(aim: str, limits: dict) -> None:
    for seed, k in ((1, 3), (2, 1), (3, 4), (4, 2), (5, 9)):
        pool, choice = pool_of(seed), Choice(k, aim, 12, **limits)  # type: ignore[arg-type]
        ready, want = Ready.of(pool, choice), plainly(pool, choice)
        bar = want[len(want) // 2][0] if want else 0.0
        whole = part_of_all(ready, choice, tuple(range(9)), bar)
        parts = joined([part_of_all(ready, choice, (i,), bar) for i in range(9)], choice)
        alone = part_of_all(replace(ready, pairs=None), choice, tuple(range(9)), bar)  # where they take too much room
        for found in (whole, parts, alone):
            assert found.tried == len(want)
            assert found.above == sum(s > bar * (1 + 1e-12) for s, _ in want) or abs(found.above - len(want) // 2) <= 1
            assert [tuple(m) for m in found.members.tolist()] == [w for _, w in want[:12]]
            np.testing.assert_allclose(found.score, [s for s, _ in want[:12]], rtol=1e-9)


def test_the_evolutionary_search_finds_the_best_and_keeps_the_limits() -> None:
    pool, choice = pool_of(7, n=16), Choice(4, "return_drawdown", 10, correlation=0.5, per_market=2)
    want, found = plainly(pool, choice), evolved(Ready.of(pool, choice), choice, 1)
    assert tuple(found.members[0]) == want[0][1]
    assert {tuple(m) for m in found.members.tolist()} <= {w for _, w in want}
    assert not found.every
    assert found.tried <= len(want)


def test_what_choosing_brings_is_told_on_members_of_which_none_is_better() -> None:
    daily = np.random.default_rng(3).normal(size=(400, 6)) * np.arange(1, 7) + np.array([0.5, -1, 2, 0, 0.3, 1])
    daily[:, 1] = daily[:, 0] * 2 + 0.1 * daily[:, 1]
    even = np.mean([equally_good(daily, s).mean(axis=0) / daily.std(axis=0, ddof=1) for s in range(300)], axis=0)
    np.testing.assert_allclose(even, (daily.mean(axis=0) / daily.std(axis=0, ddof=1)).mean(), atol=0.02)
    drawn = equally_good(daily, 1)
    assert np.corrcoef(drawn[:, 0], drawn[:, 1])[0, 1] == pytest.approx(np.corrcoef(daily[:, 0], daily[:, 1])[0, 1], abs=0.02)
    np.testing.assert_array_equal(drawn, equally_good(daily, 1))
    apart = shuffled_apart(daily, 1)
    np.testing.assert_array_equal(np.sort(apart, axis=0), np.sort(daily, axis=0))
    assert abs(np.corrcoef(apart[:, 0], apart[:, 1])[0, 1]) < 0.3


def test_limits_that_nothing_can_keep_are_named() -> None:
    pool = pool_of(1)
    with pytest.raises(UserError, match="10 members cannot be chosen from 9"):
        check_choice(Choice(10), pool)
    with pytest.raises(UserError, match="at most 1 a market leaves 4 members"):
        check_choice(Choice(5, per_market=1), pool)
    with pytest.raises(UserError, match="at most 1 a family leaves 3 members"):
        check_choice(Choice(4, per_family=1), pool)
