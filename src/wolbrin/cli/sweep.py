"""`wolbrin sweep`: which parameter region works, and is it a plateau or a peak."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

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
from wolbrin.core.errors import UserError
from wolbrin.core.export.tables import table_steps
from wolbrin.core.jobs import State
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.wording import worded
from wolbrin.core.rules.numbers import tunables
from wolbrin.core.search.basket import MEDIAN_RANK, check_rule
from wolbrin.core.search.objective import Floor, Objective
from wolbrin.core.search.space import key_of
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.strategies import StrategyEntry
from wolbrin.core.whole import whole_of
from wolbrin.core.work.controls import percent_note
from wolbrin.core.work.standing_floors import floors_of_sets
from wolbrin.core.work.sweep_answer import SweepAnswer, answer, order_of, table_of
from wolbrin.core.work.sweep_estimate import estimate
from wolbrin.core.work.sweep_luck import KIND as LUCK
from wolbrin.core.work.sweep_luck import LuckResult, luck_job, read_luck, resume_luck
from wolbrin.core.work.sweep_reading import Reading, extended, read, zoomed
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweep_results import SweepResult, read_sweep
from wolbrin.core.work.sweep_sets import ParameterSet, candidate_from_sweep, strategy_of
from wolbrin.core.work.sweep_statistics import statistics
from wolbrin.core.work.sweeping import resume_sweep, sweep_job
from wolbrin.core.work.varying import axes_of, constraints_of

WHICH = {"center": "the plateau's center", "best": "the best set"}


def list_numbers(entry: StrategyEntry) -> None:
    """Say what can be varied, on standard error."""
    for t in tunables(entry.strategy):
        error_console.print(f"{t.key}  {t.title}, now {t.value:g}, for example {t.key}={t.low:g}:{t.high:g}:{t.step:g}",
                            markup=False)
    error_console.print("Name at least one number with --vary.", markup=False)


def region_of(request: SweepRequest, texts: list[str]) -> dict[int, tuple[float, float]]:
    """Read --zoom KEY=LOW:HIGH."""
    titles = {a.key: a.title for a in request.axes}
    found = {}
    for text in texts:
        name, _, span = text.partition("=")
        key = key_of(name, titles, "--zoom")
        try:
            low, high = (float(v) for v in span.split(":"))
        except ValueError:
            raise UserError(f'"{span}" is not LOW:HIGH', f"--zoom {key}", "Write for example 10:30.") from None
        if high < low:
            raise UserError("the region ends before it begins", f"--zoom {key}", "Exchange the two.")
        found[[a.key for a in request.axes].index(key)] = (low, high)
    return found


def chosen(reading: Reading, which: str, where: str) -> tuple[float, ...]:
    """The set that is meant by center, best or a place in the list.

    Raises:
        UserError: there is none.
    """
    row = {"center": reading.center, "best": reading.best}.get(which)
    if row is None:
        order = order_of(reading)
        if not 1 <= (place := whole_of(which) or 0) <= len(order):
            raise UserError(f'"{which}" is no set', where, f"Write center, best, or a place from 1 to {len(order):,}.")
        row = int(order[place - 1])
    if row < 0:
        raise UserError(f"{WHICH[which]} is not there: {reading.reason()}", where, "Choose another set.")
    return reading.values(row)


def show(found: SweepAnswer, reading: Reading, top: int) -> None:
    """The answer for people."""
    r = reading.request
    keys = list(dict.fromkeys([*r.objective.keys, "net", "trades", "profit_factor", "max_drawdown"]))
    table = Table(box=None, header_style="bold")
    for axis in r.axes:
        table.add_column(axis.short, justify="right")
    for key in keys:
        table.add_column(BY_KEY[key].title, justify="right")
    table.add_column("plateau", justify="right")
    for row in order_of(reading)[:top].tolist():
        table.add_row(*(a.shown(v) for a, v in zip(r.axes, reading.values(row))),
                      *(worded(k, float(reading.columns[k][row])) for k in keys),
                      r.objective.value_words(float(reading.median[row])), style=None if reading.passes[row] else "dim")
    # Wide beats cut, where nobody looks at it in a terminal.
    (console if console.is_terminal else Console(width=18 * len(table.columns), highlight=False)).print(table)
    lines = [found.reason, *(e.words for e in found.edges), found.importance_words, *(one.words for one in found.luck),
             *(f"{one.percent}." for one in found.luck[:1] if one.percent),
             *(line for s in found.statistics for line in s.words)]
    for line in lines:
        if line:
            console.print(line, markup=False)


class _Kept:
    """A sweep of the project that is named instead of a new one."""

    def __init__(self, opened: Project, resume: int | None, show_: int | None, again: int | None) -> None:
        self._opened, self._resume, self._again = opened, resume, again
        self.number = next((n for n in (resume, show_, again) if n is not None), None)

    def read(self, share: float) -> tuple[State, SweepResult | None]:
        """The sweep, gone on with where that is asked. Raises UserError where the number is no sweep's."""
        assert self.number is not None
        found = Searches(self._opened).get(self.number)
        if found.kind == LUCK and self._resume is not None:
            state = run(resume_luck(self._opened, self.number)[0], "threads", share)
            return state, read_sweep(self._opened, found.request["sweep"])
        if found.kind != "sweep":
            raise UserError(f"search {self.number} is no sweep", found.title, "See `wolbrin searches`.")
        if self._resume is not None:
            job, result = resume_sweep(self._opened, self.number)
            return run(job, "threads", share), result
        known = {s.value for s in State}
        return State(found.state) if found.state in known else State.STOPPED, read_sweep(self._opened, self.number)

    def further(self, result: SweepResult | None, zoom: list[str], extend: bool, name: str) -> SweepRequest | None:
        """What is to be run on from it."""
        if result is None:
            return None
        if self._again is not None:
            return replace(result.request, base=0, name=name or result.request.name)
        if zoom:
            return zoomed(result.request, result.search, region_of(result.request, zoom))
        if extend:
            edges = read(result).edges
            if not edges:
                raise UserError("the best does not lie at the end of a range", result.request.title,
                                "There is nothing to extend.")
            return extended(result.request, result.search, edges)
        return None


def luck_of(opened: Project, result: SweepResult, shuffles: int, mirrored: bool, share: float) -> LuckResult | None:
    """Shuffles that there are, and as many more as are missing to the number asked for."""
    known = read_luck(opened, result, mirrored)
    done = known.of().shuffles if known is not None else 0
    if shuffles > done and result.count and not result.unfinished:
        job, known = luck_job(opened, result, shuffles - done, mirrored)
        run(job, "threads", share)
    return known


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("sweep")
    def sweep(
            strategy: str | None = typer.Option(None, "--strategy", "-s", help="Name or id of a strategy of the project."),
            vary: list[str] = typer.Option([], "--vary", help="KEY=FROM:TO:STEP or KEY=A,B,C; none lists the keys."),
            link: list[str] = typer.Option([], "--link", help='What moves along: "target.amount = 2 * stop.amount".'),
            constraint: list[str] = typer.Option([], "--constraint", help='Sets to leave out: "fast < slow".'),
            project: Path | None = PROJECT,
            market: str | None = typer.Option(None, "--market", "-m", help="Market; the strategy's own when left out."),
            interval: str | None = typer.Option(None, "--interval", "-i", help=INTERVAL),
            markets: str = typer.Option("", "--markets", help="Several markets, with commas: each set on each of them."),
            intervals: str = typer.Option("", "--intervals", help="Several intervals, with commas."),
            sides: str = typer.Option("", "--sides", help="Vary the sides: both,long,short."),
            method: str = typer.Option("every", "--method", help="every, sample or evolve."),
            count: int = typer.Option(0, "--count", min=0, help="Sets of a sample or an evolution; 0: what is usual."),
            seed: int = typer.Option(1, "--seed", min=0, help="Same seed, same sets."),
            objective: list[str] = typer.Option([], "--objective", help='A measure, or "0.6 * a + 0.4 * b"; twice: both.'),
            floor: list[str] = typer.Option([], "--floor", help='What a set must reach: "trades>=100"; 30 trades or 10 a '
                                            "year stand unless another floor of trades is given."),
            without_floor: list[str] = typer.Option([], "--without-floor", help="Take a standing floor out: trades."),
            keep: int = typer.Option(0, "--keep", min=0, help="List and write only so many of the best; 0: all."),
            basket: str = typer.Option(MEDIAN_RANK, "--basket", help="One set for all: median rank, worst market or sum."),
            shuffles: int = typer.Option(20, "--shuffles", min=0, max=1000, help="Shuffled histories to compare luck with."),
            mirrored: bool = typer.Option(False, "--mirrored", help="Turn shuffled bars over, so that drift goes."),
            checks: bool = typer.Option(True, "--checks/--no-checks", help="Deflated Sharpe ratio and overfitting."),
            name: str = typer.Option("", "--name", help="A name under which the sweep is kept."),
            resume: int | None = typer.Option(None, "--resume", help="Go on with this sweep, or with its luck."),
            show_: int | None = typer.Option(None, "--show", help="Show this sweep; nothing is run but what is missing."),
            again: int | None = typer.Option(None, "--again", help="Run this sweep again on the present history."),
            zoom: list[str] = typer.Option([], "--zoom", help="KEY=LOW:HIGH with --show N: a finer sweep of a region of it."),
            extend: bool = typer.Option(False, "--extend", help="With --show N: carry ranges on whose end is best."),
            only_estimate: bool = typer.Option(False, "--estimate", help="Only say how many sets and how long."),
            top: int = typer.Option(20, "--top", min=0, help="How many of the best to print."),
            out: Path | None = typer.Option(None, "--out", help="Write all sets to a .parquet, .csv or .xlsx file."),
            shelf: str = typer.Option("", "--shelf", help="Put a set on the Shelf: center, best, or a place in the list."),
            apply: str = typer.Option("", "--apply", help="Give the strategy a set: center, best, or a place."),
            save_set: Path | None = typer.Option(None, "--save-set", help="Write the center's numbers to a file."),
            share: float = SHARE, json: bool = JSON) -> None:
        """Try sets of numbers of a strategy on the training span; find the broad hills and say how much is luck."""
        with told():
            opened = open_project(project, demo)
            kept = _Kept(opened, resume, show_, again)
            result: SweepResult | None = None
            request: SweepRequest | None
            if kept.number is not None:
                state, result = kept.read(share)
                request = kept.further(result, zoom, extend, name)
            else:
                if strategy is None:
                    raise UserError("no strategy is named", "--strategy", "Name one, or a sweep with --show or --resume.")
                entry = opened.strategy(strategy)
                axes = axes_of(entry.strategy, vary, link, markets, intervals, sides)
                if not axes:
                    list_numbers(entry)
                    raise typer.Exit(USAGE)
                request = SweepRequest(
                    entry.strategy, market or entry.market, code_of(interval) if interval else entry.interval, axes,
                    entry.own, constraints_of(entry.strategy, constraint), method, count, seed, Objective.parse(objective),
                    floors_of_sets(opened, [Floor.parse_plain(f) for f in floor], without_floor, entry.own), keep, 0, name,
                    check_rule(basket))
            if request is not None:
                if only_estimate:
                    one = estimate(opened, request)
                    if json:
                        emit({"sets": one.sets, "seconds": one.seconds})
                    else:
                        console.print(f"{one.words()}.{also_compiling()}", markup=False)
                    return
                job, result = sweep_job(opened, request)
                state = run(job, "threads", share)
            assert result is not None
            if keep and keep != result.request.keep:
                result.request = replace(result.request, keep=keep)
            luck = luck_of(opened, result, shuffles, mirrored, share) if state is State.DONE else read_luck(opened, result)
            reading = read(result)
            asked = result.request.markets if checks and len(reading) else ()
            stats = [statistics(opened, result, reading, m) for m in asked]
            rules = result.request.strategy
            percent = percent_note(opened, result.request.market, rules, rules.flat_by_session_end, result.record)
            made = answer(Searches(opened), result, reading, luck, stats, state.value, percent)
            if out is not None:
                write_out(out, table_steps(lambda: table_of(reading), out, "sweep"))
            _use(opened, result, reading, shelf, apply, save_set)
        if json:
            emit(made)
        else:
            show(made, reading, top)


def _use(opened: Project, result: SweepResult, reading: Reading, shelf: str, apply: str, save_set: Path | None) -> None:
    """What is to become of sets."""
    request = result.request
    if shelf:
        candidate = candidate_from_sweep(opened, result, chosen(reading, shelf, "--shelf"))
        id = Dossiers(opened).on_shelf.keep(candidate, result.search, own=request.own)
        error_console.print(f"{candidate.name} is on the Shelf" + (f" as {id}." if id else " already."), markup=False)
    if apply:
        values = chosen(reading, apply, "--apply")
        entry = opened.strategy(request.strategy.name)
        made = strategy_of(request, values, entry.strategy)
        place = request.place(values)
        opened.change_strategy(made, place.market, place.interval, entry.id, entry.version)
        error_console.print(f"{made.name} now has {request.space.words(values)}.", markup=False)
    if save_set is not None:
        ParameterSet.of(request, chosen(reading, "center", "--save-set"), request.title).write(save_set)
