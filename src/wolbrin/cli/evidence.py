"""`wolbrin prove`, `wolbrin overlap` and `wolbrin portfolio`: what survives, what is double, what is traded."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import typer

from wolbrin.cli.common import JSON, PROJECT, console, emit, error_console, measures_table, open_project, pick, run, told
from wolbrin.core.engine.run import Run
from wolbrin.core.errors import UserError
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.wording import number
from wolbrin.core.portfolio.combine import STRONG, correlation, daily_matrix, distinct_subset, equal_weight
from wolbrin.core.store.dossier import Dossiers, Kept
from wolbrin.core.store.project import Project
from wolbrin.core.work.combining import runs_job
from wolbrin.core.work.proving import Subject, prove_job, standing

NAMES = typer.Argument(None, help="Ids or names of candidates on the Shelf; all when left out.")


def _runs(project: Project, kept: list[Kept]) -> list[Run]:
    runs: list[Run] = []
    run(runs_job(project, kept, runs.extend), "threads")
    return runs


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("prove")
    def prove(
            names: list[str] = NAMES, project: Path | None = PROJECT,
            open_holdout: bool = typer.Option(False, "--open-holdout", help="Let survivors open the holdout; counted."),
            show: bool = typer.Option(False, "--list", help="Only list the Shelf and where each stands."),
            json: bool = JSON) -> None:
        """Walk candidates through the line of gates and keep every verdict."""
        with told():
            opened = open_project(project, demo)
            kept = pick(opened, names or [])
            dossiers = Dossiers(opened)
            if not show:
                run(prove_job(opened, [Subject.of(k) for k in kept], open_holdout=open_holdout), "threads")
            latest = dossiers.latest()
            rows = []
            for k in kept:
                evidence = latest.get((k.hash, k.candidate.market, k.candidate.interval), {})
                rows.append({"id": k.id, "name": k.candidate.name, "market": k.candidate.market,
                             "interval": k.candidate.interval, "stands": standing(evidence),
                             "gates": {g: {"verdict": e.verdict, "reason": e.reason, "figures": e.outcome}
                                       for g, e in evidence.items()}})
        if json:
            emit({"openings": opened.openings(), "candidates": rows})
            return
        for r in rows:
            console.print(f"{r['id']}  {r['name']} on {r['market']} {r['interval']}: {r['stands']}", markup=False)
            for g in r["gates"].values():
                console.print(f"    {g['verdict']}: {g['reason']}", markup=False)

    @app.command("overlap")
    def overlap(names: list[str] = NAMES, project: Path | None = PROJECT,
                limit: float = typer.Option(STRONG, "--limit", min=-1, max=1, help="Correlation from which two are one bet."),
                json: bool = JSON) -> None:
        """Correlate the daily P/L of candidates and pick the distinct ones."""
        with told():
            opened = open_project(project, demo)
            kept = pick(opened, names or [])
            if len(kept) < 2:
                raise UserError("overlap needs at least two candidates", "overlap", "Name more of them.")
            dates, table = daily_matrix(_runs(opened, kept))
            matrix = correlation(table)
            chosen = distinct_subset(matrix, [k.candidate.summary.get("return_drawdown", 0.0) for k in kept], limit)
            opened.set_value("distinct", sorted(kept[i].id for i in chosen))
        labels = [f"{k.id} {k.candidate.name}" for k in kept]
        if json:
            emit({"candidates": [{"id": k.id, "name": k.candidate.name} for k in kept], "days": len(dates),
                  "correlation": matrix, "distinct": [kept[i].id for i in chosen]})
            return
        for i, name in enumerate(labels):
            console.print(f"{name:<24}" + " ".join(f"{number(v, 2):>6}" for v in matrix[i].tolist()), markup=False)
        console.print("distinct: " + ", ".join(labels[i] for i in chosen), markup=False)

    @app.command("portfolio")
    def portfolio(names: list[str] = NAMES, project: Path | None = PROJECT,
                  save: str | None = typer.Option(None, "--save", help="Keep the portfolio under this name."),
                  json: bool = JSON) -> None:
        """Combine candidates at equal weight and compare the whole with its parts."""
        with told():
            opened = open_project(project, demo)
            kept = pick(opened, names or [])
            whole = equal_weight(_runs(opened, kept))
            figures = {"portfolio": measure(whole.facts)}
            parts = {f"{k.id} {k.candidate.name}": measure(Facts.of(r)) for k, r in zip(kept, whole.runs)}
            if save:
                Dossiers(opened).keep_portfolio(save, [k.id for k in kept], figures["portfolio"])
                error_console.print(f"Portfolio {save} saved.", markup=False)
        if json:
            emit({"weight": whole.weight, "members": [k.id for k in kept], "measures": figures["portfolio"],
                  "parts": parts})
        else:
            console.print(measures_table("Equal weight", figures | dict(list(parts.items())[:5])))
