"""Long work: a frozen request, a pure function over pieces of it, results committed in order.

A job knows no widget. `evaluate(request, piece)` runs on threads (kernels that release the GIL), on worker processes (where
Python code is in the way) or on any executor. A source gives the pieces and is told results in the order it gave them,
whatever the number of workers, so that the outcome never depends on timing. Results and the source's state are committed
together, at least every `COMMIT_EVERY` seconds, so that work goes on from there after a stop, a crash or a power cut.
"""

from __future__ import annotations

import math
import pickle
import time
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, CancelledError, Executor, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass
from enum import Enum
from functools import partial
from threading import Event, Lock, Thread
from typing import Any

from wolbrin.core.errors import EnvironmentTrouble
from wolbrin.core.jobs.source import Chunk, Listed, Source
from wolbrin.core.jobs.worker import Stopped, distant, near

COMMIT_EVERY = 0.4  # seconds of work at most that a kill costs, and one piece
AHEAD = 4  # pieces begun beyond the first that is not told yet, per piece under way
MOST_DEATHS = 3  # deaths of workers in a row, without a result between them, after which a job gives up


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


@dataclass(frozen=True)
class Work:
    """evaluate(request, argument): importable, with a request that pickles, so that threads, processes and a cluster run the
    same."""

    evaluate: Callable[[Any, Any], Any]
    request: Any

    def __call__(self, argument: Any) -> Any:
        return self.evaluate(self.request, argument)


@dataclass
class _Flight:
    """A piece under way."""

    number: int
    chunk: Chunk
    began: float


class Job:
    """One piece of long work. Create, then start it on an engine; ask `progress()`; `pause`, `resume`, `stop`, `wait`.

    Args:
        title: what it is, for people. unit: what is counted ("candidates").
        source: where pieces come from; a sequence is a plain list of them.
        function: called with a piece's argument, pure: a `Work`, or for threads only any function.
        sink: called with each result, in order, on the job's own thread.
        commit: called instead with results in order and the source's state after the last of them; keeps both together.
        finish: called once at the end with the final state, on the job's own thread, whatever happened.
        width: most pieces under way at once, 1 where they must follow each other; None leaves it to the engine.
    """

    def __init__(self, title: str, unit: str, source: Source | Sequence[Chunk], function: Callable[[Any], Any],
                 sink: Callable[[Any], None] | None = None, finish: Callable[[State], None] | None = None, *,
                 commit: Callable[[list[Any], dict[str, Any]], None] | None = None, width: int | None = None) -> None:
        self.title = title
        self.unit = unit
        self.width = width
        self.words: dict[State, str] = {}  # what is said at the end, where counts would say too little
        self.doing: Callable[[], str] = str  # what it does before anything can be counted, in words
        self.error: BaseException | None = None
        self._source: Source = Listed(source) if isinstance(source, Sequence) else source
        self._function = function
        self._blob = b""
        self._sink = sink
        self._commit = commit
        self._finish = finish
        self._before = self._source.done
        self._pending: list[Any] = []
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

    @property
    def total(self) -> int:
        """Units in all."""
        return self._source.total

    def progress(self) -> Progress:
        with self._lock:
            worked = self._worked + (time.monotonic() - self._since if self._since is not None else 0.0)
            done, total = self._source.done, self._source.total
            rate = (done - self._before) / worked if worked > 0 else 0.0
            left = (total - done) / rate if rate > 0 else float("nan")
            return Progress(self._state, done, total, rate, left)

    def start(self, executor: Executor, width: int) -> None:
        """Begin on any executor, with at most `width` pieces under way at once."""
        self.begin(lambda broken=None: executor, lambda: width)

    def begin(self, executor: Callable[..., Executor], room: Callable[[], float],
              spare: Callable[[], int] = lambda: 0) -> None:
        """Begin. executor(broken=None): where pieces run, asked again with the one whose workers died. room(): how many may
        be under way, asked before each; below 1 they rest between two. spare(): how many more wait at the workers, so that
        none is idle."""
        self._set(State.RUNNING)
        self._thread = Thread(target=self._run, args=(executor, room, spare), name=f"job {self.title}", daemon=True)
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
        """End as soon as the pieces under way are done; what was found is kept."""
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

    def _run(self, executor: Callable[..., Executor], room: Callable[[], float], spare: Callable[[], int]) -> None:
        final = State.DONE
        try:
            if not _Walk(self, executor, room, spare).to_the_end():
                final = State.STOPPED
            self._keep()
        except BaseException as err:
            self.error = err
            final = State.FAILED
        try:
            if self._finish is not None:
                self._finish(final)
        except Exception as err:
            self.error = self.error or err
            final = State.FAILED
        self._set(final)

    def _tell(self, chunk: Chunk, result: Any) -> None:
        self._source.tell(chunk, result)
        if self._commit is not None:
            self._pending.append(result)
        elif self._sink is not None:
            self._sink(result)

    def _keep(self) -> None:
        if self._commit is not None and self._pending:
            kept, self._pending = self._pending, []
            self._commit(kept, self._source.state())

    def _submit(self, pool: Executor, argument: Any) -> Future[Any]:
        if isinstance(pool, ThreadPoolExecutor):
            return pool.submit(near, self._function, argument, self._stop)
        if not self._blob:
            self._blob = pickle.dumps(self._function)
        return pool.submit(distant, self._blob, argument)


class _Walk:
    """One run of a job's loop."""

    def __init__(self, job: Job, executor: Callable[..., Executor], room: Callable[[], float],
                 spare: Callable[[], int]) -> None:
        self.job = job
        self.spare = spare if job.width is None else lambda: 0
        self.executor = executor
        self.room = room
        self.pool = executor()
        self.under_way: dict[Future[Any], _Flight] = {}
        self.ready: dict[int, tuple[Chunk, Any]] = {}
        self.resting: list[float] = []
        self.asked = 0
        self.told = 0
        self.deaths = 0

    def to_the_end(self) -> bool:
        """Walk until the source is over; False when stopped before."""
        job, source = self.job, self.job._source
        kept = -math.inf  # the first result is shown as soon as it is there
        try:
            while not source.over:
                if not job._go.is_set():
                    self._land()
                    job._keep()
                    kept = time.monotonic()
                    job._go.wait()
                if job._stop.is_set():
                    self._land()
                    return source.over
                self._begin_more()
                if not self.under_way and not self.resting:
                    break  # the source has nothing more, although it is not over
                self._collect()
                self._tell_in_order()
                if job._pending and time.monotonic() - kept > COMMIT_EVERY:
                    job._keep()
                    kept = time.monotonic()
            return True
        finally:
            for future in self.under_way:
                future.cancel()

    def _slots(self) -> tuple[int, float]:
        """Pieces that may be under way, and how long one rests for each second it worked."""
        room = self.room() if self.job.width is None else min(self.room(), self.job.width)
        most = max(1, math.ceil(room - 1e-9))
        return most, most / room - 1.0

    def _begin_more(self) -> None:
        now = time.monotonic()
        self.resting = [t for t in self.resting if t > now]
        most = self._slots()[0] + self.spare()
        while len(self.under_way) + len(self.resting) < most and self.asked - self.told < AHEAD * most:
            chunk = self.job._source.ask()
            if chunk is None:
                return
            self._submit(_Flight(self.asked, chunk, time.monotonic()))
            self.asked += 1

    def _submit(self, flight: _Flight) -> None:
        try:
            future = self.job._submit(self.pool, flight.chunk.argument)
        except BrokenExecutor:
            self._mourn(self.pool)
            future = self.job._submit(self.pool, flight.chunk.argument)
        except RuntimeError as err:
            raise EnvironmentTrouble(f"where this runs, no more work is taken ({err})", self.job.title,
                                     "Go on with it later; what was found is kept.") from err
        self.under_way[future] = flight

    def _collect(self) -> None:
        """Take in what is finished, waiting a moment for it."""
        if not self.under_way:
            self.job.nap(max(0.0, min(0.1, min(self.resting) - time.monotonic())))
            return
        finished, _ = wait(self.under_way, timeout=0.05, return_when=FIRST_COMPLETED)
        for future in finished:
            flight = self.under_way.pop(future, None)
            if flight is not None:
                self._take(future, flight)

    def _take(self, future: Future[Any], flight: _Flight) -> None:
        try:
            result = future.result()
        except BrokenExecutor:
            self._mourn(self.pool)
            self._submit(flight)
            return
        except CancelledError as err:
            raise EnvironmentTrouble("where this runs, work was turned away", self.job.title,
                                     "Go on with it later; what was found is kept.") from err
        except Stopped:
            if not self.job._stop.is_set():
                raise
            return
        self.deaths = 0
        self.ready[flight.number] = flight.chunk, result
        _, rest = self._slots()
        now = time.monotonic()
        if rest > 0:
            self.resting.append(now + (now - flight.began) * rest)

    def _mourn(self, broken: Executor) -> None:
        """Workers died: go on with new ones, on all that was under way, a few times."""
        self.deaths += 1
        if self.deaths > MOST_DEATHS:
            raise EnvironmentTrouble(f"worker processes were ended from outside {self.deaths} times in a row", self.job.title,
                                     "Close programs that need much memory, then go on; what was found is kept.")
        self.pool = self.executor(broken)
        lost, self.under_way = list(self.under_way.values()), {}
        for flight in lost:
            self._submit(flight)

    def _tell_in_order(self) -> None:
        while self.told in self.ready and not self.job._source.over:
            self.job._tell(*self.ready.pop(self.told))
            self.told += 1

    def _land(self) -> None:
        """At a stop or a pause: what workers have in hand is kept and nothing is begun."""
        if self.job._stop.is_set():
            for future in [f for f in self.under_way if f.cancel()]:
                del self.under_way[future]
        wait(self.under_way)
        while self.under_way:
            future, flight = next(iter(self.under_way.items()))
            del self.under_way[future]
            self._take(future, flight)
        self._tell_in_order()


def single(title: str, function: Callable[[], Any], sink: Callable[[Any], None]) -> Job:
    """A job of one step."""
    return Job(title, "steps", [Chunk(None)], partial(_ignoring, function), sink)


def _ignoring(function: Callable[[], Any], argument: Any) -> Any:
    return function()
