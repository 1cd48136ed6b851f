"""The one door to sealed bars. Whoever goes through it is written down first; a test finds any other way."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable

from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Span
from wolbrin.core.store.ground import Ground, Histories, histories_of
from wolbrin.core.store.holdout import HoldoutBook, Opening
from wolbrin.core.store.project import Project, now


def open_sealed(project: Project, ground: Ground, market: str, interval: int, span: Span, what: str, hash: str,
                number: Callable[[], int], size: int = 1) -> Histories:
    """Count an opening and give the histories with their sealed bars.

    span: the trading dates that will be looked at. what: by what and why, in words. hash: of the rules it is for. number:
    gives the number of the opening, asked once it is certain that there is something to open; size: candidates that share it.
    Raises:
        UserError: there is nothing to see there; nothing is counted then.
    """
    whole = histories_of(ground.unsealed())
    bars = whole.prepared(market, interval).bars
    border = ground.history(market).border
    first, stop = bars.range_of(span)
    sealed_first, _ = bars.range_of(Span(border, None))
    if max(first, sealed_first) >= stop:
        raise UserError(f"there are no sealed bars in {span}", market, "Choose a span that reaches beyond the border, "
                        "or append newer history.")
    HoldoutBook(project).add(Opening(now(), what, market=market, hash=hash, first=_text(span.first), last=_text(span.last),
                                     batch=number(), size=size))
    return whole


def _text(day: dt.date | None) -> str:
    return day.isoformat() if day else ""
