"""Terms of a market that is new to the project, put together from what its bars show and what the user has said."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from pydantic import ValidationError

from wolbrin.core.errors import UserError
from wolbrin.core.faults import explain
from wolbrin.core.market.exchanges import exchange_zone
from wolbrin.core.market.findings import Finding
from wolbrin.core.market.intervals import DAILY
from wolbrin.core.market.likely.clock import Clock
from wolbrin.core.market.likely.closed import find_closed
from wolbrin.core.market.likely.grid import Grid, find_grid
from wolbrin.core.market.likely.kind import find_kind
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.terms import SessionRule, Terms
from wolbrin.core.market.words import read_sessions, write_sessions

SHOWN = 4
AROUND_THE_CLOCK = (SessionRule(days=("Sun", "Mon", "Tue", "Wed", "Thu"), open="17:00", close="17:00"),)


@dataclass(frozen=True)
class Said:
    """What the user has said of a market; None or empty where nothing."""

    exchange: str = ""
    kind: str | None = None
    tick: float | None = None
    sessions: tuple[SessionRule, ...] | None = None
    session_zone: str | None = None


def likely_terms(code: str, raw: Raw, clock: Clock, currency: str, said: Said = Said(),
                 quotes: tuple[NDArray[np.float64], NDArray[np.float64]] | None = None,
                 ) -> tuple[Terms, tuple[Finding, ...]]:
    """Terms and the reasons for them.

    Args:
        raw: bars in UTC, stamped at their open: those that may be looked at, which are the ones before the border.
        quotes: bids and asks of that time, where the file has both.
    Raises:
        UserError: the code cannot be one.
    """
    wanted = code.strip().upper()
    prices = np.concatenate(quotes if quotes is not None else [raw.open, raw.high, raw.low, raw.close])
    quoted_spread = float(np.median(quotes[1] - quotes[0])) if quotes is not None and len(quotes[0]) else None
    grid = Grid(said.tick, 1.0, 0.0, True) if said.tick else find_grid(prices)
    found = [Finding("tick size", f"{said.tick:g}", "As you said.") if said.tick else grid.finding()]
    kind = find_kind(wanted, raw, grid.tick, currency, said.kind, quoted_spread)
    found += kind.findings
    values: dict[str, object] = {"code": wanted, "kind": kind.kind, "tick_size": grid.tick, "quote_currency": kind.quote,
                                 **kind.values}
    rules, zone, about = _sessions(raw, clock, said)
    values |= {"time_zone": zone, "sessions": [r.model_dump() for r in rules], "calendar": said.exchange}
    found.append(about)
    try:
        terms = Terms.model_validate(values)
    except ValidationError as err:
        raise explain(err, "new market") from None
    if rules and raw.interval < DAILY:
        closed, days = find_closed(raw, terms)
        if days is not None:
            terms, found = terms.model_copy(update={"closed": closed}), [*found, days]
    return terms, tuple(found)


def _sessions(raw: Raw, clock: Clock, said: Said) -> tuple[tuple[SessionRule, ...], str, Finding]:
    if said.exchange:
        zone = exchange_zone(said.exchange)
        return (), zone, Finding("sessions", f"those of {said.exchange}", "As you said, with its holidays and early closes.")
    if said.sessions is not None:
        zone = said.session_zone or (clock.week.zone if clock.week else clock.zone)
        return said.sessions, zone, Finding("sessions", write_sessions(said.sessions) or "none", "As you said.")
    week = clock.week
    if week is None:
        return (), said.session_zone or clock.zone, Finding("sessions", "none", "Daily rows do not show hours.")
    zone = said.session_zone or week.zone
    if not week.rules or len(week.rules) > 24:
        return (), zone, Finding("sessions", "none", "Bars stand in no stretch of the week regularly.", False)
    lines = write_sessions(week.rules).split("\n")
    words = ", ".join(lines[:SHOWN]) + (f" and {len(lines) - SHOWN} more" if len(lines) > SHOWN else "")
    thin = week.weeks < 3
    why = (f"Bars stand there in most of {week.weeks:.0f} weeks, and hardly any elsewhere." if not thin else
           f"Seen in {week.weeks:.0f} weeks only.")
    if week.padded:
        why += " Bars of closed hours, which repeat one price, are left out."
    return week.rules, zone, Finding("sessions", f"{words} {zone}", why, not thin)


def spoken_sessions(text: str) -> tuple[tuple[SessionRule, ...], str | None]:
    """Sessions as written on the command line: "none", "around the clock", or lines with a zone at the end.

    Raises:
        UserError: no sessions.
    """
    plain = text.strip().lower()
    if plain == "none":
        return (), None
    if plain == "around the clock":
        return AROUND_THE_CLOCK, "America/New_York"
    head, _, last = text.strip().rpartition(" ")
    if "/" in last or last == "UTC":
        return read_sessions(head.replace(", ", "\n") if ":" in head else head), last
    if not last:
        raise UserError("there are no sessions in this", "--sessions", 'Write them like "Mon-Fri 09:00-17:00 Europe/Oslo".')
    return read_sessions(text), None
