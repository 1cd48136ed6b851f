"""Kept candidates side by side: their daily results for Overlap, their runs for Portfolio."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from wolbrin.core.engine.record import Record
from wolbrin.core.engine.run import Run, backtest, need_bars
from wolbrin.core.engine.version import engine_version
from wolbrin.core.jobs import Chunk, Job, Work
from wolbrin.core.store.project import Project
from wolbrin.core.store.series import Daily, unpack
from wolbrin.core.store.shelf import Kept
from wolbrin.core.work.footing import Footing


@dataclass(frozen=True)
class Series:
    """Daily results of a candidate under the present brief, and the record of the run they are of."""

    daily: Daily
    record: Record


def training_run(footing: Footing, kept: Kept) -> Run:
    """A kept candidate run again on its training span, under the project's costs and capital, so that parts add up."""
    c = kept.candidate
    history = footing.prepared(c.market, c.interval)
    brief = footing.brief(history.bars.terms, kept.own)
    need_bars(history, brief.span)
    return backtest(history, c.strategy, brief)


def daily_series(footing: Footing, kept: Kept) -> Series:
    """Daily results of a candidate: those kept with it where they are of the present brief, history and simulator, else of a
    new run."""
    c = kept.candidate
    history = footing.prepared(c.market, c.interval)
    record = c.record
    if (kept.packed is not None and record.whole and record.engine == engine_version() and record.history == history.bars.hash
            and record.brief == footing.brief(history.bars.terms, kept.own)):
        return Series(unpack(kept.packed), record)
    run = training_run(footing, kept)
    return Series(run.daily, run.record(tried=c.tried, seeds=record.seeds))


def _collected(project: Project, kept: list[Kept], evaluate: Callable[[Footing, Kept], Any], title: str,
               notify: Callable[[list[Any]], None]) -> Job:
    got: list[Any] = []

    def sink(one: Any) -> None:
        got.append(one)
        if len(got) == len(kept):
            notify(got)

    return Job(title, "candidates", [Chunk(one) for one in kept], Work(evaluate, Footing.of(project)), sink)


def series_job(project: Project, kept: list[Kept], notify: Callable[[list[Series]], None]) -> Job:
    """Daily results of several candidates; notify gets all, in order, once the last is there."""
    return _collected(project, kept, daily_series, "Reading daily results", notify)


def runs_job(project: Project, kept: list[Kept], notify: Callable[[list[Run]], None]) -> Job:
    """Run several candidates; notify gets all runs, in order, once the last is done."""
    return _collected(project, kept, training_run, "Running candidates", notify)
