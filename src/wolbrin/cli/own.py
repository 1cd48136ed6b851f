"""`wolbrin own`: own indicators of a project: list, show, confirm."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import typer

from wolbrin.cli.common import JSON, PROJECT, console, emit, error_console, open_project, told
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.indicators.own_read import OwnFile, read_own
from wolbrin.core.store.project import Project


def _found(project: Project) -> list[dict[str, Any]]:
    """Every file: what it is, or why it cannot be read."""
    out: list[dict[str, Any]] = []
    for path in project.own.files():
        try:
            file = read_own(path)
        except WolbrinError as err:
            out.append({"name": path.stem, "file": str(path), "state": "cannot be read", "why": err.sentence()})
            continue
        out.append({"name": file.name, "file": str(path), "digest": file.digest, "inputs": list(file.inputs),
                    "state": "confirmed" if project.own.is_confirmed(file.digest) else "to be confirmed"})
    return out


def _named(project: Project, name: str) -> OwnFile:
    for path in project.own.files():
        if path.stem == name or path.name == name:
            return read_own(path)
        try:
            file = read_own(path)
        except WolbrinError:
            continue
        if file.name == name:
            return file
    known = ", ".join(one["name"] for one in _found(project)) or "none"
    raise UserError(f'there is no own indicator "{name}"', str(project.own.folder), f"Known are {known}.")


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    own = typer.Typer(no_args_is_help=True, help="Own indicators of a project: list, show, confirm.")
    app.add_typer(own, name="own")

    @own.command("list")
    def list_(project: Path | None = PROJECT, json: bool = JSON) -> None:
        """Every own indicator, and whether it may run."""
        with told():
            found = _found(open_project(project, demo))
        if json:
            emit({"own": found})
            return
        for one in found:
            console.print(f"{one['name']}: {one['state']}{', ' + one['why'] if 'why' in one else ''}", markup=False)
        if not found:
            console.print("There is none. Put a file into the project's folder indicators; docs/own-indicators.md says how.",
                          markup=False)

    @own.command("show")
    def show(name: str = typer.Argument(..., help="Its name."), project: Path | None = PROJECT, json: bool = JSON) -> None:
        """Print the code of an own indicator; it is not run."""
        with told():
            opened = open_project(project, demo)
            file = _named(opened, name)
            confirmed = opened.own.is_confirmed(file.digest)
        if json:
            emit({"name": file.name, "file": str(file.path), "digest": file.digest, "confirmed": confirmed,
                  "source": file.source})
            return
        console.print(file.source, markup=False, highlight=False)
        console.print(f"# {file.path}, {'confirmed' if confirmed else 'to be confirmed'}", markup=False)

    @own.command("confirm")
    def confirm(name: str = typer.Argument(..., help="Its name."), project: Path | None = PROJECT,
                market: str | None = typer.Option(None, "--market", "-m",
                                                  help="On whose history it is checked; else the first."),
                digest: str = typer.Option("", "--digest", help="Of the text you have read, as `own show --json` tells it."),
                yes: bool = typer.Option(False, "--yes", "-y", help="You have read the code; do not ask."),
                json: bool = JSON) -> None:
        """Print the code, ask whether exactly this text may run, check it for looking ahead, and keep it."""
        with told():
            opened = open_project(project, demo)
            file = _named(opened, name)
            if digest and digest != file.digest:
                raise UserError("the file is not the text with that digest", str(file.path), "Read it again.")
            (error_console if json else console).print(file.source, markup=False, highlight=False)
            if not (yes or digest) and not typer.confirm("May exactly this text run on this machine?", err=True):
                raise UserError(f"{file.name} was not confirmed", str(file.path), "Nothing was run.")
            entries = opened.markets()
            if not entries:
                raise UserError("there is no history to check it on", str(opened.folder), "Import some first.")
            entry = opened.market(market) if market else entries[0]
            compared = opened.own.confirm(file, opened.prepared(entry.code, entry.minutes).bars)
        if json:
            emit({"name": file.name, "digest": file.digest, "confirmed": True, "compared": compared})
            return
        console.print(f"{file.name} is confirmed: {compared} histories cut short gave the same values.", markup=False)
