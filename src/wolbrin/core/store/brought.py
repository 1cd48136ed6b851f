"""Rules that came from outside with no word of how many were tried for them."""

from __future__ import annotations

from typing import Any

from wolbrin.core.engine.record import Record
from wolbrin.core.jobs import State
from wolbrin.core.rules.identity import shape_of
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.database import Database, now, unsettle
from wolbrin.core.store.searches import Searches

BROUGHT = "rules brought, tried unknown"
KIND = "brought"


def unknown_tried(db: Database, strategy: Strategy) -> bool:
    """Whether rules, or such that differ by numbers only, came in without saying how many were tried for them."""
    known: dict[str, Any] = db.get_value(BROUGHT, {})
    return bool(known) and shape_of(strategy) in known


def bring(db: Database, strategy: Strategy, market: str, interval: int, tried: int | None,
          record: Record | None = None) -> None:
    """Write down how many alternatives were tried for rules that are brought in, on their market; None where it is not
    known."""
    shape = shape_of(strategy)
    with db.transaction() as connection:
        known: dict[str, Any] = db.get_value(BROUGHT, {})
        if tried is None:
            db.set_value(BROUGHT, known | {shape: {"name": strategy.name, "market": market, "interval": interval}})
        else:
            searches = Searches(db)
            search = searches.begin(now(), KIND, f"Tried elsewhere for {strategy.name}", {}, record=record,
                                    market=market, interval=interval)
            searches.advance(search, tried, 0)
            searches.end(search, State.DONE)
            if shape in known:
                db.set_value(BROUGHT, {k: v for k, v in known.items() if k != shape})
        unsettle(connection)
