"""`wolbrin check`: what is wrong with a project on disk, and putting a copy back."""

from __future__ import annotations

from pathlib import Path

import typer

from wolbrin.cli.common import FAILED, JSON, console, emit, error_console, told
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.store.aside import Aside
from wolbrin.core.store.check import check_project, left_before, restore_copy
from wolbrin.core.store.copies import copies_of
from wolbrin.core.store.database import DATABASE
from wolbrin.core.store.leftovers import Leftover, leftovers
from wolbrin.core.store.project import Project
from wolbrin.core.store.recovering import recover


def _left(folder: Path) -> list[Leftover]:
    """Files that nothing names, of a project that is sound."""
    try:
        opened = Project(folder)
    except WolbrinError:
        return []
    try:
        return leftovers(opened)
    finally:
        opened.close()


def _compared(folder: Path) -> str:
    """Open a project that was put back, so that its book and the journals are compared. Returns what was entered again."""
    try:
        opened = Project(folder)
    except WolbrinError:
        return ""  # whatever is wrong is told next
    opened.close()
    return opened.found_again


def add(app: typer.Typer) -> None:
    @app.command("check")
    def check(folder: Path = typer.Argument(help="Project folder."),
              restore: bool = typer.Option(False, "--restore", help="Put the newest sound copy of the database in its place; "
                                           "the present one is kept beside it."),
              recovering: bool = typer.Option(False, "--recover", help="Copy what can be read of a damaged database into a "
                                              "new one; the damaged one is kept beside it."),
              json: bool = JSON) -> None:
        """Verify a project: database, files, digests, references. Ends with 1 where something is wrong."""
        put: tuple[Path, Path] | None = None
        rescued, aside = None, Aside()
        with told():
            if restore and recovering:
                raise UserError("--restore and --recover exclude each other", "check", "Choose one.")
            if restore:
                put = restore_copy(folder)
            if recovering:
                rescued = recover(folder / DATABASE, aside)
            again = _compared(folder) if restore or recovering else ""
            wrong = check_project(folder)
            copies, left, before = copies_of(folder), [] if wrong else _left(folder), left_before(folder)
        if json:
            emit({"folder": str(folder), "sound": not wrong,
                  "wrong": [{"what": w.what, "where": w.where, "remedy": w.remedy} for w in wrong],
                  "copies": [str(c) for c in copies], "leftovers": [{"path": str(f.path), "bytes": f.size, "why": f.why}
                                                                    for f in left],
                  "left_aside": [{"at": at, "what": what, "why": wrong} | row for at, what, wrong, row in before],
                  "recovered": None if rescued is None else {"old": str(rescued), "aside": aside.found},
                  "restored": None if put is None else {"copy": str(put[0]), "old": str(put[1])}})
        else:
            if put is not None:
                console.print(f"Restored: {put[0]}. The database that was there is kept as {put[1]}.", markup=False)
            if rescued is not None:
                console.print(f"Recovered: {aside.words(20)}.", markup=False)
            if again:
                console.print(f"{again[:1].upper()}{again[1:]}.", markup=False)
            for one in wrong:
                console.print(one.sentence(), markup=False)
            error_console.print(f"{len(wrong)} things are wrong." if wrong else "Nothing is wrong.", markup=False)
            if before:
                error_console.print(f"{len(before)} rows were left aside at some time, since they could not be read; --json "
                                    "lists them.", markup=False)
            if left:
                error_console.print(f"{len(left)} files are named by nothing; `wolbrin tidy` lists them.", markup=False)
        if wrong:
            raise typer.Exit(FAILED)
