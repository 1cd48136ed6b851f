"""`wolbrin portfolio find`, and what is done with saved portfolios."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import typer

from wolbrin.cli.common import JSON, PROJECT, console, emit, finite, open_project, run, told
from wolbrin.cli.fitting import fit_again
from wolbrin.cli.meant import WHERE, meant
from wolbrin.cli.portfolio_reading import settle
from wolbrin.core.errors import UserError
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.portfolio.choosing import AIMS, Choice
from wolbrin.core.portfolio.plan import Plan
from wolbrin.core.proving.gate import PASSES
from wolbrin.core.store.portfolios import Portfolios
from wolbrin.core.work.portfolio_files import read_portfolio, write_portfolio
from wolbrin.core.work.portfolio_find import CONTROLS, Found, ask, chosen_plan, find_job
from wolbrin.core.work.portfolio_pieces import told_of
from wolbrin.core.work.portfolios import desk_of, kept_of
from wolbrin.core.work.standing import READY
from wolbrin.core.work.subject import Subject
from wolbrin.core.work.whole import open_portfolio, portfolio_verdicts, verdict_on

NAMES = typer.Argument(None, help="Ids or names of candidates; those that are ready when left out.")
NAME = typer.Argument(..., help="Name or number of a saved portfolio.")


def add(group: typer.Typer, demo: Callable[[], Path]) -> None:
    @group.command("find")
    def find(names: list[str] = NAMES, project: Path | None = PROJECT,
             k: int = typer.Option(5, "-k", min=1, max=50, help="Members of a portfolio."),
             where: list[str] = WHERE,
             aim: str = typer.Option("return_drawdown", "--aim", help=f"{', '.join(AIMS)}."),
             correlation: float | None = typer.Option(None, "--correlation", callback=finite, min=-1, max=1,
                                                      help="Any two below it."),
             per_market: int | None = typer.Option(None, "--per-market", min=1, help="Members at most of one market."),
             per_family: int | None = typer.Option(None, "--per-family", min=1, help="Of one family."),
             drawdown: float | None = typer.Option(None, "--drawdown", callback=finite, help="Of the whole, at most."),
             margin: float | None = typer.Option(None, "--margin", callback=finite, help="In use at most, were all in."),
             fits: float | None = typer.Option(None, "--fits", callback=finite,
                                               help="Capital that margin and deepest drawdown together fit into."),
             best: int = typer.Option(20, "--best", min=1, max=500, help="Combinations to keep."),
             controls: int = typer.Option(CONTROLS, "--controls", min=0, max=200, help="The same where none is better."),
             seed: int = typer.Option(1, "--seed", help="Of what is drawn."),
             capital: float | None = typer.Option(None, "--capital", callback=finite, help="Of the account."),
             one: bool = typer.Option(True, "--one-account/--separate", help="One purse for all, or an account each."),
             save: str | None = typer.Option(None, "--save", help="Keep the best under this name."),
             json: bool = JSON) -> None:
        """Choose k of several candidates under limits; every combination counts as tried."""
        with told():
            opened = open_project(project, demo)
            ids = meant(opened, names, where, READY).ids
            plan = settle(Plan(name=save or "Portfolio", members=()), capital=capital, one_account=one)
            choice = Choice(k, aim, best, correlation, per_market, per_family, drawdown, margin, fits)  # type: ignore[arg-type]
            request = ask(opened, ids, choice, plan, seed)
            got: list[Found] = []
            run(find_job(opened, ids, request, got.append, controls), "threads")
            if not got:
                raise UserError("the search was stopped before it found anything", "portfolio find", "Start it again.")
            found = got[0]
            name = ""
            if save and len(found.chosen.score):
                chosen = chosen_plan(found.plan, found.chosen.members[0].tolist(), found.tried)
                made = told_of(desk_of(opened, chosen))
                name = Portfolios(opened).keep(chosen, made.figures, made.records)
        if json:
            emit({"tried": found.chosen.tried, "combinations": found.chosen.whole, "every": found.chosen.every,
                  "charged": found.tried, "controls": found.controls, "apart": found.apart, "p": found.p, "half": found.half,
                  "words": found.words(),
                  "best": [{"members": found.members(i), "score": float(s),
                            "measures": found.exact[i] if i < len(found.exact) else None}
                           for i, s in enumerate(found.chosen.score.tolist())], "saved": name})
            return
        console.print(found.words(), markup=False)
        for i, score in enumerate(found.chosen.score.tolist()):
            who = ", ".join(found.names[m] for m in found.chosen.members[i].tolist())
            exact = found.exact[i] if i < len(found.exact) else None
            traded = f"; traded exactly {number(exact[choice.aim], 2)}" if exact else ""
            console.print(f"{i + 1:>3}  {number(score, 2):>8}  {who}{traded}", markup=False)
        if name:
            console.print(f"The best is saved as {name}.", markup=False)

    @group.command("list")
    def list_(project: Path | None = PROJECT, json: bool = JSON) -> None:
        """Saved portfolios."""
        with told():
            opened = open_project(project, demo)
            saved = Portfolios(opened).all()
            verdicts = portfolio_verdicts(opened)
        if json:
            emit({"portfolios": [{"id": s.id, "created": s.created, "name": s.name, "plan": s.plan, "measures": s.figures,
                                  "records": s.records} for s in saved], "verdicts": verdicts})
            return
        for s in saved:
            console.print(f"{s.id:>4}  {s.name:<24} {len(s.plan.on)} members, net "
                          f"{worded('net', s.figures.get('net', float('nan')))}, return over drawdown "
                          f"{worded('return_drawdown', s.figures.get('return_drawdown', float('nan')))}", markup=False)

    @group.command("open")
    def open_(name: str = NAME, project: Path | None = PROJECT, json: bool = JSON) -> None:
        """Open the holdout once for a saved portfolio as a whole. Counted, and final."""
        with told():
            opened = open_project(project, demo)
            saved = Portfolios(opened).named(name)
            fit_again(opened, [Subject.of(k) for k in kept_of(opened, saved.plan)])
            outcome = open_portfolio(opened, saved.plan)
        if json:
            last = portfolio_verdicts(opened)[-1]
            emit({"name": saved.name, "verdict": outcome.verdict, "reason": outcome.reason, "figures": outcome.figures,
                  "interval": last.get("interval"), "stands": outcome.verdict == PASSES})
            return
        console.print(verdict_on(opened, [m.candidate for m in saved.plan.on]) or outcome.reason, markup=False)

    @group.command("export")
    def export(name: str = NAME, path: Path = typer.Argument(..., help="A .json file."),
               project: Path | None = PROJECT) -> None:
        """Write a saved portfolio with its strategies as one file."""
        with told():
            opened = open_project(project, demo)
            write_portfolio(opened, Portfolios(opened).named(name).plan, path)
        console.print(f"Written to {path}.", markup=False)

    @group.command("import")
    def import_(path: Path = typer.Argument(..., help="A file that `wolbrin portfolio export` wrote."),
                project: Path | None = PROJECT, json: bool = JSON) -> None:
        """Read a portfolio back and save it; its strategies join the Shelf, not proved."""
        with told():
            opened = open_project(project, demo)
            back = read_portfolio(opened, path)
            made = told_of(desk_of(opened, back.plan))
            name = Portfolios(opened).keep(back.plan, made.figures, made.records)
        if json:
            emit({"name": name, "new": back.new, "members": [m.candidate for m in back.plan.members]})
            return
        console.print(f"{name} read, {len(back.new)} of its {len(back.plan.members)} strategies new on the Shelf.",
                      markup=False)

    @group.command("remove")
    def remove(name: str = NAME, project: Path | None = PROJECT) -> None:
        """Forget a saved portfolio; its verdict and its members stay."""
        with told():
            opened = open_project(project, demo)
            saved = Portfolios(opened).named(name)
            Portfolios(opened).remove(saved.id)
        console.print(f"{saved.name} is saved no more.", markup=False)
