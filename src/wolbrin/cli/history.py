"""`wolbrin new`, `wolbrin import`, `wolbrin quality`: history without the window."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path

import typer

from wolbrin.cli.common import FAILED, JSON, PROJECT, console, emit, error_console, open_project, run, told
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import State
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.market.terms import load_terms
from wolbrin.core.store.project import Project


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("new")
    def new(folder: Path = typer.Argument(..., help="A new or empty folder.")) -> None:
        """Start an empty project."""
        with told():
            Project.create(folder).close()
        console.print(f"An empty project is in {folder}. Open it with `wolbrin {folder}`, or import history.", markup=False)

    @app.command("import")
    def import_(
            files: list[Path] = typer.Argument(..., help="Files or folders: CSV, TSV, TXT, gz, zip, Parquet."),
            market: str = typer.Option(..., "--market", "-m", help="Market code of the project, or a terms file (JSON)."),
            project: Path | None = PROJECT,
            source: str = typer.Option("file", "--source", help="Name of the source; new rows are added to one there."),
            layout: str | None = typer.Option(None, "--layout", help="A remembered layout or a file; guessed if absent."),
            zone: str | None = typer.Option(None, "--zone", help="Time zone of stamps without an offset."),
            stamp: str | None = typer.Option(None, "--stamp", help="open or close: which end of the bar carries the time."),
            keep: str = typer.Option("old", "--keep", help="old or new: whose prices count where they disagree."),
            months: bool = typer.Option(False, "--months", help="Every file is a contract month of its own."),
            bad: Path | None = typer.Option(None, "--bad", help="Write the rows that were not taken to this CSV."),
            json: bool = JSON) -> None:
        """Read history files and take them into the project, all of it or nothing."""
        from wolbrin.core.market.importing.files import pieces  # pandas is slow to import; only this command needs it
        from wolbrin.core.market.importing.guess import guess
        from wolbrin.core.market.importing.layout import load_layout, make_layout
        from wolbrin.core.market.importing.read import Imported, write_bad_rows
        from wolbrin.core.work.importing import read_job, take_in_all

        with told():
            opened = open_project(project, demo)
            terms = load_terms(Path(market)) if market.endswith(".json") else opened.market(market).terms
            found = pieces(files)
            if layout is None:
                chosen = guess(found[0]).layout
            elif layout.endswith(".json"):
                chosen = load_layout(Path(layout))
            else:
                named = [one for one in opened.sources.layouts() if one.name == layout]
                if not named:
                    raise UserError(f'there is no layout "{layout}" in this project', "--layout", "Name another.")
                chosen = named[0]
            told_ = {"zone": zone, "stamp": stamp}
            chosen = make_layout(chosen.model_dump() | {k: v for k, v in told_.items() if v is not None}, "options")
            outcome: list[list[tuple[str, Imported]]] = []
            state = run(read_job(found, chosen, outcome.append, months), "threads")
            if state is not State.DONE:
                error_console.print("Stopped; nothing was kept.", markup=False)
                raise typer.Exit(FAILED)
            read = outcome[0]
            made = take_in_all(opened, terms, [(stem if months else source, i.raw) for stem, i in read], keep=keep,
                               origin=", ".join(p.name for p in found[:20]), layout=chosen, months=months)
            rows = [b for _, i in read for b in i.bad]
            if bad is not None:
                write_bad_rows(bad, rows)
            result = {"market": made.market, "source": made.name, "interval": interval_words(made.interval),
                      "rows": sum(i.rows for _, i in read), "taken": sum(len(i.raw) for _, i in read),
                      "bad": sum(i.bad_count for _, i in read), "first": made.first, "last": made.last,
                      "notes": [n for _, i in read for n in i.notes], "bad_rows": [asdict(b) for b in rows[:100]]}
        if json:
            emit(result)
            return
        console.print(f"{made.market}, {made.name}: {result['taken']:,} of {result['rows']:,} rows taken, "
                      f"{result['bad']:,} could not be read; {result['interval']}, {made.first} to {made.last} UTC.",
                      markup=False)
        for b in rows[:10]:
            console.print(f"  {b.file}, row {b.row}: {b.reason}", markup=False)

    @app.command("quality")
    def quality_(market: str = typer.Option(..., "--market", "-m", help="Market code."), project: Path | None = PROJECT,
                 source: str | None = typer.Option(None, "--source", help="The source tested on when it is left out."),
                 treated: bool = typer.Option(False, "--treated", help="Judge the bars after treatment."),
                 json: bool = JSON) -> None:
        """Report what is wrong with a market's history, where, and its score."""
        from wolbrin.core.market.quality import stamp
        from wolbrin.core.work.markets import quality

        with told():
            opened = open_project(project, demo)
            name = source or opened.market(market).source
            made = quality(opened, opened.sources.get(market, name), treated)
        if json:
            findings = []
            for f in made.findings:
                places = [{"time": f"{stamp(p.time)}Z".replace(" ", "T"), "bars": p.bars, "words": p.words}
                          for p in f.places[:1000]]
                findings.append({"key": f.key, "title": f.title, "bars": f.count, "share": f.share, "points": f.cost,
                                 "places": places})
            emit({"market": market, "source": name, "rows": made.rows, "score": made.score, "findings": findings})
            return
        console.print(f"{market}, {name}: {made.score:.0f} of 100 for {made.rows:,} rows.", markup=False)
        for f in made.findings:
            if f.count:
                first = f.places[0]
                console.print(f"  {f.title}: {f.count:,} ({f.share:.3%}), worst {stamp(first.time)} UTC, {first.words}",
                              markup=False)
