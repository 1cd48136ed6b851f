"""What the Walk-forward page is about: the walk that runs or ran last, the pair of lengths that is looked at, how it
reads. Knows no widget."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QTimer, Signal

from wolbrin.app.searching import SearchState
from wolbrin.app.session import Session
from wolbrin.core.errors import WolbrinError
from wolbrin.core.export.steps import export_job
from wolbrin.core.export.tables import table_steps
from wolbrin.core.jobs import Job
from wolbrin.core.search.walked import FoldResult
from wolbrin.core.work.walk_answer import fold_table
from wolbrin.core.work.walk_grid import USUAL, Grid, grid_of_result, luck_words
from wolbrin.core.work.walk_reading import Walked, training_of
from wolbrin.core.work.walk_request import WalkRequest
from wolbrin.core.work.walk_results import KIND, WalkResult, last_walk, read_walk, walk_of
from wolbrin.core.work.walk_schedule import candidate_from_walk, fit_due, named_walk
from wolbrin.core.work.walking import extend_walk, resume_walk, walk_job

USUAL_SHUFFLES = 20


class WalkState(SearchState):
    """taken: another walk is shown; grown: it has more fits or cells, or ended; was_read: the cell that is looked at was run
    again, or cannot be (fault); fold_read: a fold, and the run of its numbers over its training;
    judged: what shuffled histories say was read."""

    taken = Signal()
    grown = Signal()
    was_read = Signal()
    fold_read = Signal(object, object)
    judged = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.result: WalkResult | None = None
        self.grid: Grid | None = None
        self.figure = USUAL
        self.cell = -1  # -1: the center of the region that works
        self.walked: Walked | None = None
        self.fault = ""
        self.luck = ""  # what shuffled histories say, in words
        self._luck_of: tuple[int, int, int, str] | None = None
        self._timer = QTimer(self, singleShot=True)
        self._timer.timeout.connect(self._read)
        session.resumed.connect(self._resumed)
        session.grown.connect(lambda kind, result: self._grown(result) if kind == KIND else None)

    # Running

    def _free(self) -> bool:
        if self.running:
            self.session.note("A walk is running; stop it first.", "caution")
        return not self.running

    def start(self, request: WalkRequest, shuffles: int = 0) -> bool:
        """Walk in the background; whether it began."""
        s = self.session
        return self._free() and self._begin(lambda: walk_job(s.project, request, shuffles, s.on_ui(self._grown)))

    def _begin(self, make: Callable[[], tuple[Job, WalkResult]]) -> bool:
        made = self.session.attempt(make)
        if made is None:
            return False
        self._show(*made)
        self.session.start(made[0], "threads", lambda job: self._grown(made[1]))
        return True

    def more_luck(self) -> None:
        """Walk so many further shuffled histories."""
        s, result = self.session, self.result
        if result is not None and self._free():
            self._begin(lambda: resume_walk(s.project, result.search, s.on_ui(self._grown), USUAL_SHUFFLES))

    def extend(self) -> None:
        """Make the fits that have come due for the walk shown."""
        s, result = self.session, self.result
        if result is None or not self._free():
            return
        found = s.attempt(lambda: extend_walk(s.project, result.search, s.on_ui(self._grown)))
        if found is None:
            return
        job, grown, missing = found
        s.note(f"{missing} fit{'s are' if missing != 1 else ' is'} due." if missing else
               "Nothing is due in the training view yet.")
        self._show(job, grown)
        s.start(job, "threads", lambda _: self._grown(grown))

    def extend_strategy(self) -> None:
        """Make the fits that have come due for the current strategy's dated numbers, and append them."""
        s = self.session
        strategy, own = s.strategy, s.own
        if strategy.schedule is None:
            s.note(f"{strategy.name} has no dated numbers. Walk it, and keep the dated strategy.", "caution")
            return

        def work() -> Any:
            try:
                return fit_due(s.project, strategy, own)
            except WolbrinError as err:
                return err

        def done(found: Any) -> None:
            if isinstance(found, WolbrinError):
                s.note(found.sentence(), "error", found.door)
                return
            made, words = found
            if made.added and s.strategy == strategy:
                s.edit(made.strategy, "fit what is due")
            s.note(f"{strategy.name}: {words}")

        s.compute("Fit what is due", work, done, "due fits")

    def restore(self) -> None:
        """Show the last walk of the project again."""
        self._open("Read the last walk", lambda: last_walk(self.session.project), only_first=True)

    def open(self, search: int) -> None:
        """Show a kept walk."""
        if self._free():
            self._open("Read a walk", lambda: read_walk(self.session.project, search))

    def _open(self, title: str, function: Callable[[], WalkResult | None], only_first: bool = False) -> None:
        def done(found: WalkResult | None) -> None:
            if found is not None and not (only_first and self.result is not None):
                self._show(None, found)

        self.session.compute(title, function, done)

    def _resumed(self, kind: str, job: Job, result: Any) -> None:
        if kind == KIND:
            self.take(job, result)

    def take(self, job: Job, result: WalkResult) -> None:
        """Show a walk that goes on."""
        self._show(job, result)

    def _show(self, job: Job | None, result: WalkResult) -> None:
        self.job, self.result = job, result
        self.walked, self.grid, self.cell, self.fault = None, None, -1, ""
        self.luck, self._luck_of = "", None
        self.taken.emit()
        self._grown(result)

    def _grown(self, result: WalkResult) -> None:
        if result is self.result:
            self.grid = grid_of_result(result, self.figure)
            self.grown.emit()
            self.session.counts_changed.emit()
            self._timer.start(20)
            self._read_luck()

    # Reading

    def choose(self, cell: int) -> None:
        """Look at another pair of lengths."""
        self.cell = cell
        self._timer.start(1)

    def compare_by(self, figure: str) -> None:
        """Color the grid by another figure."""
        self.figure = figure
        if self.result is not None:
            self.grid, self.luck = grid_of_result(self.result, figure), ""
            self.grown.emit()
            self._read_luck()

    @property
    def looked_at(self) -> int:
        """The cell that is shown: the one chosen, else the center of the region that works, else any that is there."""
        if self.cell >= 0 or self.result is None:
            return max(self.cell, 0)
        grid, result = self.grid, self.result
        there = [c for c in range(len(result.request.cells)) if result.complete(c)]
        wanted = [c for c in (grid.center, grid.best) if c in there] if grid is not None else []
        return (wanted or there or [0])[0]

    def _read(self) -> None:
        result = self.result
        if result is None:
            return
        cell, s = self.looked_at, self.session
        if not result.complete(cell) and not result.request.layouts[cell].fault:
            return  # there is more to come

        def work() -> Walked:
            made = walk_of(s.project, result, cell)
            _ = made.figures, made.unwalked, made.hindsight  # worked out here, not where they are shown
            return made

        def done(found: Walked | None, why: str = "") -> None:
            if result is self.result:
                self.walked, self.fault = found, why
                self.was_read.emit()

        s.compute("Read the walk", work, done, "walk", lambda err: done(None, err.sentence()))

    def look_at(self, fold: FoldResult) -> None:
        """Run a fold's numbers over its training span, to be drawn before its test."""
        walked, s = self.walked, self.session
        if walked is None or fold.fit.values is None:
            return

        def done(run: Any) -> None:
            if walked is self.walked:
                self.fold_read.emit(fold, run)

        s.compute("Read a fold", lambda: training_of(walked, fold), done, "fold")

    def _read_luck(self) -> None:
        """Say in words what shuffled histories show, once there are more of them or another figure is asked."""
        result, figure = self.result, self.figure
        if result is None:
            return
        asked = result.search, len(result.luck), len(result.cells), figure
        if asked == self._luck_of:
            return
        self._luck_of = asked

        def done(words: str) -> None:
            if result is self.result and figure == self.figure:
                self.luck = words
                self.judged.emit()

        self.session.compute("Read the luck of a walk", lambda: luck_words(result, figure), done, "walk luck")

    # What is done with it

    def _walked(self) -> Walked | None:
        if self.walked is None:
            self.session.note("There is no walk to keep yet.", "caution")
        return self.walked

    def keep_dated(self) -> None:
        """Keep the strategy with its dated numbers among the strategies, and open it."""
        walked, s = self._walked(), self.session
        if walked is None:
            return
        sweep = walked.request.sweep
        id = s.attempt(lambda: s.add_strategy(named_walk(walked), sweep.market, sweep.interval, own=sweep.own))
        if id is not None:
            s.note(f"{s.strategy.name} trades the dated numbers; Backtest shows it.")

    def keep_on_shelf(self) -> None:
        """Put the dated strategy on the Shelf."""
        walked, s, result = self._walked(), self.session, self.result
        if walked is None or result is None:
            return
        made = s.attempt(lambda: candidate_from_walk(s.project, walked))
        if made is not None:
            kept = s.attempt(lambda: s.shelf.keep(made, result.search, own=result.request.sweep.own))
            s.note(f"{made.name} is on the Shelf{'' if kept else ' already'}.")
            s.shelf_changed.emit()
            s.counts_changed.emit()

    def export(self, path: Path) -> None:
        """Write the folds to a file, in the background."""
        walked = self._walked()
        if walked is not None:
            self.session.start(export_job(path, table_steps(lambda: fold_table(walked), path, "folds")), "threads")
