"""Kept candidates side by side: their daily results, from where they are stored or from new runs."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from wolbrin.core.engine.record import Record, read_record
from wolbrin.core.engine.run import Run, backtest, need_bars
from wolbrin.core.engine.version import engine_version
from wolbrin.core.jobs import Chunk, Job, check_stopped
from wolbrin.core.portfolio.sampling import Series
from wolbrin.core.store.project import Project
from wolbrin.core.store.series import unpack_all
from wolbrin.core.store.settings import OwnSpan
from wolbrin.core.store.shelf import Kept, Shelf, Stored
from wolbrin.core.work.footing import Footing

AT_ONCE = 50
OF_ITSELF = ("strategy", "tried", "seeds", "fill", "flat_by_session_end", "own_indicators", "histories")


@dataclass(frozen=True)
class Known:
    """Daily results of a candidate under the present brief, and the record of the run they are of."""

    id: int
    name: str
    hash: str
    market: str
    interval: int
    family: str
    series: Series
    record: Record


def training_run(footing: Footing, kept: Kept) -> Run:
    """A kept candidate run again on its training span, under the project's costs and capital, so that parts add up."""
    c = kept.candidate
    history = footing.prepared(c.market, c.interval)
    brief = footing.brief(history.bars.terms, kept.own)
    need_bars(history, brief.span)
    return backtest(history, c.strategy, brief)


def run_again(footing: Footing, kept: Kept) -> Known:
    """Daily results of a candidate from a new run."""
    run, c = training_run(footing, kept), kept.candidate
    return Known(kept.id, c.name, kept.hash, c.market, c.interval, "", Series(*run.daily, run.daily_share),
                 run.record(tried=c.tried, seeds=c.record.seeds))


class _Present:
    """Whether stored results are of the present brief, history and simulator."""

    def __init__(self, footing: Footing) -> None:
        self.footing = footing
        self._told: dict[tuple[str, int, str | None, str], bool] = {}

    def holds(self, one: Stored, data: dict[str, Any]) -> bool:
        """Candidates of one search differ by their rules alone, so that most are told by one look."""
        frame = json.dumps({k: v for k, v in data.items() if k not in OF_ITSELF}, sort_keys=True)
        key = one.market, one.interval, one.span, frame
        if key not in self._told:
            record = read_record(data, one.name)
            history = self.footing.prepared(one.market, one.interval)
            own = OwnSpan.model_validate_json(one.span) if one.span else None
            self._told[key] = (record.whole and record.engine == engine_version() and record.history == history.bars.hash
                               and record.brief == self.footing.brief(history.bars.terms, own))
        return self._told[key]


def stored_series(project: Project, footing: Footing, ids: Sequence[int]) -> tuple[list[Known], list[int]]:
    """Daily results that are at hand, and ids of those that must be run again."""
    known, missing, present = [], [], _Present(footing)
    for one in Shelf(project).stored(ids):
        data = json.loads(one.record)
        if one.packed is None or not present.holds(one, data):
            missing.append(one.id)
            continue
        known.append(Known(one.id, one.name, one.hash, one.market, one.interval, one.family,
                           Series(*unpack_all(one.packed)), read_record(data, one.name)))
    return known, missing


def series_of(project: Project, footing: Footing, ids: Sequence[int]) -> list[Known]:
    """Daily results of candidates, in the order of `ids`; those that are not at hand are run again."""
    known, missing = stored_series(project, footing, ids)
    got = {one.id: one for one in known}
    if missing:
        shelf = Shelf(project)
        families = {one.id: one.family for one in shelf.stored(missing)}
        for kept in shelf.bodies(missing):
            check_stopped()
            got[kept.id] = replace(run_again(footing, kept), family=families.get(kept.id, ""))
    return [got[i] for i in ids if i in got]


def series_job(project: Project, ids: Sequence[int], notify: Callable[[list[Known]], None]) -> Job:
    """Daily results of candidates, in the order of `ids`; notify gets all once the last is there."""
    footing, got = Footing.of(project), list[Known]()
    wanted = [int(i) for i in ids]
    parts = [wanted[i:i + AT_ONCE] for i in range(0, len(wanted), AT_ONCE)]

    def sink(some: list[Known]) -> None:
        got.extend(some)
        parts.pop()
        if not parts:
            notify(got)

    return Job("Reading daily results", "candidates", [Chunk(tuple(p), len(p)) for p in parts],
               lambda some: series_of(project, footing, some), sink)
