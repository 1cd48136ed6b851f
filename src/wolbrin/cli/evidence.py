"""`wolbrin overlap` and `wolbrin portfolio`: what is double, what is traded."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import typer

from wolbrin.cli.common import (
    JSON,
    PROJECT,
    console,
    emit,
    error_console,
    finite,
    measures_table,
    open_project,
    pick,
    run,
    told,
)
from wolbrin.core.engine.run import Run
from wolbrin.core.errors import UserError
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.inference import effective_bets
from wolbrin.core.measures.wording import number
from wolbrin.core.portfolio.combine import STRONG, correlation, daily_matrix, distinct_subset, equal_weight
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.store.shelf import Kept
from wolbrin.core.work.combining import runs_job
from wolbrin.core.work.standing import Standings
from wolbrin.core.work.whole import open_portfolio, seen_members

STANDING = typer.Argument(None, help="Ids or names of candidates on the Shelf; those that stand when left out.")


def _runs(project: Project, kept: list[Kept]) -> list[Run]:
    runs: list[Run] = []
    run(runs_job(project, kept, runs.extend), "threads")
    return runs


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("overlap")
    def overlap(names: list[str] = STANDING, project: Path | None = PROJECT,
                limit: float = typer.Option(STRONG, "--limit", callback=finite, min=-1, max=1,
                                            help="Correlation from which two are one bet."),
                json: bool = JSON) -> None:
        """Correlate the daily P/L of candidates and pick the distinct ones."""
        with told():
            opened = open_project(project, demo)
            kept = pick(opened, names or [], only_standing=True)
            if len(kept) < 2:
                few = f"{len(kept)} candidate stands" if not names else "one candidate was named"
                raise UserError(f"overlap needs at least two candidates, and {few}", "overlap", "Name more of them.")
            runs = _runs(opened, kept)
            dates, table = daily_matrix(runs)
            matrix = correlation(table)
            chosen = distinct_subset(matrix, [k.candidate.summary.get("return_drawdown", 0.0) for k in kept], limit)
            opened.set_value("distinct", sorted(kept[i].id for i in chosen))
            members = _members(opened, kept, runs)
        bets = effective_bets(matrix)
        labels = [f"{k.id} {k.candidate.name}" for k in kept]
        if json:
            emit({"chosen": _chosen(names), "candidates": members, "days": len(dates), "correlation": matrix,
                  "effective_bets": bets, "distinct": [kept[i].id for i in chosen]})
            return
        console.print(f"{len(kept)} candidates ({_chosen(names)}), worth {number(bets, 1)} bets.", markup=False)
        for i, name in enumerate(labels):
            console.print(f"{name:<24}" + " ".join(f"{number(v, 2):>6}" for v in matrix[i].tolist()), markup=False)
        console.print("distinct: " + ", ".join(labels[i] for i in chosen), markup=False)

    @app.command("portfolio")
    def portfolio(names: list[str] = STANDING, project: Path | None = PROJECT,
                  save: str | None = typer.Option(None, "--save", help="Keep the portfolio under this name."),
                  open_holdout: bool = typer.Option(False, "--open-holdout", help="Open the holdout once for the whole; its "
                                                    "members must be ready. Counted, and final."),
                  json: bool = JSON) -> None:
        """Combine candidates at equal weight and compare the whole with its parts."""
        with told():
            opened = open_project(project, demo)
            kept = pick(opened, names or [], only_standing=True)
            whole = equal_weight(_runs(opened, kept))
            figures = {"portfolio": measure(whole.facts)}
            parts = {f"{k.id} {k.candidate.name}": measure(Facts.of(r)) for k, r in zip(kept, whole.runs)}
            members = _members(opened, kept, list(whole.runs))
            bets = effective_bets(correlation(daily_matrix(list(whole.runs))[1]))
            if save:
                records = [m["record"] for m in members]
                Dossiers(opened).keep_portfolio(save, [k.id for k in kept], figures["portfolio"], records)
                error_console.print(f"Portfolio {save} saved.", markup=False)
            seen = seen_members(opened, kept)
            verdict = open_portfolio(opened, kept, save or "portfolio") if open_holdout else None
        if json:
            emit({"chosen": _chosen(names), "weight": whole.weight, "members": [k.id for k in kept], "candidates": members,
                  "effective_bets": bets, "measures": figures["portfolio"], "parts": parts, "seen_members": seen,
                  "holdout": None if verdict is None else {"verdict": verdict.verdict, "reason": verdict.reason,
                                                           "figures": verdict.figures}})
        else:
            console.print(f"{len(kept)} members ({_chosen(names)}), worth {number(bets, 1)} bets.", markup=False)
            console.print(measures_table("Equal weight", figures | dict(list(parts.items())[:5])))
            if seen:
                console.print(f"Chosen on seen data: the holdout of {', '.join(seen)} was opened before.", markup=False)
            if verdict is not None:
                console.print(f"Holdout of the whole: {verdict.verdict}: {verdict.reason}", markup=False)


def _chosen(names: list[str] | None) -> str:
    return "named" if names else "all that stand"


def _members(project: Project, kept: list[Kept], runs: list[Run]) -> list[dict[str, Any]]:
    """Each member with where it stands, how many were tried on its market, and the record of its run."""
    standings = Standings(project)
    return [{"id": k.id, "name": k.candidate.name, "stands": standings.of(k).stands, "tried": k.candidate.tried,
             "record": r.record(tried=k.candidate.tried, seeds=k.candidate.record.seeds)} for k, r in zip(kept, runs)]
