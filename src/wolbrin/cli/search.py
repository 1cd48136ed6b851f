"""`wolbrin discover`: candidates that the machine draws, kept in the project."""

from __future__ import annotations

import math
from collections.abc import Callable
from pathlib import Path

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
    open_project,
    run,
    told,
)
from wolbrin.core.measures.wording import worded
from wolbrin.core.search.grammar import Limits
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.shelf import Wanted
from wolbrin.core.work.discovering import DiscoverRequest, discover_job

LIMITS = Limits()


def tally_of(project: Project, market: str) -> tuple[int, dict[str, float]]:
    """How many were tried on a market by now, and count, mean and variance of their daily Sharpe ratios."""
    searches = Searches(project)
    found = searches.sharpe_on(market)
    return searches.tried_on(market), {"count": found.count, "mean": found.mean if found.count else math.nan,
                                       "variance": found.variance}


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("discover")
    def discover(
            market: str = typer.Option(..., "--market", "-m", help="Market code."), project: Path | None = PROJECT,
            interval_text: str = typer.Option("15", "--interval", "-i", help=INTERVAL),
            count: int = typer.Option(1000, "--count", "-n", min=1, max=10_000_000, help="Candidates to try."),
            seed: int = typer.Option(1, "--seed", min=0, help="Same seed, same candidates."),
            sides: str = typer.Option("both", "--sides", help="both, long or short."),
            trades: int = typer.Option(LIMITS.least_trades, "--trades", min=1, help="Least number of trades."),
            factor: float = typer.Option(LIMITS.least_profit_factor, "--profit-factor", min=0, help="Least profit factor."),
            rows: int = typer.Option(LIMITS.most_rows, "--rows", min=1, max=5, help="Most rows in an entry."),
            quantity: float = typer.Option(1.0, "--quantity", help="Contracts a trade."),
            pool: int = typer.Option(LIMITS.pool, "--pool", min=10, max=200_000, help="Conditions to build from."),
            give_up: int = typer.Option(0, "--give-up-after", min=0,
                                        help="Give up one that has lost after so many trades; 0: never."),
            share: float = SHARE, json: bool = JSON) -> None:
        """Draw random candidates, test them on the training span, keep those within the limits on the Shelf."""
        if sides not in ("both", "long", "short"):
            error_console.print("--sides must be both, long or short.", markup=False)
            raise typer.Exit(USAGE)
        with told():
            opened = open_project(project, demo)
            interval = code_of(interval_text)
            limits = Limits(sides=sides, most_rows=rows, least_trades=trades,
                            least_profit_factor=factor, quantity=quantity, pool=pool, give_up_after=give_up)
            opened.prepared(market, interval)
            job, result = discover_job(opened, DiscoverRequest(market, interval, limits, count, seed))
            state = run(job, "threads", share)
            shelf = Dossiers(opened).on_shelf
            kept = shelf.bodies(shelf.ids(Wanted(search=result.search)).tolist())
            tried, sharpe = tally_of(opened, market)
        if json:
            emit({"tried": result.tried, "met": result.met, "kept": result.kept, "twins": result.twins,
                  "too_few_signals": result.few, "tried_on_market": tried, "sharpe_daily": sharpe, "record": result.record,
                  "search": result.search, "state": state.value,
                  "candidates": [{"id": k.id, "name": k.candidate.name, "tried": k.candidate.tried,
                                  "record": k.candidate.record, "measures": k.candidate.summary} for k in kept]})
        else:
            console.print(f"{result.tried:,} tried, {result.met:,} met the limits, {result.kept:,} kept, "
                          f"{result.twins:,} twins dropped; {result.few:,} had too few entry signals to be simulated.",
                          markup=False)
            for k in kept:
                console.print(f"{k.id}  {k.candidate.name}: net {worded('net', k.candidate.summary['net'])}, profit factor "
                              f"{worded('profit_factor', k.candidate.summary['profit_factor'])}", markup=False)
