"""`wolbrin strategy`: add, list, show and export the strategies of a project."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import typer

from wolbrin.cli.common import INTERVAL, JSON, PROJECT, code_of, console, emit, open_project, told
from wolbrin.core.errors import UserError
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Strategy, load_strategy
from wolbrin.core.rules.script import parse_strategy, strategy_text
from wolbrin.core.rules.templates import templates
from wolbrin.core.rules.words import describe
from wolbrin.core.store.brought import bring, unknown_tried
from wolbrin.core.store.project import Project, StrategyEntry
from wolbrin.core.store.searches import Searches
from wolbrin.core.work.starting import first_interval, fits, template_named
from wolbrin.core.written import read_text, write_text


def _as_json(e: StrategyEntry) -> dict[str, object]:
    return {"id": e.id, "name": e.strategy.name, "market": e.market, "interval": interval_words(e.interval),
            "hash": strategy_hash(e.strategy)}


def _given(project: Project, file: Path | None, formula: str | None, template: str | None) -> Strategy:
    if sum(x is not None for x in (file, formula, template)) != 1:
        raise UserError("a strategy comes from one of three: a file, a formula or a template", "strategy add",
                        "Name one of FILE, --formula TEXT, --template NAME; templates are "
                        + ", ".join(t.name for t in templates()) + ".")
    if template is not None:
        return template_named(template).strategy()
    if formula is not None:
        return parse_strategy(formula.replace("\\n", "\n"), project.own.known())
    assert file is not None
    if file.suffix.lower() == ".json":
        return load_strategy(file)
    return parse_strategy(read_text(file, "strategy file"), project.own.known())


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    group = typer.Typer(help="Add, list, show and export strategies.", no_args_is_help=True)
    app.add_typer(group, name="strategy")

    @group.command("add")
    def add_(file: Path | None = typer.Argument(None, help="A strategy file: JSON, or formula text."),
             project: Path | None = PROJECT,
             formula: str | None = typer.Option(None, "--formula", help="The strategy as formula text, a statement a line."),
             template: str | None = typer.Option(None, "--template", help="A template's name."),
             market: str | None = typer.Option(None, "--market", "-m", help="Market; the first one when left out."),
             interval: str | None = typer.Option(None, "--interval", "-i", help=INTERVAL),
             name: str | None = typer.Option(None, "--name", help="Another name for it."),
             tried: int | None = typer.Option(None, "--tried", min=1, help="How many alternatives were tried for it before "
                                              "it came here, itself among them; without it that is unknown, and it can "
                                              "be studied but cannot stand."), json: bool = JSON) -> None:
        """Add a strategy to the project."""
        with told():
            opened = open_project(project, demo)
            strategy = _given(opened, file, formula, template)
            entries = opened.markets()
            if market is None and not entries:
                raise UserError("this project holds no market yet", str(opened.folder), "Import history first.")
            entry = opened.market(market) if market else entries[0]
            if template is not None:
                strategy = fits(strategy, entry.terms)
            strategy = strategy.model_copy(update={"name": opened.free_name(name or strategy.name)})
            minutes = code_of(interval) if interval else first_interval(entry.minutes)
            made = opened.strategy(opened.save_strategy(strategy, entry.code, minutes))
            if template is None:
                bring(opened, made.strategy, made.market, made.interval, tried)
            unknown = unknown_tried(opened, made.strategy)
        if json:
            emit(_as_json(made) | {"tried_unknown": unknown})
        else:
            console.print(f'"{made.strategy.name}" is strategy {made.id}, on {made.market} {interval_words(made.interval)}.',
                          markup=False)
            if unknown:
                console.print(f"How many were tried for it is not known: `wolbrin strategy tried {made.id} NUMBER` says it. "
                              "Until then it can be studied, and cannot stand.", markup=False)

    @group.command("tried")
    def tried_(name: str = typer.Argument(..., help="Name or id."),
               number: int = typer.Argument(..., min=1, help="How many alternatives were tried for it before it came here."),
               project: Path | None = PROJECT, json: bool = JSON) -> None:
        """Say how many alternatives were tried for a strategy that was brought in; it counts on its market."""
        with told():
            opened = open_project(project, demo)
            e = opened.strategy(name)
            bring(opened, e.strategy, e.market, e.interval, number)
            total = Searches(opened).tried_on(e.market)
        if json:
            emit(_as_json(e) | {"tried_unknown": False, "tried_on_market": total})
        else:
            console.print(f"{e.strategy.name}: {number:,} tried; {total:,} on {e.market} by now.", markup=False)

    @group.command("list")
    def list_(project: Path | None = PROJECT, json: bool = JSON) -> None:
        """All strategies of the project."""
        with told():
            found = open_project(project, demo).strategies()
        if json:
            emit({"strategies": [_as_json(e) for e in found], "templates": [t.name for t in templates()]})
            return
        for e in found:
            console.print(f"{e.id:>4}  {e.strategy.name}, {e.market} {interval_words(e.interval)}", markup=False)
        if not found:
            console.print("There is no strategy yet; `wolbrin strategy add --template NAME` adds one. Templates: "
                          + ", ".join(t.name for t in templates()) + ".", markup=False)

    @group.command("show")
    def show(name: str = typer.Argument(..., help="Name or id."), project: Path | None = PROJECT, json: bool = JSON) -> None:
        """A strategy in words and as formula text."""
        with told():
            e = open_project(project, demo).strategy(name)
        if json:
            emit(_as_json(e) | {"strategy": e.strategy, "words": describe(e.strategy), "text": strategy_text(e.strategy)})
            return
        console.print(describe(e.strategy), markup=False)
        console.print(strategy_text(e.strategy), markup=False)

    @group.command("export")
    def export(name: str = typer.Argument(..., help="Name or id."),
               file: Path | None = typer.Argument(None, help="Where to; standard output when left out."),
               project: Path | None = PROJECT,
               text: bool = typer.Option(False, "--text", help="Formula text instead of JSON.")) -> None:
        """Write a strategy as a file that `strategy add` reads."""
        with told():
            e = open_project(project, demo).strategy(name)
            words = strategy_text(e.strategy) if text else e.strategy.model_dump_json(indent=2)
            if file is not None:
                write_text(file, words.rstrip("\n") + "\n")
        if file is None:
            typer.echo(words)
        else:
            console.print(f"{e.strategy.name} is in {file}.", markup=False)
