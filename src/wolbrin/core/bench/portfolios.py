"""How fast overlap, weights, one account and choosing a portfolio are."""

from __future__ import annotations

import dataclasses
import tempfile
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.bench.data import bench_strategy
from wolbrin.core.bench.figure import Measured, measured
from wolbrin.core.bench.shelf import quickest
from wolbrin.core.engine.account import Seat, run_account
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.jobs import cores
from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.sessions import NS_A_MINUTE
from wolbrin.core.market.terms import SessionRule, Terms
from wolbrin.core.portfolio.choosing import Choice, Pool, Ready, joined, part_of_all
from wolbrin.core.portfolio.limits import Label, Limits, bounds_of
from wolbrin.core.portfolio.overlap import Overlap
from wolbrin.core.portfolio.sampling import Sampling
from wolbrin.core.portfolio.weights import SCHEMES
from wolbrin.core.rules.model import Distance
from wolbrin.core.search.candidate import candidate_of
from wolbrin.core.store.project import Project
from wolbrin.core.store.series import pack
from wolbrin.core.store.settings import Settings
from wolbrin.core.store.shelf import Shelf, ready_of
from wolbrin.core.work.combining import stored_series
from wolbrin.core.work.footing import Footing

TEN_YEARS = 10 * 260 * 32  # bars of fifteen minutes in days of eight hours
DAYS = 2_600
CANDIDATES = (500, 2_000)


def quarter_bars(count: int, seed: int, code: str) -> Bars:
    """Fifteen-minute bars of a random walk, 32 a day."""
    terms = Terms(code=code, tick_size=0.05, point_value=10.0, time_zone="UTC",
                  sessions=(SessionRule(days=("Mon", "Tue", "Wed", "Thu", "Fri"), open="09:00", close="17:00"),))
    rng = np.random.default_rng(seed)
    start = int(np.datetime64("2012-01-02", "ns").astype(np.int64))
    day, bar = np.divmod(np.arange(count * 8 // 5), 32)
    time_ = start + (day * 1440 + 540 + bar * 15).astype(np.int64) * NS_A_MINUTE
    close = 2000.0 + np.cumsum(rng.normal(0.0, 0.5, len(time_)))
    open_ = np.concatenate(([2000.0], close[:-1]))
    high, low = np.maximum(open_, close) + rng.exponential(0.3, len(close)), np.minimum(open_, close) - rng.exponential(
        0.3, len(close))
    o, top, bottom, c = (np.round(np.round(p / 0.05) * 0.05, 2) for p in (open_, high, low, close))
    return make_bars(terms, 15, time_, (o, top, bottom, c), np.ones(len(close)), "bench").take(count)


def account_figures() -> list[Measured]:
    """One account of ten members over ten years of fifteen-minute bars."""
    costs = Costs(slippage_ticks=1, per_contract=2.4)
    seats = []
    for i in range(10):
        what = bench_strategy().model_copy(update={"stop": Distance(unit="atr", amount=1.0 + i / 4, length=20)})
        seats.append(Seat(f"M{i}", Prepared.of(quarter_bars(TEN_YEARS, i + 1, f"B{i}")), what, Brief(costs=costs)))
    run_account(seats, 500_000.0)
    whole = quickest(lambda: run_account(seats, 500_000.0))
    alone = quickest(lambda: [backtest(s.history, s.strategy, s.brief) for s in seats])
    return [measured(f"one account of 10 members, {TEN_YEARS:,} bars each", whole, "s", "lower", 0.5,
                     f"their ten backtests one after the other: {alone:.2f} s")]


def _shelf(project: Project, count: int) -> list[int]:
    """Candidates with daily results of ten years, in clusters."""
    bars = quarter_bars(DAYS * 32, 3, "BENCH")
    project.add_market(bars.terms, bars, "bench")
    history = project.prepared("BENCH", 15)
    run = backtest(history, bench_strategy(), project.settings.brief(history.bars.terms))
    first = candidate_of(run, "Bench", "bench", 1)
    assert first.daily is not None
    rng = np.random.default_rng(2)
    days = first.daily[0]
    ideas = rng.normal(size=(count // 8, len(days)))
    shelf, found = Shelf(project), []
    with project.transaction():
        for i in range(count):
            profit = np.round(100 * (ideas[i % len(ideas)] * rng.uniform(0, 1.5) + rng.normal(size=len(days))), 2)
            made = dataclasses.replace(first, name=f"Bench {i}", daily=(days, profit))
            id = shelf.keep_ready(ready_of(made, f"bench {i}", pack((days, profit), np.ones(len(days), np.float32))), 1)
            found.append(id or 0)
    return found


def overlap_figures() -> list[Measured]:
    """From stored daily results to a matrix, its tree and the number of bets."""
    out = []
    reaches = {500: (0.5, None), 2_000: (3.0, 5.0)}
    for count in CANDIDATES:
        with tempfile.TemporaryDirectory() as folder:
            project = Project.create(Path(folder) / "p", Settings(training_first="2012-01-01", holdout_first="2025-01-01"))
            ids = _shelf(project, count)
            footing = Footing.of(project)

            def work(rank: bool = False) -> Overlap:
                known, missing = stored_series(project, footing, ids)  # noqa: B023
                assert not missing
                made = Overlap.of([k.series for k in known], Sampling(rank=rank))
                assert made.bets > 1
                assert len(made.order) == len(ids)  # noqa: B023
                return made

            work()
            took, ranks = quickest(work), quickest(lambda: work(True))
            table = np.ascontiguousarray(work().table.profit)
            plain = quickest(lambda: np.corrcoef(table))  # noqa: B023
            project.close()
        words = f"NumPy's correlation of the same table: {plain:.2f} s"
        out.append(measured(f"overlap of {count:,} candidates over ten years", took, "s", "lower", reaches[count][0], words))
        out.append(measured("the same by ranks", ranks, "s", "lower", reaches[count][1], words))
    return out


def _members(n: int, days: int = DAYS) -> NDArray[np.float64]:
    rng = np.random.default_rng(5)
    return np.asarray((rng.normal(size=(days, n)) + 0.5 * rng.normal(size=(days, 1))) * rng.uniform(20, 400, n)
                      + rng.uniform(0, 20, n))


def weight_figures() -> list[Measured]:
    """All schemes for 50 members, and choosing 5 of 40."""
    x = _members(50)
    bounds = bounds_of(Limits(), [Label(f"M{i % 7}") for i in range(50)])
    for s in SCHEMES:
        s.fit(x, bounds)
    each = {s.key: quickest(partial(s.fit, x, bounds)) for s in SCHEMES}
    words = ", ".join(f"{key} {1000 * v:.0f} ms" for key, v in each.items())
    y = _members(40)
    pool, choice = Pool(y, np.atleast_2d(np.corrcoef(y.T)), np.arange(40) % 5, np.arange(40) % 4, np.zeros(40)), Choice(5)
    ready = Ready.of(pool, choice)
    part_of_all(ready, choice, (35,))

    def choose(threads: int) -> int:
        with ThreadPoolExecutor(threads) as many:
            return joined(list(many.map(lambda i: part_of_all(ready, choice, (i,)), range(36))), choice).tried

    alone, took = quickest(lambda: choose(1), 1), quickest(lambda: choose(cores()), 1)
    return [measured("weights of 50 members, all schemes", sum(each.values()), "s", "lower", 1.0, words),
            measured("choosing 5 of 40, all 658,008 combinations, ten years of days", took, "s", "lower", 3.0,
                     f"one thread: {alone:.2f} s")]
