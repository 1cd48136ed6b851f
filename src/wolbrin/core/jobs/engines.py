"""Where chunks run: threads of this process or worker processes."""

from __future__ import annotations

import multiprocessing
import os
from concurrent.futures import Executor, ProcessPoolExecutor, ThreadPoolExecutor
from threading import Lock
from typing import Literal

from wolbrin.core.jobs.job import Job

Kind = Literal["threads", "processes"]


def cores() -> int:
    return max(1, len(os.sched_getaffinity(0)))


class Engine:
    """Keeps one pool of each kind, made on first use and shared by all jobs of the program."""

    def __init__(self, workers: int | None = None) -> None:
        self.workers = workers or cores()
        self._pools: dict[Kind, Executor] = {}
        self._lock = Lock()

    def _pool(self, kind: Kind) -> Executor:
        with self._lock:
            # A worker that was killed breaks its pool for good; the next job gets a new one.
            if getattr(self._pools.get(kind), "_broken", False):
                self._pools.pop(kind).shutdown(wait=False)
            if kind not in self._pools:
                if kind == "threads":
                    self._pools[kind] = ThreadPoolExecutor(self.workers, thread_name_prefix="wolbrin")
                else:
                    # "spawn" never inherits locks held by another thread of the window.
                    self._pools[kind] = ProcessPoolExecutor(
                        self.workers, mp_context=multiprocessing.get_context("spawn"), initializer=_be_modest)
            return self._pools[kind]

    def start(self, job: Job, kind: Kind) -> Job:
        job.start(self._pool(kind), job.width or self.workers)
        return job

    def close(self) -> None:
        with self._lock:
            for pool in self._pools.values():
                pool.shutdown(wait=True, cancel_futures=True)
            self._pools.clear()


def _be_modest() -> None:
    # Background work gives way to the window and to the rest of the machine.
    os.nice(5)
