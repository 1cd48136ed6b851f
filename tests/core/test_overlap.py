"""Overlap: correlations, clusters and distinct subsets against numpy, scipy, a certified data set and plain loops."""

from __future__ import annotations

from itertools import combinations

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats
from scipy.cluster.hierarchy import fcluster, leaves_list, linkage

from tests.build import any_rng
from wolbrin.core.errors import UserError
from wolbrin.core.portfolio.correlating import correlate, effective_periods, p_values, pearson, spearman
from wolbrin.core.portfolio.distinct import exactly, greedily
from wolbrin.core.portfolio.overlap import Overlap
from wolbrin.core.portfolio.sampling import Sampled, Sampling, Series, Table, depth_of, sampled

# NIST StRD, data set Norris (linear regression, lower difficulty): y and x, with certified R-squared. From memory; that the
# certified value is met to 13 digits says that they are the right ones.
NORRIS = np.array([
    0.1, 0.2, 338.8, 337.4, 118.1, 118.2, 888.0, 884.6, 9.2, 10.1, 228.1, 226.5, 668.5, 666.3, 998.5, 996.3, 449.1, 448.6,
    778.9,
    777.0, 559.2, 558.2, 0.3, 0.4, 0.1, 0.6, 778.1, 775.5, 668.8, 666.9, 339.3, 338.0, 448.9, 447.5, 10.8, 11.6, 557.7, 556.0,
    228.3, 228.1, 998.0, 995.8, 888.8, 887.6, 119.6, 120.2, 0.3, 0.3, 0.6, 0.3, 557.6, 556.8, 339.3, 339.1, 888.0, 887.2,
    998.5,
    999.0, 778.9, 779.0, 10.2, 11.1, 117.6, 118.3, 228.9, 229.2, 668.4, 669.1, 449.2, 448.9, 0.2, 0.5]).reshape(-1, 2)
R_SQUARED = 0.999993745883712


def some(rng: np.random.Generator, n: int, days: int, gaps: bool = True) -> list[Series]:
    """Series that share something, each over its own span, with days without a trade."""
    common = rng.normal(size=days)
    found = []
    for _ in range(n):
        profit = np.round(common * rng.uniform(-0.5, 1.5) + rng.normal(size=days), 1)
        if gaps:
            profit[rng.random(days) < 0.4] = 0.0
        first, last = int(rng.integers(0, days // 4)), int(rng.integers(3 * days // 4, days))
        at = np.arange(first, last)
        found.append(Series((18_000 + at * 7 // 5).astype(np.int32), profit[at]))
    return found


def test_correlation_of_a_certified_data_set() -> None:
    matrix, periods = pearson(np.ascontiguousarray(NORRIS.T))
    assert matrix[0, 1] ** 2 == pytest.approx(R_SQUARED, abs=1e-14)
    assert periods[0, 1] == 36


@pytest.mark.parametrize("seed", [1, 2, 3])
@pytest.mark.parametrize("how", [Sampling(by=by, of=of, empty=empty, span=span) for by, of, empty, span in (
    ("day", "profit", "zero", "union"), ("week", "profit", "left out", "union"), ("month", "return", "zero", "common"),
    ("day", "drawdown", "left out", "common"), ("week", "return", "left out", "common"))])
def test_every_way_of_comparing_equals_pandas_and_scipy(how: Sampling, seed: int) -> None:
    rng = np.random.default_rng(seed)
    series, capital = some(rng, 5, 500), 50.0
    o, ranks = Overlap.of(series, how, capital), Overlap.of(series, how.model_copy(update={"rank": True}), capital)
    frame = pd.DataFrame({i: pd.Series(s.profit, pd.to_datetime(s.days.astype("datetime64[D]"))) for i,
                          s in enumerate(series)})
    if how.span == "common":
        frame = frame.loc[max(s.first_valid_index() for _, s in frame.items()):min(s.last_valid_index() for _,
                                                                                   s in frame.items())]
    daily = frame.fillna(0.0)
    rule = {"day": None, "week": "W-SUN", "month": "ME"}[how.by]
    by = (lambda f: f) if rule is None else (lambda f: f.resample(rule).sum()[f.resample(rule).count().iloc[:, 0] > 0])
    values = by(daily)
    if how.of == "return":
        values = values / (capital + values.cumsum() - values)
    if how.of == "drawdown":
        path = daily.cumsum()
        depth = path.cummax().clip(lower=0) - path
        values = depth if rule is None else depth.resample(rule).last()[daily.resample(rule).count().iloc[:, 0] > 0]
    traded = by((daily != 0).astype(float)) > 0
    for a, b in combinations(range(5), 2):
        keep = np.ones(len(values), bool) if how.empty == "zero" else (traded[a] & traded[b]).to_numpy()
        x, y = values[a].to_numpy()[keep], values[b].to_numpy()[keep]
        assert o.periods[a, b] == len(x)
        assert o.matrix[a, b] == pytest.approx(stats.pearsonr(x, y).statistic, abs=1e-10)
        assert ranks.matrix[a, b] == pytest.approx(stats.spearmanr(x, y).statistic, abs=1e-10)
        assert o.average[a] == pytest.approx(np.delete(o.matrix[a], a).mean())


def test_what_never_moves_has_no_correlation_and_large_amounts_do_not_matter() -> None:
    rng = np.random.default_rng(4)
    x = rng.normal(size=(3, 200)) + np.array([[0.0], [1e9], [0.0]])
    x[2] = 7.0
    for matrix in (pearson(x)[0], spearman(x)[0], pearson(x, np.ones(x.shape, bool))[0], spearman(x, np.ones(x.shape,
                                                                                                             bool))[0]):
        assert np.isnan(matrix[2]).all()
        assert matrix[0, 0] == 1.0
    assert pearson(x)[0][0, 1] == pytest.approx(np.corrcoef(x[:2])[0, 1], abs=1e-6)
    assert np.isnan(pearson(x[:, :2])[0]).all(), "two periods say nothing"
    with pytest.raises(UserError, match="no span in common"):
        Table.of([Series(np.arange(5, dtype=np.int32), np.ones(5)), Series(np.arange(9, 12, dtype=np.int32), np.ones(3))],
                 "common")


@pytest.mark.parametrize("rho", [0.0, 0.6])
def test_p_values_hold_their_size_with_autocorrelation(rho: float) -> None:
    """Of pairs that have nothing to do with each other about 5% show a p below 0.05, also where days depend on each other;
    the usual p, which does not allow for it, shows three times as many."""
    rng = any_rng()
    noise = rng.normal(size=(240, 900))
    for t in range(1, 900):
        noise[:, t] += rho * noise[:, t - 1]
    what = Sampled(np.arange(800, dtype=np.int32), noise[:, 100:], None)
    matrix, periods = correlate(what)
    upper = np.triu_indices(240, 1)
    share = float((p_values(matrix, effective_periods(what, periods))[upper] < 0.05).mean())
    plain = float((p_values(matrix, periods.astype(float))[upper] < 0.05).mean())
    assert 0.035 < share < 0.08
    if rho:
        assert plain > 0.12
    else:
        r, p = stats.pearsonr(noise[0, 100:], noise[1, 100:])
        assert p_values(np.array([[r]]), np.array([[800.0]]))[0, 0] == pytest.approx(p)


def test_tree_and_clusters_are_those_of_scipy() -> None:
    o = Overlap.of(some(np.random.default_rng(6), 12, 400))
    far = 1.0 - o.matrix[np.triu_indices(12, 1)]
    want = linkage(far, "average", optimal_ordering=True)
    np.testing.assert_allclose(o.tree, want)
    np.testing.assert_array_equal(o.order, leaves_list(want))
    for cut in (0.1, 0.4, 0.7, 1.0):
        mine, theirs = o.clusters(cut), fcluster(want, 1 - cut, "distance")
        assert {tuple(np.flatnonzero(mine == c)) for c in set(mine.tolist())} == {
            tuple(np.flatnonzero(theirs == c)) for c in set(theirs.tolist())}
        assert mine[o.order].tolist() == sorted(mine.tolist()), "numbered along the tree"


def test_losing_together_by_plain_counting() -> None:
    rng = np.random.default_rng(8)
    o = Overlap.of(some(rng, 4, 300))
    table = o.table
    depth = depth_of(table.profit)
    for a, b in combinations(range(4), 2):
        x, y = table.profit[a], table.profit[b]
        both, either = (x != 0) & (y != 0), (x != 0) | (y != 0)
        assert o.together[a, b] == pytest.approx(both.sum() / either.sum())
        worst = []
        for z, own in ((x, table.own[a]), (y, table.own[b])):
            count = min(int(np.ceil(0.05 * own.sum())), int((z < 0).sum()))
            limit = np.sort(z)[count - 1]
            assert (z < limit).sum() <= count
            worst.append((set(np.flatnonzero(z < limit)), set(np.flatnonzero(z <= limit)), count))
        shared = o.joint_losses[a, b] * min(worst[0][2], worst[1][2])
        assert len(worst[0][0] & worst[1][0]) <= shared + 1e-9
        assert shared - 1e-9 <= len(worst[0][1] & worst[1][1])
        deep = [d >= 0.5 * d.max() for d in (depth[a], depth[b])]
        assert o.deep_together[a, b] == pytest.approx((deep[0] & deep[1]).sum() / (deep[0] | deep[1]).sum())
    at, rolling = o.rolling(0, 1)
    assert rolling[-1] == pytest.approx(np.corrcoef(table.profit[0, -100:], table.profit[1, -100:])[0, 1], abs=0.2)
    assert len(at) == len(rolling)
    assert sampled(table, Sampling()).values is table.profit


@pytest.mark.parametrize("want", ["best", "largest"])
def test_the_exact_subset_is_the_best_of_all_subsets(want: str) -> None:
    for seed in range(12):
        rng = np.random.default_rng(seed)
        n = 10
        matrix = np.corrcoef(rng.normal(size=(n, 12)) + rng.normal(size=(1, 12)) * rng.uniform(0, 1.5))
        scores = rng.uniform(0.1, 5, n).tolist()
        good = [c for k in range(1, n + 1) for c in combinations(range(n), k)
                if all(matrix[a, b] < 0.4 for a, b in combinations(c, 2))]
        most = max(good, key=lambda c: (len(c) if want == "largest" else 0, sum(scores[i] for i in c)))
        found = exactly(matrix, scores, 0.4, want)  # type: ignore[arg-type]
        assert found.exact
        assert found.chosen == most
        for d in found.dropped:
            assert d.for_ in found.chosen
            assert d.correlation == matrix[d.at, list(found.chosen)].max()
        assert greedily(matrix, scores, 0.4).score <= found.score + 1e-9 or want == "largest"


@settings(max_examples=100, deadline=None)
@given(st.integers(0, 10**6), st.integers(1, 25), st.sampled_from([-1.0, -0.2, 0.1, 0.5, 1.0]))
def test_the_greedy_subset_takes_the_best_first_and_says_for_whom_others_are_left_out(seed: int, n: int,
                                                                                      limit: float) -> None:
    """Candidate by candidate, with equal ranks in their order; what never moves is left out for nobody."""
    rng = np.random.default_rng(seed)
    matrix = np.round(np.corrcoef(rng.normal(size=(n, 8)) + rng.normal(size=(1, 8))).reshape(n, n), 2)
    still = np.flatnonzero(rng.random(n) < 0.2)
    matrix[still, :] = matrix[:, still] = np.nan
    scores = rng.integers(-2, 3, n).astype(float).tolist()
    taken: list[int] = []
    for at in sorted(range(n), key=lambda i: (-scores[i], i)):
        if at not in still and all(matrix[at, t] < limit for t in taken):
            taken.append(at)
    found = greedily(matrix, scores, limit)
    assert found.chosen == tuple(sorted(taken))
    assert found.score == sum(scores[i] for i in taken)
    assert [d.at for d in found.dropped] == [i for i in range(n) if i not in taken]
    for d in found.dropped:
        if d.at in still or not taken:
            assert d.for_ is None
        else:
            assert d.for_ == max(sorted(taken), key=lambda t: matrix[d.at, t])
            assert d.correlation == matrix[d.at, d.for_]


def test_no_time_leaves_the_greedy_subset_and_says_so() -> None:
    rng = np.random.default_rng(1)
    x = rng.normal(size=(300, 30)) + rng.normal(size=(1, 30))
    matrix, scores = np.corrcoef(x), rng.uniform(1, 2, 300).tolist()
    found = exactly(matrix, scores, 0.35, "best", 0.0)
    assert found.score >= greedily(matrix, scores, 0.35).score - 1e-9
    assert not found.exact
