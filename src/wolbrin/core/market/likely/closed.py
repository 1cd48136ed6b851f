"""Days without trading: holidays are days that are missing every year by the same rule."""

from __future__ import annotations

import datetime as dt

import numpy as np
from dateutil.easter import easter
from numpy.typing import NDArray

from wolbrin.core.market.findings import Finding
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.sessions import session_table
from wolbrin.core.market.terms import Terms

EPOCH = dt.date(1970, 1, 1)
AROUND_EASTER = (-48, -47, -3, -2, 0, 1, 39, 49, 50, 60)
MOST_SHARE = 0.08  # of scheduled dates; more are gaps of the source, no holidays


def _nth(date: dt.date) -> tuple[str, int, int, int]:
    """A date as the n-th weekday of its month, the last one as -1."""
    last = (date + dt.timedelta(days=7)).month != date.month
    return "nth", date.month, date.weekday(), -1 if last else (date.day - 1) // 7


def _rules(date: dt.date) -> list[tuple[object, ...]]:
    out: list[tuple[object, ...]] = [("day", date.month, date.day), _nth(date)]
    off = (date - easter(date.year)).days
    return [*out, ("easter", off)] if off in AROUND_EASTER else out


def find_closed(raw: Raw, terms: Terms) -> tuple[tuple[str, ...], Finding | None]:
    """Days of a schedule on which the market is closed by rule, as `Terms.closed` names them.

    A rule (a day of the year, a day by Easter, the n-th weekday of a month) counts when bars are missing on every date that
    falls under it, at least twice; one that stands for a single missing date counts for 25 December, 1 January and Good
    Friday only.
    """
    table = session_table(terms, int(raw.time[0]), int(raw.time[-1]))
    touched = (table.close > raw.time[0]) & (table.open <= raw.time[-1])
    dates = np.unique(table.trading_date[touched])
    at, inside = table.place(raw.time)
    there = np.unique(table.trading_date[at[inside]])
    missing: NDArray[np.int32] = np.setdiff1d(dates, there)
    if not len(missing) or len(missing) > MOST_SHARE * len(dates) + 3:
        return (), None
    by_rule: dict[tuple[object, ...], list[dt.date]] = {}
    gone = set(missing.tolist())
    all_of: dict[tuple[object, ...], int] = {}
    for d in dates.tolist():
        date = EPOCH + dt.timedelta(days=int(d))
        for rule in _rules(date):
            all_of[rule] = all_of.get(rule, 0) + 1
            if d in gone:
                by_rule.setdefault(rule, []).append(date)
    known: set[tuple[object, ...]] = {("day", 12, 25), ("day", 1, 1), ("easter", -2)}
    good = {r: ds for r, ds in by_rule.items() if len(ds) == all_of[r] and (len(ds) >= 2 or r in known)}
    yearly = sorted(f"{r[1]:02d}-{r[2]:02d}" for r in good if r[0] == "day")
    covered = {d for r, ds in good.items() if r[0] == "day" for d in ds}
    once = sorted({str(d) for r, ds in good.items() if r[0] != "day" for d in ds if d not in covered})
    closed = (*yearly, *once)
    if not closed:
        return (), None
    rest = len(missing) - len({d for ds in good.values() for d in ds})
    more = f" {rest:,} other days without bars are taken as gaps." if rest else ""
    return closed, Finding("closed days", ", ".join(closed[:6]) + (" ..." if len(closed) > 6 else ""),
                           f"Bars are missing there every year by the same rule.{more}")
