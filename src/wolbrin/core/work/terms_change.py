"""Other terms for a market: what they change downstream, said before, and refused where work rests on the old ones."""

from __future__ import annotations

from dataclasses import dataclass

from wolbrin.core.errors import UserError
from wolbrin.core.market.likely.terms_of import check_worth
from wolbrin.core.market.terms import Terms, term_facts
from wolbrin.core.store.project import Project

# What is kept of work, and how it is called.
KEPT = (("candidates", "candidate"), ("searches", "search"), ("evidence", "verdict of a gate"), ("judged", "final verdict"))
# Terms whose change is told in words of its own; of any other the values are.
TOLD = {"point_value", "tick_size", "quote_currency", "lot_step", "minimum_lot", "margin", "kind", "sessions", "time_zone",
        "calendar", "closed"}
PLURALS = {"search": "searches", "verdict of a gate": "verdicts of gates"}


@dataclass(frozen=True)
class Changed:
    """changes: what becomes of results, in sentences. rests: kept work that was done under the old terms, in words; empty
    where there is none."""

    changes: tuple[str, ...]
    rests: str


def downstream(project: Project, after: Terms) -> Changed:
    """What other terms of a market change.

    Raises:
        UserError: no bar would be left under them, or a tick would be worth what none is.
    """
    before = project.market(after.code).terms
    if (before.point_value, before.tick_size) != (after.point_value, after.tick_size):
        check_worth(after.tick_value, after.quote_currency, after.code)
    said = []
    if after.point_value != before.point_value:
        said.append(f"point value {before.point_value:g} to {after.point_value:g}: all money of {after.code} is multiplied "
                    f"by {after.point_value / before.point_value:.6g}")
    if after.tick_size != before.tick_size:
        said.append(f"tick {before.tick_size:g} to {after.tick_size:g}: prices lie on another grid, and whatever is counted "
                    f"in ticks (costs, stops, targets) is {after.tick_size / before.tick_size:.6g} times as far")
    if after.quote_currency != before.quote_currency:
        said.append(f"currency {before.quote_currency} to {after.quote_currency}: money is converted at another rate, "
                    + (f"that of {after.conversion_market}" if after.conversion_market else f"{after.conversion_rate:g}"))
    if (after.lot_step, after.minimum_lot) != (before.lot_step, before.minimum_lot):
        said.append(f"sizes are rounded to {after.lot_step:g}, at least {after.minimum_lot:g}")
    if after.margin != before.margin:
        said.append("entries are rejected where the new margin exceeds the equity")
    if after.kind != before.kind:
        said.append(f"kind {before.kind} to {after.kind}: the words of prices and sizes change")
    week = ("sessions", "time_zone", "calendar", "closed")
    if any(getattr(after, f) != getattr(before, f) for f in week):
        entry = project.market(after.code)
        source = project.sources.get(after.code, entry.source)
        treated = project.sources.history(source, after).treated().bars  # those before the border
        old = project.sources.history(source).treated().bars
        said.append(f"sessions: {treated.left_out:,} bars before the border lie outside them and are left out "
                    f"({old.left_out:,} now); days, session ends and everything built on them move")
    for d in term_facts():
        if d.path[0] not in TOLD and d.of(after) != d.of(before):
            said.append(f"{d.fact.title} {_shown(d.of(before))} to {_shown(d.of(after))}")
    return Changed(tuple(said), rests_on(project, after.code))


def _shown(value: object) -> str:
    return "none" if value in (None, "") else f"{value:g}" if isinstance(value, float) else str(value)


def rests_on(project: Project, market: str) -> str:
    """Kept work that was done on a market under its present terms, in words; empty where there is none."""
    words = []
    for table, name in KEPT:
        count = int(project.rows(f"SELECT count(*) FROM {table} WHERE market = ?", market)[0][0])
        if count:
            words.append(f"{count:,} {name if count == 1 else PLURALS.get(name, name + 's')}")
    return ", ".join(words)


def check_change(code: str, found: Changed, why: str) -> None:
    """Make sure that terms of a market may change.

    Args:
        why: the reason, where work rests on the old ones. That work stays as it is written, but proves nothing under the new
            terms: its records name another history.
    Raises:
        UserError: work rests on the old terms and there is no reason.
    """
    if found.changes and found.rests and not why.strip():
        raise UserError(f"terms of {code} cannot change: {found.rests} rest on the old ones. It would mean: "
                        + "; ".join(found.changes), code,
                        "Leave them, or say why with --spend: what was proved has to be proved again then.")
