"""`wolbrin import`, `wolbrin quality`: history without the window."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, replace
from pathlib import Path
from typing import TYPE_CHECKING

import typer

from wolbrin.cli.common import FAILED, JSON, PROJECT, console, emit, error_console, open_project, run, told
from wolbrin.cli.new import ORDER, YES, ask, check_choice, finding_json
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import State
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.market.terms import Terms, load_terms
from wolbrin.core.store.project import Project

if TYPE_CHECKING:
    from wolbrin.core.market.importing.files import Piece
    from wolbrin.core.market.importing.layout import Layout
    from wolbrin.core.market.importing.read import Imported
    from wolbrin.core.store.sources import Source


def _done(state: State) -> None:
    if state is not State.DONE:
        error_console.print("Stopped; nothing was kept.", markup=False)
        raise typer.Exit(FAILED)


def _layout(project: Project, name: str | None) -> Layout | None:
    """A layout by its file or the name it is remembered under; None to guess."""
    from wolbrin.core.market.importing.layout import load_layout  # late

    if name is None:
        return None
    if name.endswith(".json"):
        return load_layout(Path(name))
    named = [one for one in project.sources.layouts() if one.name == name]
    if not named:
        raise UserError(f'there is no layout "{name}" in this project', "--layout", "Name another.")
    return named[0]


def _take_months(project: Project, terms: Terms, found: list[Piece], layout: Layout | None, order: str,
                 said: dict[str, str | None], keep: str) -> tuple[Source, list[tuple[str, Imported]]]:
    """Read files as contract months, each a source of its own."""
    from wolbrin.core.market.importing.guess import guess  # late
    from wolbrin.core.market.importing.layout import make_layout  # late
    from wolbrin.core.work.importing import read_job  # late
    from wolbrin.core.work.starting import take_in_months  # late

    outcome: list[list[tuple[str, Imported]]] = []
    chosen = layout or guess(found, order).layout
    chosen = make_layout(chosen.model_dump() | {k: v for k, v in said.items() if v is not None}, "options")
    _done(run(read_job(found, chosen, outcome.append, True), "threads"))
    made = take_in_months(project, terms, outcome[0], chosen, ", ".join(p.name for p in found[:20]), keep)
    return made, outcome[0]


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("import")
    def import_(
            files: list[Path] = typer.Argument(..., help="Files or folders: CSV, TSV, TXT, gz, zip, Parquet."),
            market: str = typer.Option(..., "--market", "-m", help="Market code, there or new, or a terms file."),
            project: Path | None = PROJECT,
            source: str = typer.Option("file", "--source", help="Name of the source; new rows are added to one there."),
            layout: str | None = typer.Option(None, "--layout", help="A remembered layout or a file; guessed if absent."),
            zone: str | None = typer.Option(None, "--zone", help="Time zone of stamps without an offset."),
            stamp: str | None = typer.Option(None, "--stamp", help="open or close: which end of the bar carries the time."),
            keep: str = typer.Option("old", "--keep", help="old or new: whose prices count where they disagree."),
            months: bool = typer.Option(False, "--months", help="Every file is a contract month of its own."),
            order: str = typer.Option("", "--date-order", help=ORDER),
            minutes: int | None = typer.Option(None, "--minutes", min=1, max=1440, help="Interval; of ticks' bars."),
            exchange: str = typer.Option("", "--exchange", help="Of a new market: sessions of a listed exchange."),
            bad: Path | None = typer.Option(None, "--bad", help="Write the rows that were not taken to this CSV."),
            yes: bool = YES, json: bool = JSON) -> None:
        """Read history files and take them into a market, there or new: all of it or nothing."""
        from wolbrin.core.market.importing.files import pieces  # late
        from wolbrin.core.market.importing.read import write_bad_rows  # late
        from wolbrin.core.market.likely.terms_of import Said  # late
        from wolbrin.core.work.importing import known_rows  # late
        from wolbrin.core.work.looking import Opened, Wishes, judge, look_job, questions_of  # late
        from wolbrin.core.work.starting import spans_for, take_in_judged  # late

        with told():
            check_choice("--stamp", stamp, ("open", "close"))
            check_choice("--date-order", order or None, ("dmy", "mdy", "ymd"))
            opened = open_project(project, demo)
            entry = next((m for m in opened.markets() if m.code == market), None)
            terms = load_terms(Path(market)) if market.endswith(".json") else entry.terms if entry else None
            found = pieces(files)
            if bad is not None:
                write_bad_rows(bad, ())  # what cannot be written there is told before rows are kept
            chosen = _layout(opened, layout)
            remarks: list[str] = []
            findings: list[dict[str, object]] = []
            read: list[tuple[str, Imported]]
            if months:
                terms = terms or opened.market(market).terms
                made, read = _take_months(opened, terms, found, chosen, order, {"zone": zone, "stamp": stamp}, keep)
            else:
                wishes = Wishes(code=terms.code if terms else market, zone=zone or (chosen.zone if chosen else None),
                                stamp=stamp or (chosen.stamp if chosen else None), order=order, minutes=minutes,
                                layout=chosen, said=Said(exchange), currency=opened.settings.currency, terms=terms,
                                old=known_rows(opened, terms.code, source) if entry and terms else None)
                looked: list[list[Opened]] = []
                _done(run(look_job(found, wishes, looked.append), "threads"))
                if len(looked[0]) > 1:
                    raise UserError(f"these files hold {len(looked[0])} markets", ", ".join(o.code for o in looked[0]),
                                    "Import one at a time, or start a project of them with `wolbrin new`.")
                spans = spans_for(opened, looked[0])
                border = spans.border if spans else opened.settings.holdout_first
                judged = judge(looked[0][0], replace(wishes, border=border))
                findings = [finding_json(f) for f in judged.findings]
                ask(questions_of([judged]), yes)
                made, _, remarks = take_in_judged(opened, judged, source, keep, spans)
                read = [(source, judged.imported)]
            rows = [b for _, i in read for b in i.bad]
            if bad is not None:
                write_bad_rows(bad, rows)
            result = {"market": made.market, "source": made.name, "interval": interval_words(made.interval),
                      "rows": sum(i.rows for _, i in read), "taken": sum(len(i.raw) for _, i in read),
                      "bad": sum(i.bad_count for _, i in read), "first": made.first, "last": made.last,
                      "notes": [n for _, i in read for n in i.notes], "remarks": remarks, "guesses": findings,
                      "bad_rows": [asdict(b) for b in rows[:100]]}
        if json:
            emit(result)
            return
        console.print(f"{made.market}, {made.name}: {result['taken']:,} of {result['rows']:,} rows taken, "
                      f"{result['bad']:,} could not be read; {result['interval']}, {made.first} to {made.last} UTC.",
                      markup=False)
        for words in remarks:
            console.print(words, markup=False)
        for b in rows[:10]:
            console.print(f"  {b.file}, row {b.row}: {b.reason}", markup=False)

    @app.command("quality")
    def quality_(market: str = typer.Option(..., "--market", "-m", help="Market code."), project: Path | None = PROJECT,
                 source: str | None = typer.Option(None, "--source", help="The source tested on when it is left out."),
                 treated: bool = typer.Option(False, "--treated", help="Judge the bars after treatment."),
                 json: bool = JSON) -> None:
        """Report what is wrong with a market's history, where, and its score."""
        from wolbrin.core.market.quality import stamp  # late
        from wolbrin.core.work.markets import quality  # late

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
