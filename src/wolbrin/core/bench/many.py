"""How fast many candidates are tried: Discover, shifted entries, memory."""

from __future__ import annotations

import resource
import time

from wolbrin.core.bench.data import bench_bars
from wolbrin.core.bench.figure import Figure
from wolbrin.core.jobs import Engine
from wolbrin.core.search.grammar import Limits
from wolbrin.core.store.project import Project
from wolbrin.core.work.discovering import DiscoverRequest, discover_job


def _rate(project: Project, code: str, interval: int, engine: Engine, count: int, more: int) -> tuple[float, float]:
    """Candidates a second once the pool stands, and the seconds that it took: two searches of different length."""
    spent = []
    for size in (count, count + more):
        job, _ = discover_job(project, DiscoverRequest(code, interval, Limits(), size, 1))
        began = time.perf_counter()
        engine.start(job, "threads").wait()
        spent.append(time.perf_counter() - began)
    return more / max(1e-9, spent[1] - spent[0]), spent[0]


def discover_figures(project: Project, code: str, interval: int, engine: Engine, single: Engine) -> list[Figure]:
    """Discover with default limits on the project's 100,000 bars, and on 1,000,000."""
    _rate(project, code, interval, engine, 128, 128)  # everything is compiled
    both, pool = _rate(project, code, interval, engine, 256, 30_000)
    one, _ = _rate(project, code, interval, single, 256, 12_000)
    used = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024**2
    found = [Figure("Discover, candidates tested, default limits, pool of 5,000 conditions, 100,000 bars", both, "a second",
                    "higher", 8_000, f"the pool itself takes {pool:.1f} s once"),
             Figure("the same, all cores over one thread", both / one, "x", "higher", 1.75,
                    f"one thread: {one:,.0f} a second"),
             Figure("peak memory by then, all of the benchmark so far", used, "GiB", "lower", 0.8,
                    "prices and times of 100,000 bars: 5 MB")]
    bars = bench_bars(1_000_000)
    project.add_market(bars.terms.model_copy(update={"code": "LARGE"}), bars, "bench")
    rate, pool = _rate(project, "LARGE", interval, engine, 128, 3_000)
    found.append(Figure("the same on 1,000,000 bars", rate, "a second", "higher", 700,
                        f"the pool is held to its memory and takes {pool:.1f} s once"))
    return found
