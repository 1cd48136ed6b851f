"""`wolbrin new`: a project, empty or made of files in one go: layout, terms, sessions, border and a first strategy, guessed
with reasons. Where the data does not decide, it stops and names the option that answers."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import typer

from wolbrin.cli.common import FAILED, JSON, console, emit, error_console, finite, read_day, run, told
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import State
from wolbrin.core.market.findings import Finding
from wolbrin.core.store.project import DATABASE, Project
from wolbrin.core.store.settings import Settings

ORDER = "Order of dates that may be read two ways: dmy, mdy or ymd."
YES = typer.Option(False, "--yes", "-y", help="Take the likeliest answer where the data does not decide.")


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


def finding_json(f: Finding) -> dict[str, Any]:
    return {"what": f.what, "value": f.value, "why": f.why, "sure": f.sure, "asks": f.ask, "option": f.option,
            "answers": [{"value": a.value, "means": a.means} for a in f.answers]}


def ask(questions: Sequence[tuple[str, Finding]], yes: bool) -> None:
    """Say what the data does not decide; stop there unless the likeliest answer was asked for."""
    for code, f in questions:
        error_console.print(f"{code}: {f.sentence()}", markup=False)
        for a in f.answers:
            error_console.print(f"    {f.option} {a.value}" + (f": {a.means}" if a.means else ""), markup=False)
        if not yes:
            guess = "" if f.option == "--yes" else ", or take the guess with --yes"
            error_console.print(f"  Answer with {f.option}{guess}.", markup=False)
    if questions and not yes:
        raise typer.Exit(FAILED)


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
            zone: str | None = typer.Option(None, "--zone", help="Time zone of stamps without an offset."),
            stamp: str | None = typer.Option(None, "--stamp", help="open or close: which end of the bar carries the time."),
            order: str = typer.Option("", "--date-order", help=ORDER),
            decimal: str = typer.Option("", "--decimal", help="The decimal sign: . or ,"),
            minutes: int | None = typer.Option(None, "--minutes", min=1, max=1440, help="Interval; of ticks' bars."),
            tick: float | None = typer.Option(None, "--tick", callback=finite, help="Tick size."),
            kind: str | None = typer.Option(None, "--kind", help="future, currency pair, index or other."),
            sessions: str | None = typer.Option(None, "--sessions", help='Such as "Mon-Fri 09:00-17:00 Europe/Oslo", "none", '
                                                                         '"around the clock".'),
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
        from wolbrin.core.market.importing.files import pieces  # late
        from wolbrin.core.market.likely.terms_of import Said, spoken_sessions  # late
        from wolbrin.core.work.looking import Opened, Wishes, days_of, judge, look_job, questions_of  # late
        from wolbrin.core.work.starting import SEALED_SHARE, check_enough, likely_spans, start_project  # late

        with told():
            check_choice("--stamp", stamp, ("open", "close"))
            check_choice("--date-order", order or None, ("dmy", "mdy", "ymd"))
            check_choice("--decimal", decimal or None, (".", ","))
            check_choice("--kind", kind, ("future", "currency pair", "index", "other"))
            if (folder / DATABASE).exists():
                raise UserError("there is a project in this folder already", str(folder), "Name another folder.")
            sealed = share_or_day(holdout)
            rules, rules_zone = spoken_sessions(sessions) if sessions is not None else (None, None)
            found = pieces(paths)
            wishes = Wishes(code=market, zone=zone, stamp=stamp, order=order, decimal=decimal, minutes=minutes,
                            said=Said(exchange, kind, tick, rules, rules_zone), currency=currency or "EUR")
            outcome: list[list[Opened]] = []
            if run(look_job(found, wishes, outcome.append), "threads") is not State.DONE:
                error_console.print("Stopped; nothing was made.", markup=False)
                raise typer.Exit(FAILED)
            opened = outcome[0]
            for one in opened:
                if one.months:
                    raise UserError("these are contract months of one future", ", ".join(p.name for p in one.pieces[:3]),
                                    f"Start with `wolbrin new {folder}`, import them with --months, and join them.")
                check_enough(one.clock.raw, one.pieces[0].name)
            spans = likely_spans(days_of(opened), sealed if sealed is not None else SEALED_SHARE)
            wishes = replace(wishes, border=spans.border)
            judged = [judge(o, wishes) for o in opened]
            if currency is None and judged[0].terms.kind == "currency pair":
                wishes = replace(wishes, currency=judged[0].terms.quote_currency)
                judged = [judge(o, wishes) for o in opened]
            twice = {j.code for j in judged if [k.code for k in judged].count(j.code) > 1}
            if twice:
                raise UserError(f"two groups of files are called {', '.join(sorted(twice))}", "--from", "Rename the files.")
            questions = questions_of(judged)
            if json and questions and not yes:
                emit({"questions": [{"market": code} | finding_json(f) for code, f in questions],
                      "markets": [{"code": j.code, "guesses": [finding_json(f) for f in j.findings]} for j in judged]})
            ask(questions, yes)
            started = start_project(folder, judged, spans, wishes.currency, capital)
            entries = {m.code: m for m in started.project.markets()}
            result = {"folder": str(folder), "currency": wishes.currency, "capital": capital, "strategy": started.strategy,
                      "spans": {"training_first": spans.first, "holdout_first": spans.border, "last": spans.last},
                      "remarks": started.remarks, "markets": [market_json(j, entries[j.code]) for j in judged]}
            started.project.close()
        if json:
            emit(result)
            return
        for j in judged:
            entry = entries[j.code]
            console.print(f"{j.code}: {entry.bars:,} bars, {entry.first} to {entry.last} UTC", markup=False)
            for f in j.findings:
                console.print(f"  {f.sentence()}" + ("" if f.sure else " (not sure)"), markup=False)
            for note in j.imported.notes:
                console.print(f"  {note[0].upper() + note[1:]}.", markup=False)
        console.print(f"Training from {spans.first}, sealed from {spans.border} on, data until {spans.last}.", markup=False)
        for remark in started.remarks:
            console.print(remark, markup=False)
        first = f', with the strategy "{started.strategy}"' if started.strategy else ""
        console.print(f"The project is in {folder}{first}. Open it with `wolbrin {folder}`.", markup=False)


def check_choice(option: str, value: str | None, known: tuple[str, ...]) -> None:
    if value is not None and value not in known:
        raise UserError(f'"{value}" is not known', option, f"Write {', '.join(known[:-1])} or {known[-1]}.")


def market_json(judged: Any, entry: Any) -> dict[str, Any]:
    """One market of `new` and `import` as plain data (docs/command-line.md)."""
    i = judged.imported
    return {"code": judged.code, "terms": entry.terms, "layout": judged.layout, "rows": len(i.raw), "first": entry.first,
            "last": entry.last, "interval": entry.minutes, "bars": entry.bars,
            "guesses": [finding_json(f) for f in judged.findings], "notes": list(i.notes),
            "treated": {"left_out": entry.left_out, "off_grid": entry.off_grid, "bad_rows": i.bad_count, "late": i.late,
                        "repeated": int((i.raw.time[1:] == i.raw.time[:-1]).sum()) if i.raw.interval else 0}}
