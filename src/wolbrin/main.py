"""Where everything meets: the command line, the window and the demo are put together here and only here.

The window is imported only when it is wanted, so that headless commands need no Qt platform.
"""

from __future__ import annotations

import gc
import io
import os
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import platformdirs

from wolbrin.core.memory import keep_memory

if TYPE_CHECKING:
    from wolbrin.app.shell.window import MainWindow
    from wolbrin.app.start import Build, Report
    from wolbrin.core.bench.figure import Measured

# Before numba is imported anywhere: compiled kernels belong to the user's cache, whoever owns the installation.
os.environ.setdefault("NUMBA_CACHE_DIR", str(Path(platformdirs.user_cache_path("wolbrin")) / "kernels"))


def demo_folder() -> Path:
    return Path(platformdirs.user_data_path("wolbrin")) / "demo"


@contextmanager
def without_collecting() -> Iterator[None]:
    """Loading code makes many objects and no garbage: looking for it meanwhile costs a quarter of a start."""
    gc.disable()
    try:
        yield
    finally:
        gc.freeze()
        gc.enable()


def open_window(folder: Path | None, demo: bool = False, picture: Path | None = None, place: str | None = None,
                on_ready: Callable[[MainWindow], None] | None = None) -> int:
    """Open the window on a project folder; without one, or with `demo`, on the demo project. on_ready: see start."""
    with without_collecting():
        from wolbrin.app import start  # late
        from wolbrin.core.work.readying import ready_beside  # late

    target = folder or demo_folder()
    left = folder is None and not demo_complete(target)
    ready = ready_beside()  # kernels are compiled beside the window, by other processes

    def make_demo(report: Report) -> None:
        from wolbrin.demo.build import begin_demo  # late

        begin_demo(target, report).close()

    def opened(window: MainWindow) -> None:
        if left:
            from wolbrin.demo.build import steps_left  # late

            for title, act in steps_left(window.session.project):
                window.session.alter(title, act)
        if on_ready is not None:
            on_ready(window)

    builds: list[Build] = [make_demo] if left else []
    try:
        return start.open_window(target, builds, picture, place, opened, ready)
    finally:
        if ready is not None:
            ready.stop()


def demo_complete(folder: Path) -> bool:
    """Whether the demo project is there whole; the code that makes it is read only where it is not."""
    if not folder.exists():
        return False
    from wolbrin.demo.build import is_complete  # late

    return is_complete(folder)


def compile_on_demand() -> None:
    from wolbrin.cli.compiling import compile_on_demand  # late

    compile_on_demand()


def window_figures() -> list[Measured]:
    from wolbrin.app.bench import window_figures  # late

    return window_figures()


def run() -> None:
    """Entry point of the `wolbrin` command."""
    keep_memory()
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")  # names of files need be no text
    try:
        with without_collecting():
            from wolbrin.cli.main import build, with_folder  # late

            app = build(open_window, demo_folder, window_figures, sys.argv[1:], compile_on_demand)
        app(args=with_folder(sys.argv[1:]), prog_name="wolbrin")
    except Exception as err:
        from wolbrin.core.unforeseen import sentence_of  # late

        print(sentence_of(err), file=sys.stderr)
        sys.exit(1)
