"""The `wolbrin` command: opens the window by default; the other commands work headless on a project."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import typer

from wolbrin import __version__
from wolbrin.cli import backtest, bench, evidence, history, holdout, new, search, searches, settings, strategies
from wolbrin.cli.common import USAGE, error_console
from wolbrin.core.bench.figure import Figure

OpenWindow = Callable[[Path | None, bool, Path | None], int]
COMMANDS = ("backtest", "sweep", "discover", "prove", "overlap", "portfolio", "bench", "new", "import", "quality",
            "holdout", "set", "strategy", "searches", "go-on", "tidy")


def build(open_window: OpenWindow, demo: Callable[[], Path], window_figures: Callable[[], list[Figure]]) -> typer.Typer:
    """Put the commands together. open_window(folder, demo, picture) opens the window and returns its exit code."""
    app = typer.Typer(add_completion=False, no_args_is_help=False, pretty_exceptions_enable=False,
                      help="Develop, prove and combine intraday strategies. Without a command it opens the window.")

    @app.callback(invoke_without_command=True)
    def main(context: typer.Context,
             demo_project: bool = typer.Option(False, "--demo", help="Open the demo project, making it if need be."),
             folder: Path | None = typer.Option(None, "--open", help="Open this project folder in the window."),
             picture: Path | None = typer.Option(None, "--picture", help="Save a PNG of the window and quit."),
             version: bool = typer.Option(False, "--version", help="Print the version.")) -> None:
        if version:
            typer.echo(__version__)
            raise typer.Exit(0)
        if context.invoked_subcommand is None:
            if folder is not None and demo_project:
                error_console.print("--demo and --open exclude each other.", markup=False)
                raise typer.Exit(USAGE)
            raise typer.Exit(open_window(folder, demo_project, picture))

    backtest.add(app, demo)
    search.add(app, demo)
    searches.add(app, demo)
    evidence.add(app, demo)
    new.add(app)
    history.add(app, demo)
    settings.add(app, demo)
    strategies.add(app, demo)
    holdout.add(app, demo)
    bench.add(app, window_figures)
    return app


def with_folder(arguments: list[str]) -> list[str]:
    """`wolbrin FOLDER` means `wolbrin --open FOLDER`."""
    if arguments and not arguments[0].startswith("-") and arguments[0] not in COMMANDS:
        return ["--open", *arguments]
    return arguments
