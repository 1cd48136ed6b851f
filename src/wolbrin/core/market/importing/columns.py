"""What the columns of a table are and how their values are written, judged by what stands in them everywhere."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

import numpy as np

from wolbrin.core.errors import UserError
from wolbrin.core.market.findings import Answer, Finding
from wolbrin.core.market.importing.dates import date_finding, how_written
from wolbrin.core.market.importing.fractions import parts_in
from wolbrin.core.market.importing.layout import Layout, make_layout
from wolbrin.core.market.importing.roles import (
    MONEY,
    PRICE_ROLES,
    by_header,
    by_shape,
    clock_named,
    is_day_clock,
    kind_of,
    plain_name,
    role_named,
    values_of,
)
from wolbrin.core.market.importing.times import offset_in, parse_times
from wolbrin.core.market.sessions import NS_A_MINUTE


@dataclass(frozen=True)
class SaidOfLayout:
    """What the user has said of the layout. order: of day, month and year, dmy, mdy or ymd. time_format: codes of C strptime,
    or one of the layout's other words for it."""

    order: str = ""
    time_format: str = ""


@dataclass(frozen=True)
class Seen:
    """A table as it was seen: names of its columns (none without a header), texts of each, and how its lines are divided."""

    names: list[str]
    columns: list[list[str]]
    delimiter: str
    skip: int
    header: bool


@dataclass(frozen=True)
class Guess:
    """A layout, what was found out with reasons, header names that occur twice (the first counts), the markets that a column
    names, what the stamps say of their end of the bar ("" when nothing does), and the clock that the header names."""

    layout: Layout
    findings: tuple[Finding, ...]
    twice: tuple[str, ...] = ()
    markets: tuple[str, ...] = ()
    end: str = ""
    offsets: tuple[int, ...] = ()
    clock: str = ""


def decimal_of(columns: list[list[str]], delimiter: str) -> tuple[str, bool, str]:
    """The decimal sign of price columns, whether that is sure, and why."""
    fields = [MONEY.sub("", t.strip()) for texts in columns for t in texts if t.strip()]
    fields = [t for t in fields if "," in t or "." in t]
    both = [t for t in fields if "," in t and "." in t]
    if both:
        last = Counter("," if t.rfind(",") > t.rfind(".") else "." for t in both).most_common(1)[0][0]
        return last, True, f'In "{both[0]}" it stands last.'
    commas = [t for t in fields if "," in t]
    if not commas:
        return ".", True, "No price holds a comma."
    points = [t for t in fields if "." in t]
    if points:
        return (",", True, "Points group thousands.") if len(commas) > len(points) else (".", True, "Commas group thousands.")
    tails = [t.rsplit(",", 1)[1] for t in commas]
    if any(len(t) != 3 for t in tails) or any(t.startswith(("0,", "-0,")) for t in commas):
        return ",", True, f'Prices such as "{commas[0]}" have a comma before their decimals.'
    if any(t.count(",") > 1 for t in commas) or delimiter == ",":
        return ".", True, "Commas group thousands."
    return ",", False, f'"{commas[0]}" may be {commas[0].replace(",", ".")} or {commas[0].replace(",", "")}.'


def of_columns(seen: Seen, name: str, said: SaidOfLayout, found: list[Finding]) -> Guess:
    """The layout of a table. found: what is known of its lines already.

    Raises:
        UserError: no column looks like a time, or none of the ways of writing times reads it.
    """
    columns, names, delimiter = seen.columns, seen.names, seen.delimiter
    likely = [texts for texts in columns if kind_of(texts[:400]) == "number"]
    fraction = max((parts_in(texts) for texts in likely), default=0)
    decimal, decimal_sure, why = decimal_of(likely, delimiter)
    empty = [not np.nan_to_num(values_of(texts[:3000], decimal, fraction)).any() for texts in columns]
    kinds = ["day clock" if is_day_clock(t[:400]) else kind_of(t[:400]) for t in columns]
    roles, notes = by_header(names, empty, kinds) if names else ([], [])
    if not _complete(roles):
        shaped = by_shape(columns, decimal, fraction)
        if shaped is None:
            raise UserError("no column looks like a date or a time", f"{name}, row {seen.skip + 1}",
                            "Say which column holds the time.")
        roles, notes = shaped, ["columns are told apart by what stands in them" if not names else
                                "the header does not name all that is needed; columns are told apart by what stands in them"]
    known = [role_named(n) for n in names]
    plain = [plain_name(n) for n in names]
    twice = tuple(sorted({r for i, r in enumerate(known) if r not in ("skip", "volume") and plain.count(plain[i]) > 1}))
    if twice:
        notes.append(f"the header names {', '.join(twice)} twice; the first is read")
    if names and "close" in roles and "ask close" not in roles:
        _quotes_beside(roles, known, columns, decimal, notes)
    prices = [columns[i] for i, r in enumerate(roles) if r in PRICE_ROLES]
    if prices:
        decimal, decimal_sure, why = decimal_of(prices, delimiter)
        fraction = parts_in([t for texts in prices for t in texts])
    if fraction:
        found.append(Finding("prices", f"in {fraction}{'nds' if fraction == 32 else 'ths'}",
                             f'"{next(t for t in prices[0] if t)}" is a whole and parts of {fraction}.'))
        decimal, decimal_sure, why = ".", True, "Prices are written in fractions."
    answers = () if decimal_sure else (Answer(",", "a comma"), Answer(".", "a point"))
    found.append(Finding("decimal sign", "comma" if decimal == "," else "point", why, decimal_sure, not decimal_sure,
                         "--decimal", answers))
    words = ", ".join(f"{r} in column {i + 1}" for i, r in enumerate(roles) if r != "skip")
    found.append(Finding("columns", words, ". ".join(n[0].upper() + n[1:] for n in notes) + "." if notes else
                         "Named by the header."))
    markets = _markets(columns, roles)
    first = roles.index("time") if "time" in roles else roles.index("date")
    clock = roles.index("clock") if "clock" in roles else None
    texts = join_times(columns[first], columns[clock] if clock is not None else None)
    texts = [t for t in texts if t] or texts
    written = how_written(texts, name, said.order, said.time_format)
    found.append(date_finding(written, texts))
    if written.changes:
        found.append(Finding("form of times", "changes", written.changes, False, True, "--yes"))
    apart = [x for x in texts[:2000] if x]
    if {"price", "bid", "ask"} & set(roles) and _steps_of_bars(apart, written.pattern, "price" not in roles):
        side = next(r for r in ("price", "bid", "ask") if r in roles)
        roles[roles.index(side)] = "close"
        if "ask" in roles:
            roles[roles.index("ask")] = "ask close"
        of = "bid, with the ask beside it" if "ask close" in roles else "price"
        found.append(Finding("rows", f"bars of one {of}", "Rows stand a minute or more apart, so they are no single ticks."))
    layout = make_layout({"delimiter": delimiter, "decimal": decimal if decimal != delimiter else ".", "skip": seen.skip,
                          "header": seen.header, "columns": tuple(roles), "time_format": written.pattern,
                          "fraction": fraction}, name)
    return Guess(layout, tuple(found), twice, markets, _end_named(names, texts), _offsets(texts) if written.utc else (),
                 clock_named(names[first]) if names else "")


def _quotes_beside(roles: list[str], named: list[str], columns: list[list[str]], decimal: str, notes: list[str]) -> None:
    """Bid and ask that stand beside bars: where the bars are of bids, the ask tells the spread."""
    if not {"bid", "ask"} <= set(named):
        return
    bid, close = (values_of(columns[i], decimal) for i in (named.index("bid"), roles.index("close")))
    if np.nanmean(np.abs(bid - close) <= 1e-9 * np.abs(close)) > 0.9:
        roles[named.index("ask")] = "ask close"
        if "spread" in roles:
            roles[roles.index("spread")] = "skip"
    else:
        notes.append("bid and ask beside the bars are not their closes; they are not read")


def _complete(roles: list[str]) -> bool:
    return bool({"time", "date"} & set(roles)) and (
        {"open", "high", "low", "close"} <= set(roles) or bool({"price", "bid", "ask"} & set(roles)))


def _steps_of_bars(texts: list[str], pattern: str, whole: bool = False) -> bool:
    """Whether rows that follow each other stand a minute or more apart; whole: on whole minutes, one row at each."""
    stamps = parse_times(np.array(texts, object), pattern)[0]
    stamps = stamps[stamps > 0]
    steps = np.abs(np.diff(stamps))
    if whole and (np.any(stamps % NS_A_MINUTE) or np.any(steps == 0)):
        return False
    steps = steps[steps > 0]
    return bool(len(steps)) and float(np.median(steps)) >= NS_A_MINUTE


def _markets(columns: list[list[str]], roles: list[str]) -> tuple[str, ...]:
    """What a market column names, in order of first appearance; a column that names too much is none."""
    if "market" not in roles:
        return ()
    at = roles.index("market")
    named = tuple(dict.fromkeys(t.strip() for t in columns[at] if t.strip()))
    if len(named) > 200 or len(named) > 0.2 * len(columns[at]) + 1:
        roles[at] = "skip"
        return ()
    return named


def _end_named(names: list[str], texts: list[str]) -> str:
    """Which end of the bar the header or the stamps name."""
    plain = {plain_name(n) for n in names}
    if plain & {"open time", "time open", "start"}:
        return "open"
    if plain & {"close time", "time close", "end"} or any(" 24:00" in t or "T24:00" in t for t in texts):
        return "close"
    return ""


def _offsets(texts: list[str]) -> tuple[int, ...]:
    """Offsets from UTC that stamps name, in minutes."""
    some = texts[:: max(1, len(texts) // 2000)]
    return tuple(sorted({minutes for t in some if (minutes := offset_in(t)) is not None}))


def join_times(date: list[str], clock: list[str] | None) -> list[str]:
    return date if clock is None else [f"{a} {b}" for a, b in zip(date, clock)]
