"""Compiling kernels beside the program, in processes of their own on all cores, so that no thread of it compiles.

Whoever calls a kernel that is not there yet waits for its file: a thread of work, never the window's.
"""

from __future__ import annotations

import atexit
import logging
import os
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

from wolbrin.core import compiled
from wolbrin.core.jobs import check_stopped, cores
from wolbrin.core.work.warmed import is_warm, mark_warm

log = logging.getLogger("wolbrin")
# What each process compiles, in order; what is needed first comes first. Kernels that several steps share are compiled in
# one process each, and the steps are dealt so that both take about as long.
LANES: tuple[tuple[str, ...], ...] = (
    ("history", "rules", "simulator", "measures", "rehearsal", "one account"),
    ("indicators", "many at once", "scans", "sweeps", "portfolios", "filters", "Monte Carlo"))
OURS = "wolbrin.core."  # kernels of other packages of ours, such as the demo's, are compiled by whoever calls them
LOOK = 0.1  # seconds between two looks for a kernel's file
LOOKED = 0.3  # seconds for which a list of files stands


class Readying:
    """Compiles everything once. changed: called on a thread of its own after each step, and at the end."""

    def __init__(self, changed: Callable[[], None] = lambda: None) -> None:
        self.done: list[str] = []
        self.total = sum(len(lane) for lane in LANES)
        self.over = threading.Event()
        self.failed = False
        self._changed = changed
        self._running: list[subprocess.Popen[str]] = []
        self._names: frozenset[str] = frozenset()
        self._seen = 0.0
        self._lock = threading.Lock()
        self._waiting = 0
        self._stopped = False

    @property
    def awaited(self) -> bool:
        """Whether work stands still for a kernel."""
        return self._waiting > 0

    @property
    def words(self) -> str:
        """Such as "3 of 13"."""
        return f"{len(self.done)} of {self.total}"

    def start(self) -> None:
        """Begin, and let whoever needs a kernel wait for it."""
        lanes = list(LANES) if cores() > 1 else [tuple(step for lane in LANES for step in lane)]
        env = {**os.environ, "PYTHONPATH": os.pathsep.join(p for p in sys.path if p)}
        for lane in lanes:
            self._running.append(subprocess.Popen(
                [sys.executable, "-m", "wolbrin.core.work.warming", *lane], stdout=subprocess.PIPE, text=True, env=env,
                stderr=subprocess.DEVNULL, stdin=subprocess.DEVNULL))
        compiled.waiting = self.wait
        threading.Thread(target=self._follow, name="readying", daemon=True).start()

    def _follow(self) -> None:
        readers = [threading.Thread(target=self._read, args=(one,), daemon=True) for one in self._running]
        for reader in readers:
            reader.start()
        for reader in readers:
            reader.join()
        ends = [one.wait() for one in self._running]
        self.failed = any(ends)
        if self.failed and not self._stopped:
            log.warning("some kernels could not be compiled beside the program: they are when they are called")
        elif not self.failed:
            mark_warm()
        compiled.waiting = None
        self.over.set()
        self._changed()

    def _read(self, one: subprocess.Popen[str]) -> None:
        assert one.stdout is not None
        with one.stdout as told:
            for line in told:
                self.done.append(line.strip())
                self._changed()

    def stop(self) -> None:
        """End it before it is done; what was compiled stays."""
        self._stopped = True
        for one in self._running:
            one.terminate()

    def wait(self, name: str) -> None:
        """Return once the kernel of this name is on disk, or will not come. The interface thread never waits."""
        if not name.startswith(OURS) or (threading.current_thread() is threading.main_thread() and not self.in_main):
            return
        self._waiting += 1
        try:
            while not self.over.is_set() and not self.kept(name):
                check_stopped()
                self.over.wait(LOOK)
        finally:
            self._waiting -= 1

    in_main = False  # whether the program's main thread may wait too, as on the command line

    def kept(self, name: str) -> bool:
        """Whether a kernel of this name is on disk."""
        with self._lock:
            if time.monotonic() > self._seen + LOOKED:
                folder = Path(os.environ.get("NUMBA_CACHE_DIR") or ".")
                self._names = frozenset(f.stem for f in folder.glob("*/*.nbi"))
                self._seen = time.monotonic()
            return name in self._names


def ready_on_demand(show: Callable[[Readying, Callable[[], bool]], None]) -> None:
    """Where a program has one thread: compile on all cores once a kernel is called that was not compiled on this machine.
    show(readying, there): called meanwhile; it says how far that is, and returns when there() does."""
    beginning, lock = Readying(), threading.Lock()
    beginning.in_main = True

    def first(name: str) -> None:
        if not name.startswith(OURS) or beginning.kept(name):
            return
        with lock:
            if begins := compiled.waiting is first:
                beginning.start()
                atexit.register(beginning.stop)
        if begins:
            show(beginning, lambda: beginning.over.is_set() or beginning.kept(name))
        else:
            beginning.wait(name)

    compiled.waiting = first


def ready_beside(changed: Callable[[], None] = lambda: None) -> Readying | None:
    """Compile beside the program what was not compiled on this machine yet; None where all was."""
    if is_warm():
        return None
    made = Readying(changed)
    made.start()
    return made
