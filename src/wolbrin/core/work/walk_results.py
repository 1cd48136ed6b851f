"""Walks as they are kept: fits, figures of cells, and the same cells on shuffled histories."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from threading import Lock
from typing import Any

import numpy as np

from wolbrin.core.engine.record import Record
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Floats, day_number, day_of
from wolbrin.core.search.walked import Fit
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches, matrix, search_read
from wolbrin.core.store.tables import Columns
from wolbrin.core.study.shuffle import DEALING
from wolbrin.core.work.briefs import brief_again
from wolbrin.core.work.walk_reading import Walked, walked
from wolbrin.core.work.walk_request import WalkRequest, lay_out
from wolbrin.core.work.walk_work import CellDone, LuckDone, columns_of

KIND = "walk"


def cells_table(request: WalkRequest) -> str:
    """The table of a walk's cells; of an extended walk one of its own."""
    return f"cells{_until(request)}"


def luck_table(request: WalkRequest) -> str:
    """The table of a walk's cells on shuffled histories; of an extended walk one of its own."""
    return f"shuffled {DEALING}{_until(request)}"


def _until(request: WalkRequest) -> str:
    return f" {request.view.until}" if request.view is not None and request.view.until is not None else ""



@dataclass
class WalkResult:
    """Grows as the walk does. fits: as many of the request's spans as were fitted, in their order. cells: figures by number,
    or why there are none (faults). luck: float64[shuffles, cells, columns]. search: its number in the project. unfinished: it
    can be gone on with."""

    request: WalkRequest
    record: Record | None = None
    search: int = 0
    fits: list[Fit] = field(default_factory=list)
    cells: dict[int, dict[str, float]] = field(default_factory=dict)
    faults: dict[int, str] = field(default_factory=dict)
    shuffles: int = 0
    unfinished: bool = False
    _luck: list[Floats] = field(default_factory=list, repr=False)
    _lock: Any = field(default_factory=Lock, repr=False, compare=False)

    @property
    def columns(self) -> tuple[str, ...]:
        return columns_of(self.request)

    @property
    def luck(self) -> Floats:
        """Figures of the cells on shuffled histories."""
        with self._lock:
            some = list(self._luck)
        return np.stack(some) if some else np.zeros((0, len(self.request.cells), len(self.columns)))

    def take_fits(self, fits: Sequence[Fit]) -> None:
        """Take fits in; on any thread."""
        with self._lock:
            self.fits = [*self.fits, *fits]

    def take_cell(self, done: CellDone) -> None:
        """Take a cell in."""
        with self._lock:
            if done.fault:
                self.faults = self.faults | {done.cell: done.fault}
            else:
                self.cells = self.cells | {done.cell: done.figures}

    def take_luck(self, figures: Floats) -> None:
        """Take a shuffled history in."""
        with self._lock:
            self._luck = [*self._luck, figures]

    @property
    def known(self) -> dict[Any, Fit]:
        """Fits by their training span."""
        return dict(zip(self.request.spans, self.fits))

    def complete(self, cell: int) -> bool:
        """Whether all fits of a cell are there."""
        known = self.known
        return not self.request.layouts[cell].fault and all(s in known for s in self.request.layouts[cell].spans)


def fit_columns(request: WalkRequest, fits: Sequence[Fit]) -> Columns:
    """Fits as rows of a table."""
    axes, measures = request.sweep.axes, request.sweep.measures
    nothing = (math.nan,) * len(axes)
    found: Columns = {"first": np.array([day_number(f.first) for f in fits], np.int64),
                      "last": np.array([day_number(f.last) for f in fits], np.int64),
                      "score": np.array([f.score for f in fits]), "tried": np.array([f.tried for f in fits], np.int64),
                      "why": np.array([f.why for f in fits], "U200")}
    for i, name in enumerate(request.sweep.columns):
        found[name] = np.array([(f.values or nothing)[i] for f in fits])
        found[f"low {name}"] = np.array([f.near[i][0] if f.near else math.nan for f in fits])
        found[f"high {name}"] = np.array([f.near[i][1] if f.near else math.nan for f in fits])
    return found | {key: np.array([f.figures.get(key, math.nan) for f in fits]) for key in measures}


def fits_of(request: WalkRequest, rows: Columns) -> list[Fit]:
    """Fits from their table."""
    names, measures, found = request.sweep.columns, request.sweep.measures, []
    if not rows:
        return []
    values, figures = matrix(rows, names), matrix(rows, measures)
    low, high = (matrix(rows, [f"{end} {n}" for n in names]) for end in ("low", "high"))
    for i in range(len(rows["first"])):
        chosen = np.isfinite(values[i]).all()
        found.append(Fit(day_of(int(rows["first"][i])), day_of(int(rows["last"][i])),
                         tuple(values[i].tolist()) if chosen else None,
                         dict(zip(measures, figures[i].tolist())) if chosen else {}, float(rows["score"][i]),
                         int(rows["tried"][i]), str(rows["why"][i]),
                         tuple(zip(low[i].tolist(), high[i].tolist())) if chosen else ()))
    return found


def cell_columns(request: WalkRequest, cells: Sequence[CellDone]) -> Columns:
    """Cells as rows of a table."""
    found: Columns = {"cell": np.array([c.cell for c in cells], np.int64),
                      "fault": np.array([c.fault for c in cells], "U400")}
    return found | {key: np.array([c.figures.get(key, math.nan) for c in cells]) for key in columns_of(request)}


def luck_columns(request: WalkRequest, done: Sequence[LuckDone]) -> Columns:
    """Shuffled histories as rows of a table, a row a cell."""
    cells = len(request.cells)
    found: Columns = {"shuffle": np.repeat(np.array([d.deal for d in done], np.int64), cells),
                      "cell": np.tile(np.arange(cells, dtype=np.int64), len(done))}
    table = np.concatenate([d.figures for d in done])
    return found | {key: table[:, i] for i, key in enumerate(columns_of(request))}


@search_read()
def read_walk(project: Project, search: int) -> WalkResult:
    """A walk as far as it came."""
    searches = Searches(project)
    stored = searches.asked(search, KIND)
    request = WalkRequest.from_json(stored.request)
    cursor = stored.cursor or {}
    shuffles = int(cursor.get("shuffles", 0)) if cursor.get("dealing") == DEALING else 0
    result = WalkResult(request, searches.record(search), search, shuffles=shuffles,
                        unfinished=stored.unfinished)
    result.take_fits(fits_of(request, searches.rows(search)))
    cells = searches.rows(search, cells_table(request))
    columns = result.columns
    for i in range(len(cells.get("cell", ()))):
        figures = {key: float(cells[key][i]) for key in columns if key in cells}
        result.take_cell(CellDone(int(cells["cell"][i]), figures, str(cells["fault"][i])))
    luck = searches.rows(search, luck_table(request))
    if luck:
        for table in matrix(luck, columns).reshape(-1, len(request.cells), len(columns)):
            result.take_luck(table)
    return result


def last_walk(project: Project) -> WalkResult | None:
    """The newest walk with results, as far as it came."""
    id = Searches(project).last(KIND)
    return read_walk(project, id) if id is not None else None


def walk_of(project: Project, result: WalkResult, cell: int = 0) -> Walked:
    """One cell, run again from its fits.

    Raises:
        UserError: its folds do not fit, a fit is missing, or the history has changed since.
    """
    request = result.request
    if request.layouts[cell].fault and request.view is not None:
        lay_out(request.view, request.cells[cell])  # says why
    if not result.complete(cell):
        raise UserError(f"{len(result.fits)} of {len(request.spans)} fits are there, not all of this walk", request.title,
                        "Go on with it.")
    brief = brief_again(project, result.record, request.sweep.market, request.sweep.interval)
    history = project.prepared(request.sweep.market, request.sweep.interval)
    return walked(request, cell, result.known, history, brief)

