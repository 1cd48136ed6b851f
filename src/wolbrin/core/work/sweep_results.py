"""Sweeps as they are kept: rows, daily results, and those that they refine."""

from __future__ import annotations

from dataclasses import dataclass, field
from threading import Lock
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch.many import NO_DAYS, Days
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.record import Record
from wolbrin.core.engine.version import engine_version
from wolbrin.core.rules.axes import variant
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import DAILY, Searches, matrix, search_read
from wolbrin.core.store.tables import Columns
from wolbrin.core.work.briefs import brief_again
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.sweep_request import Place, SweepRequest
from wolbrin.core.work.sweep_work import Question, questions_of

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
KIND, COLUMN = "sweep", "sweep place"
DAYS, REFUSED, SUMS = "days", "refused", "sums"


@dataclass
class SweepResult:
    """Grows as the sweep does. settings: float64[n, axes]; figures: float64[n, len(request.measures)]; as many rows as
    `count`. record: what made it; None where the brief was not recorded; records: by market and interval, where there are
    several. refused: sets that the model does not allow. search: its number in the project; total: sets in all; unfinished:
    it can be gone on with. older: sweeps that this one refines or extends."""

    request: SweepRequest
    record: Record | None = None
    search: int = 0
    total: int = 0
    refused: int = 0
    unfinished: bool = False
    records: dict[tuple[str, int], Record] = field(default_factory=dict)
    refused_sets: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    older: list[SweepResult] = field(default_factory=list)
    _parts: list[tuple[Floats, Floats]] = field(default_factory=list, repr=False)
    _lock: Any = field(default_factory=Lock, repr=False, compare=False)

    @property
    def count(self) -> int:
        """Sets that were tried."""
        return sum(len(s) for s, _ in self._parts)

    def add(self, settings: Floats, figures: Floats) -> None:
        """Take rows in; on any thread."""
        if len(settings):
            with self._lock:
                self._parts.append((settings, figures))

    def table(self) -> tuple[Floats, Floats]:
        """All rows; on any thread."""
        with self._lock:
            if len(self._parts) > 1:
                self._parts = [(np.concatenate([s for s, _ in self._parts]), np.concatenate([f for _, f in self._parts]))]
            if self._parts:
                return self._parts[0]
        return np.zeros((0, len(self.request.axes))), np.zeros((0, len(self.request.measures)))

    def record_of(self, place: Place) -> Record | None:
        """What made the rows of a place."""
        return self.records.get((place.market, place.interval), self.record)


def named_columns(request: SweepRequest, settings: Floats, figures: Floats | None) -> Columns:
    named = {name: settings[:, i] for i, name in enumerate(request.columns)}
    return named if figures is None else named | {key: figures[:, i] for i, key in enumerate(request.measures)}


def daily_table(request: SweepRequest, market: str, name: str = DAILY) -> str:
    """The table that holds daily results (or their days) of a market's sets."""
    return name if len(request.markets) == 1 else f"{name} {market}"


@search_read()
def read_sweep(project: Project, search: int, *, with_older: bool = True) -> SweepResult:
    """A sweep as far as it came; measures that were not stored then have no value."""
    searches = Searches(project)
    stored, rows = searches.asked(search, "sweep"), searches.rows(search)
    request = SweepRequest.from_json(stored.request).named(stored.title)
    cursor = stored.cursor or {}
    result = SweepResult(request, searches.record(search), search, cursor.get("total", request.space.size),
                         cursor.get("refused", 0), stored.unfinished)
    result.add(matrix(rows, request.columns), matrix(rows, request.measures))
    result.refused_sets = searches.rows(search, REFUSED).get("set", result.refused_sets)
    for r in project.rows("SELECT id, market, interval FROM searches WHERE kind = ? AND json_extract(request, '$.sweep') = ?",
                          COLUMN, search):
        record = searches.record(r["id"])
        if record is not None:
            result.records[r["market"], r["interval"]] = record
    base = request.base
    while with_older and base and len(result.older) < 20:
        result.older.append(read_sweep(project, base, with_older=False))
        base = result.older[-1].request.base
    return result


def last_sweep(project: Project) -> SweepResult | None:
    """The newest sweep with results, as far as it came."""
    id = Searches(project).last(KIND)
    return read_sweep(project, id) if id is not None else None


def questions_again(project: Project, footing: Footing, result: SweepResult) -> dict[
        tuple[str, int], tuple[Prepared, Question]]:
    """The questions of a sweep as it asked them, whatever is set by now. Raises UserError where they cannot be asked
    again."""
    places = {(p.market, p.interval): p for p in reversed(result.request.places)}
    briefs = {at: brief_again(project, result.record_of(place), *at, same_engine=True) for at, place in places.items()}
    return questions_of(footing, result.request, briefs)


@search_read()
def daily_of_sweep(project: Project, search: int, market: str = "") -> tuple[Days, Columns]:
    """Daily results that a sweep kept of a market, the first where none is named: trading dates int32[d], and a table of the
    sets with `daily`, float32[n, d]."""
    searches = Searches(project)
    request = SweepRequest.from_json(searches.get(search).request)
    market = market or request.markets[0]
    return (searches.rows(search, daily_table(request, market, DAYS)).get("day", NO_DAYS),
            searches.rows(search, daily_table(request, market)))


def _kinds(request: SweepRequest) -> dict[str, Any]:
    return {a.key: (a.kind, a.links, a.names) for a in request.axes}


def older_than(project: Project, request: SweepRequest,
               questions: dict[tuple[str, int], tuple[Prepared, Question]]) -> list[SweepResult]:
    """The sweeps that a request refines or extends, newest first, as far as they asked the same question."""
    found: list[SweepResult] = []
    base = request.base
    while base and len(found) < 20:
        one = read_sweep(project, base, with_older=False)
        r = one.request
        same = _kinds(r) == _kinds(request)
        probe = tuple(a.values[0] for a in request.axes)
        mine, its = (variant(s.strategy, request.axes, probe) for s in (request, r))
        if not same or mine is None or its is None or mine.model_copy(update={"name": ""}) != its.model_copy(
                update={"name": ""}) or r.own != request.own:
            break
        if any((record := one.record_of(Place(*p))) is None or not record.whole or record.history != h.bars.hash
               or record.engine != engine_version() or record.brief != g.brief for p, (h, g) in questions.items()):
            break
        found.append(one)
        base = r.base
    return found


def reused_by(request: SweepRequest, older: list[SweepResult]) -> tuple[Ints, Floats]:
    """Sets of the grid that older sweeps have simulated already, with all measures asked now."""
    at, figures = np.zeros(0, np.int64), np.zeros((0, len(request.measures)))
    for one in older:
        mine = {a.key: i for i, a in enumerate(one.request.axes)}
        settings, known = one.table()
        if not set(request.measures) <= set(one.request.measures) or not len(settings):
            continue
        numbers = request.space.find(settings[:, [mine[a.key] for a in request.axes]])
        fit = (numbers >= 0) & ~np.isin(numbers, at)
        fit[fit] &= request.space.allowed(numbers[fit])
        columns = [one.request.measures.index(m) for m in request.measures]
        at, figures = np.concatenate([at, numbers[fit]]), np.concatenate([figures, known[fit][:, columns]])
    return at, figures
