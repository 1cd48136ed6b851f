"""Runs of kept candidates for Overlap and Portfolio."""

from __future__ import annotations

from collections.abc import Callable

from wolbrin.core.engine.run import Run, backtest, need_bars
from wolbrin.core.jobs import Chunk, Job
from wolbrin.core.store.dossier import Kept
from wolbrin.core.store.project import Project
from wolbrin.core.work.footing import Footing


def training_run(footing: Footing, kept: Kept) -> Run:
    """A kept candidate run again on its training span, under the project's costs and capital, so that parts add up."""
    c = kept.candidate
    history = footing.histories.prepared(c.market, c.interval)
    brief = footing.brief(history.bars.terms, kept.own)
    need_bars(history, brief.span)
    return backtest(history, c.strategy, brief)


def runs_job(project: Project, kept: list[Kept], notify: Callable[[list[Run]], None]) -> Job:
    """Run several candidates on threads; notify gets all runs, in order, once the last is done."""
    runs: list[Run] = []
    footing = Footing.of(project)

    def commit(run: Run) -> None:
        runs.append(run)
        if len(runs) == len(kept):
            notify(runs)

    return Job("Running candidates", "candidates", [Chunk(one) for one in kept],
               lambda one: training_run(footing, one), commit)
