"""Long work: a frozen request cut into chunks, a pure function over chunks, results committed in order.

A job knows no widget. Its chunks run on threads (kernels that release the GIL) or on worker processes (where Python
code is in the way); an engine for a cluster is one more `Engine`. Results reach the sink in chunk order whatever the
number of workers, so that the outcome never depends on timing.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, Executor, Future, wait
from dataclasses import dataclass
from enum import Enum
from threading import Event, Lock, Thread
from typing import Any


class State(Enum):
    WAITING = "waiting"
    RUNNING = "running"
    PAUSED = "paused"
    STOPPED = "stopped"
    DONE = "done"
    FAILED = "failed"

    @property
    def over(self) -> bool:
        return self in (State.STOPPED, State.DONE, State.FAILED)


@dataclass(frozen=True)
class Chunk:
    """One piece of work: an argument for the job's function and how many units it counts for."""

    argument: Any
    units: int = 1


@dataclass(frozen=True)
class Progress:
    """A snapshot: units done of total, units per second of working time, seconds left (NaN before the first)."""

    state: State
    done: int
    total: int
    rate: float
    left: float

    @property
    def share(self) -> float:
        return self.done / self.total if self.total else 1.0


class Job:
    """One piece of long work. Create, then `start(engine)`; ask `progress()`; `pause`, `resume`, `stop`, `wait`.

    Args:
        title: what it is, for people. unit: what is counted ("candidates").
        function: called as function(chunk.argument), pure; must be importable when the engine uses processes.
        sink: called with each result, in chunk order, on the job's own thread; commits it.
        finish: called once at the end with the final state, on the job's own thread, whatever happened.
        width: most chunks under way at once, 1 where they must follow each other; None leaves it to the engine.
        counted, total, enough: for work whose chunks vary: units of a result, units in all, and whether it is done.
    """

    def __init__(self, title: str, unit: str, chunks: Sequence[Chunk], function: Callable[[Any], Any],
                 sink: Callable[[Any], None], finish: Callable[[State], None] | None = None, *,
                 width: int | None = None, counted: Callable[[Any], int] | None = None, total: int | None = None,
                 enough: Callable[[], bool] | None = None) -> None:
        self.title = title
        self.unit = unit
        self.width = width
        self.total = sum(c.units for c in chunks) if total is None else total
        self._counted = counted
        self._enough = enough
        self.error: BaseException | None = None
        self._chunks = chunks
        self._function = function
        self._sink = sink
        self._finish = finish
        self._done = 0
        self._worked = 0.0
        self._since: float | None = None
        self._state = State.WAITING
        self._lock = Lock()
        self._go = Event()
        self._go.set()
        self._stop = Event()
        self._thread: Thread | None = None

    @property
    def state(self) -> State:
        return self._state

    def progress(self) -> Progress:
        with self._lock:
            worked = self._worked + (time.monotonic() - self._since if self._since is not None else 0.0)
            rate = self._done / worked if worked > 0 else 0.0
            left = (self.total - self._done) / rate if rate > 0 else float("nan")
            return Progress(self._state, self._done, self.total, rate, left)

    def start(self, executor: Executor, width: int) -> None:
        """Begin on `executor`, with at most `width` chunks under way at once."""
        self._set(State.RUNNING)
        self._thread = Thread(target=self._run, args=(executor, width), name=f"job {self.title}", daemon=True)
        self._thread.start()

    def pause(self) -> None:
        if self._state is State.RUNNING:
            self._go.clear()
            self._set(State.PAUSED)

    def resume(self) -> None:
        if self._state is State.PAUSED:
            self._set(State.RUNNING)
            self._go.set()

    def stop(self) -> None:
        """End at the next chunk boundary; what was found is kept."""
        self._stop.set()
        self._go.set()

    def nap(self, seconds: float) -> None:
        """Wait on the job's own thread, but not beyond a stop."""
        self._stop.wait(seconds)

    def wait(self, timeout: float | None = None) -> State:
        if self._thread is not None:
            self._thread.join(timeout)
        return self._state

    def _set(self, state: State) -> None:
        with self._lock:
            if state is State.RUNNING and self._since is None:
                self._since = time.monotonic()
            elif state is not State.RUNNING and self._since is not None:
                self._worked += time.monotonic() - self._since
                self._since = None
            self._state = state

    def _run(self, executor: Executor, width: int) -> None:
        final = State.DONE
        under_way: dict[Future[Any], int] = {}
        ready: dict[int, Any] = {}
        following = 0
        committed = 0
        satisfied = False
        try:
            while committed < len(self._chunks) and not self._stop.is_set():
                self._go.wait()
                if self._stop.is_set():
                    break
                while len(under_way) < width and following < len(self._chunks) and following - committed < 4 * width:
                    under_way[executor.submit(self._function, self._chunks[following].argument)] = following
                    following += 1
                finished, _ = wait(under_way, timeout=0.1, return_when=FIRST_COMPLETED)
                for future in finished:
                    ready[under_way.pop(future)] = future.result()
                committed = self._commit(ready, committed)
                if self._enough is not None and self._enough():
                    satisfied = True
                    break
            if committed < len(self._chunks) and not satisfied:
                final = State.STOPPED
                # What the workers already had in hand is kept as well.
                for future, index in under_way.items():
                    if not future.cancel():
                        ready[index] = future.result()
                self._commit(ready, committed)
        except BaseException as err:
            self.error = err
            final = State.FAILED
            for future in under_way:
                future.cancel()
        try:
            if self._finish is not None:
                self._finish(final)
        except Exception as err:
            self.error = self.error or err
            final = State.FAILED
        self._set(final)

    def _commit(self, ready: dict[int, Any], committed: int) -> int:
        while committed in ready:
            result = ready.pop(committed)
            units = self._chunks[committed].units if self._counted is None else self._counted(result)
            self._sink(result)
            with self._lock:
                self._done += units
            committed += 1
        return committed
