"""What all commands share: opening a project, progress on standard error, JSON on standard output, exit codes."""

from __future__ import annotations

import datetime as dt
import json
import math
import sys
from collections.abc import Callable
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import typer
from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn
from rich.table import Table

from wolbrin.core.errors import NothingOpened, UserError
from wolbrin.core.export.steps import Steps, export_job
from wolbrin.core.jobs import Engine, Job, Kind, State
from wolbrin.core.market.intervals import Interval
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.wording import worded
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.store.shelf import Kept
from wolbrin.core.store.wanted import Wanted
from wolbrin.core.unforeseen import sentence_of

FAILED, USAGE, NOTHING_OPENED = 1, 2, 3
USED_WRONGLY = next(c for c in typer.BadParameter.__mro__ if c.__name__ == "ClickException")
LEAVING: tuple[type[BaseException], ...] = (typer.Exit, typer.Abort, USED_WRONGLY)  # how commands end on purpose
error_console = Console(stderr=True, highlight=False, soft_wrap=True)
console = Console(highlight=False, soft_wrap=True)



def finite(value: float | None) -> float | None:
    """For every option that takes a number: one that is none (nan, inf) is refused."""
    if value is not None and not math.isfinite(value):
        raise typer.BadParameter("this is no number that can be used; write one such as 2.5")
    return value


PROJECT = typer.Option(None, "--project", "-p", help="Project folder; the demo when it is left out.")
INTERVAL = "Bar interval: minutes such as 15, daily, 500t (ticks), 2000v (volume), 8r (range in ticks)."
SHARE = typer.Option(100.0, "--share", callback=finite, min=5, max=100,
                     help="Percent of the processor that the work may take.")
JSON = typer.Option(False, "--json", help="Print the result as JSON on standard output.")


def code_of(text: str) -> int:
    """The code of an interval written on the command line."""
    return Interval.parse(text).code


@contextmanager
def told() -> Any:
    """Turn a trouble into one sentence on standard error and exit code 1; one that nobody foresaw names the log, too."""
    try:
        yield
    except LEAVING:
        raise
    except BrokenPipeError:
        raise typer.Exit(0) from None
    except Exception as err:
        error_console.print(sentence_of(err), markup=False)
        raise typer.Exit(NOTHING_OPENED if isinstance(err, NothingOpened) else FAILED) from None


def plain(value: Any) -> Any:
    """Values as JSON knows them: NaN and infinities become null, arrays lists, times ISO 8601 in UTC."""
    if hasattr(value, "model_dump"):
        return plain(value.model_dump(mode="json"))
    if hasattr(value, "dtype") and hasattr(value, "tolist"):
        if value.dtype.kind == "M":
            return [f"{x}Z" for x in value.astype("datetime64[s]").astype(str).tolist()]
        return plain(value.tolist())
    if isinstance(value, dt.date):
        return value.isoformat()
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, dict):
        return {str(k): plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [plain(v) for v in value]
    return value


def emit(data: Any) -> None:
    sys.stdout.write(json.dumps(plain(data), indent=1) + "\n")


def read_day(text: str, name: str) -> dt.date:
    """A date as written on the command line."""
    try:
        return dt.date.fromisoformat(text)
    except ValueError:
        raise UserError(f'"{text}" is not a date like 2022-06-30', f"--{name}", "Write year-month-day.") from None


def open_project(folder: Path | None, demo: Callable[[], Path]) -> Project:
    target = folder or demo()
    if folder is None and not (target / "project.sqlite").exists():
        raise UserError("there is no demo project yet", str(target), "Start `wolbrin --demo` once, or name a --project.")
    opened = Project(target)
    if opened.aside.found:
        error_console.print(f"Left aside, since it cannot be read: {opened.aside.words(20)}. `wolbrin check` says more.",
                            markup=False)
    if opened.read_words:
        error_console.print(opened.read_words, markup=False)
    if opened.found_again:
        error_console.print(f"{opened.found_again[:1].upper()}{opened.found_again[1:]}.", markup=False)
    return opened


def run(job: Job, kind: Kind, share: float = 100.0, said: bool = True) -> State:
    """Run a job with progress on standard error; Ctrl+C stops it and keeps what it found. share: percent of the processor.
    said: whether a line says at the end what was done."""
    engine = Engine(share=share / 100)
    try:
        columns = (TextColumn("{task.description}"), BarColumn(), TextColumn("{task.completed:.0f} of {task.total:.0f}"),
                   TextColumn("{task.fields[rate]}"), TimeRemainingColumn())
        with Progress(*columns, console=error_console, transient=True, disable=not sys.stderr.isatty()) as bar:
            task = bar.add_task(job.title, total=job.total, rate="")
            engine.start(job, kind)
            try:
                while not job.state.over:
                    job.wait(0.1)
                    p = job.progress()
                    bar.update(task, completed=p.done, rate=f"{p.rate:,.0f} a second")
            except KeyboardInterrupt:
                job.stop()
                job.wait()
        p = job.progress()
        if said:
            error_console.print(f"{job.title}: {p.done:,} of {p.total:,} {job.unit}, {p.rate:,.0f} a second, "
                                f"{job.state.value}.", markup=False)
        if job.state is State.FAILED and job.error is not None:
            raise job.error
        return job.state
    finally:
        engine.close()


def write_out(path: Path, steps: Steps) -> None:
    """Write a file with progress; Ctrl+C leaves none behind. Raises WolbrinError where it cannot be written."""
    job = export_job(path, steps)
    state = run(job, "threads", said=False)
    error_console.print(job.words[state], markup=False)
    if state is not State.DONE:
        raise typer.Exit(FAILED)


def pick(project: Project, names: list[str], once: bool = False, variants: bool = True) -> list[Kept]:
    """Candidates on the Shelf by id or name; all of them when none is named. once: nobody may be named twice. variants: of
    all, those too that another one of their family represents.

    Raises:
        UserError: a name is not there, or there is nothing to take.
    """
    shelf = Dossiers(project).on_shelf
    if not names:
        if not shelf.count():
            raise UserError("the Shelf is empty", str(project.folder), "Run `wolbrin discover` first.")
        return shelf.bodies() if variants else shelf.bodies(shelf.ids(Wanted(representatives=True)).tolist())
    found: list[int] = []
    for name in names:
        match = shelf.named(name)
        if not match:
            raise UserError(f'there is no candidate "{name}" on the Shelf', str(project.folder),
                            "Run `wolbrin prove --list` to see them.")
        if once and set(match) & set(found):
            raise UserError(f'"{name}" is named twice', "candidates", "Name each once; give it a larger share for more of "
                                                                      "it.")
        found += match
    return shelf.bodies(dict.fromkeys(found))


def measures_table(title: str, columns: dict[str, dict[str, float]]) -> Table:
    """Measures down, one column a run."""
    table = Table(title=title, title_justify="left", box=None, header_style="bold")
    table.add_column("measure")
    for name in columns:
        table.add_column(name, justify="right")
    keys = list(next(iter(columns.values())))
    for key in keys:
        table.add_row(BY_KEY[key].title, *(worded(key, c[key]) for c in columns.values()))
    return table
