"""How fast a field trial goes."""

from __future__ import annotations

import dataclasses
import tempfile
import time
from pathlib import Path

from wolbrin.core.bench.data import bench_bars
from wolbrin.core.bench.figure import Measured, measured
from wolbrin.core.jobs import Engine
from wolbrin.core.rules.conditions import shipped
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import Settings
from wolbrin.core.study.trial import CommonExit, field_rows
from wolbrin.core.work.trialing import TrialRequest, trial_job

MARKETS = 8
CONDITIONS = 150


def trial_figures() -> list[Measured]:
    """2,400 tests: 150 shipped conditions, long and short, on 8 markets of 100,000 bars; without shuffled histories. Every
    market is the same history under another code, so that each computes its own indicators. Then with one shuffle each."""
    bars = bench_bars(100_000)
    found = []
    with tempfile.TemporaryDirectory() as folder:
        settings = Settings(training_first="1990-01-01", holdout_first="2090-01-01",
                            last="2091-01-01")
        project = Project.create(Path(folder) / "bench", settings)
        for i in range(MARKETS):
            terms = bars.terms.model_copy(update={"code": f"M{i}"})
            project.add_market(terms, dataclasses.replace(bars, terms=terms), "bench")
        pairs = [(c.name, c.condition()) for c in shipped()]
        rows = field_rows(pairs, ["long", "short"], CommonExit())[:2 * CONDITIONS]
        columns = tuple((f"M{i}", bars.interval) for i in range(MARKETS))
        engine = Engine()

        def run(shuffles: int, on: tuple[tuple[str, int], ...]) -> float:
            job, _ = trial_job(project, TrialRequest(rows=tuple(rows), columns=on, shuffles=shuffles))
            began = time.perf_counter()
            engine.start(job, "threads").wait()
            return time.perf_counter() - began

        run(0, columns[:1])  # everything is compiled
        plain = run(0, columns)
        dealt = run(1, columns[:2])
        found.append(measured("field trial of 2,400 tests on 100,000 bars", plain, "s", "lower", 2.0,
                              f"{len(rows)} rules on {MARKETS} markets; {1e3 * plain / (len(rows) * MARKETS):.1f} ms a test"))
        found.append(measured("the same a test, with one shuffled history beside", 1e3 * dealt / (len(rows) * 2), "ms",
                              "lower",
                              None, "two tests and a share of the shuffling"))
        engine.close()
        project.close()
    return found
