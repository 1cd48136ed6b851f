"""`wolbrin holdout`: the book of the seal, and moving the border on purpose."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from pathlib import Path

import typer

from wolbrin.cli.common import JSON, PROJECT, USAGE, console, emit, error_console, open_project, pick, told
from wolbrin.core.errors import UserError
from wolbrin.core.proving.power import chance_of_sharpe
from wolbrin.core.store.holdout import t_for
from wolbrin.core.store.plans import CANDIDATES, Plans
from wolbrin.core.store.project import Project
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.judging import figures_of
from wolbrin.core.work.leads import answer_lead
from wolbrin.core.work.opening import holdout_gate
from wolbrin.core.work.whole import portfolio_figures, portfolio_verdicts

POWER_YEARS, SHARPES = (1.0, 2.0, 3.0, 4.0, 5.0), (1.0, 1.5, 2.0, 3.0)


def _shown(project: Project, name: str) -> dict[str, object]:
    """Figures of what does not stand, on demand."""
    if any(v["name"] == name for v in portfolio_verdicts(project)):
        whole = portfolio_figures(project, name)
        return {"name": name, "verdict": whole["verdict"], "reason": whole["reason"], "figures": whole["figures"]}
    kept = pick(project, [name])[0]
    told_ = figures_of(project, Footing.of(project), holdout_gate(project), kept.candidate.market, kept.hash)
    return {"id": kept.id, "name": kept.candidate.name, "verdict": told_.verdict, "reason": told_.reason,
            "figures": told_.figures}


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("holdout")
    def holdout(project: Path | None = PROJECT,
                move: str | None = typer.Option(None, "--move", help="A new first sealed day, year-month-day."),
                spend: str = typer.Option("", "--spend", help="Why the border moves although work was done: that spends the "
                                          "holdout for everything found so far."),
                show: str | None = typer.Option(None, "--show", help="Figures of a candidate or portfolio that fell. "
                                                "Whatever is kept on its market from then on can be ready and no more, until "
                                                "there are bars that nobody has seen."),
                mine: bool = typer.Option(False, "--mine", help="Openings of the same bars in another project were yours."),
                not_mine: bool = typer.Option(False, "--not-mine", help="They were somebody else's."),
                lead: str | None = typer.Option(None, "--lead", help="OTHER:MARKET, where one goes before the other by more "
                                                "than any market does."),
                because: str = typer.Option("", "--because", help="How that can be; it stands in every record."),
                json: bool = JSON) -> None:
        """Show what is sealed, what was opened and judged, and what the next opening asks; or move the border."""
        if (spend and move is None) or (because and lead is None) or (mine and not_mine):
            error_console.print("--spend goes with --move, --because with --lead, and --mine excludes --not-mine.",
                                markup=False)
            raise typer.Exit(USAGE)
        with told():
            opened = open_project(project, demo)
            if mine or not_mine:
                opened.journal.answer(mine)
            if lead is not None:
                other, _, traded = lead.partition(":")
                answer_lead(opened, other, traded, because)
            shown = _shown(opened, show) if show is not None else None
            if move is not None:
                try:
                    border = dt.date.fromisoformat(move)
                except ValueError:
                    raise UserError(f'"{move}" is not a date like 2022-06-30', "--move", "Write year-month-day.") from None
                settings = opened.settings
                if not settings.training_first < border <= settings.last:
                    raise UserError(f"the border must lie after {settings.training_first} and not after {settings.last}",
                                    "--move", "Choose a day between them.")
                last = settings.training_last
                changed = {"holdout_first": border, "training_last": last if last is not None and last < border else None}
                opened.update_settings(settings.model_copy(update=changed), spend)
            settings, book = opened.settings, opened.book
            batch = book.next_batch()
            seen = book.seen_until()
            result = {"border": settings.holdout_first, "last": settings.last, "seen_until": seen,
                      "unseen_from": book.unseen_first(settings.holdout_first), "openings": book.count(),
                      "next_opening": {"number": batch, "t_needed": t_for(batch, 1)},
                      "markets": {m.code: {"openings": book.count(m.code),
                                           "judged": [{"name": j.name, "verdict": j.verdict, "reason": j.reason,
                                                       "hash": j.hash, "judged": j.created} for j in book.judged(m.code)]}
                                  for m in opened.markets()},
                      "book": [{"when": o.created, "kind": o.kind, "what": o.what, "market": o.market, "first": o.first,
                                "last": o.last, "opening": o.batch} for o in book.all()],
                      "power": [{"years": y, "sharpe": x, "chance": chance_of_sharpe(x, round(252 * y), t_for(batch, 1))}
                                for y in POWER_YEARS for x in SHARPES],
                      "elsewhere": [{"project": e.project[:8], "openings": e.openings, "markets": e.markets, "first": e.first,
                                     "last": e.last, "answer": e.answer} for e in opened.journal.elsewhere()],
                      "cut_short": [{"opening": p.plan.number, "when": p.created} for p in Plans(opened).unfinished()],
                      "shown": shown,
                      "moves": [{"when": m.created, "from": m.old, "to": m.new, "why": m.why} for m in book.moves()]}
        if json:
            emit(result)
            return
        console.print(f"Sealed from {settings.holdout_first} to {settings.last}; opened for {book.count()} candidates. The "
                      f"next opening of one candidate needs t {t_for(batch, 1):.2f}.", markup=False)
        for e in opened.journal.elsewhere():
            console.print(e.words, markup=False)
        for p in Plans(opened).unfinished():
            how = ("the next one judges it first" if p.plan.kind == CANDIDATES else
                   f"open {p.plan.why} again, which goes on under its number")
            console.print(f"Opening {p.plan.number} was cut short before its verdicts; {how}.",
                          markup=False)
        console.print("Chance that one candidate of a true yearly Sharpe ratio stands at the next opening, by sealed years:",
                      markup=False)
        for x in SHARPES:
            each = ", ".join(f"{y:g}: {100 * chance_of_sharpe(x, round(252 * y), t_for(batch, 1)):.0f}%" for y in POWER_YEARS)
            console.print(f"  Sharpe {x:g}   {each}", markup=False)
        if shown is not None:
            console.print(f"{shown['name']}: {shown['reason']}", markup=False)
        for o in book.all():
            console.print(f"  {o.created[:16].replace('T', ' ')}  {o.what}", markup=False)
