"""`wolbrin holdout`: the book of the seal, and moving the border on purpose."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from pathlib import Path

import typer

from wolbrin.cli.common import JSON, PROJECT, USAGE, console, emit, error_console, open_project, told
from wolbrin.core.errors import UserError
from wolbrin.core.store.holdout import t_for


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("holdout")
    def holdout(project: Path | None = PROJECT,
                move: str | None = typer.Option(None, "--move", help="A new first sealed day, year-month-day."),
                spend: str = typer.Option("", "--spend", help="Why the border moves although work was done: that spends the "
                                          "holdout for everything found so far."),
                json: bool = JSON) -> None:
        """Show what is sealed, what was opened and judged, and what the next opening asks; or move the border."""
        if spend and move is None:
            error_console.print("--spend goes with --move.", markup=False)
            raise typer.Exit(USAGE)
        with told():
            opened = open_project(project, demo)
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
                      "moves": [{"when": m.created, "from": m.old, "to": m.new, "why": m.why} for m in book.moves()]}
        if json:
            emit(result)
            return
        console.print(f"Sealed from {settings.holdout_first} to {settings.last}; opened {book.count()} times. The next "
                      f"opening of one candidate needs t {t_for(batch, 1):.2f}.", markup=False)
        for o in book.all():
            console.print(f"  {o.created[:16].replace('T', ' ')}  {o.what}", markup=False)
