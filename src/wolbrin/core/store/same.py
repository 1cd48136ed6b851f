"""Which markets of a project hold the same bars: what was tried, opened and judged on one was so on the others."""

from __future__ import annotations

import json

from wolbrin.core.market.months import same_bars
from wolbrin.core.store.aside import UNREADABLE
from wolbrin.core.store.database import Database

SAME = "markets of the same bars"


def months_of(db: Database) -> dict[str, dict[str, str]]:
    """By market: digest of each month of any of its sources, by year-month and source."""
    found: dict[str, dict[str, str]] = {}
    for r in db.rows("SELECT market, name, months FROM sources WHERE months IS NOT NULL"):
        try:
            months = json.loads(r["months"])
            found.setdefault(r["market"], {}).update({f"{m} {r['name']}": str(d) for m, d in months.items()})
        except UNREADABLE:
            continue
    return found


def group_bars(db: Database) -> None:
    """Write down which markets hold the same bars. A group once told stays told: taking a source out makes nothing unseen."""
    months = months_of(db)
    known: dict[str, list[str]] = db.get_value(SAME, {})
    codes = sorted({*months, *known})
    groups = {c: {c, *known.get(c, ())} for c in codes}
    for at, a in enumerate(codes):
        for b in codes[at + 1:]:
            if same_bars(months.get(a, {}), months.get(b, {})):
                both = groups[a] | groups[b]
                for c in both:
                    groups[c] = both
    made = {c: sorted(g) for c, g in groups.items() if len(g) > 1}
    if made != known:
        db.set_value(SAME, made)


def codes_of(db: Database, market: str) -> list[str]:
    """A market and all others that hold the same bars."""
    return list(db.get_value(SAME, {}).get(market, [market]))
