"""What the Sweep place is about: the sweep that runs or ran last. Knows no widget."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, Signal

from wolbrin.app.session import Session
from wolbrin.app.tables.matrix import Arrangement
from wolbrin.core.errors import WolbrinError
from wolbrin.core.jobs import Job
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.rules.axes import Axis, Values, variant
from wolbrin.core.search.maps import heat
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweep_results import KIND, SweepResult, last_sweep
from wolbrin.core.work.sweep_sets import candidate_from_sweep
from wolbrin.core.work.sweeping import sweep_job

Floats = NDArray[np.float64]


class SweepState(QObject):
    """taken: another sweep is shown; grown: it has more rows, or ended; mapped: the map asked for is there;
    arranged: so are its rows (float64[n, axes + SUMMARY]), their order, and the arrangement that is of."""

    taken = Signal()
    grown = Signal()
    mapped = Signal(object)
    arranged = Signal(object, object, object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.result: SweepResult | None = None
        self.job: Job | None = None
        session.resumed.connect(self._resumed)
        session.grown.connect(lambda kind, result: self._grown(result) if kind == KIND else None)

    @property
    def running(self) -> bool:
        return self.job is not None and not self.job.state.over

    @property
    def unfinished(self) -> bool:
        """Whether the sweep shown can be gone on with."""
        return self.result is not None and self.result.unfinished and not self.running

    def start(self, axes: tuple[Axis, ...]) -> None:
        """Test every combination in the background."""
        s = self.session
        if self.running:
            s.note("A sweep is running; stop it first.", "caution")
            return
        request = SweepRequest(s.strategy, s.market, s.interval, axes, s.own)
        made = s.attempt(lambda: sweep_job(s.project, request, s.on_ui(self._grown)))
        if made is not None:
            self._show(*made)
            s.start(made[0], "threads", lambda _: self._grown(made[1]))

    def go_on(self) -> None:
        """Go on with the sweep shown."""
        if self.unfinished and self.result is not None:
            self.session.go_on(self.result.search)

    def restore(self) -> None:
        """Show the last sweep of the project again, read beside the window."""
        s = self.session

        def work() -> SweepResult | WolbrinError | None:
            try:
                return last_sweep(s.project)
            except WolbrinError as err:
                return err

        def done(found: SweepResult | WolbrinError | None) -> None:
            if isinstance(found, WolbrinError):
                s.note(found.sentence(), "error")
            elif found is not None and self.result is None:
                self._show(None, found)

        s.compute("Read the last sweep", work, done)

    def _resumed(self, kind: str, job: Job, result: Any) -> None:
        if kind == KIND:
            self._show(job, result)

    def _show(self, job: Job | None, result: SweepResult) -> None:
        self.job, self.result = job, result
        self.taken.emit()
        self.grown.emit()

    def _grown(self, result: SweepResult) -> None:
        if result is self.result:
            self.grown.emit()
            self.session.counts_changed.emit()

    # What is shown

    def arrange(self, how: Arrangement) -> None:
        """Put settings and figures side by side and in order, beside the window."""
        result = self.result
        if result is None:
            return

        def work() -> tuple[Floats, Any]:
            values = np.hstack(result.table())
            return values, how.of(values)

        def done(made: tuple[Floats, Any]) -> None:
            if result is self.result:
                self.arranged.emit(*made, how)

        self.session.compute("Sweep table", work, done, "sweep table")

    def draw_map(self, x: int, y: int, key: str) -> None:
        """Work out a measure over axes x and y beside the window."""
        result = self.result
        if result is None or not result.count:
            return
        settings, figures = result.table()
        axes = result.request.axes
        self.session.compute("Heat map", lambda: heat(settings, figures[:, SUMMARY.index(key)], axes[x].values,
                                                      axes[y].values if x != y else (0.0,), x, y),
                             self.mapped.emit, "heat map")

    def best_in(self, rows: Floats, x: int, y: int, column: float, row: float, key: str) -> int | None:
        """Of rows as `arrange` gives them, the position of the best by a measure in one cell of the map."""
        assert self.result is not None
        fit = rows[:, x] == column
        if x != y:
            fit &= rows[:, y] == row
        at = np.flatnonzero(fit)
        if not len(at):
            return None
        values = rows[at, len(self.result.request.axes) + SUMMARY.index(key)]
        return int(at[np.argmax(np.where(np.isnan(values), -math.inf, values))])

    # What is done with a set

    def apply(self, values: Values | None) -> None:
        """Give the strategy the numbers of a set."""
        s, result = self.session, self.result
        if values is None or result is None:
            s.note("Choose a set in the table or on the map first.", "caution")
            return
        made = s.attempt(lambda: variant(s.strategy, result.request.axes, values))
        if made is None:
            s.note("The strategy has changed since and does not take these numbers any more.", "error")
            return
        s.edit(made, "apply a sweep result")
        s.note(f"{s.strategy.name} now has the chosen numbers.")

    def keep(self, values: Values | None) -> None:
        """Put a set on the Shelf."""
        s, result = self.session, self.result
        if values is None or result is None:
            s.note("Choose a set in the table or on the map first.", "caution")
            return

        def work() -> Any:
            try:
                return candidate_from_sweep(s.project, result, values)
            except WolbrinError as err:
                return err

        def done(candidate: Any) -> None:
            if isinstance(candidate, WolbrinError):
                s.note(candidate.sentence(), "error", candidate.door)
                return
            id = s.shelf.keep(candidate, own=result.request.own)
            s.note(f"{candidate.name} is on the Shelf." if id else f"{candidate.name} was on the Shelf already.")
            s.shelf_changed.emit()
            s.counts_changed.emit()

        s.compute("Keep", work, done)
