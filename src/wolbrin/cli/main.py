"""The `wolbrin` command: opens the window by default; the other commands work headless on a project."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import typer

from wolbrin import __version__
from wolbrin.cli.registry import NAMES, Wiring, add_wanted

if TYPE_CHECKING:
    from wolbrin.core.bench.figure import Measured

OpenWindow = Callable[[Path | None, bool, Path | None], int]
USAGE = 2


def build(open_window: OpenWindow, demo: Callable[[], Path], window_figures: Callable[[], list[Measured]],
          arguments: list[str] | None = None, on_command: Callable[[], None] = lambda: None) -> typer.Typer:
    """Put the commands together. open_window(folder, demo, picture) opens the window and returns its exit code.

    arguments: the command line, so that only what it names is read; None for every command. on_command: called before one
    is run.
    """
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
                typer.echo("--demo and --open exclude each other.", err=True)
                raise typer.Exit(USAGE)
            raise typer.Exit(open_window(folder, demo_project, picture))
        on_command()

    add_wanted(app, Wiring(demo, window_figures), arguments)
    return app


def with_folder(arguments: list[str]) -> list[str]:
    """`wolbrin FOLDER` means `wolbrin --open FOLDER`."""
    if arguments and not arguments[0].startswith("-") and arguments[0] not in NAMES:
        return ["--open", *arguments]
    return arguments
