"""Where everything meets: the command line, the window and the demo are put together here and only here."""

from __future__ import annotations

import os
from pathlib import Path

import platformdirs

# Before numba is imported anywhere: compiled kernels belong to the user's cache, whoever owns the installation.
os.environ.setdefault("NUMBA_CACHE_DIR", str(Path(platformdirs.user_cache_path("wolbrin")) / "kernels"))


def demo_folder() -> Path:
    return Path(platformdirs.user_data_path("wolbrin")) / "demo"


def open_window(folder: Path | None, demo: bool, picture: Path | None) -> int:
    """Open the window on a project folder, on the demo, or on what was open last."""
    from wolbrin.app.start import Build, Report, open_window
    from wolbrin.core.work.warming import warm
    from wolbrin.demo.build import build_demo, is_complete

    target = folder or demo_folder()

    def make_demo(report: Report) -> None:
        build_demo(target, report).close()

    def compile_kernels(report: Report) -> None:
        warm(lambda what, done, total: report(f"Preparing the engine: {what}", done, total))

    builds: list[Build] = [compile_kernels]
    if (demo or folder is None) and not is_complete(target):
        builds.append(make_demo)
    return open_window(target, builds, picture)


def run() -> None:
    """Entry point of the `wolbrin` command."""
    from wolbrin.cli.main import build

    build(open_window, demo_folder)()
