"""Guessing how a file is laid out, from lines of the whole file. A guess is shown with its reason, never trusted blindly."""

from __future__ import annotations

import csv
from collections import Counter
from dataclasses import dataclass

import numpy as np

from wolbrin.core.errors import UserError
from wolbrin.core.market.findings import Answer, Finding
from wolbrin.core.market.importing.dates import date_finding, how_written
from wolbrin.core.market.importing.files import Piece
from wolbrin.core.market.importing.layout import MOST_COLUMNS, Layout, make_layout
from wolbrin.core.market.importing.roles import (
    MONEY,
    PRICE_ROLES,
    by_header,
    by_shape,
    is_header,
    is_number,
    kind_of,
    plain_name,
    role_named,
    values_of,
)
from wolbrin.core.market.importing.sample import Sample, take_sample
from wolbrin.core.market.importing.tables import COMMENTS, parquet_columns
from wolbrin.core.market.importing.times import parse_times

DELIMITERS = (";", "\t", ",", "|", " ", "^", "~", "#", "&", "!")
NAMED = {";": "semicolon", "\t": "tab", ",": "comma", "|": "bar", " ": "blanks"}
MOST_ROWS = 8000


@dataclass(frozen=True)
class Guess:
    """A layout, what was found out with reasons, header names that occur twice (the first counts), the markets that a column
    names, and what the stamps say of their end of the bar ("" when nothing does)."""

    layout: Layout
    findings: tuple[Finding, ...]
    twice: tuple[str, ...] = ()
    markets: tuple[str, ...] = ()
    end: str = ""
    offsets: tuple[int, ...] = ()


def split_line(line: str, delimiter: str) -> list[str]:
    """The fields of one line; several blanks count as one."""
    if delimiter == " ":
        return line.split()
    line = line.replace("\0", "")
    try:
        found = next(csv.reader([line], delimiter=delimiter), [])
    except csv.Error:  # such as a field of more than 131,072 characters
        found = line.split(delimiter)
    return [f.strip() for f in found]


def _well_formed(field: str) -> bool:
    return not field or is_number(field) or kind_of([field]) in ("joined", "date", "clock", "epoch", "packed")


def delimiter_of(lines: list[str]) -> tuple[str, float]:
    """The delimiter that splits most lines into the same number of fields that are numbers or times, and the share of lines
    that it splits so."""
    best, score, share = ",", 0.0, 0.0
    for candidate in DELIMITERS:
        if not any(candidate in line for line in lines):
            continue
        rows = [split_line(line, candidate) for line in lines]
        counts = Counter(map(len, rows))
        usual, agree = counts.most_common(1)[0]
        if usual < 2:
            continue
        some = [r for r in rows if len(r) == usual][:40]
        form = sum(_well_formed(f) for r in some for f in r) / sum(map(len, some))
        # A blank also splits dates from clocks and a comma may be a decimal sign: the earlier of equals wins.
        value = agree / len(rows) * (0.3 + 0.7 * form) * (1 + 0.01 * min(usual, 12)) * (0.9 if candidate == " " else 1) * (
            0.98 if candidate == "," else 1)
        if value > score + 1e-9:
            best, score, share = candidate, value, agree / len(rows)
    return best, share


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


def guess(pieces: Piece | list[Piece], order: str = "") -> Guess:
    """The layout files of one kind most likely have, judged by lines from everywhere in them.

    Args:
        order: of day, month and year as the user said: dmy, mdy or ymd.
    Raises:
        UserError: no table, or no column that looks like a time.
    """
    every = [pieces] if isinstance(pieces, Piece) else pieces
    if every[0].parquet:
        return guess_parquet(every[0])
    return guess_lines(take_sample(every), every[0].name, order)


def guess_lines(sample: Sample, name: str, order: str = "") -> Guess:
    """The layout of sampled lines; see `guess`."""
    head = [(i, line) for i, line in enumerate(sample.head) if line.strip()]  # skipping counts blank lines too
    if not head:
        raise UserError("this file is empty", name, "Choose another file.")
    step = max(1, len(sample.body) // MOST_ROWS)
    body = [x for x in sample.body[::step] if not x.lstrip().startswith(COMMENTS)] or [line for _, line in head]
    # A table of one row is a table too: the head alone decides then.
    middle = body[len(body) // 4:] if len(body) > 8 else body[-1:]
    delimiter, agree = delimiter_of(middle[:: max(1, len(middle) // 400)])
    found = [Finding("delimiter", NAMED.get(delimiter, delimiter), f"{agree:.0%} of the lines have as many fields so.")]
    rows = [split_line(line, delimiter) for line in body]
    lengths = [len(r) for r in rows]
    width = Counter(lengths[len(lengths) // 4:] if len(lengths) > 8 else lengths[-1:]).most_common(1)[0][0]
    if lengths.count(width) < 0.4 * len(lengths):
        raise UserError(f"this is not a table: its lines have from {min(lengths)} to {max(lengths)} fields", name,
                        "Choose a file with a time and prices on every line.")
    if width < 2:
        raise UserError("this file has no columns", name, "Choose a file with a time and prices on every line.")
    if width > MOST_COLUMNS:
        raise UserError(f"this file has {width} columns, more than {MOST_COLUMNS}", f"{name}, row 1",
                        "Choose a file of one market with its time and prices.")
    start, names = next(((i, f) for i, f in ((i, split_line(line, delimiter)) for i, line in head
                                             if not line.lstrip().startswith(COMMENTS) or delimiter == "#")
                         if len(f) == width), (0, []))
    # A header in a comment line, as some programs write it.
    remarks = [(i, split_line(line.lstrip("#/ %"), delimiter)) for i, line in head if line.lstrip().startswith(COMMENTS)]
    told = next(((i, f) for i, f in remarks if sum(role_named(x) != "skip" for x in f) >= 3), None)
    header = is_header(names)
    if not header and told is not None and len(told[1]) == width:
        start, names, header = told[0], told[1], True
    data = [r for r in rows if len(r) == width and not is_header(r)]
    if not data:
        raise UserError("there are no bars in this history", f"{name}, row 1", "Choose another file.")
    found.append(Finding("header", "yes" if header else "no",
                         "Its first line names the columns." if header else "Its first line holds values already."))
    columns = [[r[i] for r in data] for i in range(width)]
    likely = [texts for texts in columns if kind_of(texts[:400]) == "number"]
    decimal, decimal_sure, why = decimal_of(likely, delimiter)
    empty = [not np.nan_to_num(values_of(texts[:3000], decimal)).any() for texts in columns]
    roles, notes = by_header(names, empty) if header else ([], [])
    if not _complete(roles):
        shaped = by_shape(columns, decimal)
        if shaped is None:
            raise UserError("no column looks like a date or a time", f"{name}, row {start + 1}",
                            "Say which column holds the time.")
        roles, notes = shaped, ["columns are told apart by what stands in them" if not header else
                                "the header does not name all that is needed; columns are told apart by what stands in them"]
    known = [role_named(n) for n in names] if header else []
    plain = [plain_name(n) for n in names]
    twice = tuple(sorted({r for i, r in enumerate(known) if r != "skip" and plain.count(plain[i]) > 1}))
    if twice:
        notes.append(f"the header names {', '.join(twice)} twice; the first is read")
    prices = [columns[i] for i, r in enumerate(roles) if r in PRICE_ROLES]
    if prices:
        decimal, decimal_sure, why = decimal_of(prices, delimiter)
    answers = () if decimal_sure else (Answer(",", "a comma"), Answer(".", "a point"))
    found.append(Finding("decimal sign", "comma" if decimal == "," else "point", why, decimal_sure, not decimal_sure,
                         "--decimal", answers))
    said = ", ".join(f"{r} in column {i + 1}" for i, r in enumerate(roles) if r != "skip")
    found.append(Finding("columns", said, ". ".join(n[0].upper() + n[1:] for n in notes) + "." if notes else
                         "Named by the header."))
    markets = _markets(columns, roles)
    first = roles.index("time") if "time" in roles else roles.index("date")
    clock = roles.index("clock") if "clock" in roles else None
    texts = join_times(columns[first], columns[clock] if clock is not None else None)
    texts = [t for t in texts if t] or texts
    written = how_written(texts, name, order)
    found.append(date_finding(written, texts))
    if written.changes:
        found.append(Finding("form of times", "changes", written.changes, False, True, "--yes"))
    if "price" in roles and _steps_of_bars([x for x in texts[:2000] if x], written.pattern):
        roles[roles.index("price")] = "close"
        found.append(Finding("rows", "bars of one price", "Rows stand a minute or more apart, so they are no single ticks."))
    layout = make_layout({"delimiter": delimiter, "decimal": decimal if decimal != delimiter else ".", "skip": start,
                          "header": header, "columns": tuple(roles), "time_format": written.pattern}, name)
    return Guess(layout, tuple(found), twice, markets, _end_named(names if header else [], texts, written.pattern),
                 _offsets(texts) if written.utc else ())


def _complete(roles: list[str]) -> bool:
    return bool({"time", "date"} & set(roles)) and (
        {"open", "high", "low", "close"} <= set(roles) or bool({"price", "bid", "ask"} & set(roles)))


def _steps_of_bars(texts: list[str], pattern: str) -> bool:
    """Whether rows that follow each other stand a minute or more apart."""
    stamps = parse_times(np.array(texts, object), pattern)[0]
    steps = np.abs(np.diff(stamps[stamps > 0]))
    steps = steps[steps > 0]
    return bool(len(steps)) and float(np.median(steps)) >= 60e9


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


def _end_named(names: list[str], texts: list[str], pattern: str) -> str:
    """Which end of the bar the header or the stamps name."""
    plain = {plain_name(n) for n in names}
    if plain & {"open time", "time open", "start"}:
        return "open"
    if plain & {"close time", "time close", "end"} or any(" 24:00" in t or "T24:00" in t for t in texts):
        return "close"
    return ""


def _offsets(texts: list[str]) -> tuple[int, ...]:
    """Offsets from UTC that stamps name, in minutes."""
    out = set()
    for t in texts[:: max(1, len(texts) // 2000)]:
        tail = t[-6:]
        if tail[:1] in "+-" and tail[3:4] == ":" and tail[1:3].isdigit() and tail[4:].isdigit():
            out.add((1 if tail[0] == "+" else -1) * (int(tail[1:3]) * 60 + int(tail[4:])))
    return tuple(sorted(out))


def join_times(date: list[str], clock: list[str] | None) -> list[str]:
    return date if clock is None else [f"{a} {b}" for a, b in zip(date, clock)]


def guess_parquet(piece: Piece) -> Guess:
    """Roles of a Parquet file's columns by their names."""
    names = parquet_columns(piece)
    roles, notes = by_header(names, [False] * len(names))
    lack = [r for r in ("open", "high", "low", "close") if r not in roles]
    if not {"time", "date"} & set(roles) or (lack and not {"price", "bid", "ask"} & set(roles)):
        missing = ", ".join([*([] if {"time", "date"} & set(roles) else ["time"]), *lack])
        raise UserError(f"no column of this file is named {missing}", piece.name,
                        "Name the columns time, open, high, low, close and volume.")
    said = ", ".join(f"{r} in column {n}" for n, r in zip(names, roles) if r != "skip")
    return Guess(make_layout({"columns": tuple(roles), "header": True}, piece.name),
                 (Finding("columns", said, ". ".join(notes) or "Named by the file."),))
