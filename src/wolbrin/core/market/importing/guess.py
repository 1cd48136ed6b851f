"""Guessing how a file is laid out from its first lines. A guess is shown, never trusted blindly."""

from __future__ import annotations

import csv
import re
from dataclasses import dataclass

import numpy as np

from wolbrin.core.errors import UserError
from wolbrin.core.market.importing.files import Piece, first_lines
from wolbrin.core.market.importing.layout import EPOCHS, MOST_COLUMNS, Layout, make_layout
from wolbrin.core.market.importing.tables import parquet_columns
from wolbrin.core.market.importing.times import FORMATS, PACKED, parse_times

DELIMITERS = (";", "\t", ",", "|", " ", "^", "~", "#", "&", "!")
# Headers as they occur, without punctuation; common practice, no source.
NAMES = {
    "time": ("time", "timestamp", "datetime", "date time", "time stamp", "open time", "utc", "epoch", "ts"),
    "date": ("date", "day", "trade date"),
    "clock": ("clock", "hour", "time of day", "hhmm", "hhmmss"),
    "open": ("open", "o", "first", "open price"),
    "high": ("high", "h", "max", "high price"),
    "low": ("low", "l", "min", "low price"),
    "close": ("close", "c", "settle", "close price"),
    "volume": ("volume", "vol", "v", "tick volume", "ticks", "qty", "size", "quantity", "amount"),
    "price": ("price", "last", "trade", "tick", "trade price"),
    "bid": ("bid", "bid price"),
    "ask": ("ask", "offer", "ask price"),
    "open interest": ("open interest", "openinterest", "oi"),
}
BY_NAME = {name: role for role, names in NAMES.items() for name in names}
NUMBER = re.compile(r"^[+-]?\d[\d .,']*(?:[eE][+-]?\d+)?$")


@dataclass(frozen=True)
class Guess:
    """A layout, in words what could not be told from the file, and header names that occur twice (the first counts)."""

    layout: Layout
    doubts: tuple[str, ...]
    twice: tuple[str, ...] = ()


def split_line(line: str, delimiter: str) -> list[str]:
    """The fields of one line; several blanks count as one."""
    if delimiter == " ":
        return line.split()
    return [f.strip() for f in next(csv.reader([line.replace("\0", "")], delimiter=delimiter), [])]


def _numeric(text: str) -> bool:
    return bool(NUMBER.match(text.strip()))


def _delimiter(lines: list[str]) -> str:
    """The delimiter that splits most lines into the same number of at least two fields."""
    best, score = ",", 0.0
    for candidate in DELIMITERS:
        counts = [len(split_line(line, candidate)) for line in lines]
        usual = max(set(counts), key=counts.count)
        if usual < 2:
            continue
        agree = counts.count(usual) / len(counts)
        # A blank also splits dates from clocks and a comma may be a decimal sign: the earlier of equals wins.
        value = agree * (1.0 if candidate != " " else 0.8) * (1 + 0.01 * min(usual, 12)) * (0.98 if candidate == "," else 1)
        if value > score + 1e-9:
            best, score = candidate, value
    return best


def _time_format(texts: list[str], name: str) -> tuple[str, list[str]]:
    """The pattern that reads the samples, and patterns that would read them as well."""
    sample = np.array(texts[:200], object)
    if all(re.fullmatch(r"\d{9,19}(?:\.\d+)?", t) for t in texts):
        size = len(str(int(float(max(texts, key=lambda t: float(t))))))
        packed = [p for p in PACKED if parse_times(sample, p)[1].all()]
        if packed:
            return packed[0], []
        return ("epoch s" if size <= 11 else "epoch ms" if size <= 14 else "epoch us" if size <= 17 else "epoch ns"), []
    rates = {}
    for pattern in ("iso", *FORMATS):
        rates[pattern] = float(parse_times(sample, pattern)[1].mean())
        if rates[pattern] == 1.0 and pattern == "iso":
            return "iso", []
    top = max(rates.values())
    if top < 0.5:
        raise UserError(f'"{texts[0]}" is not a time this program can read', f"{name}, time column",
                        "Choose the column that holds the time, or write its format, such as %d.%m.%Y %H:%M.")
    good = [p for p, r in rates.items() if r >= top - 1e-9]
    if len(good) > 1:
        # Day first and month first both fit: the one under which time mostly steps by the same amount.
        def rough(pattern: str) -> float:
            stamps = parse_times(sample, pattern)[0]
            steps = np.diff(stamps)
            return float(np.median(np.abs(steps - np.median(steps)))) + float(np.ptp(stamps)) * 1e-6
        good.sort(key=rough)
    return good[0], good[1:]


def _by_shape(rows: list[list[str]], width: int, name: str) -> list[str]:
    """Roles of columns without a header: times first, then prices in the usual order, then volume."""
    roles: list[str] = ["skip"] * width
    columns = [[r[c] for r in rows if c < len(r)] for c in range(width)]
    sort: list[str] = []
    for texts in columns:
        shaped = [t for t in texts if t]
        joined = " ".join(shaped[:50])
        if shaped and all(re.search(r"\d[-/.:]\d+[-/.:]\d", t) or re.search(r"[A-Za-z]{3}", t) for t in shaped[:50]):
            sort.append("clock" if all(re.fullmatch(r"\d{1,2}:\d{2}(:\d{2}(\.\d+)?)?", t) for t in shaped[:50]) else "time")
        elif shaped and all(re.fullmatch(r"\d{1,2}:\d{2}", t) for t in shaped[:50]):
            sort.append("clock")
        elif shaped and all(re.fullmatch(r"(19|20)\d{6}", t) for t in shaped[:50]):
            sort.append("date")
        elif shaped and all(re.fullmatch(r"\d{9,19}", t) for t in shaped[:50]):
            sort.append("time")
        else:
            sort.append("number" if joined and all(_numeric(t) for t in shaped[:50]) else "skip")
    first = next((i for i, s in enumerate(sort) if s in ("time", "date")), None)
    if first is None:
        raise UserError("no column looks like a date or a time", f"{name}, row 1", "Say which column holds the time.")
    roles[first] = "time"
    after = first + 1
    if after < width and (sort[after] == "clock" or (sort[first] == "date" and all(
            re.fullmatch(r"\d{4}|\d{6}", t) for t in columns[after][:50]))):
        roles[first], roles[after] = "date", "clock"
        after += 1
    numbers = [i for i in range(after, width) if sort[i] == "number"]
    if len(numbers) >= 4:
        order = ["open", "high", "low", "close", "volume", "open interest"]
    else:
        order = ["price", "volume"]
    for column, role in zip(numbers, order):
        roles[column] = role
    return roles


def _plain(name: str) -> str:
    return re.sub(r"[^a-z0-9]+", " ", name.lower()).strip()


def _by_header(names: list[str]) -> list[str]:
    roles: list[str] = []
    for name in names:
        role = BY_NAME.get(_plain(name), "skip")
        roles.append(role if role == "skip" or role not in roles else "skip")
    if "date" in roles and "time" in roles:
        roles[roles.index("time")] = "clock"
    if "clock" in roles and "date" not in roles:
        roles[roles.index("clock")] = "time"
    if {"open", "high", "low", "close"} <= set(roles):
        roles = ["skip" if r in ("price", "bid", "ask") else r for r in roles]
    return roles


def join_times(date: list[str], clock: list[str] | None) -> list[str]:
    return date if clock is None else [f"{a} {b}" for a, b in zip(date, clock)]


def _decimal(rows: list[list[str]], columns: list[int], delimiter: str) -> str:
    commas = points = 0
    for r in rows:
        for c in columns:
            if c < len(r):
                commas += "," in r[c]
                points += "." in r[c]
    return "," if delimiter != "," and commas and not points else "."


def guess(piece: Piece) -> Guess:
    """The layout a file most likely has.

    Raises:
        UserError: no table, or no column that looks like a time.
    """
    if piece.parquet:
        return guess_parquet(piece)
    every = first_lines(piece)
    at = [i for i, line in enumerate(every) if line.strip()]  # skipping counts blank lines too
    lines = [every[i] for i in at]
    if not lines:
        raise UserError("this file is empty", piece.name, "Choose another file.")
    body = lines[min(len(lines) - 1, max(1, len(lines) // 4)):]
    delimiter = _delimiter(body)
    rows = [split_line(line, delimiter) for line in lines]
    width = max((len(r) for r in rows), key=[len(r) for r in rows].count)
    if width < 2:
        raise UserError("this file has no columns", piece.name, "Choose a file with a time and prices on every line.")
    if width > MOST_COLUMNS:
        raise UserError(f"this file has {width} columns, more than {MOST_COLUMNS}", f"{piece.name}, row 1",
                        "Choose a file of one market with its time and prices.")
    start = next((i for i, r in enumerate(rows) if len(r) == width), 0)
    names = rows[start]
    header = not any(_numeric(f) for f in names) or sum(_plain(f) in BY_NAME for f in names) >= 3
    data = [r for r in rows[start + header:] if len(r) == width]
    if not data:
        raise UserError("there are no bars in this history", piece.name, "Choose another file.")
    roles = _by_header(names) if header else []
    if not header or not ({"time", "date"} & set(roles)) or not (
            {"open", "high", "low", "close"} <= set(roles) or {"price", "bid", "ask"} & set(roles)):
        roles = _by_shape(data, width, piece.name)
    doubts: list[str] = []
    known = [BY_NAME[_plain(n)] for n in names if _plain(n) in BY_NAME] if header else []
    twice = tuple(sorted({r for r in known if known.count(r) > 1}))
    if twice:
        doubts.append(f"The header names {', '.join(twice)} twice; the first is read.")
    first = roles.index("time") if "time" in roles else roles.index("date")
    clock = roles.index("clock") if "clock" in roles else None
    texts = join_times([r[first] for r in data], [r[clock] for r in data] if clock is not None else None)
    pattern, others = _time_format(texts, piece.name)
    if others and any({p.find("%d"), p.find("%m")} for p in others):
        doubts.append(f"Dates could be read as {pattern} or {others[0]}; check the first rows.")
    if pattern not in EPOCHS and not (pattern == "iso" and parse_times(np.array(texts[:50], object), "iso")[2]):
        doubts.append("The file does not say its time zone.")
    prices = [i for i, r in enumerate(roles) if r in ("open", "high", "low", "close", "price", "bid", "ask")]
    doubts.append("The file does not say whether a bar carries the time of its open or its close."
                  if "open" in roles else "Rows are single ticks; bars are built from them.")
    layout = make_layout({"delimiter": delimiter, "decimal": _decimal(data, prices, delimiter), "skip": at[start],
                          "header": header, "columns": tuple(roles), "time_format": pattern}, piece.name)
    return Guess(layout, tuple(doubts), twice)


def guess_parquet(piece: Piece) -> Guess:
    """Roles of a Parquet file's columns by their names."""
    names = parquet_columns(piece)
    roles = _by_header(names)
    lack = [r for r in ("open", "high", "low", "close") if r not in roles]
    if not {"time", "date"} & set(roles) or (lack and not {"price", "bid", "ask"} & set(roles)):
        missing = ", ".join([*([] if {"time", "date"} & set(roles) else ["time"]), *lack])
        raise UserError(f"no column of this file is named {missing}", piece.name,
                        "Name the columns time, open, high, low, close and volume.")
    return Guess(make_layout({"columns": tuple(roles), "header": True}, piece.name), ())
