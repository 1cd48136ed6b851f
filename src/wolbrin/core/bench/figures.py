"""What the benchmark measures in the core. Every figure stands beside a reference on the same data in the same run."""

from __future__ import annotations

import platform
import tempfile
import time
import tracemalloc
from collections.abc import Callable
from pathlib import Path

import numpy as np

from wolbrin.core.bench.data import bench_bars, bench_strategy
from wolbrin.core.bench.figure import Measured, measured
from wolbrin.core.bench.importing import import_figures
from wolbrin.core.bench.informed import informed_figures
from wolbrin.core.bench.many import discover_figures, pausing_figures, reading_figures
from wolbrin.core.bench.portfolios import account_figures, overlap_figures, weight_figures
from wolbrin.core.bench.proving import line_figures, path_figures
from wolbrin.core.bench.scans import scan_figures
from wolbrin.core.bench.shelf import shelf_figures
from wolbrin.core.bench.trials import trial_figures
from wolbrin.core.bench.walks import walk_figures
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.ledger import ledger
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.indicators.ta import talib
from wolbrin.core.jobs import Engine, cores
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.terms import Terms
from wolbrin.core.rules.axes import Axis
from wolbrin.core.rules.decide import decide
from wolbrin.core.rules.numbers import tunables
from wolbrin.core.store.project import Project
from wolbrin.core.work.sweep_luck import luck_job
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweeping import sweep_job


def median_time(act: Callable[[], object], runs: int = 15) -> float:
    """Median seconds of `runs` calls after one warm-up."""
    act()
    spent = []
    for _ in range(runs):
        began = time.perf_counter()
        act()
        spent.append(time.perf_counter() - began)
    return float(np.median(spent))


def memory_per_bar(act: Callable[[], object], size: int) -> float:
    """Bytes per bar allocated at the peak of one call, beyond what was there before it."""
    act()
    tracemalloc.start()
    try:
        held = act()
        peak = tracemalloc.get_traced_memory()[1]
    finally:
        tracemalloc.stop()
    del held
    return peak / size


def _of_size(size: int, runs: int) -> tuple[list[Measured], float]:
    """Figures of one backtest on so many bars, and its seconds with everything computed in the run."""
    one_side = bench_strategy("off")
    bars = bench_bars(size)
    brief = Brief(costs=Costs.of(bars.terms))
    close = bars.close
    ready = Prepared.of(bars)
    ema = median_time(lambda: talib.EMA(close, 20), 3 * runs)
    fresh = median_time(lambda: ledger(backtest(Prepared.of(bars), one_side, brief)), runs)
    stats = median_time(lambda: backtest(ready, one_side, brief, detail=False), runs)
    warm = median_time(lambda: ledger(backtest(ready, one_side, brief)), runs)
    beside = f"one TA-Lib EMA pass over the same {size:,} bars: {1e3 * ema:.3f} ms"
    unit = "x EMA pass"
    return [measured(f"backtest of 3 conditions, five indicators computed in the run, ledger, {size:,} bars", fresh / ema,
                     unit,
                     "lower", 8.0, beside),
            measured("the same, indicators at hand, statistics only", stats / ema, unit, "lower", 2.0, beside),
            measured("the same, indicators at hand, ledger", warm / ema, unit, "lower", 12.0, beside),
            measured("memory of such a run beyond its inputs", memory_per_bar(lambda: backtest(ready, one_side, brief), size),
                     "bytes a bar", "lower", 40.0, "prices and times of a bar: 48 bytes")], fresh


def backtest_figures() -> tuple[list[Measured], float]:
    """One backtest, on 100,000 and on 1,000,000 bars; and the seconds of one with signals at hand."""
    small, large = _of_size(100_000, 25), _of_size(1_000_000, 7)
    bars, both = bench_bars(100_000), bench_strategy()
    brief, ready = Brief(costs=Costs.of(bars.terms)), Prepared.of(bars)
    decisions = decide(ready.columns, both)
    bare = median_time(lambda: backtest(ready, both, brief, detail=False, decisions=decisions), 25)
    linear = measured("time of 1,000,000 bars over 100,000", large[1] / small[1], "x", "lower", 12.0,
                      "the first figure of each size")
    return [*small[0], *large[0], linear], bare


def core_figures(tell: Callable[[str], None] = lambda what: None) -> list[Measured]:
    """Measure everything that needs no window."""
    tell("one backtest")
    found, bare = backtest_figures()
    strategy = bench_strategy()
    bars = bench_bars(100_000)
    with tempfile.TemporaryDirectory() as folder:
        project = Project.create(Path(folder) / "bench")
        terms: Terms = bars.terms
        project.add_market(terms, bars, "bench")
        engine = Engine()
        single = Engine(1)
        numbers = tunables(strategy)
        pick = {t.key: t for t in numbers}
        axes = (Axis.spread("stop.amount", pick["stop.amount"].title, 1.0, 3.0, 0.25),
                Axis.spread("target.amount", pick["target.amount"].title, 1.0, 3.0, 0.25),
                Axis.spread("stop.length", pick["stop.length"].title, 10, 34, 1))
        tell("a sweep of 2,025 combinations")

        def sweep(on: Engine, over: tuple[Axis, ...] = axes) -> float:
            job, _ = sweep_job(project, SweepRequest(strategy, terms.code, bars.interval, over))
            began = time.perf_counter()
            on.start(job, "threads").wait()
            return time.perf_counter() - began

        sweep(engine)
        two, one = sweep(engine), sweep(single)
        exits = two
        found.append(measured("sweep of 2,025 sets of exits on 100,000 bars", two, "s", "lower", 0.5,
                              f"one backtest with signals at hand: {1e3 * bare:.2f} ms"))
        found.append(measured("the same sweep, all cores over one thread", one / two, "x", "higher", 1.75,
                              f"one thread: {one:.2f} s"))
        lengths = tuple(Axis.spread(f"long.entry.rows.0.{side}.params.length", side, low, low + 44, 1)
                        for side, low in (("left", 5), ("right", 50)))
        two, one = sweep(engine, lengths), sweep(single, lengths)
        found.append(measured("sweep of 2,025 sets that change indicator lengths", two, "s", "lower", 1.2,
                              "4,050 conditions and 90 averages among them"))
        found.append(measured("the same sweep, all cores over one thread", one / two, "x", "higher", 1.75,
                              f"one thread: {one:.2f} s"))
        tell("the luck of a sweep")
        job, swept = sweep_job(project, SweepRequest(strategy, terms.code, bars.interval, axes))
        engine.start(job, "threads").wait()
        began = time.perf_counter()
        engine.start(luck_job(project, swept, 10)[0], "threads").wait()
        found.append(measured("10 shuffles of the sweep of exits", time.perf_counter() - began, "s", "lower", None,
                              f"the sweep itself on all cores: {exits:.2f} s"))
        tell("Discover")
        tell("a scan")
        found += scan_figures(project, terms.code, bars.interval, engine)
        found += discover_figures(project, terms.code, bars.interval, engine, single)
        tell("from a market to finds that are ready")
        found += informed_figures(project, bars)
        engine.close()
        single.close()
        project.close()
    tell("reading a sweep, and luck")
    found += reading_figures()
    tell("shifted entries and a rehearsal")
    found += pausing_figures()
    tell("a Shelf of 100,000 candidates")
    found += shelf_figures()
    tell("a field trial of 2,400 tests")
    found += trial_figures()
    tell("walks and a grid of lengths")
    found += walk_figures()
    tell("overlap, weights and one account")
    found += [*account_figures(), *overlap_figures(), *weight_figures()]
    tell("an import of five million rows")
    found += import_figures()
    tell("Monte Carlo, and runs on other prices")
    found += path_figures()
    tell("the line of gates on a thousand finds")
    found += line_figures()
    return found


def page(figures: list[Measured]) -> str:
    """docs/benchmarks.md."""
    lines = ["# Benchmarks", "",
             "Written by `make bench`. Every figure stands beside a reference measured in the same run on the same data; "
             "compare ratios, not seconds, since machines differ and are noisy.", "",
             f"Machine: {platform.machine()}, {cores()} cores, Python "
             f"{platform.python_version()}, NumPy {np.__version__}.", "",
             "| figure | value | unit | better | reach | reference |", "|---|---:|---|---|---:|---|"]
    for f in figures:
        reach = "" if f.reach is None else f"{f.reach:g}"
        lines.append(f"| {f.name} | {f.value:.3g} | {f.unit} | {f.wanted} | {reach} | {f.reference} |")
    return "\n".join(lines) + "\n"
