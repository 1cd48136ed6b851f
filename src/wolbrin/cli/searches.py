"""`wolbrin searches`, `wolbrin go-on` and `wolbrin tidy`: what was searched, going on with it, tidying."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import typer

from wolbrin.cli.common import JSON, PROJECT, SHARE, console, emit, error_console, open_project, run, told
from wolbrin.core.errors import UserError


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("searches")
    def searches(project: Path | None = PROJECT, json: bool = JSON) -> None:
        """List sweeps, trials and searches of a project, and where each stands."""
        from wolbrin.core.store.searches import KINDS, Searches  # late

        with told():
            found = Searches(open_project(project, demo)).all(KINDS)
        if json:
            emit([{"id": s.id, "created": s.created, "kind": s.kind, "title": s.title, "market": s.market,
                   "interval": s.interval, "tried": s.tried, "kept": s.kept, "state": s.state, "unfinished": s.unfinished}
                  for s in found])
            return
        for s in found:
            console.print(f"{s.id}  {s.created[:10]}  {s.title}: {s.tried:,} tried, {s.state}"
                          + ("; can be gone on with" if s.unfinished else ""), markup=False)

    @app.command("go-on")
    def go_on(search: int | None = typer.Argument(None, help="Number of the search; the newest unfinished when left out."),
              project: Path | None = PROJECT, share: float = SHARE, json: bool = JSON) -> None:
        """Go on with a search that was stopped, or whose program ended under it."""
        from wolbrin.core.work.going_on import go_on as prepared  # late
        from wolbrin.core.work.going_on import listed  # late

        with told():
            opened = open_project(project, demo)
            waiting = [s for s in listed(opened) if s.unfinished]
            if search is None and not waiting:
                raise UserError("there is no unfinished search", str(opened.folder), "Start a new one.")
            number = search if search is not None else waiting[-1].id
            tool, job, _ = prepared(opened, number)
            state = run(job, tool.lane, share)
            progress = job.progress()
        if json:
            emit({"id": number, "kind": tool.kind, "state": state.value, "done": progress.done, "total": progress.total})
        else:
            console.print(f"{number}  {job.title}: {progress.done:,} of {progress.total:,} {job.unit}, {state.value}.",
                          markup=False)

    @app.command("tidy")
    def tidy(project: Path | None = PROJECT, remove: bool = typer.Option(False, "--remove", help="Remove what is listed."),
             json: bool = JSON) -> None:
        """List files of a project that nothing refers to any more; with --remove, remove them."""
        from wolbrin.core.store.leftovers import leftovers, sweep_out  # late

        with told():
            opened = open_project(project, demo)
            found = leftovers(opened)
            freed = sweep_out(found) if remove else 0
        if json:
            emit({"files": [{"path": str(f.path), "bytes": f.size, "why": f.why} for f in found], "removed": remove,
                  "freed": freed})
            return
        for f in found:
            console.print(f"{f.path}  {f.size:,} bytes: {f.why}", markup=False)
        error_console.print(f"{len(found):,} files, {sum(f.size for f in found):,} bytes"
                            + (", removed." if remove else "." if not found else "; --remove removes them."), markup=False)
