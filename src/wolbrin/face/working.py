"""Running long work from Python: progress on a terminal, and a word where something must be compiled first."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable

from wolbrin.core.jobs import Engine, Job, State
from wolbrin.core.work.readying import Readying, ready_on_demand
from wolbrin.core.work.warmed import COMPILING

_asked = False


def say(text: str) -> None:
    """A line on standard error, beside whatever the caller prints."""
    sys.stderr.write(text + "\n")
    sys.stderr.flush()


def say_compiling() -> None:
    """Kernels that were not compiled on this machine yet are, on all cores, when they are first called; that is said."""
    global _asked
    if not _asked:
        _asked = True
        ready_on_demand(_show)


def _show(ready: Readying, there: Callable[[], bool]) -> None:
    say(f"{COMPILING}.")
    terminal = sys.stderr.isatty()
    while not there():
        if terminal:
            sys.stderr.write(f"\rCompiling: {ready.words}\033[K")
            sys.stderr.flush()
        time.sleep(0.2)
    if terminal:
        sys.stderr.write("\r\033[K")


def finish(job: Job, title: str = "") -> None:
    """Run a job to its end with progress on a terminal; Ctrl+C stops it and keeps what it found. Raises what it fails
    with."""
    say_compiling()
    engine, terminal = Engine(), sys.stderr.isatty()
    try:
        engine.start(job, "threads")
        try:
            while not job.state.over:
                job.wait(0.2)
                p = job.progress()
                if terminal:
                    sys.stderr.write(f"\r{title or job.title}: {p.done:,.0f} of {p.total:,.0f} {job.unit}\033[K")
                    sys.stderr.flush()
        except KeyboardInterrupt:
            job.stop()
            job.wait()
        if terminal:
            sys.stderr.write("\r\033[K")
        if job.state is State.FAILED and job.error is not None:
            raise job.error
    finally:
        engine.close()
