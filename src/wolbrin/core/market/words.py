"""Schedules and contract values in words, and back."""

from __future__ import annotations

import re
from itertools import pairwise

from wolbrin.core.errors import UserError
from wolbrin.core.faults import words_of
from wolbrin.core.market.terms import WEEKDAYS, SessionRule, Terms

LINE = re.compile(r"^\s*([A-Za-z]{3})[a-z]*(?:\s*[-\u2013]\s*([A-Za-z]{3})[a-z]*)?((?:\s*,\s*[A-Za-z]{3}[a-z]*)*)\s+"
                  r"(\d{1,2}:\d{2})\s*[-\u2013]\s*(\d{1,2}:\d{2})\s*$")


def _day(text: str, line: str) -> int:
    name = text[:3].capitalize()
    if name not in WEEKDAYS:
        raise UserError(f'"{text}" in "{line.strip()}" is not a weekday', "sessions",
                        "Write Mon, Tue, Wed, Thu, Fri, Sat, Sun.")
    return WEEKDAYS.index(name)


def read_sessions(text: str) -> tuple[SessionRule, ...]:
    """Weekly sessions from lines such as "Mon-Fri 09:00-17:00" or "Sun, Tue 17:00-16:00"; days are those of the open.

    Raises:
        UserError: a line that is no session.
    """
    rules = []
    for line in re.split(r"[\n;]", text):
        if not line.strip():
            continue
        found = LINE.match(line)
        if not found:
            raise UserError(f'"{line.strip()}" is not a session', "sessions", "Write it like Mon-Fri 09:00-17:00.")
        first, last, more, opens, closes = found.groups()
        begin = _day(first, line)
        end = _day(last, line) if last else begin
        count = (end - begin) % 7 + 1
        days = [WEEKDAYS[(begin + i) % 7] for i in range(count)]
        days += [WEEKDAYS[_day(d.strip(), line)] for d in more.split(",") if d.strip()]
        try:
            rules.append(SessionRule(days=tuple(dict.fromkeys(days)), open=opens.zfill(5), close=closes.zfill(5)))
        except ValueError as err:
            raise UserError(words_of(err), f'sessions, "{line.strip()}"', "Write it like Mon-Fri 09:00-17:00.") from None
    return tuple(rules)


def write_sessions(rules: tuple[SessionRule, ...]) -> str:
    """One line a session, readable by `read_sessions`."""
    lines = []
    for rule in rules:
        at = [WEEKDAYS.index(d) for d in rule.days]
        run = len(at) > 1 and all((b - a) % 7 == 1 for a, b in pairwise(at))
        days = f"{rule.days[0]}-{rule.days[-1]}" if run else ", ".join(rule.days)
        lines.append(f"{days} {rule.open}-{rule.close}")
    return "\n".join(lines)


def session_words(terms: Terms) -> str:
    """When a market trades, in a line."""
    if terms.calendar:
        return f"as exchange {terms.calendar}"
    if not terms.sessions:
        return "no schedule"
    return ", ".join(write_sessions(terms.sessions).replace("-", "\u2013").split("\n")) + f" {terms.time_zone}"


def money(value: float, digits: int = 2) -> str:
    """Money with as many decimals as it needs, at least `digits`, at most six."""
    short = f"{value:,.{digits}f}"
    return short if abs(float(short.replace(",", "")) - value) < 1e-9 else f"{value:,.6f}".rstrip("0")


def worth_lines(terms: Terms, currency: str, ticks: int = 3, contracts: float = 2) -> list[str]:
    """What a tick and a point are worth, and one worked line: point-versus-money mistakes are common."""
    unit = "lots" if terms.kind == "currency pair" else "contracts"
    one = "lot" if terms.kind == "currency pair" else "contract"
    rate = terms.conversion_rate
    if terms.quote_currency != currency and (terms.conversion_market or rate == 1.0):
        # The rate moves with a market, or nobody has set it: what is sure is the quote money.
        rate, currency = 1.0, terms.quote_currency
    tick = terms.tick_value * rate
    return [f"1 tick on 1 {one} = {money(tick)} {currency}",
            f"1.00 of price on 1 {one} = {money(terms.point_value * rate)} {currency}",
            f"{ticks} ticks on {contracts:g} {unit} = {money(ticks * tick * contracts)} {currency}"]
