"""What the holdout is kept for: candidates one by one, or a portfolio as a whole."""

from __future__ import annotations

from typing import Literal

from wolbrin.core.errors import Door, UserError
from wolbrin.core.store.database import Database
from wolbrin.core.store.holdout import HoldoutBook, t_for

Spent = Literal["candidates", "portfolio"]
WORDS: dict[Spent, str] = {"candidates": "for each candidate", "portfolio": "for a portfolio as a whole"}
DIFFERENCE = ("For each candidate: every one that is ready gets a verdict of its own, and the bar rises with how many are "
              "opened together and with every opening. For a portfolio: all stay sealed at ready, are combined by training "
              "alone, and the holdout judges the whole once, at the lowest bar; of its members nothing is told then, and "
              "none of them can be opened later.")
MANY = 500  # candidates that are opened together without being asked again
SPENT_ON = "holdout is spent on"


def spent_on(db: Database) -> Spent:
    """What the project keeps its holdout for."""
    return "portfolio" if db.get_value(SPENT_ON, "candidates") == "portfolio" else "candidates"


def spend_on(db: Database, what: Spent) -> None:
    """Choose it; nothing that was opened is undone by that."""
    db.set_value(SPENT_ON, what)


def check_opening(project: Database, count: int, many: bool = False) -> None:
    """Refuse to open what is kept for a portfolio, and to open very many by mistake.

    many: it is meant.
    Raises:
        UserError: says what it would cost, and what to do instead.
    """
    if spent_on(project) == "portfolio":
        raise UserError("the holdout is kept for a portfolio as a whole", "holdout",
                        "Combine those that are ready in Portfolio and open it there, or choose to open for each candidate.",
                        Door("Go to Portfolio", "portfolio"))
    if count > MANY and not many:
        batch = HoldoutBook(project).next_batch()
        raise UserError(f"this would spend the holdout of {count:,} candidates, and ask a t of {t_for(batch, count):.2f} of "
                        f"the best of them instead of {t_for(batch, 1):.2f} of a single one", "holdout",
                        "Tick fewer, or say that you mean it.")
