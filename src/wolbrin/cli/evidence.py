"""`wolbrin prove`, `wolbrin overlap` and `wolbrin portfolio`: what survives, what is double, what is traded."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import typer

from wolbrin.cli.common import JSON, PROJECT, console, emit, error_console, measures_table, open_project, pick, run, told
from wolbrin.core.engine.run import Run
from wolbrin.core.errors import UserError
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.inference import effective_bets
from wolbrin.core.measures.wording import number
from wolbrin.core.portfolio.combine import STRONG, correlation, daily_matrix, distinct_subset, equal_weight
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.holdout import t_for
from wolbrin.core.store.project import Project
from wolbrin.core.store.shelf import Kept
from wolbrin.core.work.combining import runs_job
from wolbrin.core.work.proving import Proved, prove_job
from wolbrin.core.work.standing import Standings
from wolbrin.core.work.subject import Subject

NAMES = typer.Argument(None, help="Ids or names of candidates on the Shelf; all when left out.")
STANDING = typer.Argument(None, help="Ids or names of candidates on the Shelf; those that stand when left out.")


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
            faults: dict[int, str] = {}
            renewed: list[int] = []

            def note(proved: Proved) -> None:
                if proved.subject.kept is not None and proved.fault:
                    faults[proved.subject.kept] = proved.fault
                if proved.subject.kept is not None and proved.renewed is not None:
                    renewed.append(proved.subject.kept)

            if not show:
                run(prove_job(opened, [Subject.of(k) for k in kept], open_holdout=open_holdout, notify=note), "threads")
                kept = Dossiers(opened).on_shelf.bodies([k.id for k in kept])
            standings = Standings(opened)
            rows: list[dict[str, Any]] = []
            for k in kept:
                place, c = standings.of(k), k.candidate
                rows.append({"id": k.id, "name": c.name, "market": c.market, "interval": c.interval, "stands": place.stands,
                             "tried": c.tried, "record": c.record, "renewed": k.id in renewed, "fault": faults.get(k.id, ""),
                             "openings": opened.book.count(c.market, k.hash),
                             "gates": {g: {"verdict": e.verdict, "reason": e.reason, "figures": e.outcome,
                                           "settings": e.settings, "record": e.record}
                                       for g, e in place.evidence.items()}})
            batch = opened.book.next_batch()
        if json:
            emit({"openings": opened.openings(), "next_opening": {"number": batch, "t_needed": t_for(batch, 1)},
                  "candidates": rows})
            return
        for r in rows:
            console.print(f"{r['id']}  {r['name']} on {r['market']} {r['interval']}: {r['stands']}; {r['tried']:,} tried",
                          markup=False)
            for g in r["gates"].values():
                console.print(f"    {g['verdict']}: {g['reason']}", markup=False)
            if r["fault"]:
                console.print(f"    not judged: {r['fault']}", markup=False)
            if r["renewed"]:
                console.print("    run anew first: its record could not be asked again", markup=False)

    @app.command("overlap")
    def overlap(names: list[str] = STANDING, project: Path | None = PROJECT,
                limit: float = typer.Option(STRONG, "--limit", min=-1, max=1, help="Correlation from which two are one bet."),
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
        if json:
            emit({"chosen": _chosen(names), "weight": whole.weight, "members": [k.id for k in kept], "candidates": members,
                  "effective_bets": bets, "measures": figures["portfolio"], "parts": parts})
        else:
            console.print(f"{len(kept)} members ({_chosen(names)}), worth {number(bets, 1)} bets.", markup=False)
            console.print(measures_table("Equal weight", figures | dict(list(parts.items())[:5])))


def _chosen(names: list[str] | None) -> str:
    return "named" if names else "all that stand"


def _members(project: Project, kept: list[Kept], runs: list[Run]) -> list[dict[str, Any]]:
    """Each member with where it stands, how many were tried on its market, and the record of its run."""
    standings = Standings(project)
    return [{"id": k.id, "name": k.candidate.name, "stands": standings.of(k).stands, "tried": k.candidate.tried,
             "record": r.record(tried=k.candidate.tried, seeds=k.candidate.record.seeds)} for k, r in zip(kept, runs)]
