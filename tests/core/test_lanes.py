"""Where work runs: threads, processes, any executor; lanes, shares, and workers that die."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from concurrent.futures import Executor, Future, ProcessPoolExecutor, ThreadPoolExecutor
from multiprocessing import get_context
from pathlib import Path
from typing import Any

import pytest

from wolbrin.core.errors import EnvironmentTrouble
from wolbrin.core.jobs import Chunk, Engine, Job, State, Work, check_stopped


@pytest.fixture
def engine() -> Iterator[Engine]:
    made = Engine(2)
    yield made
    made.close()


def square(request: int, x: int) -> int:
    return request * x * x


def slow(request: str, x: int) -> int:
    time.sleep(0.01)
    return x


def suicidal(request: str, x: int) -> int:
    """The worker that gets piece 5 first is killed from outside."""
    mark = Path(request)
    if x == 5 and not mark.exists():
        mark.touch()
        os.kill(os.getpid(), signal.SIGKILL)
    return x


def deadly(request: str, x: int) -> int:
    os.kill(os.getpid(), signal.SIGKILL)
    return x


class Refusing(Executor):
    """Takes three pieces, then no more."""

    taken = 0

    def submit(self, fn: Any, /, *args: Any, **kwargs: Any) -> Future[Any]:
        self.taken += 1
        if self.taken > 3:
            raise RuntimeError("cannot schedule new futures after shutdown")
        done: Future[Any] = Future()
        done.set_result(fn(*args, **kwargs))
        return done


def test_the_same_work_runs_on_any_executor() -> None:
    got = []
    with ThreadPoolExecutor(3) as threads, ProcessPoolExecutor(2, mp_context=get_context("spawn")) as processes:
        for executor in (threads, processes):
            results: list[int] = []
            job = Job("squares", "steps", [Chunk(x) for x in range(40)], Work(square, 3), results.append)
            job.start(executor, 2)
            assert job.wait() is State.DONE, job.error
            got.append(results)
        engine = Engine(2, given=processes)
        job = Job("squares", "steps", [Chunk(x) for x in range(40)], Work(square, 3), got.append)
        assert engine.start(job, "threads").wait() is State.DONE
        engine.close()
    assert got[0] == got[1] == got[2:] == [3 * x * x for x in range(40)]


def test_an_executor_that_refuses_ends_the_job_with_a_sentence_and_what_was_found() -> None:
    results: list[int] = []
    job = Job("squares", "steps", [Chunk(x) for x in range(40)], Work(square, 3), results.append)
    job.start(Refusing(), 1)
    assert job.wait(10) is State.FAILED
    assert isinstance(job.error, EnvironmentTrouble)
    assert "no more work is taken" in job.error.sentence()
    assert results == [0, 3, 12]


def test_a_worker_that_is_killed_costs_nothing_and_killing_them_all_says_so(engine: Engine, tmp_path: Path) -> None:
    results: list[int] = []
    job = Job("pieces", "steps", [Chunk(x) for x in range(30)], Work(suicidal, str(tmp_path / "mark")), results.append)
    assert engine.start(job, "processes").wait() is State.DONE, job.error
    assert results == list(range(30))
    job = Job("pieces", "steps", [Chunk(x) for x in range(30)], Work(deadly, ""), results.append)
    assert engine.start(job, "processes").wait() is State.FAILED
    assert isinstance(job.error, EnvironmentTrouble)
    assert "ended from outside" in job.error.sentence()
    job = Job("squares", "steps", [Chunk(2)], Work(square, 3), results.append)
    assert engine.start(job, "processes").wait() is State.DONE, "the next job gets new workers"


def test_worker_processes_end_with_their_parent() -> None:
    code = ("import time\nfrom wolbrin.core.jobs import *\nfrom tests.core.test_lanes import slow\n"
            "import os\nif __name__ == '__main__':\n"
            " e = Engine(2)\n"
            " e.start(Job('x', 'x', [Chunk(i) for i in range(10**6)], Work(slow, ''), lambda _: print('one', flush=True)),"
            " 'processes')\n time.sleep(600)\n")
    with subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True,
                          cwd=Path(__file__).parents[2]) as parent:
        assert parent.stdout is not None
        assert parent.stdout.readline() == "one\n"
        workers = [int(c) for t in Path(f"/proc/{parent.pid}/task").iterdir() for c in (t / "children").read_text().split()]
        assert len(workers) >= 2
        parent.kill()
    patience = time.monotonic() + 60
    while any(map(_lives, workers)) and time.monotonic() < patience:
        time.sleep(0.05)
    assert not [w for w in workers if _lives(w)]


def _lives(process: int) -> bool:
    """Whether a process runs; one that is over and not yet taken leave of does not."""
    try:
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


def test_long_work_takes_the_share_it_is_allowed_and_gives_way_to_what_the_user_waits_for() -> None:
    engine = Engine(4)
    most, now, lock = [0], [0], threading.Lock()

    def piece(_: int) -> None:
        with lock:
            now[0] += 1
            most[0] = max(most[0], now[0])
        time.sleep(0.004)
        with lock:
            now[0] -= 1

    def run() -> int:
        most[0] = 0
        job = Job("pieces", "steps", [Chunk(i) for i in range(60)], piece, lambda _: None)
        assert engine.start(job, "threads").wait() is State.DONE
        return most[0]

    assert run() > 2
    engine.share = 0.25
    assert run() == 1
    assert engine.room("threads") == 1.0
    engine.share = 0.05
    assert engine.room("threads") == pytest.approx(0.2), "below one piece they rest between two"
    engine.share = 1.0
    gate = threading.Event()
    urgent = engine.start(Job("urgent", "steps", [Chunk(None)], lambda _: gate.wait(30), lambda _: None), "now")
    assert engine.room("threads") == 3.0
    long = engine.start(Job("long", "steps", [Chunk(i) for i in range(10**6)], piece, lambda _: None), "threads")
    quick = engine.start(Job("quick", "steps", [Chunk(None)], lambda _: 1, lambda _: None), "now")
    assert quick.wait(30) is State.DONE, "although long work holds every worker"
    assert not long.state.over
    gate.set()
    assert urgent.wait(30) is State.DONE
    long.stop()
    assert long.wait(30) is State.STOPPED
    engine.close()


def test_what_is_superseded_is_cancelled_inside_its_steps(engine: Engine) -> None:
    steps = [0]
    begun = threading.Event()

    def endless(_: None) -> None:
        while True:
            steps[0] += 1
            begun.set()
            time.sleep(0.001)
            check_stopped()

    job = engine.start(Job("endless", "steps", [Chunk(None)], endless, lambda _: None), "now")
    assert begun.wait(30)
    job.stop()
    assert job.wait(30) is State.STOPPED
    assert job.error is None


class Generations:
    """Doubles the best of each generation of four; the next generation depends on all results of the one before."""

    total = 20

    def __init__(self) -> None:
        self.best, self.told, self.asked, self.done = 1, [], 0, 0  # type: ignore[var-annotated]

    @property
    def over(self) -> bool:
        return self.done >= self.total

    def ask(self) -> Chunk | None:
        if self.asked - self.done >= 4 - len(self.told) and self.asked % 4 == 0 and self.asked != self.done:
            return None
        self.asked += 1
        return Chunk(self.best + self.asked)

    def tell(self, chunk: Chunk, result: int) -> None:
        self.done += 1
        self.told.append(result)
        if len(self.told) == 4:
            self.best, self.told = max(self.told) % 997, []

    def state(self) -> dict[str, Any]:
        return {"best": self.best, "done": self.done}


def test_a_source_that_learns_comes_to_the_same_on_any_number_of_workers() -> None:
    found = []
    for workers in (1, 2, 5):
        engine, results = Engine(workers), []  # type: ignore[var-annotated]
        commits: list[dict[str, Any]] = []
        job = Job("generations", "steps", Generations(), Work(square, 2),
                  commit=lambda some, state, r=results, c=commits: (r.extend(some), c.append(state)))
        assert engine.start(job, "threads").wait() is State.DONE, job.error
        assert commits[-1] == {"best": commits[-1]["best"], "done": 20}
        found.append((results, commits[-1]))
        engine.close()
    assert found[0] == found[1] == found[2]
    assert len(found[0][0]) == 20
