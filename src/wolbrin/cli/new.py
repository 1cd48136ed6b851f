"""`wolbrin new`: a project, empty or made of files in one go: layout, terms, sessions, border and a first strategy, guessed
with reasons. Where the data does not decide, it stops and names the option that answers."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from pathlib import Path

import typer

from wolbrin.cli.common import FAILED, JSON, console, emit, error_console, finite, read_day, run, told
from wolbrin.cli.rolls import ADJUST, ROLL, adjust_of
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
    market_json,
    months_json,
    open_questions,
    read_months,
    tell_questions,
)
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import State
from wolbrin.core.market.importing.files import pieces
from wolbrin.core.market.importing.layout import load_layout
from wolbrin.core.store.project import DATABASE, Project
from wolbrin.core.store.settings import Settings
from wolbrin.core.work.looking import (
    Judged,
    Opened,
    Wishes,
    days_of,
    judge_all,
    judge_months,
    look_job,
    questions_of,
)
from wolbrin.core.work.starting import SEALED_SHARE, Months, check_enough, likely_spans, start_project
from wolbrin.core.work.told_files import read_words


def share_or_day(text: str | None) -> float | dt.date | None:
    """A border as written: 35% or a date."""
    if text is None:
        return None
    if text.endswith("%"):
        try:
            share = float(text[:-1]) / 100
        except ValueError:
            share = -1.0
        if not 0.02 <= share <= 0.9:
            raise UserError(f'"{text}" is not a share of the data', "--holdout", "Write 2% to 90%, or a date.")
        return share
    return read_day(text, "holdout")


def add(app: typer.Typer) -> None:
    @app.command("new")
    def new(folder: Path = typer.Argument(..., help="A new or empty folder."),
            more: list[Path] = typer.Argument(None, help="Further files after --from."),
            files: list[Path] = typer.Option(None, "--from", help="History: files, folders, archives."),
            market: str = typer.Option("", "--market", "-m", help="Code; else from the file's name or column."),
            exchange: str = typer.Option("", "--exchange", help="Sessions of a listed exchange (ISO 10383), such as XOSL."),
            holdout: str | None = typer.Option(None, "--holdout", help="What is sealed: 35%, or its first day."),
            currency: str | None = typer.Option(None, "--currency", help="Of the account; else the first market's."),
            capital: float = typer.Option(50_000.0, "--capital", callback=finite, min=1, help="Starting capital."),
            zone: list[str] = typer.Option(None, "--zone", help=ZONE),
            stamp: list[str] = typer.Option(None, "--stamp", help=STAMP),
            order: str = typer.Option("", "--date-order", help=ORDER),
            time_format: str = typer.Option("", "--time-format", help=TIME_FORMAT),
            decimal: str = typer.Option("", "--decimal", help="The decimal sign: . or ,"),
            minutes: int | None = typer.Option(None, "--minutes", min=1, max=1440, help="Interval; of ticks' bars."),
            tick: list[str] = typer.Option(None, "--tick", help="Tick size, also as CODE=VALUE."),
            point_value: list[str] = typer.Option(None, "--point-value", help=POINT_VALUE),
            quote: list[str] = typer.Option(None, "--quote-currency", help="What prices are in, also as CODE=VALUE."),
            kind: list[str] = typer.Option(None, "--kind", help=KINDS_OF),
            sessions: list[str] = typer.Option(None, "--sessions", help=SESSIONS),
            spread_unit: list[str] = typer.Option(None, "--spread-unit", help=SPREAD_UNIT),
            layout: Path | None = typer.Option(None, "--layout",
                                               help="How the files are laid out, as JSON; guessed if absent."),
            roll: str = typer.Option("", "--roll", help=f"Of contract months: {ROLL}"),
            adjust: str = typer.Option("difference", "--adjust", help=ADJUST),
            yes: bool = YES, json: bool = JSON) -> None:
        """Start a project: empty, or of history files with everything else guessed and explained."""
        paths = [*(files or []), *(more or [])]
        if not paths:
            with told():
                Project.create(folder, Settings(currency=currency or "EUR", capital=capital)).close()
            if json:
                emit({"folder": str(folder), "markets": []})
            else:
                console.print(f"An empty project is in {folder}. Open it with `wolbrin {folder}`, or import history.",
                              markup=False)
            return
        with told():
            check_choice("--date-order", order or None, ("dmy", "mdy", "ymd"))
            check_choice("--decimal", decimal or None, (".", ","))
            adjust_of(adjust)
            check_code(market)
            if (folder / DATABASE).exists():
                raise UserError("there is a project in this folder already", str(folder), "Name another folder.")
            sealed = share_or_day(holdout)
            found = pieces(paths)
            spoken = Spoken(exchange, {"--zone": zone, "--stamp": stamp, "--tick": tick, "--point-value": point_value,
                                       "--quote-currency": quote, "--kind": kind, "--sessions": sessions,
                                       "--spread-unit": spread_unit})
            base = Wishes(code=market, order=order, time_format=time_format, decimal=decimal, minutes=minutes,
                          layout=load_layout(layout) if layout else None, currency=currency or "EUR")
            outcome: list[list[Opened]] = []
            if run(look_job(found, base, outcome.append), "threads") is not State.DONE:
                error_console.print("Stopped; nothing was made.", markup=False)
                raise typer.Exit(FAILED)
            opened = outcome[0]
            main = [o for o in opened if not o.months]
            months = [read_months(o, base, spoken, roll, adjust) for o in opened if o.months]
            for one in main:
                if not one.aside:
                    check_enough(one.clock.raw, one.pieces[0].name)
            spans = likely_spans([*days_of([o for o in main if not o.aside]), *(m.days for m in months)],
                                 sealed if sealed is not None else SEALED_SHARE)
            base = replace(base, border=spans.border)

            def decide(money: str) -> tuple[list[Judged], list[Months]]:
                wanted = replace(base, currency=money)
                return (judge_all(main, lambda code: spoken.wishes(code, wanted)),
                        [replace(m, judged=judge_months(o, spoken.wishes(o.code, wanted)))
                         for m, o in zip(months, (o for o in opened if o.months))])

            judged, joined = decide(base.currency)
            every = [*judged, *(m.judged for m in joined)]
            if currency is None and every[0].terms.quote_currency != base.currency:
                judged, joined = decide(every[0].terms.quote_currency)
                every = [*judged, *(m.judged for m in joined)]
                base = replace(base, currency=every[0].terms.quote_currency)
            codes = [j.code for j in every if not j.aside]
            twice = {c for c in codes if codes.count(c) > 1}
            if twice:
                raise UserError(f"two groups of files are called {', '.join(sorted(twice))}", "--from", "Rename the files.")
            questions = questions_of(every)
            if json and open_questions(questions, yes):
                tell_questions(every, "file")
            ask(questions, yes)
            started = start_project(folder, judged, spans, base.currency, capital, joined)
            entries = {m.code: m for m in started.project.markets()}
            result = {"folder": str(folder), "currency": base.currency, "capital": capital, "strategy": started.strategy,
                      "spans": {"training_first": spans.first, "holdout_first": spans.border, "last": spans.last},
                      "remarks": started.remarks,
                      "markets": [market_json(j, entries[j.code]) for j in judged]
                      + [months_json(m, entries[m.judged.code], started.project) for m in joined]}
            started.project.close()
        if json:
            emit(result)
            return
        for j in every:
            entry = entries[j.code]
            console.print(f"{j.code}: {entry.bars:,} bars, {entry.first} to {entry.last} UTC" if not j.aside else
                          f"{j.code}, {j.aside}: {len(j.imported.raw):,} rows", markup=False)
            console.print(f"  Read as {read_words(j)}.", markup=False)
            for f in j.findings:
                console.print(f"  {f.sentence()}" + ("" if f.sure else " (not sure)"), markup=False)
            for note in j.imported.notes:
                console.print(f"  {note[0].upper() + note[1:]}.", markup=False)
        console.print(f"Training from {spans.first}, sealed from {spans.border} on, data until {spans.last}.", markup=False)
        for remark in started.remarks:
            console.print(remark, markup=False)
        first = f', with the strategy "{started.strategy}"' if started.strategy else ""
        console.print(f"The project is in {folder}{first}. Open it with `wolbrin {folder}`.", markup=False)
