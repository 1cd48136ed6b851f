"""`wolbrin scan`: where in these markets is anything at all?"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import typer

from wolbrin.cli.common import INTERVAL, JSON, PROJECT, SHARE, console, emit, error_console, open_project, run, told
from wolbrin.core.errors import UserError
from wolbrin.core.market.intervals import Interval
from wolbrin.core.measures.wording import number, percent
from wolbrin.core.scan.families import SCANNED
from wolbrin.core.scan.signs import DRAWS
from wolbrin.core.scan.told import horizon_text
from wolbrin.core.search.ingredients import PLACES_KEYS, parse_chosen
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.scan_answer import ScanAnswer, scan_answer
from wolbrin.core.work.scan_names import ScanNames, ordered
from wolbrin.core.work.scan_request import COUNT, ScanRequest, read_horizons
from wolbrin.core.work.scan_results import ScanResult
from wolbrin.core.work.scanning import read_scan, resume_scan, scan_job

SHOWN = 20


def _places(markets: list[str], intervals: str) -> tuple[tuple[str, int], ...]:
    codes = [m.strip() for one in markets for m in one.split(",") if m.strip()]
    minutes = [Interval.parse(i).code for i in intervals.split(",") if i.strip()]
    return tuple((c, i) for c in codes for i in minutes)


def _kept(project: Project, result: ScanResult, which: int) -> str:
    """Put a line of a scan among the strategies of the project; its name."""
    names = ScanNames(Footing.of(project), result)
    lines = ordered(result, names)
    if not 1 <= which <= len(lines):
        raise UserError(f"there is no line {which} in this scan", "--strategy", f"It has {len(lines)}.")
    line = lines[which - 1]
    strategy = names.strategy(line)
    named = strategy.model_copy(update={"name": project.free_name(strategy.name)})
    project.save_strategy(named, *result.request.places[line.place])
    return named.name


def _tell(answer: ScanAnswer, json: bool, top: int) -> None:
    if json:
        emit(answer)
        return
    console.print(f"{answer.sentence}.", markup=False)
    for note in answer.notes:
        console.print(f"{note[:1].upper()}{note[1:]}.", markup=False)
    for x in answer.lines[:top]:
        seldom = "" if x.p is None else f"p {number(x.p, 3)}, share of luck {percent(x.share_of_luck or 0.0)}, "
        money = "" if x.money is None or x.net is None else f"; {number(x.money)} a contract, {number(x.net)} after costs"
        console.print(f"{'*' if x.beyond_luck else ' '} t {number(x.t, 1):>5}  {x.market}  {x.words}, {x.side} "
                      f"{horizon_text(x.horizon, x.state)} ({seldom}{number(x.trades)} times{money})", markup=False)
    out = "; ".join(f"{number(n)}: {why}" for why, n in answer.left_out.items())
    if out:
        console.print(f"Left out of {number(answer.rows)} rows: {out}.", markup=False)
    console.print(f"For everything judged there later this scan counts as {number(answer.tries)} tries.", markup=False)


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("scan")
    def scan(
            market: list[str] = typer.Option([], "--market", "-m", help="Market codes, by commas or repeated."),
            project: Path | None = PROJECT,
            interval: str = typer.Option("15", "--interval", "-i", help=INTERVAL + " Several by commas."),
            ingredients: list[str] = typer.Option(
                [], "--ingredients", help="Families and single ones, as with discover: clock,session. All when left out. "
                f"Families: {', '.join(f.key for f in SCANNED)}; {', '.join(PLACES_KEYS)} read them there."),
            rows: int = typer.Option(COUNT, "--rows", "-n", help="Rows looked at on each market at most."),
            horizons: str = typer.Option("1,2,4,8,16,32,end", "--horizons", help="Bars held after a row; end: to the "
                                         "session's end."),
            over_sessions: bool = typer.Option(False, "--over-sessions", help="Hold over the session's end."),
            pairs: bool = typer.Option(True, "--pairs/--no-pairs", help="Ask the strongest rows together, too."),
            draws: int = typer.Option(DRAWS, "--draws", help="Draws of signs that luck is told by, 100 to 999."),
            seed: int = typer.Option(1, "--seed", min=0, help="Same seed, same draws."),
            resume: int | None = typer.Option(None, "--resume", help="Go on with this scan."),
            show: int | None = typer.Option(None, "--show", help="Show a scan that was kept; nothing is run."),
            strategy: int | None = typer.Option(None, "--strategy", help="Begin a strategy of the project with "
                                                 "this line."),
            name: str = typer.Option("", "--name", help="A name of its own."),
            top: int = typer.Option(SHOWN, "--top", min=0, help="How many lines to give."),
            share: float = SHARE, json: bool = JSON) -> None:
        """What price does after every row of the ingredients, beside luck: is there anything at all?"""
        with told():
            opened = open_project(project, demo)
            if show is not None:
                result, state = read_scan(opened, show), Searches(opened).get(show).state
            else:
                if resume is not None:
                    job, result = resume_scan(opened, resume)
                else:
                    if not market:
                        raise UserError("no market is named", "--market", "Name one with --market.")
                    for code in {c for c, _ in _places(market, interval)}:
                        opened.market(code)
                    job, result = scan_job(opened, ScanRequest(
                        _places(market, interval), parse_chosen(ingredients) if ingredients else (), rows,
                        read_horizons(horizons), not over_sessions, pairs, draws, seed))
                state = run(job, "threads", share).value
            if name.strip():
                Searches(opened).rename(result.search, name.strip()[:80])
            answer = scan_answer(opened, result, state, top)
            if strategy is not None:
                error_console.print(f'"{_kept(opened, result, strategy)}" is a strategy of the project now.', markup=False)
        _tell(answer, json, top)
