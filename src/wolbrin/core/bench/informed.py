"""How long the way is from a market to finds that are ready, by default settings."""

from __future__ import annotations

import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path

from wolbrin.core.bench.figure import Measured, measured
from wolbrin.core.jobs import Engine, State
from wolbrin.core.market.bars import Bars
from wolbrin.core.store.project import Project
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.study.perturb import planted
from wolbrin.core.work.discover_request import USUAL_CONTROLS, USUAL_COUNT, DiscoverRequest, usual_limits
from wolbrin.core.work.discover_results import DiscoverResult
from wolbrin.core.work.discovering import discover_job
from wolbrin.core.work.finding_families import families_in
from wolbrin.core.work.proving import prove_job
from wolbrin.core.work.subject import Subject

CODE, SHARPE = "EDGE", 12.0  # a year, of the planted drift alone
SECOND = "import sys; from wolbrin.core.bench.informed import alone; alone(*sys.argv[1:])"


def _search(project: Project, engine: Engine, code: str, interval: int) -> tuple[float, float, DiscoverResult]:
    """Seconds until anything was tried, and to the end of an informed search with all that is usual."""
    first: list[float] = []
    began = time.perf_counter()

    def come(result: DiscoverResult) -> None:
        if result.tried and not first:
            first.append(time.perf_counter() - began)

    job, result = discover_job(project, DiscoverRequest(
        ((code, interval),), usual_limits("informed"), method="informed", count=USUAL_COUNT["informed"],
        controls=USUAL_CONTROLS["informed"]), come)
    if engine.start(job, "threads").wait() is State.FAILED and job.error is not None:
        raise job.error
    return first[0] if first else 0.0, time.perf_counter() - began, result


def alone(folder: str, code: str, interval: str) -> None:
    """Search and prove in a process of its own; print seconds to the first candidate, of the search and of the line, peak
    memory in KiB, what was tried and kept, families, and how many are ready."""
    project, engine = Project(Path(folder)), Engine()
    first, whole, result = _search(project, engine, code, int(interval))
    leads = [f.leads for f in families_in(project, result.search).families]
    began = time.perf_counter()
    if leads:
        job = prove_job(project, [Subject.of(k) for k in Shelf(project).bodies(leads)], open_holdout=False)
        engine.start(job, "threads").wait()
    proved = time.perf_counter() - began
    engine.close()
    ready = sum(line.stands == "ready" for line in Shelf(project).lines(leads))
    told = Path("/proc/self/status").read_text(encoding="ascii", errors="replace")
    peak = next(line.split()[1] for line in told.splitlines() if line.startswith("VmHWM"))
    print(first, whole, proved, peak, result.tried, result.kept, len(leads), ready)
    project.close()


def informed_figures(project: Project, bars: Bars) -> list[Measured]:
    """From 100,000 bars to finds that are ready: with a drift planted in them, and without."""
    terms = bars.terms.model_copy(update={"code": CODE})
    edge = planted(bars, (1, 36), SHARPE)
    project.add_market(terms, replace(edge, terms=terms), "bench")
    return _figures(project, CODE, bars.interval, "an edge planted") + _figures(project, bars.terms.code, bars.interval,
                                                                                "no edge")[:1]


def _figures(project: Project, code: str, interval: int, what: str) -> list[Measured]:
    told = subprocess.run([sys.executable, "-c", SECOND, str(project.folder), code, str(interval)], capture_output=True,
                          text=True, check=True)
    first, whole, proved, peak, tried, kept, families, ready = (float(x) for x in told.stdout.split()[-8:])
    words = f"{tried:,.0f} tried, {kept:,.0f} kept, {families:,.0f} families, {ready:,.0f} ready; the line {proved:.0f} s"
    return [measured(f"from a market of 100,000 bars to finds that are ready, informed, default settings, {what}",
                     whole + proved, "s", "lower", 60, words),
            measured("the same, until the first candidates were tried", first, "s", "lower", None, "rows are looked at "
                     "first"),
            measured("peak memory of a process that does it", peak / 1024**2, "GiB", "lower", 1.0, "history and 4 controls")]
