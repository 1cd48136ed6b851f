"""Workbooks and JSON as lines of comma-separated text, which are then read like any other file."""

from __future__ import annotations

import csv
import datetime as dt
import io
import json
import math
import zipfile
from collections.abc import Iterable, Iterator
from functools import lru_cache
from pathlib import Path
from typing import Any

from wolbrin.core.errors import EnvironmentTrouble, UserError

LARGEST = 512 * 1024**2
LEAST_ROWS = 3  # of two values and more, before a sheet is a table
LOOKED_AT = 80
MOST_COLUMNS = 300
HEAD, HEAD_LINES = 512 * 1024, 600
SWELLING = 150.0


@lru_cache(maxsize=2)
def as_lines(path: Path, size: int, changed: int) -> bytes:
    """A workbook or JSON file as UTF-8 text, a row a line. size, changed: of the file, so that another one is read anew.

    Raises:
        UserError: no table in it, or damaged. EnvironmentTrouble: it cannot be read.
    """
    if size > LARGEST:
        raise UserError(f"this file holds {size / 1e6:,.0f} MB, more than can be read of such a file", path.name,
                        "Save it as CSV or Parquet.")
    try:
        rows = _sheet(path) if path.name.lower().endswith(".xlsx") else _json(path)
        out = io.StringIO(newline="")
        writer = csv.writer(out, lineterminator="\n")
        for row in rows:
            if len(row) > MOST_COLUMNS:
                raise UserError(f"this file has rows of {len(row):,} values", path.name, "Choose a file of one market.")
            writer.writerow([_text(v) for v in row])
        return out.getvalue().encode("utf-8", errors="replace")
    except OSError as err:
        if isinstance(err, FileNotFoundError):
            raise UserError("this history file does not exist", str(path), "Check the path.") from None
        raise EnvironmentTrouble(f"this file cannot be read ({err.strerror or err})", str(path), "Check the file.") from None


@lru_cache(maxsize=512)
def head_of(path: Path, size: int, changed: int) -> tuple[str, ...]:
    """The first lines of such a file: what is shown of it, without making all of it text again."""
    return tuple(as_lines(path, size, changed)[:HEAD].decode("utf-8", errors="replace").split("\n")[:HEAD_LINES])


def _text(value: Any) -> str:
    """A cell as it would stand in a text file."""
    if value is None or isinstance(value, dict | list):
        return ""
    if isinstance(value, dt.datetime):
        # Workbooks count days in binary fractions: what is a hair off a second is that second.
        near = value.replace(microsecond=0) + dt.timedelta(seconds=round(value.microsecond / 1e6))
        value = near if abs((value - near).total_seconds()) < 0.002 else value
        return value.isoformat(sep=" ")
    if isinstance(value, dt.date | dt.time):
        return value.isoformat()
    if isinstance(value, float):
        if not math.isfinite(value):
            return ""
        return str(int(value)) if value == int(value) and abs(value) < 1e15 else repr(value)
    return str(value).replace("\n", " ").replace("\r", " ")


def _sheet(path: Path) -> Iterator[tuple[Any, ...]]:
    """Rows of the first sheet that holds a table, from its first row of two values on."""
    import openpyxl  # type: ignore[import-untyped]  # late

    try:
        with zipfile.ZipFile(path) as archive:
            whole, packed = (sum(getattr(m, f) for m in archive.infolist()) for f in ("file_size", "compress_size"))
        if whole > 64 * 1024**2 and whole > SWELLING * max(1, packed):
            raise UserError("this workbook swells beyond reason when unpacked", path.name, "Save its table as CSV.")
        book = openpyxl.load_workbook(path, read_only=True, data_only=True)
        for sheet in book.worksheets:
            sheet.reset_dimensions()  # what a workbook says of its size may be anything
            rows = sheet.iter_rows(values_only=True)
            head = [r for _, r in zip(range(LOOKED_AT), rows)]
            full = [sum(isinstance(v, int | float | dt.date) and not isinstance(v, bool) for v in r) >= 2 or (
                sum(v is not None for v in r) >= 3) for r in head]
            if sum(full) >= LEAST_ROWS:
                yield from _trimmed(head[full.index(True):], rows)
                return
    except UserError:
        raise
    except Exception as err:  # whatever a damaged workbook makes its reader raise
        raise UserError(f"this workbook cannot be read ({str(err).splitlines()[0][:80] if str(err) else type(err).__name__})",
                        path.name, "Open it and save it again, or save its table as CSV.") from None
    raise UserError("no sheet of this workbook holds a table", path.name, "Save the table with times and prices as CSV.")


def _trimmed(head: list[tuple[Any, ...]], rest: Iterable[tuple[Any, ...]]) -> Iterator[tuple[Any, ...]]:
    """Rows from the first to the last column in which the head has values; empty rows are left out."""
    used = [i for i in range(max(map(len, head))) if any(i < len(r) and r[i] is not None for r in head)]
    a, b = used[0], used[-1] + 1
    for rows in (head, rest):
        for row in rows:
            if any(v is not None for v in row[a:b]):
                yield (*row[a:b], *(None,) * (b - a - len(row[a:b])))


def _json(path: Path) -> Iterator[list[Any]]:
    """Rows of JSON: an array of objects or arrays, columns under names, or one object or array a line."""
    text = path.read_bytes().decode("utf-8-sig", errors="replace")
    try:
        data = json.loads(text)
    except ValueError as whole:
        lines = [x for x in text.split("\n") if x.strip()]
        data, at = [], 0
        try:
            for at, line in enumerate(lines, 1):  # noqa: B007
                data.append(json.loads(line))
        except (ValueError, RecursionError):
            if at == len(lines) and at > LEAST_ROWS:  # cut off within the last line
                return _records(data, path.name)
            raise UserError(f"this is no JSON ({str(whole)[:80]})", path.name, "Get the file again.") from None
    except RecursionError:
        raise UserError("this JSON is nested too deeply for a table", path.name, "Save the table as CSV.") from None
    return _records(data, path.name)


def _records(data: Any, name: str) -> Iterator[list[Any]]:
    if isinstance(data, dict):
        columns = {k: v for k, v in data.items() if isinstance(v, list)}
        lengths = {len(v) for v in columns.values()}
        if len(columns) >= 2 and len(lengths) == 1 and not any(isinstance(v[0], dict | list) for v in columns.values() if v):
            return iter([list(columns), *(list(r) for r in zip(*columns.values()))])
        table = max(columns.values(), key=len, default=None)  # such as {"symbol": ..., "data": [...]}
        if table is None:
            nested = [v for v in data.values() if isinstance(v, dict)]
            if len(nested) == 1:
                return _records(nested[0], name)
            raise UserError("this JSON holds no table", name, "It should hold an array of bars, or one bar a line.")
        data = table
    if not isinstance(data, list) or not data:
        raise UserError("this JSON holds no table", name, "It should hold an array of bars, or one bar a line.")
    if all(isinstance(r, list) for r in data):
        return iter(data)
    rows = [r for r in data if isinstance(r, dict)]
    if len(rows) < len(data):
        raise UserError("this JSON mixes rows and other values", name, "It should hold an array of bars, or one bar a line.")
    names = list(dict.fromkeys(k for r in [*rows[:50], *rows[-50:]] for k in r))
    return iter([names, *([r.get(n) for n in names] for r in rows)])
