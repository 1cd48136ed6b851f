"""How fast a walk and a grid of lengths are."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

import numpy as np

from wolbrin.core.bench.data import bench_bars, bench_strategy
from wolbrin.core.bench.figure import Measured, measured
from wolbrin.core.jobs import Engine
from wolbrin.core.market.costs import Costs
from wolbrin.core.rules.axes import Axis
from wolbrin.core.rules.numbers import tunables
from wolbrin.core.search.folds import Length
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import Settings
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweeping import sweep_job
from wolbrin.core.work.walk_request import WalkRequest
from wolbrin.core.work.walk_results import WalkResult
from wolbrin.core.work.walking import walk_job

BARS, FOLDS = 100_000, 10
SHAPE = (10, 10, 5)  # 500 sets of three numbers


def _project(folder: Path) -> tuple[Project, int]:
    """A project of one market, and how many calendar days its training view has."""
    bars = bench_bars(BARS)
    first, last = ((np.datetime64(0, "D") + int(d)).astype(object) for d in (bars.trading_date[0], bars.trading_date[-1]))
    project = Project.create(folder, Settings(
        training_first=first, holdout_first=last.replace(year=last.year + 1), last=last.replace(year=last.year + 2),
        cost_sets={"BENCH": {"low": Costs(spread_ticks=0.2)}}, cost_set={"BENCH": "low"}))
    project.add_market(bars.terms, bars, "bench")
    return project, (last - first).days + 1


def _walk(project: Project, engine: Engine, sweep: SweepRequest, trainings: list[int],
          tests: list[int]) -> tuple[float, WalkResult]:
    """Seconds of a walk over these lengths in days, and what came of it."""
    request = WalkRequest(sweep, tuple(Length(n, "days") for n in trainings), tuple(Length(n, "days") for n in tests))
    began = time.perf_counter()
    job, result = walk_job(project, request)
    engine.start(job, "threads").wait()
    return time.perf_counter() - began, result


def walk_figures() -> list[Measured]:
    """A walk of ten folds and a grid of 25 pairs of lengths, 500 sets each, on 100,000 bars."""
    with tempfile.TemporaryDirectory() as folder:
        project, days = _project(Path(folder) / "p")
        engine, strategy = Engine(), bench_strategy()
        some = [t for t in tunables(strategy) if t.high > t.low][:len(SHAPE)]
        axes = tuple(Axis.over(t, n) for t, n in zip(some, SHAPE))
        market = project.markets()[0]
        sweep = SweepRequest(strategy, market.code, market.minutes, axes)
        job, _ = sweep_job(project, sweep)
        engine.start(job, "threads").wait()  # compiled
        began = time.perf_counter()
        job, _ = sweep_job(project, sweep)
        engine.start(job, "threads").wait()
        alone = time.perf_counter() - began
        test = days // (FOLDS + 4)
        took, result = _walk(project, engine, sweep, [4 * test], [test])
        trainings, tests = [n * test for n in (1, 2, 3, 4, 5)], [test * n // 2 for n in (1, 2, 3, 4, 5)]
        grid_took, grid = _walk(project, engine, sweep, trainings, tests)
        row_took, _ = _walk(project, engine, sweep, trainings[-1:], tests)
        engine.close()
        project.close()
        folds, sets = len(result.request.layouts[0].folds), max((f.tried for f in result.fits), default=0)
    return [measured(f"walk of {folds} folds, {sets} sets each, {BARS:,} bars", took, "s", "lower", 2,
                     f"the sweep of the same sets over the whole span: {alone:.2f} s"),
            measured(f"grid of {len(grid.request.cells)} pairs of lengths, {sets} sets each", grid_took, "s", "lower", 20,
                     f"{len(grid.request.spans)} fits for {sum(len(o.spans) for o in grid.request.layouts)} folds and "
                     f"numbers in force; the row of its longest training alone: {row_took:.1f} s")]
