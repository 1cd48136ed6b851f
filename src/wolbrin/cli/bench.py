"""`wolbrin bench`: the benchmark, as a table, as JSON, or written to a page."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import typer

from wolbrin.cli.common import JSON, console, emit, error_console, told
from wolbrin.core.bench.figure import Measured
from wolbrin.core.bench.figures import core_figures, page
from wolbrin.core.written import write_text


def add(app: typer.Typer, window_figures: Callable[[], list[Measured]]) -> None:
    @app.command("bench")
    def bench(json: bool = JSON, write: Path | None = typer.Option(None, "--write", help="Also write this page."),
              window: bool = typer.Option(True, help="Measure the window too (on a virtual screen if need be).")) -> None:
        """Measure speed, every figure beside a reference on the same data in the same run."""
        with told():
            figures = core_figures(lambda what: error_console.print(f"Measuring {what}", markup=False))
            if window:
                error_console.print("Measuring the window", markup=False)
                figures += window_figures()
            if write is not None:
                write_text(write, page(figures))
        if json:
            emit([f.as_json() for f in figures])
        else:
            for f in figures:
                console.print(f.line(), markup=False)
