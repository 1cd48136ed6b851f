"""What the command line says while kernels are compiled, which happens once on a machine."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable

from rich.progress import BarColumn, Progress, TextColumn

from wolbrin.cli.common import error_console
from wolbrin.core.work.readying import Readying, ready_on_demand
from wolbrin.core.work.warmed import COMPILING, waiting_words


def show(ready: Readying, there: Callable[[], bool]) -> None:
    """Progress on standard error until what is needed is there."""
    error_console.print(f"{COMPILING}.", markup=False)
    columns = (TextColumn("{task.description}"), BarColumn(), TextColumn("{task.completed:.0f} of {task.total:.0f}"))
    with Progress(*columns, console=error_console, transient=True, disable=not sys.stderr.isatty()) as bar:
        task = bar.add_task("Compiling", total=ready.total)
        while not there():
            bar.update(task, completed=len(ready.done))
            time.sleep(0.1)


def compile_on_demand() -> None:
    """Let commands compile on all cores, once they need to, and say so."""
    ready_on_demand(show)


def also_compiling() -> str:
    """What an estimate does not hold, as a further sentence, "" where nothing is left to compile."""
    words = waiting_words()
    return f" {words}." if words else ""
