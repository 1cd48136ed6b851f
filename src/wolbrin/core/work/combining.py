"""Runs of kept candidates for Overlap and Portfolio."""

from __future__ import annotations

from collections.abc import Callable

from wolbrin.core.engine.run import Run, backtest
from wolbrin.core.jobs import Chunk, Job
from wolbrin.core.store.dossier import Kept
from wolbrin.core.store.project import Project


def training_run(project: Project, kept: Kept) -> Run:
    """A kept candidate run again on the training span with the project's present costs and capital."""
    c = kept.candidate
    history = project.prepared(c.market, c.interval)
    return backtest(history, c.strategy, project.settings.brief(history.bars.terms))


def runs_job(project: Project, kept: list[Kept], notify: Callable[[list[Run]], None]) -> Job:
    """Run several candidates on threads; notify gets all runs, in order, once the last is done."""
    runs: list[Run] = []

    def commit(run: Run) -> None:
        runs.append(run)
        if len(runs) == len(kept):
            notify(runs)

    return Job("Running candidates", "candidates", [Chunk(one) for one in kept],
               lambda one: training_run(project, one), commit)
