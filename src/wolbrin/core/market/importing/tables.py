"""Blocks of a file as columns: numbers and times per row, and which rows cannot be read and why."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.csv as pacsv
from numpy.typing import NDArray

from wolbrin.core.errors import UserError
from wolbrin.core.market.importing.files import Piece, check_swelling
from wolbrin.core.market.importing.fractions import prices_of
from wolbrin.core.market.importing.layout import Layout
from wolbrin.core.market.importing.roles import LARGEST_NUMBER, MONEY, PRICE_ROLES, THOUSANDS, role_named
from wolbrin.core.market.importing.times import padded_clock, parse_times
from wolbrin.core.market.importing.typed import Typed

TIME_ROLES = ("time", "date", "clock")
TEXT_ROLES = (*TIME_ROLES, "market")
AMOUNT_ROLES = ("volume", "open interest")  # where nothing stands there, nothing was traded
BESIDE_ROLES = ("ask close", "spread")  # what is missing there does not make a bar unfit
HEADER_AGAIN, COMMENT = "the header again", "a comment"
COMMENTS = ("#", "//", "--", "%", ";;")


@dataclass(frozen=True)
class BadRow:
    """A row that was not taken. row: its number in the file, from 1."""

    file: str
    row: int
    reason: str
    text: str


@dataclass
class Block:
    """Rows of one block that could be read. row: int64[n] numbers in the file. time: int64[n] ns. values: float64[n]
    per role. utc: whether times are UTC already. passed: lines that are no rows: comments, a header between rows."""

    row: NDArray[np.int64]
    time: NDArray[np.int64]
    values: dict[str, NDArray[np.float64]]
    utc: bool
    bad: list[BadRow] = field(default_factory=list)
    bad_count: int = 0
    passed: list[BadRow] = field(default_factory=list)


def number_roles(layout: Layout) -> list[str]:
    return [r for r in layout.columns if r not in ("skip", *TEXT_ROLES)]


def _texts(column: Any) -> NDArray[np.object_]:
    return np.asarray(column.to_numpy(zero_copy_only=False), object)


def _joined(layout: Layout, get: Any) -> NDArray[np.object_]:
    """Time texts of the rows; get(role) gives a column as object[n] of str."""
    if "time" in layout.columns:
        return np.asarray(get("time"), object)
    date = get("date")
    if "clock" not in layout.columns:
        return np.asarray(date, object)
    return np.asarray(date + " " + padded_clock(get("clock"), layout.time_format), object)


def read_fast(data: bytes, layout: Layout, first_row: int, name: str) -> Block | None:
    """A block in which every row is as the layout says; None when any row is not."""
    width = len(layout.columns)
    if layout.delimiter == " ":
        data = b"\n".join(b" ".join(line.split()) for line in data.split(b"\n"))
    numbers = number_roles(layout)
    names = [f"c{i}" for i in range(width)]
    used = {f"c{i}": pa.string() if r in TEXT_ROLES else pa.float64() for i, r in enumerate(layout.columns) if r != "skip"}
    try:
        table = pacsv.read_csv(
            pa.BufferReader(data), read_options=pacsv.ReadOptions(column_names=names, block_size=max(len(data), 1024) + 1024),
            parse_options=pacsv.ParseOptions(delimiter=layout.delimiter, newlines_in_values=False),
            convert_options=pacsv.ConvertOptions(column_types=used, include_columns=list(used), strings_can_be_null=False,
                                                 null_values=[], decimal_point=layout.decimal))
    except (pa.ArrowInvalid, pa.ArrowKeyError, UnicodeDecodeError):
        return None
    n = table.num_rows
    if not n or n != data.count(b"\n") + (not data.endswith(b"\n")):
        return None  # blank lines: row numbers would be off

    def column(role: str) -> Any:
        return table.column(f"c{layout.place(role)}").combine_chunks()

    time, good, utc = parse_times(_joined(layout, lambda r: _texts(column(r))), layout.time_format)
    if not good.all():
        return None
    values = {r: column(r).to_numpy(zero_copy_only=False) for r in numbers}
    for v in values.values():
        if not np.isfinite(v).all() or np.abs(v).max() > LARGEST_NUMBER:
            return None
    if "volume" in values and values["volume"].min() < 0:
        return None
    rows = first_row + np.arange(n)
    if layout.market and "market" in layout.columns:
        mine = np.char.strip(_texts(column("market")).astype(str)) == layout.market
        return Block(rows[mine], time[mine], {r: v[mine] for r, v in values.items()}, utc)
    return Block(rows, time, values, utc)


def _numbers(texts: NDArray[np.object_], decimal: str, fraction: int = 0) -> NDArray[np.float64]:
    """Numbers with an eye for currency signs and thousands separators; NaN where there is none. fraction: see `Layout`."""
    if fraction:
        return prices_of(texts, fraction)
    series = pd.Series(texts).str.strip().str.replace(MONEY, "", regex=True)
    times = series.str.extract(r"^\d[\d.,]* ?([KMB])$", expand=False).map(THOUSANDS)
    if times.notna().any():
        series = series.mask(times.notna(), series.str[:-1].str.strip())
    if decimal == ",":
        series = series.str.replace(r"[.' \u00a0\u202f]", "", regex=True).str.replace(",", ".", regex=False)
    else:
        grouped = series.str.fullmatch(r"[+-]?\d{1,3}(?:[,' \u00a0\u202f]\d{3})+(?:\.\d*)?").fillna(False).astype(bool)
        series = series.mask(grouped, series.str.replace(r"[,' \u00a0\u202f]", "", regex=True))
    return (pd.to_numeric(series, errors="coerce") * times.fillna(1.0)).to_numpy(np.float64)


def passed_over(line: str, parts: list[str], layout: Layout) -> str:
    """Why a line is no row although it stands between rows; empty where it should be one."""
    if line.lstrip().startswith(COMMENTS) and not parts[0][:1].isdigit():
        return COMMENT
    if sum(role_named(p) != "skip" for p in parts) >= 3 and not any(c.isdigit() for c in line):
        return HEADER_AGAIN
    return ""


def read_slow(data: bytes, layout: Layout, first_row: int, name: str, most_bad: int) -> Block:
    """A block row by row: what can be read, and what cannot with the reason."""
    lines = data.decode("utf-8", errors="replace").split("\n")
    if lines and not lines[-1]:
        lines.pop()
    width = len(layout.columns)
    fields: list[list[str]] = []
    place: list[int] = []
    bad: list[BadRow] = []
    passed: list[BadRow] = []
    count = 0

    def refuse(index: int, reason: str) -> None:
        nonlocal count
        count += 1
        if len(bad) < most_bad:
            bad.append(BadRow(name, first_row + index, reason, lines[index][:200]))

    for i, line in enumerate(lines):
        if not line.strip():
            continue
        try:
            parts = line.split() if layout.delimiter == " " else next(csv.reader(
                io.StringIO(line.replace("\0", "")), delimiter=layout.delimiter), [])
        except csv.Error:
            refuse(i, "this row cannot be read as a table")
            continue
        why = passed_over(line, parts, layout)
        if why:
            passed.append(BadRow(name, first_row + i, why, line[:200]))
            continue
        if len(parts) != width:
            refuse(i, f"{len(parts)} columns instead of {width}")
            continue
        fields.append(parts)
        place.append(i)
    none = np.zeros(0, np.int64)
    if not fields:
        return Block(none, none, {r: np.zeros(0) for r in number_roles(layout)}, False, bad, count, passed)
    at = np.array(place, np.int64)
    columns = list(zip(*fields))

    def get(role: str) -> NDArray[np.object_]:
        return np.array([t.strip() for t in columns[layout.place(role) or 0]], object)

    texts = _joined(layout, get)
    time, good, utc = parse_times(texts, layout.time_format)
    # Reasons are written for the rows that can be listed; the others are only counted.
    faulty = ~good
    reasons: dict[int, str] = {
        int(k): f'"{texts[k][:40].strip()}" is no time in the chosen format, or not between 1950 and 2100'
        for k in np.flatnonzero(~good)[:most_bad]}
    values = {}
    for role in number_roles(layout):
        values[role] = _numbers(get(role), layout.decimal, layout.fraction if role in PRICE_ROLES else 0)
        if role in AMOUNT_ROLES:
            values[role] = np.where((get(role) == "") | (get(role) == "-"), 0.0, values[role])
        wrong = ~np.isfinite(values[role]) | (np.abs(values[role]) > LARGEST_NUMBER)
        if role in BESIDE_ROLES:
            values[role], wrong = np.where(wrong, np.nan, values[role]), np.zeros(len(wrong), bool)
        negative = (values[role] < 0) if role == "volume" else np.zeros(len(wrong), bool)
        faulty |= wrong | negative
        for k in np.flatnonzero(wrong | negative)[:most_bad]:
            text = str(columns[layout.place(role) or 0][k])[:40].strip()
            reasons.setdefault(int(k), f"the {role} is missing" if not text else f"the {role} {text} is below zero"
                               if negative[k] else f'the {role} "{text}" is not a number that can be used')
    for index, reason in sorted(reasons.items()):
        refuse(place[index], reason)
    count += int(faulty.sum()) - len(reasons)
    keep = ~faulty
    if layout.market and "market" in layout.columns:
        keep &= get("market") == layout.market
    bad.sort(key=lambda b: b.row)
    return Block(first_row + at[keep], time[keep], {r: v[keep] for r, v in values.items()}, utc, bad, count, passed)


def _arrow_times(column: pa.Array) -> tuple[NDArray[np.int64], NDArray[np.bool_], bool] | None:
    """Times of a column of dates or timestamps; None for other types."""
    kind = column.type
    if pa.types.is_date(kind):
        column, kind = column.cast(pa.timestamp("ms")), pa.timestamp("ms")
    if not pa.types.is_timestamp(kind):
        return None
    whole = column.cast(pa.int64()).fill_null(-(2**62)).to_numpy(zero_copy_only=False).astype(np.int64)
    scale = {"s": 10**9, "ms": 10**6, "us": 10**3, "ns": 1}[kind.unit]
    from_, until = (int(np.datetime64(d, "s").astype(np.int64)) * (10**9 // scale) for d in ("1950", "2100"))
    good = (whole >= from_) & (whole < until)
    return np.where(good, whole, 0) * scale, good, kind.tz is not None


def table_blocks(piece: Piece, layout: Layout, most_bad: int) -> Iterator[tuple[Block, int]]:
    """A Parquet or Feather file block by block, each with its share of the file's bytes."""
    table = Typed(piece)
    if len(table.names) != len(layout.columns):
        raise UserError(f"this file has {len(table.names)} columns, the layout {len(layout.columns)}", piece.name,
                        "Choose another layout.")
    used: dict[str, str] = {r: table.names[i] for i, r in enumerate(layout.columns) if r != "skip"}
    check_swelling("this file", 8 * table.rows * len(used), piece.size or piece.path.stat().st_size, piece.path)
    total, row = max(1, table.rows), 1
    for batch in table.batches(list(used.values())):
        yield _table_block(batch, used, layout, row, piece.name, most_bad), batch.num_rows * piece.size // total
        row += batch.num_rows


def _table_block(batch: pa.RecordBatch, used: dict[str, str], layout: Layout, row: int, name: str,
                   most_bad: int) -> Block:
    column = {role: batch.column(batch.schema.get_field_index(n)) for role, n in used.items()}
    read = _arrow_times(column["time" if "time" in column else "date"]) if "clock" not in column else None
    if read is None:
        texts = {r: np.array([str(x) if x is not None else "" for x in column[r].to_pylist()], object)
                 for r in TIME_ROLES if r in column}
        read = parse_times(_joined(layout, texts.__getitem__), layout.time_format)
    time, good, utc = read
    good = good.copy()
    faulty = ~good
    reasons = {int(k): "the time is missing or outside 1950 to 2100" for k in np.flatnonzero(~good)[:most_bad]}
    values = {}
    for role in number_roles(layout):
        try:
            value = column[role].cast(pa.float64(), safe=False).fill_null(np.nan).to_numpy(zero_copy_only=False)
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            value = _numbers(np.array(["" if x is None else str(x) for x in column[role].to_pylist()], object),
                             layout.decimal,
                             layout.fraction if role in PRICE_ROLES else 0)
        values[role] = np.asarray(value, np.float64)
        if role in AMOUNT_ROLES:
            values[role] = np.nan_to_num(values[role], nan=0.0)
        with np.errstate(invalid="ignore"):
            wrong = ~np.isfinite(values[role]) | (np.abs(values[role]) > LARGEST_NUMBER)
            wrong |= (values[role] < 0) if role == "volume" else False
        if role in BESIDE_ROLES:
            values[role], wrong = np.where(wrong, np.nan, values[role]), np.zeros(len(wrong), bool)
        faulty |= wrong
        for k in np.flatnonzero(wrong)[:most_bad]:
            reasons.setdefault(int(k), f"the {role} is missing, or no number that can be used")
    keep = ~faulty
    if layout.market and "market" in column:
        keep &= np.array([str(x) for x in column["market"].to_pylist()], object) == layout.market
    listed = sorted(reasons.items())
    bad = [BadRow(name, row + k, reason, "") for k, reason in listed[:most_bad]]
    return Block(row + np.flatnonzero(keep), time[keep], {r: v[keep] for r, v in values.items()}, utc, bad, int(faulty.sum()))
