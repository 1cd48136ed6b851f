"""What the Sweep place is about: the sweep that runs or ran last, how it reads, and which sets are looked at. Knows no
widget."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QTimer, Signal

from wolbrin.app.searching import SearchState
from wolbrin.app.session import Session
from wolbrin.core.errors import WolbrinError
from wolbrin.core.export.steps import export_job
from wolbrin.core.export.tables import table_steps
from wolbrin.core.jobs import Job, State
from wolbrin.core.rules.axes import Values
from wolbrin.core.work.sweep_answer import table_of
from wolbrin.core.work.sweep_luck import KIND as LUCK
from wolbrin.core.work.sweep_luck import USUAL, LuckResult, luck_job, read_luck
from wolbrin.core.work.sweep_reading import Reading, extended, read, zoomed
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweep_results import KIND, SweepResult, last_sweep, read_sweep
from wolbrin.core.work.sweep_sets import ParameterSet, candidate_from_sweep, read_parameters, strategy_of
from wolbrin.core.work.sweep_statistics import Statistics, statistics
from wolbrin.core.work.sweeping import sweep_job

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
LONG_LUCK = 900.0  # seconds beyond which luck waits to be asked for
REST = 0.25  # seconds between two readings of a sweep that runs, at least


@dataclass(frozen=True)
class Seen:
    """What table and pictures show together. rows: those that pass the filters, in order; chosen: one of all rows, -1 for
    none; marked, pinned: further ones."""

    reading: Reading
    rows: Ints
    chosen: int = -1
    marked: tuple[int, ...] = ()
    pinned: tuple[int, ...] = ()


class SweepState(SearchState):
    """taken: another sweep is shown; grown: it has more rows, or ended; was_read: how it reads now; judged: luck or
    statistics moved; seen_changed: other rows are filtered, chosen or pinned."""

    taken = Signal()
    grown = Signal()
    was_read = Signal()
    judged = Signal()
    seen_changed = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.result: SweepResult | None = None
        self.reading: Reading | None = None
        self.luck: LuckResult | None = None
        self.luck_running: Job | None = None
        self.statistics: Statistics | None = None
        self.market = ""
        self.not_judged = ""  # why there are no statistics
        self.seen: Seen | None = None
        self._reading = self._again = self._by_hand = False
        self._began = 0.0
        self._timer = QTimer(self, singleShot=True)
        self._timer.timeout.connect(self._read)
        session.resumed.connect(self._resumed)
        session.grown.connect(self._more)

    # Running

    def start(self, request: SweepRequest) -> bool:
        """Run a sweep in the background; whether it began."""
        s = self.session
        if self.running:
            s.note("A sweep is running; stop it first.", "caution")
            return False
        made = s.attempt(lambda: sweep_job(s.project, request, s.on_ui(self._grown)))
        if made is None:
            return False
        self._show(*made)
        self._began = time.monotonic()
        s.start(made[0], "threads", lambda job: self._over(job, made[1]))
        return True

    def _over(self, job: Job, result: SweepResult) -> None:
        self._grown(result)
        quick = (time.monotonic() - self._began) * USUAL < LONG_LUCK
        if job.state is State.DONE and result is self.result and self.luck is None and quick:
            self.more_luck(USUAL, quiet=True)

    def restore(self) -> None:
        """Show the last sweep of the project again, read beside the window."""
        self._open("Read the last sweep", lambda: last_sweep(self.session.project), only_first=True)

    def open(self, search: int) -> None:
        """Show a kept sweep."""
        if self.running:
            self.session.note("A sweep is running; stop it first.", "caution")
            return
        self._open("Read a sweep", lambda: read_sweep(self.session.project, search))

    def _open(self, title: str, function: Callable[[], SweepResult | None], only_first: bool = False) -> None:
        def done(found: SweepResult | None) -> None:
            if found is not None and not (only_first and self.result is not None):
                self._show(None, found)

        self.session.compute(title, function, done)

    def _resumed(self, kind: str, job: Job, result: Any) -> None:
        if kind == KIND:
            self._show(job, result)
        elif kind == LUCK and self.result is not None and result.sweep == self.result.search:
            self.luck, self.luck_running = result, job
            self.judged.emit()

    def _more(self, kind: str, result: Any) -> None:
        if kind == KIND:
            self._grown(result)
        elif kind == LUCK and self.luck is not None and result.search == self.luck.search:
            self.judged.emit()

    def _show(self, job: Job | None, result: SweepResult) -> None:
        self.job, self.result = job, result
        self.reading = self.luck = self.statistics = self.seen = None
        self.luck_running = None
        self._by_hand = False
        self.not_judged = ""
        self.market = result.request.markets[0]
        self.taken.emit()
        self.grown.emit()
        self._ask()
        if job is None:
            self._find_luck(result)

    def _grown(self, result: SweepResult) -> None:
        if result is self.result:
            self.grown.emit()
            self.session.counts_changed.emit()
            self._ask()

    # Reading

    def _ask(self) -> None:
        """Read soon what has come; not while it is being read, nor more often than it takes."""
        if self._reading:
            self._again = True
        elif not self._timer.isActive():
            self._timer.start(10)

    def _read(self) -> None:
        result = self.result
        if result is None:
            return
        self._reading, self._again = True, False
        began = time.monotonic()

        def done(made: Reading) -> None:
            self._reading = False
            if result is not self.result:
                self._ask()
                return
            before, self.reading = self.reading, made
            chosen = self._same_row(before, made)
            self.seen = Seen(made, np.arange(len(made)), chosen, (), self._same_rows(before, made))
            self.was_read.emit()
            self.seen_changed.emit()
            if self._again:
                self._timer.start(int(1000 * max(REST, 3 * (time.monotonic() - began))))
            elif not self.running and len(made) and self.statistics is None and not self.not_judged:
                self._judge()

        def work() -> Reading:
            made = read(result)
            if len(made) > 1:
                _ = made.importance, made.basket, made.front  # worked out here, not where they are shown
            return made

        self.session.compute("Read the sweep", work, done)

    def _same_row(self, before: Reading | None, made: Reading) -> int:
        """The chosen set's row in a reading that has grown; what is recommended where none is chosen yet."""
        old = self.seen
        if not self._by_hand or before is None or old is None or not 0 <= old.chosen < len(before):
            return made.center if made.center >= 0 else made.best
        found = np.flatnonzero((made.settings == before.settings[old.chosen]).all(axis=1))
        return int(found[0]) if len(found) else -1

    def _same_rows(self, before: Reading | None, made: Reading) -> tuple[int, ...]:
        if before is None or self.seen is None:
            return ()
        out = []
        for row in self.seen.pinned:
            found = np.flatnonzero((made.settings == before.settings[row]).all(axis=1))
            out += found[:1].tolist()
        return tuple(out)

    # What speaks against it

    def _judge(self) -> None:
        result, reading, s = self.result, self.reading, self.session
        if result is None or reading is None:
            return
        market = self.market

        def done(found: Statistics | None, why: str = "") -> None:
            if result is self.result and market == self.market:
                self.statistics, self.not_judged = found, why
                self.judged.emit()

        s.compute("Statistics of the sweep", lambda: statistics(s.project, result, reading, market), done,
                  "sweep statistics", lambda err: done(None, err.sentence()))

    def look_at(self, market: str) -> None:
        """Judge another market of the sweep."""
        self.market, self.statistics = market, None
        self.judged.emit()
        self._judge()

    def _find_luck(self, result: SweepResult) -> None:
        def done(found: LuckResult | None) -> None:
            if result is self.result and self.luck is None and found is not None:
                self.luck = found
                self.judged.emit()

        self.session.compute("Read the luck", lambda: read_luck(self.session.project, result), done)

    def more_luck(self, shuffles: int = USUAL, quiet: bool = False) -> None:
        """Compare with so many further shuffles, in the background."""
        s, result = self.session, self.result
        if result is None or (self.luck_running is not None and not self.luck_running.state.over):
            return
        if result.unfinished or self.running:
            if not quiet:
                s.note("The sweep is not finished.", "caution")
            return
        made = s.attempt(lambda: luck_job(s.project, result, shuffles, notify=s.on_ui(lambda _: self.judged.emit())))
        if made is not None:
            self.luck_running, self.luck = made
            self.judged.emit()
            s.start(made[0], "threads", lambda _: self._lucky())

    def _lucky(self) -> None:
        """All shuffles are there: the Sharpe ratios are set beside what luck came to."""
        self.judged.emit()
        if self.statistics is not None:
            self._judge()

    # What is looked at

    def filtered(self, rows: Ints) -> None:
        """Only these rows are looked at now."""
        if self.seen is not None:
            self.seen = replace(self.seen, rows=rows)
            self.seen_changed.emit()

    def choose(self, row: int, marked: tuple[int, ...] = ()) -> None:
        """Look at one set, and others beside it."""
        self._by_hand = True
        if self.seen is not None and (row, marked) != (self.seen.chosen, self.seen.marked):
            self.seen = replace(self.seen, chosen=row, marked=marked)
            self.seen_changed.emit()

    def pin(self, rows: tuple[int, ...]) -> None:
        """Pin these sets, or take the pins off where all have one."""
        if self.seen is None:
            return
        old = self.seen.pinned
        off = bool(rows) and all(r in old for r in rows)
        now = tuple(r for r in old if r not in rows) if off else tuple(dict.fromkeys([*old, *rows]))
        self.seen = replace(self.seen, pinned=now)
        self.seen_changed.emit()

    @property
    def values(self) -> Values | None:
        """The chosen set."""
        seen = self.seen
        return seen.reading.values(seen.chosen) if seen is not None and 0 <= seen.chosen < len(seen.reading) else None

    # Finer, further, again

    def zoom(self, region: dict[int, tuple[float, float]]) -> None:
        """Sweep a region once more with finer steps."""
        if self.result is not None and self.reading is not None:
            self.start(zoomed(self.result.request, self.result.search, region))

    def extend(self) -> None:
        """Carry on the ranges at whose end the best lies."""
        if self.result is not None and self.reading is not None and self.reading.edges:
            self.start(extended(self.result.request, self.result.search, self.reading.edges))

    def again(self, search: int) -> None:
        """Run a kept sweep again, on the history as it is now."""
        found = self.session.attempt(lambda: read_sweep(self.session.project, search, with_older=False))
        if found is not None:
            self.start(replace(found.request, base=0))

    # What is done with a set

    def _chosen(self) -> tuple[SweepResult, Values] | None:
        if self.result is None or self.values is None:
            self.session.note("Choose a set in the table or on a picture first.", "caution")
            return None
        return self.result, self.values

    def apply(self) -> None:
        """Give the strategy the numbers of the chosen set, undoably."""
        found, s = self._chosen(), self.session
        if found is None:
            return
        result, values = found
        made = s.attempt(lambda: strategy_of(result.request, values, s.strategy))
        if made is None:
            return
        s.edit(made, "apply a sweep result")
        place = result.request.place(values)
        if (place.market, place.interval) != (s.market, s.interval):
            s.set_market(place.market)
            s.set_interval(place.interval)
        s.note(f"{s.strategy.name} now has {result.request.space.words(values)}.")

    def keep(self, rows: tuple[int, ...] = ()) -> None:
        """Put the chosen set on the Shelf, or those of some rows."""
        found, s, reading = self._chosen(), self.session, self.reading
        if found is None or reading is None:
            return
        result = found[0]
        sets = [reading.values(r) for r in rows] or [found[1]]

        def work() -> Any:
            try:
                return [candidate_from_sweep(s.project, result, values) for values in sets]
            except WolbrinError as err:
                return err

        def done(candidates: Any) -> None:
            if isinstance(candidates, WolbrinError):
                s.note(candidates.sentence(), "error", candidates.door)
                return
            kept = [c.name for c in candidates if s.shelf.keep(c, result.search, own=result.request.own)]
            name = candidates[0].name if len(candidates) == 1 else f"{len(kept)} of {len(candidates)} sets"
            s.note(f"{name} is on the Shelf." if kept and len(candidates) == 1 else f"{name} added to the Shelf." if kept
                   else f"{name} was on the Shelf already.")
            s.shelf_changed.emit()
            s.counts_changed.emit()

        s.compute("Keep", work, done)

    def save_set(self, path: Path) -> None:
        """Write the chosen set's numbers to a file."""
        found = self._chosen()
        if found is not None:
            result, values = found

            def act() -> bool:
                ParameterSet.of(result.request, values, path.stem).write(path)
                return True

            if self.session.attempt(act):
                self.session.note(f"{path.name} is written.")

    def load_set(self, path: Path) -> None:
        """Give the strategy the numbers of a file, undoably."""
        s = self.session
        made = s.attempt(lambda: read_parameters(path).applied(s.strategy, str(path)))
        if made is not None:
            s.edit(made, "load parameters")
            s.note(f"{s.strategy.name} now has the numbers of {path.name}.")

    def export(self, path: Path) -> None:
        """Write all sets to a file."""
        reading, s = self.reading, self.session
        if reading is None:
            return

        s.start(export_job(path, table_steps(lambda: table_of(reading), path, "sweep")), "threads")
