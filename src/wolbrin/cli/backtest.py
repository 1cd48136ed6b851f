"""`wolbrin backtest`: one run, on a project or on three files."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from pathlib import Path
from typing import Any

import typer

from wolbrin.cli.common import (
    INTERVAL,
    JSON,
    PROJECT,
    USAGE,
    code_of,
    console,
    emit,
    error_console,
    finite,
    measures_table,
    open_project,
    read_day,
    told,
    write_out,
)
from wolbrin.cli.fitting import fit_again
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.ledger import ledger, order_log
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.record import assumed_words
from wolbrin.core.engine.run import Run, backtest, need_bars
from wolbrin.core.errors import UserError
from wolbrin.core.export.exporters import exporter
from wolbrin.core.faults import validated
from wolbrin.core.market.bars import Bars, Span
from wolbrin.core.market.costs import FREE
from wolbrin.core.market.intervals import interval_words, to_interval
from wolbrin.core.market.terms import load_terms
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.rules.model import Strategy, load_strategy
from wolbrin.core.rules.words import describe
from wolbrin.core.store.settings import Settings
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.one_run import OneRun, tried_on
from wolbrin.core.work.starting import first_interval, fits, template_named
from wolbrin.core.work.subject import Subject


def _day(text: str | None, name: str) -> dt.date | None:
    return None if text is None else read_day(text, name)


def _target(text: str) -> tuple[str, Path]:
    """Read KIND=FILE."""
    kind, _, path = text.partition("=")
    exporter(kind)
    if not path:
        raise UserError(f'"{text}" is not KIND=FILE', "--write", "Write for example ledger=trades.csv.")
    return kind, Path(path)


def report(run: Run, detail: bool, orders: bool = False, tried: int = 1) -> dict[str, Any]:
    """The result as plain data (docs/command-line.md)."""
    result: dict[str, Any] = {"record": run.record(tried=tried), "tried": tried, "counts": run.counts,
                              "measures": measure(Facts.of(run)),
                              "fingerprint": run.fingerprint, "ledger": ledger(run)}
    if run.fault:
        result["fault"] = run.fault
    if orders:
        result["orders"] = order_log(run)
    if detail:
        part = slice(run.first, run.last)
        result["equity"] = {"time": run.bars.end[part].view("datetime64[ns]"), "net": run.net, "gross": run.gross,
                            "position": run.position}
    return result


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("backtest")
    def command(
            strategy: str | None = typer.Option(None, "--strategy", "-s",
                                                help="Name or id in the project, or a strategy file."),
            template: str | None = typer.Option(None, "--template", help="A template instead, for a first look."),
            project: Path | None = PROJECT,
            bars: Path | None = typer.Option(None, "--bars", help="A CSV of bars; then no project is needed."),
            market: str | None = typer.Option(None, "--market", "-m", help="Market code, or with --bars a market file."),
            interval: str | None = typer.Option(None, "--interval", "-i", help=INTERVAL),
            bar_minutes: int | None = typer.Option(None, "--bar-minutes", help="Interval of the CSV; guessed if absent."),
            zone: str = typer.Option("UTC", "--zone", help="Time zone of stamps without an offset in the CSV."),
            first: str | None = typer.Option(None, "--from", help="First trading date of decisions; else training's."),
            last: str | None = typer.Option(None, "--to", help="Last trading date; else training's. Beyond it: the holdout."),
            capital: float | None = typer.Option(None, "--capital", callback=finite, help="Starting capital."),
            finer: Path | None = typer.Option(None, "--finer", help="With --bars: a CSV of finer bars for fine fills."),
            rates: Path | None = typer.Option(None, "--rates", help="With --bars: a CSV of the conversion market."),
            rates_market: Path | None = typer.Option(None, "--rates-market", help="Its market file."),
            fine: bool = typer.Option(False, "--fine", help="Fine fills from the market's own interval."),
            orders: bool = typer.Option(False, "--orders", help="Include the order log in the JSON."),
            write: list[str] = typer.Option([], "--write", help="KIND=FILE: ledger, orders, measures, html or pdf."),
            equity: bool = typer.Option(False, "--equity", help="Include equity and position per bar in the JSON."),
            json: bool = JSON) -> None:
        """Run a strategy over a history and print its measures."""
        if (strategy is None) == (template is None):
            error_console.print("Name a --strategy or a --template.", markup=False)
            raise typer.Exit(USAGE)
        if bars is not None and market is None:
            error_console.print("--bars needs --market FILE.json, the contract terms.", markup=False)
            raise typer.Exit(USAGE)
        with told():
            if capital is not None:
                validated(Settings, {"capital": capital}, "backtest")
            span = Span(_day(first, "from"), _day(last, "to"))
            if span.first and span.last and span.first > span.last:
                raise UserError(f"the span ends on {span.last}, before it begins on {span.first}", "--from, --to",
                                "Exchange the two dates.")
            tried, currency = 1, ""
            what: Strategy
            history: Prepared | Bars
            run: Run
            if bars is not None:
                from wolbrin.core.market.csv_files import read_bars  # late

                terms = load_terms(Path(str(market)))
                currency = terms.quote_currency
                what = template_named(template).strategy() if template else load_strategy(Path(str(strategy)))
                what = fits(what, terms) if template else what
                base = read_bars(bars, terms, bar_minutes, zone)
                history = to_interval(base, code_of(interval)) if interval else base
                below = read_bars(finer, terms, None, zone) if finer else base
                quoted = read_bars(rates, load_terms(rates_market), None, zone) if rates and rates_market else None
                history = Prepared.of(history, finer=lambda: below, rates=lambda: quoted)
                brief = Brief(span, None, Settings().capital if capital is None else capital,
                              fine=fine or finer is not None)
                need_bars(history, brief.span)
                run = backtest(history, what, brief)
            else:
                opened = open_project(project, demo)
                if template is not None:
                    entries = opened.markets()
                    if market is None and len(entries) != 1:
                        raise UserError("a template does not say its market", "--template", "Name a --market too.")
                    chosen_market = opened.market(market or entries[0].code)
                    what, code, own = fits(template_named(template).strategy(), chosen_market.terms), chosen_market.code, None
                    minutes = code_of(interval) if interval else first_interval(chosen_market.minutes)
                elif str(strategy).endswith(".json"):
                    if market is None:
                        raise UserError("a strategy file does not say its market", "--strategy", "Name a --market too.")
                    what, code, minutes = load_strategy(Path(str(strategy))), market, code_of(interval or "15")
                    own = None
                else:
                    entry = opened.strategy(str(strategy))
                    what, code, own = entry.strategy, market or entry.market, entry.own
                    minutes = code_of(interval) if interval else entry.interval
                opened.market(code)
                one = OneRun(Footing.of(opened), what, code, minutes, own, span if first or last else None, None, capital,
                             fine or None)
                currency = one.settings.currency
                tried = tried_on(opened, code)
                if one.sealed:
                    fit_again(opened, [Subject(what, code, minutes, own=own)])
                    found = one.open(opened, "backtest")
                    error_console.print("This run sees the holdout; the opening has been counted. The verdict is final: "
                                        f"{found.verdict.reason}", markup=False)
                    run = found.run
                else:
                    need_bars(one.history(), one.days)
                    run = one.run()
            for kind, path in map(_target, write):
                write_out(path, exporter(kind).steps(run, path, currency, tried))
        if json:
            emit(report(run, equity, orders, tried))
        else:
            console.print(describe(what), markup=False)
            title = f"{what.name} on {run.bars.terms.code} {interval_words(run.bars.interval)}, {run.brief.span}"
            title += f", {FREE}" if run.brief.paid.free else ""
            title += f", {assumed_words(run.brief.assumed)}" if run.brief.assumed else ""
            if run.fault:
                error_console.print(run.fault, markup=False)
            console.print(measures_table(title,
                                         {"value": measure(Facts.of(run))}))
