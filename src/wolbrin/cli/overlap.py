"""`wolbrin overlap`: which candidates are the same bet."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import typer

from wolbrin.cli.common import JSON, PROJECT, console, emit, finite, open_project, run, told
from wolbrin.cli.meant import NAMES, WHERE, meant
from wolbrin.core.errors import UserError
from wolbrin.core.measures.wording import number
from wolbrin.core.portfolio.distinct import SECONDS, Distinct, exactly, greedily
from wolbrin.core.portfolio.overlap import NOTABLE, STRONG, Overlap
from wolbrin.core.portfolio.sampling import Sampling
from wolbrin.core.store.project import Project
from wolbrin.core.store.shelf import Kept
from wolbrin.core.work.combining import Known, series_job
from wolbrin.core.work.price_overlap import price_overlap
from wolbrin.core.work.standing import Standings

SHOWN = 16  # candidates, up to which the matrix is printed


def one_of(text: str, known: tuple[str, ...], option: str) -> Any:
    """A word among several. Raises UserError for another."""
    if text not in known:
        raise UserError(f'"{text}" is not known', option, f"Choose among {', '.join(known)}.")
    return text


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("overlap")
    def overlap(names: list[str] = NAMES, project: Path | None = PROJECT, where: list[str] = WHERE,
                limit: float = typer.Option(STRONG, "--limit", callback=finite, min=-1, max=1,
                                            help="Correlation from which two are one bet."),
                by: str = typer.Option("day", "--by", help="Results by day, week or month."),
                of: str = typer.Option("profit", "--of", help="profit, return or drawdown."),
                empty: str = typer.Option("zero", "--empty", help="Periods without trades: zero, or out (left out)."),
                span: str = typer.Option("union", "--span", help="union: all dates; common: those that all have."),
                rank: bool = typer.Option(False, "--rank", help="Spearman's rank correlation."),
                cut: float = typer.Option(NOTABLE, "--cut", callback=finite, min=-1, max=1,
                                          help="Mean correlation at which the tree is cut into clusters."),
                exact: bool = typer.Option(False, "--exact", help="The best distinct subset there is, not the greedy one."),
                largest: bool = typer.Option(False, "--largest", help="The largest one, with --exact."),
                seconds: float = typer.Option(SECONDS, "--seconds", callback=finite, min=0.1, max=3600,
                                              help="That the exact search may take."),
                markets: bool = typer.Option(False, "--markets", help="Also the markets' own prices."),
                json: bool = JSON) -> None:
        """Correlate the results of candidates, cluster them and pick the distinct ones."""
        with told():
            how = Sampling(by=one_of(by, ("day", "week", "month"), "--by"),
                           of=one_of(of, ("profit", "return", "drawdown"), "--of"),
                           empty="zero" if one_of(empty, ("zero", "out", "left out"), "--empty") == "zero" else "left out",
                           span=one_of(span, ("union", "common"), "--span"), rank=rank)
            opened = open_project(project, demo)
            which = meant(opened, names, where)
            kept = which.kept
            if len(kept) < 2:
                raise UserError(f"overlap needs at least two candidates, and there is one ({which.words})", "overlap",
                                "Name more of them.")
            known: list[Known] = []
            run(series_job(opened, [k.id for k in kept], known.extend), "threads")
            found = Overlap.of([k.series for k in known], how, opened.settings.capital)
            scores = [k.candidate.summary.get("return_drawdown", 0.0) for k in kept]
            chosen = (exactly(found.matrix, scores, limit, "largest" if largest else "best", seconds) if exact or largest
                      else greedily(found.matrix, scores, limit))
            opened.set_value("distinct", sorted(kept[i].id for i in chosen.chosen))
            answer = _answer(opened, which.words, kept, known, found, chosen, cut)
            if markets:
                answer["prices"] = prices(opened, kept, how)
        if json:
            emit(answer)
            return
        _print(kept, found, chosen, cut, limit, answer)


def prices(project: Project, kept: list[Kept], how: Sampling) -> dict[str, Any]:
    """Correlation of the markets' own moves."""
    codes, found = price_overlap(project, [(k.candidate.market, k.candidate.interval) for k in kept], how)
    return {"markets": codes, "correlation": found.matrix, "p": found.p}


def _answer(project: Project, words: str, kept: list[Kept], known: list[Known], found: Overlap,
            chosen: Distinct, cut: float) -> dict[str, Any]:
    standings = Standings(project)
    members = [{"id": k.id, "name": k.candidate.name, "stands": standings.of(k).stands,
                "leads": k.marks.leads, "behind": k.marks.behind, "tried": k.candidate.tried,
                "average_correlation": float(found.average[i]), "cluster": int(c), "record": one.record}
               for i, (k, one, c) in enumerate(zip(kept, known, found.clusters(cut).tolist()))]
    return {"chosen": words, "compared": found.how.words(), "candidates": members,
            "days": len(found.table.days), "periods": found.periods, "correlation": found.matrix, "p": found.p,
            "effective_bets": found.bets, "order": [kept[i].id for i in found.order.tolist()],
            "together": found.together, "joint_losses": found.joint_losses, "drawdowns_together": found.deep_together,
            "distinct": [kept[i].id for i in chosen.chosen], "exact": chosen.exact,
            "dropped": [{"id": kept[d.at].id, "for": None if d.for_ is None else kept[d.for_].id,
                         "correlation": d.correlation} for d in chosen.dropped]}


def _print(kept: list[Kept], found: Overlap, chosen: Distinct, cut: float, limit: float, answer: dict[str, Any]) -> None:
    labels = [f"{k.id} {k.candidate.name}" for k in kept]
    console.print(f"{len(kept)} candidates ({answer['chosen']}), worth {number(found.bets, 1)} bets, in "
                  f"{int(found.clusters(cut).max())} clusters; {found.how.words()}.", markup=False)
    if len(kept) <= SHOWN:
        order = found.order.tolist()
        for i in order:
            console.print(f"{labels[i]:<24}" + " ".join(f"{number(float(found.matrix[i, j]), 2):>6}" for j in order),
                          markup=False)
        upper = np.triu_indices(len(kept), 1)
        worst = np.argsort(-np.nan_to_num(found.matrix[upper], nan=-2.0))[:3]
        for at in worst.tolist():
            i, j = int(upper[0][at]), int(upper[1][at])
            console.print(f"{labels[i]} and {labels[j]}: {number(float(found.matrix[i, j]), 2)}, p "
                          f"{number(float(found.p[i, j]), 3)}, {number(int(found.periods[i, j]))} periods; in the market "
                          f"together {number(100 * float(found.together[i, j]))}% of days, worst days shared "
                          f"{number(100 * float(found.joint_losses[i, j]))}%.", markup=False)
    for d in chosen.dropped:
        if d.for_ is not None and d.correlation >= limit:
            console.print(f"{labels[d.at]} is left out for {labels[d.for_]} ({number(d.correlation, 2)}).", markup=False)
    proven = ", none is better" if chosen.exact else ""
    console.print(f"distinct{proven}: " + ", ".join(labels[i] for i in chosen.chosen), markup=False)
