"""A program that forks searches to be killed: `python -m tests.core.killable FOLDER`, then a line with a kind for each life.

Everything is imported and compiled before, so that a life is all search. Prints the process id of each life, and "done" when
one comes to its end alive.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

from wolbrin.core.jobs import Engine, State
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.work.going_on import go_on
from wolbrin.core.work.warming import warm


def live(folder: Path) -> None:
    """Go on with the newest search of the project until it is done."""
    project, engine = Project(folder), Engine(2)
    _, job, _ = go_on(project, Searches(project).interrupted()[0].id)
    if engine.start(job, "threads").wait() is State.DONE:
        print("done", flush=True)
    else:
        print(job.error, flush=True)
    os._exit(0)


if __name__ == "__main__":
    warm()
    print("ready", flush=True)
    for _ in sys.stdin:
        child = os.fork()
        if not child:
            live(Path(sys.argv[1]))
        print(child, flush=True)
        os.waitpid(child, 0)
        print("over", flush=True)
