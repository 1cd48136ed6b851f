"""`wolbrin import`, `wolbrin quality`: history without the window."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, replace
from pathlib import Path

import typer

from wolbrin.cli.common import FAILED, JSON, PROJECT, console, emit, error_console, open_project, run, told
from wolbrin.cli.rolls import ADJUST, ROLL
from wolbrin.cli.taking import (
    KINDS_OF,
    ORDER,
    POINT_VALUE,
    SESSIONS,
    SPREAD_UNIT,
    STAMP,
    TIME_FORMAT,
    YES,
    ZONE,
    Spoken,
    ask,
    check_choice,
    check_code,
    finding_json,
    open_questions,
    read_months,
    rolls_json,
    tell_questions,
)
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import State
from wolbrin.core.market.importing.files import pieces
from wolbrin.core.market.importing.layout import Layout, load_layout
from wolbrin.core.market.importing.read import write_bad_rows
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.market.quality import stamp as stamp_of
from wolbrin.core.market.terms import load_terms
from wolbrin.core.store.project import Project
from wolbrin.core.work.importing import known_clock_of, known_rows
from wolbrin.core.work.looking import Judged, Opened, Wishes, judge_all, look_job, questions_of
from wolbrin.core.work.markets import quality
from wolbrin.core.work.starting import spans_for, take_in_every, take_in_months
from wolbrin.core.work.told_files import read_words


def _done(state: State) -> None:
    if state is not State.DONE:
        error_console.print("Stopped; nothing was kept.", markup=False)
        raise typer.Exit(FAILED)


def _layout(project: Project, name: str | None) -> Layout | None:
    """A layout by its file or the name it is remembered under; None to guess."""
    if name is None:
        return None
    if name.endswith(".json"):
        return load_layout(Path(name))
    named = [one for one in project.sources.layouts() if one.name == name]
    if not named:
        raise UserError(f'there is no layout "{name}" in this project', "--layout", "Name another.")
    return named[0]


def _as_months(opened: list[Opened]) -> list[Opened]:
    """Files as contract months of one market, whatever they look like."""
    if len({id(o.guess) for o in opened}) > 1 or any(o.aside for o in opened):
        raise UserError("these files are of several kinds", ", ".join(p.name for o in opened for p in o.pieces[:2]),
                        "Import contract months of one future at a time.")
    opened[0].months = True
    return opened


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("import")
    def import_(
            files: list[Path] = typer.Argument(...,
                                               help="Files or folders: CSV, TXT, JSON, XLSX, Parquet, Feather, packed too."),
            market: str = typer.Option(..., "--market", "-m", help="Market code, there or new, or a terms file."),
            project: Path | None = PROJECT,
            source: str = typer.Option("file", "--source", help="Name of the source; new rows are added to one there."),
            layout: str | None = typer.Option(None, "--layout", help="A remembered layout or a file; guessed if absent."),
            zone: str | None = typer.Option(None, "--zone", help=ZONE),
            stamp: str | None = typer.Option(None, "--stamp", help=STAMP),
            keep: str = typer.Option("old", "--keep", help="old or new: whose prices count where they disagree."),
            months: bool = typer.Option(False, "--months", help="Every file is a contract month; they are joined."),
            roll: str = typer.Option("", "--roll", help=f"Of contract months: {ROLL}"),
            adjust: str = typer.Option("difference", "--adjust", help=ADJUST),
            order: str = typer.Option("", "--date-order", help=ORDER),
            time_format: str = typer.Option("", "--time-format", help=TIME_FORMAT),
            decimal: str = typer.Option("", "--decimal", help="The decimal sign: . or ,"),
            minutes: int | None = typer.Option(None, "--minutes", min=1, max=1440, help="Interval; of ticks' bars."),
            tick: list[str] = typer.Option(None, "--tick", help="Of a new market: tick size."),
            point_value: list[str] = typer.Option(None, "--point-value", help=POINT_VALUE),
            quote: list[str] = typer.Option(None, "--quote-currency", help="Of a new market: what prices are in."),
            kind: list[str] = typer.Option(None, "--kind", help=KINDS_OF),
            sessions: list[str] = typer.Option(None, "--sessions", help=SESSIONS),
            spread_unit: list[str] = typer.Option(None, "--spread-unit", help=SPREAD_UNIT),
            exchange: str = typer.Option("", "--exchange", help="Of a new market: sessions of a listed exchange."),
            bad: Path | None = typer.Option(None, "--bad", help="Write the rows that were not taken to this CSV."),
            yes: bool = YES, json: bool = JSON) -> None:
        """Read history files and take them into a market, there or new: all of it or nothing."""
        with told():
            check_choice("--date-order", order or None, ("dmy", "mdy", "ymd"))
            check_choice("--decimal", decimal or None, (".", ","))
            check_choice("--keep", keep, ("old", "new"))
            spoken = Spoken(exchange, {"--zone": [zone] if zone else None, "--stamp": [stamp] if stamp else None,
                                       "--tick": tick, "--point-value": point_value, "--quote-currency": quote,
                                       "--kind": kind, "--sessions": sessions, "--spread-unit": spread_unit})
            opened = open_project(project, demo)
            entry = next((m for m in opened.markets() if m.code == market), None)
            terms = load_terms(Path(market)) if market.endswith(".json") else entry.terms if entry else None
            found = pieces(files)
            if bad is not None:
                write_bad_rows(bad, ())  # what cannot be written there is told before rows are kept
            chosen = _layout(opened, layout)
            code = terms.code if terms else check_code(market)
            base = spoken.wishes(code, Wishes(
                code=code, zone=chosen.zone if chosen else None, stamp=chosen.stamp if chosen else None, order=order,
                time_format=time_format, decimal=decimal, minutes=minutes, layout=chosen, currency=opened.settings.currency,
                terms=terms,
                before=known_clock_of(opened, terms.code, source) if entry and terms else "",
                old=known_rows(opened, terms.code, source) if entry and terms and not months else None))
            looked: list[list[Opened]] = []
            _done(run(look_job(found, base, looked.append), "threads"))
            every = _as_months(looked[0]) if months else looked[0]
            if len({o.code for o in every}) > 1:
                raise UserError(f"these files hold {len({o.code for o in every})} markets", ", ".join(o.code for o in every),
                                "Import one at a time, or start a project of them with `wolbrin new`.")
            spans = spans_for(opened, every)
            base = replace(base, border=spans.border if spans else opened.settings.holdout_first)
            notes: tuple[str, ...] = ()
            judged: list[Judged]
            if every[0].months:
                first = read_months(every[0], base, spoken, roll, adjust)
                judged = [first.judged]
                read = first.read
            else:
                judged = judge_all(every, lambda _: base)
                read = [(j.aside or source, j.imported) for j in judged]
            findings = [finding_json(f) for j in judged for f in j.findings]
            questions = questions_of(judged)
            if json and open_questions(questions, yes):
                tell_questions(judged, source)
            ask(questions, yes)
            remarks: list[str] = []
            if every[0].months:
                made, notes = take_in_months(opened, judged[0].terms, read, judged[0].layout,
                                             ", ".join(p.name for p in found[:20]), keep, judged[0].assumed, first.rule,
                                             spans)
            else:
                made, remarks = take_in_every(opened, judged, source, keep, spans)
            rows = [b for _, i in read for b in i.bad]
            if bad is not None:
                write_bad_rows(bad, rows)
            result = {"market": made.market, "source": made.name, "interval": interval_words(made.interval),
                      "read": [read_words(j) for j in judged],
                      "rows": sum(i.rows for _, i in read), "taken": sum(len(i.raw) for _, i in read),
                      "bad": sum(i.bad_count for _, i in read), "first": made.first, "last": made.last,
                      "notes": [*(n for _, i in read for n in i.notes), *notes], "remarks": remarks, "guesses": findings,
                      "rolls": rolls_json(made), "bad_rows": [asdict(b) for b in rows[:100]]}
        if json:
            emit(result)
            return
        for j in judged:
            console.print(f"{j.code}{f', {j.aside}' if j.aside else ''}: read as {read_words(j)}.", markup=False)
        console.print(f"{made.market}, {made.name}: {result['taken']:,} of {result['rows']:,} rows taken, "
                      f"{result['bad']:,} could not be read; {result['interval']}, {made.first} to {made.last} UTC.",
                      markup=False)
        if made.rolls:
            console.print(f"{len(made.rolls)} rolls; list them with `wolbrin join -m {made.market} --list`.", markup=False)
        for words in (*remarks, *(f"{n[0].upper()}{n[1:]}." for n in notes)):
            console.print(words, markup=False)
        for b in rows[:10]:
            console.print(f"  {b.file}, row {b.row}: {b.reason}", markup=False)

    @app.command("quality")
    def quality_(market: str = typer.Option(..., "--market", "-m", help="Market code."), project: Path | None = PROJECT,
                 source: str | None = typer.Option(None, "--source", help="The source tested on when it is left out."),
                 treated: bool = typer.Option(False, "--treated", help="Judge the bars after treatment."),
                 json: bool = JSON) -> None:
        """Report what is wrong with a market's history, where, and its score."""
        with told():
            opened = open_project(project, demo)
            name = source or opened.market(market).source
            made = quality(opened, opened.sources.get(market, name), treated)
        if json:
            findings = []
            for f in made.findings:
                places = [{"time": f"{stamp_of(p.time)}Z".replace(" ", "T"), "bars": p.bars, "words": p.words}
                          for p in f.places[:1000]]
                findings.append({"key": f.key, "title": f.title, "bars": f.count, "share": f.share, "points": f.cost,
                                 "places": places})
            emit({"market": market, "source": name, "rows": made.rows, "score": made.score, "findings": findings})
            return
        console.print(f"{market}, {name}: {made.score:.0f} of 100 for {made.rows:,} rows.", markup=False)
        for f in made.findings:
            if f.count:
                first = f.places[0]
                console.print(f"  {f.title}: {f.count:,} ({f.share:.3%}), worst {stamp_of(first.time)} UTC, {first.words}",
                              markup=False)
