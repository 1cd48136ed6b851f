"""Where everything meets: the command line, the window and the demo are put together here and only here.

The window is imported only when it is wanted, so that headless commands need no Qt platform.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import platformdirs

if TYPE_CHECKING:
    from wolbrin.app.start import Report
    from wolbrin.core.bench.figure import Figure

# Before numba is imported anywhere: compiled kernels belong to the user's cache, whoever owns the installation.
os.environ.setdefault("NUMBA_CACHE_DIR", str(Path(platformdirs.user_cache_path("wolbrin")) / "kernels"))


def demo_folder() -> Path:
    return Path(platformdirs.user_data_path("wolbrin")) / "demo"


def open_window(folder: Path | None, demo: bool, picture: Path | None) -> int:
    """Open the window on a project folder; without one, or with `demo`, on the demo project."""
    from wolbrin.app import start
    from wolbrin.core.work.warming import is_warm, warm
    from wolbrin.demo.build import build_demo, is_complete

    target = folder or demo_folder()

    def make_demo(report: Report) -> None:
        build_demo(target, report).close()

    def compile_kernels(report: Report) -> None:
        warm(lambda what, done, total: report(f"Preparing the engine: {what}", done, total))

    builds = [] if is_warm() else [compile_kernels]
    if folder is None and not is_complete(target):
        builds.append(make_demo)
    return start.open_window(target, builds, picture)


def window_figures() -> list[Figure]:
    from wolbrin.app.bench import window_figures

    return window_figures()


def run() -> None:
    """Entry point of the `wolbrin` command."""
    from wolbrin.cli.main import build, with_folder

    build(open_window, demo_folder, window_figures)(args=with_folder(sys.argv[1:]), prog_name="wolbrin")
