"""How fast many candidates are tried: Discover, shifted entries, memory."""

from __future__ import annotations

import datetime as dt
import resource
import time
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from wolbrin.core.batch.genomes import genome_of
from wolbrin.core.batch.many import Many
from wolbrin.core.batch.shifted import Shifting
from wolbrin.core.bench.data import bench_bars, bench_strategy
from wolbrin.core.bench.figure import Measured, measured
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Going
from wolbrin.core.jobs import Engine
from wolbrin.core.market.bars import Span
from wolbrin.core.market.costs import Costs
from wolbrin.core.rehearsal.session import Rehearsal
from wolbrin.core.rules.axes import Axis
from wolbrin.core.search.importance import of_grid
from wolbrin.core.search.limits import Limits
from wolbrin.core.search.overfitting import block_sums, blocks_for, overfitting
from wolbrin.core.search.plateau import Surroundings, plateaus
from wolbrin.core.search.space import Space
from wolbrin.core.store.project import Project
from wolbrin.core.work.discover_request import DiscoverRequest
from wolbrin.core.work.discovering import discover_job


def _rate(project: Project, code: str, interval: int, engine: Engine, count: int, limits: Limits) -> tuple[float, float]:
    """Candidates a second, from when the first ones were kept on, and the seconds before: a pool is filled once."""
    seen: list[tuple[float, int]] = []
    job, result = discover_job(project, DiscoverRequest(((code, interval),), limits, count=count),
                               lambda made: seen.append((time.perf_counter(), made.tried)))
    began = time.perf_counter()
    engine.start(job, "threads").wait()
    first, last = seen[0], (seen[-1][0], result.tried)
    return (last[1] - first[1]) / max(1e-9, last[0] - first[0]), first[0] - began


def discover_figures(project: Project, code: str, interval: int, engine: Engine, single: Engine) -> list[Measured]:
    """Discover with default limits on the project's 100,000 bars, and on 1,000,000."""
    _rate(project, code, interval, engine, 256, Limits(pool=100))  # everything is compiled
    began = time.perf_counter()
    both, pool = _rate(project, code, interval, engine, 60_000, Limits())
    whole = time.perf_counter() - began
    one, _ = _rate(project, code, interval, single, 15_000, Limits())
    used = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024**2
    found = [measured("Discover, 60,000 candidates, usual limits, 100,000 bars, from the start", whole, "s", "lower", 30,
                      f"{both:,.0f} a second once the conditions are worked out, which takes {pool:.1f} s"),
             measured("the same, all cores over one thread", both / one, "x", "higher", 1.75,
                      f"one thread: {one:,.0f} a second"),
             measured("peak memory by then, all of the benchmark so far", used, "GiB", "lower", 0.8,
                      "prices and times of 100,000 bars: 5 MB")]
    bars = bench_bars(1_000_000)
    project.add_market(bars.terms.model_copy(update={"code": "LARGE"}), bars, "bench")
    rate, pool = _rate(project, "LARGE", interval, engine, 5_000, Limits())
    found.append(measured("the same on 1,000,000 bars", rate, "a second", "higher", 700,
                          f"the pool is held to its memory and takes {pool:.1f} s once"))
    return found


def reading_figures() -> list[Measured]:
    """Plateau scores and importance of a sweep of 216,000 sets; what fits the days over and over."""
    space = Space([Axis(k, k, tuple(float(i) for i in range(60))) for k in "abc"])
    at = np.arange(space.size, dtype=np.int64)
    rng = np.random.default_rng(1)
    score = rng.normal(size=len(at))
    passes = np.ones(len(at), bool)

    def read() -> None:
        plateaus(Surroundings(space, at, at[:0], True), score, passes)
        of_grid(space, at, score)

    read()
    began = time.perf_counter()
    read()
    whole = time.perf_counter() - began
    began = time.perf_counter()
    np.median(np.lib.stride_tricks.sliding_window_view(score.reshape(space.shape), (3, 3, 3)), axis=(3, 4, 5))
    plain = time.perf_counter() - began
    small = Space([Axis(k, k, tuple(float(i) for i in range(n))) for k, n in zip("abcd", (9, 9, 5, 5))])
    sets = np.arange(small.size, dtype=np.int64)
    sums, squares, days = block_sums(rng.normal(size=(len(sets), 1_600)), blocks_for(len(sets), small.most_neighbors, 1_600))
    around = Surroundings(small, sets, sets[:0], True).of(sets)
    overfitting(sums, squares, days, around)
    began = time.perf_counter()
    found = overfitting(sums, squares, days, around)
    judged = time.perf_counter() - began
    return [measured("plateau scores and importance of 216,000 sets", whole, "s", "lower", None,
                     f"the medians alone of those inside, NumPy: {plain:.2f} s"),
            measured("overfitting of 2,025 sets, both rules", judged, "s", "lower", None,
                     f"{found.choices:,} cuts of {found.blocks} blocks, 81 neighbors a set")]


def pausing_figures() -> list[Measured]:
    """1,000 shifted-entry runs of one candidate; a rehearsal bar by bar, and bars that arrive one by one."""
    bars = bench_bars(100_000)
    strategy, brief, ready = bench_strategy(), Brief(costs=Costs.of(bars.terms)), Prepared.of(bars)
    many = Many(ready, brief)
    shifting = Shifting(many, genome_of(strategy, many.pool, brief))
    shifting.run(1, 0, 8)
    spent = {}
    for threads in (2, 1):
        with ThreadPoolExecutor(threads) as pool:
            began = time.perf_counter()
            list(pool.map(lambda first: shifting.run(1, first, 125), range(0, 1000, 125)))
            spent[threads] = time.perf_counter() - began
    trades = int(many.run(genome_of(strategy, many.pool, brief)).figures[0, 1])
    played = Rehearsal(bars, strategy, brief, Span(dt.date(2015, 6, 1), None))
    began = time.perf_counter()
    for _ in range(20_000):
        played.step()
    rate = 20_000 / (time.perf_counter() - began)
    past = Prepared.of(bars.take(99_900))
    going = Going(past, strategy, brief)
    going.advance(going.size)
    slow = []
    for size in range(99_901, 99_941):
        began = time.perf_counter()
        going.extend(past.over(bars.take(size)))
        going.advance(going.size)
        slow.append(time.perf_counter() - began)
    return [measured("1,000 shifted-entry runs of one candidate, 100,000 bars", spent[2], "s", "lower", 0.2,
                     f"{trades:,} trades a run"),
            measured("the same, two threads over one", spent[1] / spent[2], "x", "higher", 1.75,
                     f"one thread: {spent[1]:.2f} s"),
            measured("rehearsal bar by bar over recorded bars, with ledger", rate, "bars a second", "higher", 20_000,
                     "one step a bar"),
            measured("a bar that arrives, on 99,900 bars of past", 1e3 * max(slow), "ms", "lower", 20, "largest of 40")]
