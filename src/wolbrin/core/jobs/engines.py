"""Where pieces of work run: threads of this process, worker processes, or any executor of `concurrent.futures`.

Two lanes. What the user waits for has threads of its own and never queues behind long work; while it runs, long work takes
one piece less at a time. Long work takes the share of the processor that the user allows, which may change while it runs.
"""

from __future__ import annotations

import multiprocessing
import os
from concurrent.futures import Executor, ProcessPoolExecutor, ThreadPoolExecutor
from threading import Lock
from typing import Literal

from wolbrin.core.jobs.job import Job
from wolbrin.core.jobs.worker import be_a_worker

Kind = Literal["now", "threads", "processes"]
AT_ONCE = 2  # threads for what the user waits for: one thing, and the next that replaces it
LEAST_SHARE = 0.05


def cores() -> int:
    return max(1, len(os.sched_getaffinity(0)))


class Engine:
    """Keeps one pool of each kind, made on first use and shared by all jobs of the program.

    workers: of the lane for long work. share: of them that long work may keep busy, LEAST_SHARE to 1. given: an executor
    that takes all long work instead of the engine's own (a cluster's, for instance); it is not closed with the engine.
    """

    def __init__(self, workers: int | None = None, share: float = 1.0, given: Executor | None = None) -> None:
        self.workers = workers or cores()
        self._share = 1.0
        self.share = share
        self._given = given
        self._pools: dict[Kind, Executor] = {}
        self._lock = Lock()
        self._urgent: set[Job] = set()

    @property
    def share(self) -> float:
        return self._share

    @share.setter
    def share(self, value: float) -> None:
        self._share = min(1.0, max(LEAST_SHARE, float(value)))

    def room(self, kind: Kind) -> float:
        """How many pieces of a lane may be under way at once; below 1 they rest between two."""
        if kind == "now":
            return AT_ONCE
        with self._lock:
            self._urgent = {j for j in self._urgent if not j.state.over}
            waiting = bool(self._urgent)
        room = self.workers * self._share
        return max(min(1.0, room), room - 1) if waiting else room

    def executor(self, kind: Kind, broken: Executor | None = None) -> Executor:
        """The executor of a lane. broken: one whose workers died; the next is a new one."""
        if self._given is not None and kind != "now":
            return self._given
        with self._lock:
            held = self._pools.get(kind)
            if held is not None and (held is broken or getattr(held, "_broken", False)):
                self._pools.pop(kind).shutdown(wait=False)
            if kind not in self._pools:
                self._pools[kind] = self._made(kind)
            return self._pools[kind]

    def _made(self, kind: Kind) -> Executor:
        if kind == "processes":
            # "spawn" never inherits locks held by another thread of the window.
            return ProcessPoolExecutor(self.workers, mp_context=multiprocessing.get_context("spawn"), initializer=be_a_worker)
        count = AT_ONCE if kind == "now" else self.workers
        return ThreadPoolExecutor(count, thread_name_prefix=f"wolbrin {kind}")

    def start(self, job: Job, kind: Kind) -> Job:
        if kind == "now":
            with self._lock:
                self._urgent.add(job)
        job.begin(lambda broken=None: self.executor(kind, broken), lambda: self.room(kind),
                  lambda: int(kind != "now" and self.room(kind) >= self.workers))
        return job

    def close(self) -> None:
        with self._lock:
            for pool in self._pools.values():
                pool.shutdown(wait=True, cancel_futures=True)
            self._pools.clear()
