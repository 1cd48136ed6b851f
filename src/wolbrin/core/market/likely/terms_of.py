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
from wolbrin.core.market.likely.kind import Told, find_kind, pair_of
from wolbrin.core.market.likely.spread import Spread, from_column, from_quotes
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.terms import SessionRule, Terms
from wolbrin.core.market.words import read_sessions, write_sessions

SHOWN = 4
LEAST_WORTH, MOST_WORTH = 0.01, 1000.0  # of a tick
# Currencies whose unit is worth a hundredth of others' or less; common practice, from memory.
SMALL_UNITS = frozenset({"JPY", "KRW", "HUF", "IDR", "CLP", "COP", "ISK", "VND", "NGN", "KZT", "CRC", "LKR", "RSD", "ARS"})
AROUND_THE_CLOCK = (SessionRule(days=("Sun", "Mon", "Tue", "Wed", "Thu"), open="17:00", close="17:00"),)


@dataclass(frozen=True)
class Said:
    """What the user has said of a market; None or empty where nothing."""

    exchange: str = ""
    kind: str | None = None
    tick: float | None = None
    point_value: float | None = None
    quote: str | None = None
    spread_unit: str | None = None
    sessions: tuple[SessionRule, ...] | None = None
    session_zone: str | None = None


@dataclass(frozen=True)
class Quoted:
    """What a file holds beside its prices, or in place of them (middle: they are made of bid and ask), of the rows that may
    be learned from: float64[n] bids and asks, or spreads in a unit that is not told."""

    bid: NDArray[np.float64] | None = None
    ask: NDArray[np.float64] | None = None
    spread: NDArray[np.float64] | None = None
    middle: bool = False


@dataclass(frozen=True)
class Likely:
    """terms: of the market. findings: the reasons. assumed: which terms rest on nothing but custom (see
    market.terms.ASSUMABLE)."""

    terms: Terms
    findings: tuple[Finding, ...]
    assumed: tuple[str, ...]


def likely_terms(code: str, raw: Raw, clock: Clock, currency: str, said: Said = Said(), quoted: Quoted = Quoted()) -> Likely:
    """Terms and the reasons for them.

    Args:
        raw: bars in UTC, stamped at their open: those that may be looked at, which are the ones before the border.
    Raises:
        UserError: the code cannot be one, or what was said is no value that contracts have.
    """
    wanted = code.strip().upper()
    sides = [quoted.bid, quoted.ask] if quoted.middle and quoted.bid is not None and quoted.ask is not None else None
    prices = np.concatenate(sides or [raw.open, raw.high, raw.low, raw.close])
    grid = Grid(said.tick, 1.0, 0.0, True) if said.tick else find_grid(prices)
    found = [Finding("tick size", f"{said.tick:g}", "As you said.") if said.tick else grid.finding()]
    pair = (pair_of(wanted) is not None) if said.kind is None else said.kind == "currency pair"
    spread = _spread(quoted, grid.tick, pair, raw, said.spread_unit)
    found += spread.findings
    kind = find_kind(wanted, raw, grid.tick, currency, Told(said.kind, said.point_value, said.quote, spread.ticks))
    found += kind.findings
    if said.point_value is not None:
        check_worth(grid.tick * said.point_value, kind.quote, wanted)
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
    return Likely(terms, tuple(found), kind.assumed)


def check_worth(tick_value: float, quote: str, where: str) -> None:
    """Raises UserError where a tick would be worth, in quote money, what no contract's is."""
    if not LEAST_WORTH <= tick_value <= MOST_WORTH * (1000.0 if quote in SMALL_UNITS else 1.0):
        raise UserError(f"a tick would be worth {tick_value:,.6g} {quote}, and no contract's is worth less than "
                        f"{LEAST_WORTH:g} or more "
                        f"than {MOST_WORTH:,.0f} {quote}", f"{where}, point value" if where else "point value",
                        "Write the money for a move of 1.00 on one contract, as its specification has it.")


def _spread(quoted: Quoted, tick: float, pair: bool, raw: Raw, unit: str | None) -> Spread:
    if quoted.bid is not None and quoted.ask is not None and len(quoted.bid):
        return from_quotes(quoted.bid, quoted.ask, tick, pair)
    if quoted.spread is not None and len(quoted.spread):
        return from_column(quoted.spread, tick, pair, float(np.median(np.abs(raw.close))) or 1.0, unit)
    return Spread(None, ())


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
