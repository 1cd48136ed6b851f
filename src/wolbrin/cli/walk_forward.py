"""`wolbrin walk-forward`: fit on a stretch, trade the next with those numbers, move on."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import Any, cast

import typer
from rich.console import Console
from rich.table import Table

from wolbrin.cli.common import (
    INTERVAL,
    JSON,
    PROJECT,
    SHARE,
    USAGE,
    code_of,
    console,
    emit,
    error_console,
    open_project,
    run,
    told,
    write_out,
)
from wolbrin.cli.compiling import also_compiling
from wolbrin.cli.sweep import list_numbers
from wolbrin.core.errors import UserError
from wolbrin.core.export.tables import table_steps
from wolbrin.core.figures.searches import WALKED
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.wording import number
from wolbrin.core.rules.dated import schedule_words
from wolbrin.core.search.folds import Length
from wolbrin.core.search.objective import Floor, Objective
from wolbrin.core.search.walked import Choice
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.whole import whole_of
from wolbrin.core.work.standing_floors import floors_of_sets
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.varying import axes_of, constraints_of, lengths_of
from wolbrin.core.work.walk_answer import fold_table, walk_answer
from wolbrin.core.work.walk_grid import USUAL, Grid, grid_of_result, luck_words, shown, title_of
from wolbrin.core.work.walk_reading import Walked
from wolbrin.core.work.walk_request import WalkRequest
from wolbrin.core.work.walk_results import KIND, WalkResult, read_walk, walk_of
from wolbrin.core.work.walk_schedule import candidate_from_walk, fit_due, keep_strategy
from wolbrin.core.work.walking import estimate_walk, extend_walk, resume_walk, walk_job

LENGTH = "Days, months, years or trades: 90d, 24m, 2y, 40t."


def _asked(opened: Project, strategy: str, lengths: tuple[tuple[Length, ...], tuple[Length, ...]], given: dict[str, Any],
           gap: str, anchored: bool, forward: bool, choice: str, name: str) -> WalkRequest:
    """The request that the options describe. given: those of the sweep."""
    entry = opened.strategy(strategy)
    axes = axes_of(entry.strategy, given["vary"], given["link"], "", "", "")
    if not axes:
        list_numbers(entry)
        raise typer.Exit(USAGE)
    sweep = SweepRequest(entry.strategy, given["market"] or entry.market,
                         code_of(given["interval"]) if given["interval"] else entry.interval, axes, entry.own,
                         constraints_of(entry.strategy, given["constraint"]), given["method"], given["count"], given["seed"],
                         Objective.parse(given["objective"]),
                         floors_of_sets(opened, [Floor.parse_plain(f) for f in given["floor"]], given["without"], entry.own,
                                        lengths[0]))
    return WalkRequest(sweep, *lengths, Length.parse(gap, "--gap") if gap else None, anchored, not forward,
                       cast(Choice, choice), name)


def _figure(text: str) -> str:
    key = text.strip().casefold().replace(" ", "_")
    if key not in WALKED and key not in BY_KEY:
        raise UserError(f'there is no figure "{text}"', "--figure", f"There are {', '.join([*WALKED, *BY_KEY])}.")
    return key


def _cell(result: WalkResult, grid: Grid, text: str) -> int:
    """The cell that is meant: "24m,6m", or the center of the region that works (the best one where there is none)."""
    request = result.request
    if text:
        parts = text.replace("/", ",").split(",")
        if len(parts) != 2:
            raise UserError(f'"{text}" is no pair of lengths', "--cell", "Write for example 24m,6m.")
        wanted = tuple(Length.parse(p, "--cell") for p in parts)
        for at, lengths in enumerate(request.cells):
            if (lengths.training, lengths.test) == wanted:
                return at
        raise UserError(f"{text} is not in this grid", "--cell", "Choose one of its pairs.")
    return next((c for c in (grid.center, grid.best) if c >= 0), next(iter(result.cells), 0))


def show_walk(walked: Walked) -> None:
    """A walk for people."""
    axes = walked.request.sweep.axes
    table = Table(box=None, header_style="bold")
    for title in ("tested from", "to", *(a.short for a in axes), "training net", "test net", "trades", "efficiency"):
        table.add_column(title, justify="left" if title in ("tested from", "to") else "right")
    for t in walked.tested:
        numbers = [a.shown(v) for a, v in zip(axes, t.fit.values)] if t.fit.values is not None else ["none"] * len(axes)
        table.add_row(str(t.fold.test_first), str(t.fold.test_last), *numbers, number(t.fit.net), number(t.net),
                      number(t.trades), number(t.efficiency, 2))
    (console if console.is_terminal else Console(width=18 * len(table.columns), highlight=False)).print(table)
    figures = walked.figures
    keys = ("net", "t_daily", "return_drawdown", *WALKED)
    console.print("; ".join(f"{title_of(k)} {shown(k, figures[k])}" for k in keys), markup=False)
    for line in (*walked.words(), *schedule_words(walked.strategy, 3)):
        console.print(line, markup=False)


def show_grid(grid: Grid, result: WalkResult) -> None:
    """A grid for people."""
    request = result.request
    table = Table(box=None, header_style="bold", title_justify="left",
                  title=f"{title_of(grid.key)} by training (down) and test length")
    table.add_column("")
    for length in request.tests:
        table.add_column(length.short, justify="right")
    for row, length in enumerate(request.trainings):
        table.add_row(length.short, *(shown(grid.key, float(v)) + (" *" if grid.region[row, c] else "")
                                      for c, v in enumerate(grid.value[row])))
    (console if console.is_terminal else Console(width=16 * len(table.columns) + 10, highlight=False)).print(table)
    for line in (*grid.words(), luck_words(result, grid.key), *(f"* {w}" for w in dict.fromkeys(result.faults.values()))):
        if line:
            console.print(line, markup=False)


def _extended(opened: Project, name: str, json: bool) -> None:
    """Fit what has come due for a strategy with dated numbers."""
    entry = opened.strategy(name)
    made, words = fit_due(opened, entry.strategy, entry.own)
    if made.added:
        opened.change_strategy(made.strategy, entry.market, entry.interval, entry.id, entry.version)
    if json:
        emit({"strategy": entry.id, "added": made.added, "tried": made.tried, "words": words,
              "schedule": schedule_words(made.strategy),
              "next_fit": made.strategy.schedule.due if made.strategy.schedule else None})
        return
    for line in (words, *schedule_words(made.strategy, 4)):
        console.print(line, markup=False)


def _walk_number(opened: Project, name: str) -> int | None:
    """The walk of that number; None where there is none, so that a strategy is meant."""
    number = whole_of(name)
    if number is None:
        return None
    try:
        return number if Searches(opened).get(number).kind == KIND else None
    except UserError:
        return None


def _grid(text: str) -> tuple[tuple[Length, ...], tuple[Length, ...]]:
    """Training and test lengths of a grid. Raises UserError where it is none."""
    parts = re.split(r"\s*[xX]\s*", text.strip())
    if len(parts) != 2:
        raise UserError(f'"{text}" is no grid', "--grid", 'Write "12m,24m,36m x 3m,6m".')
    return lengths_of(parts[0], "--grid"), lengths_of(parts[1], "--grid")


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("walk-forward", context_settings={"allow_extra_args": True})
    def walk_forward(
            ctx: typer.Context,
            strategy: str | None = typer.Option(None, "--strategy", "-s", help="Name or id of a strategy of the project."),
            train: str = typer.Option("24m", "--train", help=f"Training length. {LENGTH}"),
            test: str = typer.Option("6m", "--test", help=f"Test length. {LENGTH}"),
            grid: str | None = typer.Option(None, "--grid", metavar="TRAIN,.. x TEST,..",
                                            help='Many lengths: "12m,24m,36m x 3m,6m", quoted or not.'),
            gap: str = typer.Option("", "--gap", help="Days, months or years between training and test."),
            anchored: bool = typer.Option(False, "--anchored", help="Training always begins with the history."),
            forward: bool = typer.Option(False, "--from-beginning", help="Lay folds from the beginning, not from the end."),
            choice: str = typer.Option("center", "--choice", help="Of each fit: center (of the best plateau), or best."),
            vary: list[str] = typer.Option([], "--vary", help="KEY=FROM:TO:STEP or KEY=A,B,C; none lists the keys."),
            link: list[str] = typer.Option([], "--link", help='What moves along: "target.amount = 2 * stop.amount".'),
            constraint: list[str] = typer.Option([], "--constraint", help='Sets to leave out: "fast < slow".'),
            project: Path | None = PROJECT,
            market: str | None = typer.Option(None, "--market", "-m", help="Market; the strategy's own when left out."),
            interval: str | None = typer.Option(None, "--interval", "-i", help=INTERVAL),
            method: str = typer.Option("every", "--method", help="every, sample or evolve."),
            count: int = typer.Option(0, "--count", min=0, help="Sets of a sample or an evolution; 0: what is usual."),
            seed: int = typer.Option(1, "--seed", min=0, help="Same seed, same sets."),
            objective: list[str] = typer.Option([], "--objective", help='A measure, or "0.6 * a + 0.4 * b".'),
            floor: list[str] = typer.Option([], "--floor", help='What a set must reach: "trades>=30"; 30 trades or 10 a year '
                                            "of each fit stand unless another floor of trades is given."),
            without_floor: list[str] = typer.Option([], "--without-floor", help="Take a standing floor out: trades."),
            shuffles: int = typer.Option(0, "--shuffles", min=0, max=1000, help="Walk as many shuffled histories too."),
            figure: str = typer.Option(USUAL, "--figure", help="Of a grid: what is compared, such as efficiency."),
            cell: str = typer.Option("", "--cell", help="Of a grid: the pair whose walk is shown; the region's center."),
            name: str = typer.Option("", "--name", help="A name under which the walk is kept."),
            show_: int | None = typer.Option(None, "--show", help="Show this walk; with --shuffles, with more of them."),
            resume: int | None = typer.Option(None, "--resume", help="Go on with this walk."),
            only_estimate: bool = typer.Option(False, "--estimate", help="Only say how many fits and how long."),
            keep: str | None = typer.Option(None, "--keep", help="Keep the dated strategy under this name."),
            shelf: bool = typer.Option(False, "--shelf", help="Put the dated strategy on the Shelf."),
            extend: str | None = typer.Option(None, "--extend", metavar="ID",
                                              help="Fit what has come due: number of a walk, or name of a dated strategy."),
            out: Path | None = typer.Option(None, "--out", help="Write the folds to a .parquet, .csv or .xlsx file."),
            share: float = SHARE, json: bool = JSON) -> None:
        """Fit numbers on a stretch, trade the next with them, move on; say whether tuning carries over; fit what is due."""
        with told():
            if ctx.args:
                if grid is None or len(ctx.args) != 2 or ctx.args[0].casefold() != "x":
                    raise UserError(f'"{" ".join(ctx.args)}" is not expected here', "walk-forward",
                                    "Quote what belongs together.")
                grid = f"{grid} x {ctx.args[1]}"
            opened = open_project(project, demo)
            key = _figure(figure)
            walk = _walk_number(opened, extend) if extend is not None else None
            if extend is not None and walk is None:
                _extended(opened, extend, json)
                return
            number_ = resume if resume is not None else show_
            if walk is not None:
                job, result, missing = extend_walk(opened, walk)
                run(job, "threads", share)
                error_console.print(f"{missing} fit{'s were' if missing != 1 else ' was'} due." if missing else
                                    "Nothing was due.", markup=False)
            elif number_ is not None:
                if Searches(opened).get(number_).kind != KIND:
                    raise UserError(f"search {number_} is no walk", Searches(opened).get(number_).title,
                                    "See `wolbrin searches`.")
                result = read_walk(opened, number_)
                more = shuffles - len(result.luck) if shuffles and resume is None else 0
                if resume is not None or more > 0:
                    job, result = resume_walk(opened, number_, more=max(0, more))
                    run(job, "threads", share)
            else:
                if strategy is None:
                    raise UserError("no strategy is named", "--strategy", "Name one, or a walk with --show or --resume.")
                given = {"vary": vary, "link": link, "constraint": constraint, "market": market, "interval": interval,
                         "method": method, "count": count, "seed": seed, "objective": objective, "floor": floor,
                         "without": without_floor}
                lengths = _grid(grid) if grid is not None else (lengths_of(train, "--train"), lengths_of(test, "--test"))
                request = _asked(opened, strategy, lengths, given, gap, anchored, forward, choice, name)
                if only_estimate:
                    one = estimate_walk(opened, request)
                    if json:
                        emit({"fits": one.fits, "sets": one.sets, "seconds": one.seconds})
                    else:
                        console.print(f"{one.words()}.{also_compiling()}", markup=False)
                    return
                job, result = walk_job(opened, request, shuffles)
                run(job, "threads", share)
            by = grid_of_result(result, key)
            at = _cell(result, by, cell)
            walked = walk_of(opened, result, at)
            kept = keep_strategy(opened, walked, keep) if keep is not None else None
            if kept is not None:
                error_console.print(f"Kept as strategy {kept}.", markup=False)
            if shelf:
                id = Dossiers(opened).on_shelf.keep(candidate_from_walk(opened, walked, keep or ""), result.search)
                error_console.print("On the Shelf" + (f" as {id}." if id else " already."), markup=False)
            if out is not None:
                write_out(out, table_steps(lambda: fold_table(walked), out, "folds"))
        if json:
            emit(walk_answer(result, walked, by, Searches(opened).get(result.search).tried, kept))
            return
        if len(result.request.cells) > 1:
            show_grid(by, result)
            console.print(f"\n{result.request.cells[at].words()}:", markup=False)
        elif len(result.luck):
            console.print(luck_words(result, key), markup=False)
        show_walk(walked)
