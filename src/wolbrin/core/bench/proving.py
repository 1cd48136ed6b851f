"""How fast the line of gates judges, and what it is made of."""

from __future__ import annotations

import tempfile
import time
from collections import Counter
from pathlib import Path

import numpy as np

from wolbrin.core.bench.data import bench_bars, bench_strategy
from wolbrin.core.bench.figure import Measured, measured
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.jobs import Engine
from wolbrin.core.market.costs import Costs
from wolbrin.core.proving.monte_carlo import simulate_paths
from wolbrin.core.search.limits import Limits
from wolbrin.core.search.objective import Floor
from wolbrin.core.search.superior import superior
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import Settings
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.store.wanted import Wanted
from wolbrin.core.study.perturb import Noise, over, planted
from wolbrin.core.work.discover_request import DiscoverRequest
from wolbrin.core.work.discovering import discover_job
from wolbrin.core.work.proving import prove_job
from wolbrin.core.work.standing import Standings
from wolbrin.core.work.subject import Subject

BARS, FINDS, SHARPE = 100_000, 1_000, 8.0
FLOORS = (Floor(key="trades_per_year", value=20.0), Floor(key="t_daily", value=1.0), Floor(key="profit_factor", value=1.05))


def _seconds(work: object, times: int = 3) -> float:
    taken = []
    for _ in range(times):
        began = time.perf_counter()
        work()  # type: ignore[operator]
        taken.append(time.perf_counter() - began)
    return float(np.median(taken))


def path_figures() -> list[Measured]:
    """Monte Carlo on trades, with all statistics; runs on perturbed prices; the test over a universe."""
    rng = np.random.default_rng(1)
    profits = rng.normal(10.0, 100.0, 1000)
    mixed = _seconds(lambda: simulate_paths(profits, 50_000.0, 10_000, seed=1), 5)
    blocks = _seconds(lambda: simulate_paths(profits, 50_000.0, 10_000, replace=True, block=5.0, seed=1), 5)
    plain = _seconds(lambda: rng.permuted(np.broadcast_to(profits, (1000, 1000)), axis=1).cumsum(axis=1)) * 10
    history, what = Prepared.of(bench_bars(100_000)), bench_strategy()
    noise = Noise(history.bars, 1, 0.1)
    backtest(history, what, Brief(), detail=False)
    one = _seconds(lambda: backtest(history, what, Brief(), detail=False), 5)
    again = _seconds(lambda: [backtest(over(history, noise.bars(i)), what, Brief(), detail=False) for i in range(20)], 3) * 10
    daily = rng.normal(size=(2_000, 1_500))
    tested = _seconds(lambda: superior(daily), 1)
    return [measured("Monte Carlo, 10,000 paths of 1,000 trades, all statistics", mixed, "s", "lower", 0.15,
                     f"in blocks: {blocks:.2f} s; shuffling and summing the same paths in NumPy: {plain:.2f} s"),
            measured("200 runs on 100,000 bars with noise in their prices", again, "s", "lower", 1.0,
                     f"200 runs on the bars themselves, conditions known: {200 * one:.2f} s"),
            measured("test over a universe of 2,000 sets and 1,500 days", tested, "s", "lower", None, "2,000 draws, all "
                     "steps")]


def line_figures() -> list[Measured]:
    """The usual line on a thousand finds of a market with an edge in a quarter of its sessions; most finds are luck."""
    with tempfile.TemporaryDirectory() as folder:
        bars = planted(bench_bars(BARS), 3, SHARPE)
        days = bars.trading_date
        last = (np.datetime64(0, "D") + int(days[-1])).astype(object)
        project = Project.create(Path(folder) / "p", Settings(
            training_first=(np.datetime64(0, "D") + int(days[0])).astype(object),
            holdout_first=last.replace(year=last.year + 1), last=last.replace(year=last.year + 2),
            cost_sets={"BENCH": {"low": Costs(spread_ticks=0.2)}}, cost_set={"BENCH": "low"}))
        project.add_market(bars.terms, bars, "bench")
        engine = Engine()
        request = DiscoverRequest(((bars.terms.code, bars.interval),), Limits(pool=1_000), floors=FLOORS, count=60_000,
                                  until_kept=FINDS, controls=5)
        job, _ = discover_job(project, request)
        engine.start(job, "threads").wait()
        shelf = Shelf(project)
        kept = shelf.bodies(shelf.ids(Wanted("t_daily", True)).tolist()[:FINDS])
        subjects = [Subject.of(k) for k in kept]
        engine.start(prove_job(project, subjects[:2], open_holdout=False, all_gates=True), "threads").wait()  # compiled
        began = time.perf_counter()
        engine.start(prove_job(project, subjects, open_holdout=False), "threads").wait()
        took = time.perf_counter() - began
        standings = Standings(project)
        where = Counter(standings.of(k).stands for k in kept)
        reached = [(g.title, sum(g.key in standings.of(k).evidence for k in kept)) for g in standings.gates
                   if not g.opens_holdout]
        words = ", ".join(f"{title} {100 * n / max(1, len(kept)):.0f}%" for title, n in reached)
        engine.close()
        project.close()
    return [measured(f"the usual line on {len(kept):,} finds, {BARS:,} bars", took, "s", "lower", 120,
                     f"reached: {words}; {where['ready']:,} ready")]
