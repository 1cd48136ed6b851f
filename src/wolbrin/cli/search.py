"""`wolbrin discover`: candidates that the machine builds, beside what luck brings, kept in the project."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import typer

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
    finite,
    open_project,
    run,
    told,
)
from wolbrin.cli.compiling import also_compiling
from wolbrin.core.errors import UserError
from wolbrin.core.faults import validated
from wolbrin.core.jobs import Job
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.rules.model import Filters, Sizing, Strategy
from wolbrin.core.scan.families import SCANNED
from wolbrin.core.scan.informed import COUNT
from wolbrin.core.search.ingredients import PLACES_KEYS, parse_chosen
from wolbrin.core.search.limits import SIDES as KNOWN_SIDES
from wolbrin.core.search.limits import Exits, Limits, Orders, Reach, parse_joins, parse_time_exit
from wolbrin.core.search.objective import Floor, Objective
from wolbrin.core.search.twins import ALIKE
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.work.controls import told_before
from wolbrin.core.work.discover_answer import DiscoverAnswer, discover_answer
from wolbrin.core.work.discover_estimate import cost_words
from wolbrin.core.work.discover_request import (
    USUAL_CONTROLS,
    USUAL_COUNT,
    USUAL_METHOD,
    DiscoverRequest,
    Method,
    usual_limits,
)
from wolbrin.core.work.discover_results import DiscoverResult
from wolbrin.core.work.discovering import KIND, discover_job, filled, read_discover, resume_discover

LIMITS, INFORMED = Limits(), usual_limits("informed")
TIMES = {"": 1.0, "s": 1.0, "m": 60.0, "h": 3600.0}
SHOWN = 20
SIDES = {"both": "mirrored"}


def usual_words(usual: Mapping[Method, int]) -> str:
    """Such as "informed 2,304, random 20,000"."""
    return ", ".join(f"{method} {count:,}" for method, count in usual.items())


def _usual(usual: Mapping[Method, int], method: str) -> int:
    """What is usual of a method; of one that is not known, which is refused later, any."""
    return next((count for known, count in usual.items() if known == method), 1)


def usually(name: str) -> str:
    """What stands when an exit is not given."""
    return f"Usual: informed {getattr(INFORMED, name).text}; else {getattr(LIMITS, name).text}."


def until_of(texts: list[str]) -> dict[str, Any]:
    """Read "kept=200", "tried=60000", "time=30s", several by commas. Raises UserError."""
    out: dict[str, Any] = {}
    for text in (p for t in texts for p in t.split(",")):
        found = re.fullmatch(r"\s*(kept|tried|time)\s*=\s*(\d+(?:\.\d+)?)\s*([smh]?)\s*", text)
        if not found or (found[3] and found[1] != "time") or (found[1] != "time" and "." in found[2]) or not float(found[2]):
            raise UserError(f'"{text.strip()}" is no end', "--until", "Write kept=200, tried=60000 or time=30s.")
        if found[1] == "time":
            out["seconds"] = float(found[2]) * TIMES[found[3]]
        else:
            out["until_kept" if found[1] == "kept" else "count"] = int(found[2])
    return out


def places_of(markets: list[str], intervals: str) -> tuple[tuple[str, int], ...]:
    """Every market at every interval."""
    names = [m.strip() for text in markets for m in text.split(",") if m.strip()]
    codes = [code_of(i) for i in intervals.split(",") if i.strip()]
    return tuple((m, i) for m in names for i in codes)


def resumed(project: Project, request: DiscoverRequest) -> tuple[Job, DiscoverResult] | None:
    """Going on with the newest unfinished search that asks the same; None where there is none."""
    asked = filled(project, request).as_json()
    for stored in reversed(Searches(project).all([KIND])):
        if stored.unfinished and {k: v for k, v in stored.request.items() if k != "version"} == asked:
            return resume_discover(project, stored.id)
    return None


def filters_of(windows: list[str], weekdays: str, most_entries: int | None, last_minutes: int | None) -> Filters:
    """When entries are let in. Raises UserError."""
    made = []
    for text in windows:
        first, dash, last = text.partition("-")
        if not dash:
            raise UserError(f'"{text}" is not a window', "--window", "Write for example 09:00-17:00.")
        made.append({"first": first.strip(), "last": last.strip()})
    return validated(Filters, {"windows": made, "weekdays": [d.strip().title() for d in weekdays.split(",") if d.strip()],
                               "most_entries": most_entries, "last_minutes": last_minutes}, "discover")


def kept_strategy(project: Project, name: str | None, keep: str) -> Strategy | None:
    """The strategy whose parts are kept, by name or id, or by a candidate's on the Shelf."""
    if name is None:
        if keep:
            raise UserError("which strategy's parts are kept is not said", "--keep", "Name it with --strategy.")
        return None
    if not keep:
        raise UserError("what is kept of the strategy is not said", "--strategy", "Add --keep entry, exits or both.")
    try:
        return project.strategy(name).strategy
    except UserError:
        shelf = Shelf(project)
        found = shelf.named(name)
        kept = shelf.body(found[0]) if found else None
        if kept is None:
            raise
        return kept.candidate.strategy


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("discover")
    def discover(
            market: list[str] = typer.Option([], "--market", "-m", help="Market codes, by commas or repeated."),
            project: Path | None = PROJECT,
            interval: str = typer.Option("15", "--interval", "-i", help=INTERVAL + " Several by commas."),
            hold: bool = typer.Option(False, "--hold", help="Keep only what passes on all the markets and intervals."),
            ingredients: list[str] = typer.Option(
                [], "--ingredients", help="Families and single ones, with weights: trend,session*2,library:mine. All when "
                f"left out. Families: {', '.join(f.key for f in SCANNED)}; {', '.join(PLACES_KEYS)} read them there."),
            sides: str = typer.Option(",".join(LIMITS.sides), "--sides", help="Which compete: mirrored, long, short, and own "
                                      "for rules of their own on each side."),
            rows: str = typer.Option("1..3", "--rows", help="Least and most rows of an entry."),
            exit_rows: str = typer.Option("0..1", "--exit-rows", help="Least and most rows of an exit."),
            join: list[str] = typer.Option(["all"], "--join", help="How rows are joined: all, any, at least."),
            orders: str = typer.Option("market", "--orders", help="Entry orders that compete: market,stop,limit."),
            offset: str = typer.Option("ticks:1..9/4", "--offset", help="How far resting entry orders stand off the bar."),
            stop: str | None = typer.Option(None, "--stop", help='Stops that compete: "atr:1..4|ticks:20..100". '
                                            + usually("stop")),
            target: str | None = typer.Option(None, "--target", help="Targets that compete. " + usually("target")),
            trail: str = typer.Option("none", "--trail", help="Trailing stops that compete."),
            break_even: str = typer.Option("none", "--break-even", help="Profits at which the stop moves to the entry."),
            time_exit: str | None = typer.Option(None, "--time-exit", help="Bars after which a trade is closed, such as "
                                                 '"4..40/4|none*0.75".'),
            flat: bool = typer.Option(True, "--flat/--overnight", help="Flat by session end, or hold over it."),
            quantity: float | None = typer.Option(None, "--quantity", callback=finite,
                                                  help="Contracts a trade; one when left out."),
            risk: float | None = typer.Option(None, "--risk", callback=finite,
                                              help="Percent of equity at risk to the stop, instead."),
            window: list[str] = typer.Option([], "--window", help="Entries only between these times: 09:00-17:00."),
            weekdays: str = typer.Option("", "--weekdays", help="Entries only on these: Mon,Tue."),
            most_entries: int | None = typer.Option(None, "--most-entries", min=1, help="Entries on a date at most."),
            last_minutes: int | None = typer.Option(None, "--last-minutes", min=1, help="No entry so near a session's end."),
            keep: str = typer.Option("", "--keep", help="Of --strategy: entry (find exits), exits (find an entry), both "
                                     "(find a filter)."),
            strategy: str | None = typer.Option(None, "--strategy", "-s", help="Strategy or candidate whose parts are kept."),
            floor: list[str] = typer.Option([], "--floor", help='Such as "trades_per_year>=40", "year.net>=0", '
                                            '"long.trades>=50"; usual ones when left out. 30 trades or 10 a year, and t '
                                            "above drift, stand beside them."),
            without_floor: list[str] = typer.Option([], "--without-floor", help="Take a standing floor out: trades, "
                                                    "above_drift."),
            objective: list[str] = typer.Option(["t_daily"], "--objective", help="A measure, or a blend of them."),
            method: str = typer.Option(USUAL_METHOD, "--method", help="informed (looks first, and builds from what it saw), "
                                       "random, or evolve."),
            scan_rows: int = typer.Option(COUNT, "--scan-rows", min=10, help="Rows that an informed search looks at first."),
            until: list[str] = typer.Option([], "--until", help="kept=200, tried=60000, time=30s; by commas. Tried at most, "
                                            "when left out: " + usual_words(USUAL_COUNT) + "."),
            count: int | None = typer.Option(None, "--count", "-n", min=1, help="The same as --until tried=N."),
            control: int | None = typer.Option(None, "--control", min=0, max=100, help="The same search on so many shuffled "
                                               "histories beside it; " + usual_words(USUAL_CONTROLS) + " when left out."),
            control_drift: bool = typer.Option(False, "--control-drift", help="Controls keep the drift of the market."),
            alike: float = typer.Option(ALIKE, "--alike", callback=finite,
                                        help="Correlation from which two are near-twins; 1 for never."),
            seed: int = typer.Option(1, "--seed", min=0, help="Same seed, same candidates."),
            pool: int | None = typer.Option(None, "--pool", min=10, max=200_000, help="Conditions to build from at first; "
                                            f"informed {INFORMED.pool}, else {LIMITS.pool:,}."),
            give_up: int = typer.Option(0, "--give-up-after", min=0,
                                        help="Give up one that has lost after so many trades; 0: never."),
            resume: bool = typer.Option(False, "--resume", help="Go on with the newest unfinished one that asks the same."),
            again: int | None = typer.Option(None, "--again", help="Ask the floors of what this search tried, and go on."),
            more_controls: int | None = typer.Option(None, "--more-controls", help="Let so many controls in all run beside "
                                                     "the search that --search names, on what it has tried."),
            search: int | None = typer.Option(None, "--search", help="Number of the search that --more-controls is about."),
            share: float = SHARE, json: bool = JSON) -> None:
        """Build candidates, test them, keep those above the floors; shuffled histories say how many luck keeps."""
        facing = tuple(SIDES.get(s.strip(), s.strip()) for s in sides.split(","))
        if not set(facing) <= set(KNOWN_SIDES):
            error_console.print(f"--sides must be among {', '.join(KNOWN_SIDES)}.", markup=False)
            raise typer.Exit(USAGE)
        if more_controls is not None:
            _more_controls(search, more_controls, project, demo, share, json)
            return
        if again is not None:
            _again(again, project, demo, floor, tuple(without_floor), share, json)
            return
        if not market:
            error_console.print("Name a market with --market.", markup=False)
            raise typer.Exit(USAGE)
        with told():
            opened = open_project(project, demo)
            least, most = _two(rows, "--rows")
            least_exit, most_exit = _two(exit_rows, "--exit-rows")
            usual = usual_limits(method)
            bars, no_time = parse_time_exit(time_exit) if time_exit is not None else (usual.time_exit, usual.no_time_exit)
            kinds = [k.strip().casefold() for k in orders.split(",") if k.strip()]
            limits = validated(Limits, {
                "sides": facing, "least_rows": least, "most_rows": most, "least_exit_rows": least_exit,
                "most_exit_rows": most_exit, "joins": parse_joins(join),
                "orders": validated(Orders, {"kinds": kinds, "offset": Reach.parse(offset, "--offset")}, "--orders"),
                "stop": Exits.parse(stop, "--stop") if stop is not None else usual.stop,
                "target": Exits.parse(target, "--target") if target is not None else usual.target,
                "trail": Exits.parse(trail, "--trail"), "break_even": Exits.parse(break_even, "--break-even"),
                "time_exit": bars, "no_time_exit": no_time, "flat_by_session_end": flat, "quantity": quantity,
                "sizing": Sizing(kind="risk", amount=risk) if risk is not None else Sizing(),
                "pool": usual.pool if pool is None else pool,
                "filters": filters_of(window, weekdays, most_entries, last_minutes),
                "give_up_after": give_up, "keep": keep, "strategy": kept_strategy(opened, strategy, keep)}, "discover")
            request = DiscoverRequest(
                places_of(market, interval), limits, parse_chosen(ingredients) if ingredients else (),
                tuple(Floor.parse(f) for f in floor), Objective.parse(objective), method,  # type: ignore[arg-type]
                count=_usual(USUAL_COUNT, method), hold=hold,
                controls=_usual(USUAL_CONTROLS, method) if control is None else control, drift=control_drift, alike=alike,
                seed=seed, rows=scan_rows, without=tuple(without_floor))
            request = replace(request, **until_of(until) | ({"count": count} if count is not None else {}))
            found = resumed(opened, request) if resume else None
            if resume and found is None:
                error_console.print("No unfinished search asks the same; a new one begins.", markup=False)
            if found is None:
                error_console.print(f"{told_before(opened, request)}.{also_compiling()}", markup=False)
                if cost := cost_words(opened, request):
                    error_console.print(f"{cost}.", markup=False)
            answer, result = _run(opened, found or discover_job(opened, request), share)
        _tell(answer, result, json)


def _more_controls(search: int | None, controls: int, project: Path | None, demo: Callable[[], Path], share: float,
                   json: bool) -> None:
    """Let further controls run beside a search."""
    with told():
        opened = open_project(project, demo)
        if search is None:
            raise UserError("which search is not said", "--more-controls", "Name it with --search; see `wolbrin searches`.")
        answer, result = _run(opened, resume_discover(opened, search, controls=controls), share)
    _tell(answer, result, json)


def _again(search: int, project: Path | None, demo: Callable[[], Path], floor: list[str], without: tuple[str, ...],
           share: float, json: bool) -> None:
    """Ask other floors of what a search tried."""
    with told():
        opened = open_project(project, demo)
        if not floor:
            raise UserError("no floor is given", "--again",
                            "Name the floors with --floor; those left out are not asked, but for the standing ones.")
        job = resume_discover(opened, search, floors=tuple(Floor.parse(f) for f in floor), without=without)
        answer, result = _run(opened, job, share)
    _tell(answer, result, json)


def _run(project: Project, job: tuple[Job, DiscoverResult], share: float) -> tuple[DiscoverAnswer, DiscoverResult]:
    state = run(job[0], "threads", share)
    result = read_discover(project, job[1].search)
    return discover_answer(project, result, state.value), result


def _tell(answer: DiscoverAnswer, result: DiscoverResult, json: bool) -> None:
    if json:
        emit(answer)
        return
    console.print(f"{result.tried:,} tried out of {number(answer.spans)} rows of conditions; {result.met:,} passed, "
                  f"{result.twins:,} trade the same as others and {result.alike:,} nearly so; {result.few:,} had too few "
                  "entry signals to be simulated.", markup=False)
    for one in answer.floors:
        console.print(f"    {one.rejected:>10,} fell first at {one.words}", markup=False)
    for seen in answer.scanned:
        console.print(f"{seen.market}: {seen.words}.", markup=False)
    if answer.idle:
        console.print(f"{answer.idle:,} of those that met the quick floors had parts that add nothing, which were left out.",
                      markup=False)
    if answer.ended:
        console.print(f"{answer.ended}.", markup=False)
    console.print(f"{result.nothing or result.luck.words}.", markup=False)
    if answer.luck.strongest_words:
        console.print(answer.luck.strongest_words + ".", markup=False)
    if answer.luck.percent:
        console.print(answer.luck.percent + ".", markup=False)
    if answer.families_words:
        console.print(answer.families_words + ".", markup=False)
    known = {c.id: c for c in answer.candidates}
    for family in answer.families[:SHOWN]:
        c = known.get(family.leads)
        if c is None:
            continue
        behind = f"; {family.words}" if family.words else ""
        console.print(f"{c.id}  {c.name} on {c.market}: net {worded('net', c.measures['net'] or 0.0)}, profit factor "
                      f"{worded('profit_factor', c.measures['profit_factor'] or 0.0)}, t "
                      f"{worded('t_daily', c.measures['t_daily'] or 0.0)}{behind}", markup=False)
        for text in family.said:
            console.print(f"      {text}", markup=False)
    if len(answer.families) > SHOWN:
        console.print(f"and {len(answer.families) - SHOWN:,} families more on the Shelf: `wolbrin shelf list`.", markup=False)


def _two(text: str, where: str) -> tuple[int, int]:
    found = re.fullmatch(r"\s*(\d+)\s*(?:\.\.\s*(\d+)\s*)?", text)
    if not found:
        raise UserError(f'"{text}" is not a range of rows', where, "Write for example 1..3.")
    return int(found[1]), int(found[2] or found[1])
