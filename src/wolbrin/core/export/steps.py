"""Writing a file step by step, so that it can be watched and stopped: whole under its own name at the end, or not there."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Generator
from itertools import pairwise
from pathlib import Path

from wolbrin.core.jobs import Chunk, Job, State

STEPS = 100
Steps = Generator[None, None, None]


def portions(count: int) -> list[tuple[int, int]]:
    """Rows of a table in about as many portions as there are steps."""
    edges = sorted({round(i * count / (STEPS - 2)) for i in range(STEPS - 1)} | {0, count})
    return list(pairwise(edges)) or [(0, 0)]


def do_all(steps: Steps) -> None:
    """Write without watching."""
    deque(steps, 0)


def export_job(path: Path, steps: Steps, finish: Callable[[State], None] = lambda _: None) -> Job:
    """Writing a file as work that shows progress and can be stopped; nothing is left behind then."""
    def step(last: bool) -> None:
        if last:
            do_all(steps)
        else:
            next(steps, None)

    def end(state: State) -> None:
        steps.close()
        finish(state)

    job = Job(f"Write {path.name}", "%", [Chunk(i == STEPS - 1) for i in range(STEPS)], step, finish=end, width=1)
    job.words = {State.DONE: f"Written to {path}.", State.STOPPED: f"Stopped; {path} was not written."}
    return job
