"""Reading time stamps from text, many at a time: fixed-width digits by position, everything else through pandas."""

from __future__ import annotations

import re

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from wolbrin.core.market.importing.layout import EPOCHS

Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]
Texts = NDArray[np.object_]
NS = 10**9
EARLIEST = int(np.datetime64("1950-01-01", "ns").astype(np.int64))
LATEST = int(np.datetime64("2100-01-01", "ns").astype(np.int64))
WIDTHS = {"Y": 4, "y": 2, "m": 2, "d": 2, "H": 2, "I": 2, "M": 2, "S": 2, "b": 3, "p": 2}
MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
LETTERS = {"b": {name: i for i, name in enumerate(MONTHS, 1)}, "p": {"am": 0, "pm": 12}}
OFFSET = re.compile(r"(?:Z|[+-]\d\d:?\d\d)$")
# An offset after another way of writing times: "GMT+0000", "UTC +01:00", "+0200 (EET)", "GMT".
ZONED = re.compile(r"^(?P<time>.*?\d:\d{2}(?::\d{2}(?:[.,]\d+)?)?(?: ?[AaPp][Mm])?|.*?\d(?= [+-]\d| ?(?:GMT|UTC)))"
                   r"(?P<word> ?(?:GMT|UTC)?)(?P<offset> ?[+-]\d{2}:?\d{2}|Z)?(?: ?\([^)]*\))?$")
# Ways of writing dates and times that occur in the trade; common practice, no source.
DATES = ("%Y-%m-%d", "%Y.%m.%d", "%Y/%m/%d", "%d.%m.%Y", "%d/%m/%Y", "%m/%d/%Y", "%d-%m-%Y", "%m-%d-%Y", "%m.%d.%Y",
         "%Y%m%d", "%d %b %Y", "%d-%b-%Y", "%b %d %Y", "%b %d, %Y", "%d %B %Y", "%B %d, %Y", "%d-%b-%y", "%d %b %y",
         "%d.%m.%y", "%d/%m/%y", "%m/%d/%y", "%d-%m-%y", "%m-%d-%y", "%y-%m-%d", "%y/%m/%d", "%y.%m.%d", "%y%m%d", "%d%m%Y",
         "%m%d%Y", "%d%b%Y", "%a %d %b %Y", "%a, %d %b %Y", "%a %b %d %Y")
CLOCKS = ("", " %H:%M:%S", " %H:%M", " %H%M%S", " %H%M", "T%H:%M:%S", "T%H:%M", " %H:%M:%S.%f", " %I:%M:%S %p", " %I:%M %p",
          " %I:%M%p", " %H.%M", " %H", ":%H:%M:%S", "-%H:%M:%S", "_%H%M%S", "T%H%M%S", " %H%M%S%f")
FORMATS = tuple(f"{date}{clock}" for date in DATES[:12] for clock in CLOCKS[:9])
SPREADSHEET = "spreadsheet days"  # since the end of 1899, as workbooks count: 43467.375
PACKED = ("%Y%m%d%H%M%S", "%Y%m%d%H%M", "%y%m%d%H%M%S")
ALNUM = re.compile(r"[A-Za-z0-9\u00c0-\u024f]+")


def _signature(text: str) -> str:
    """A text with every run of letters and digits as one sign."""
    return ALNUM.sub("x", text)


def offset_in(text: str) -> int | None:
    """Minutes from UTC that a time's text names at its end; None where it names none."""
    found = ZONED.match(text)
    if found is None or not (found["word"].strip() or found["offset"]):
        return None
    digits = re.sub(r"[^0-9]", "", found["offset"] or "") or "0000"
    minutes = int(digits[:2]) * 60 + int(digits[2:])
    return -minutes if "-" in (found["offset"] or "") else minutes


def formats_like(text: str) -> list[str]:
    """Patterns, of all that are known, whose punctuation is that of a time's text."""
    found = ZONED.match(text)
    if found is not None and (found["word"].strip() or found["offset"]) and found["time"] != text:
        return [f"{p}%z" for p in formats_like(found["time"])]
    wanted = _signature(text)
    return [f"{d}{c}" for d in DATES for c in CLOCKS if _signature(re.sub(r"%[A-Za-z]", "0", f"{d}{c}")) == wanted]


def padded_clock(texts: Texts, pattern: str) -> Texts:
    """Clock texts of digits alone, with the zeros before them that spreadsheets drop: 935 is 0935."""
    width = next((w for end, w in ((" %H%M", 4), (" %H%M%S", 6), (" %H", 2)) if pattern.endswith(end)), 0)
    return np.array([t.zfill(width) if t.isdigit() else t for t in texts], object) if width else texts


def _positions(pattern: str) -> list[tuple[str, int]] | None:
    """(code or literal, place) of a pattern whose every part has a fixed width, else None."""
    parts, at, i = [], 0, 0
    while i < len(pattern):
        if pattern[i] == "%" and i + 1 < len(pattern):
            code = pattern[i + 1]
            if code not in WIDTHS:
                return None
            parts.append((code, at))
            at += WIDTHS[code]
            i += 2
        else:
            parts.append((f"={pattern[i]}", at))
            at += 1
            i += 1
    return [*parts, ("end", at)]


def _digits(matrix: NDArray[np.uint8], at: int, width: int, good: Flags) -> Ints:
    value = np.zeros(len(matrix), np.int64)
    for k in range(at, at + width):
        digit = matrix[:, k].astype(np.int64) - 48
        good &= (digit >= 0) & (digit <= 9)
        value = value * 10 + digit
    return value


def _letters(matrix: NDArray[np.uint8], at: int, code: str, good: Flags) -> Ints:
    """Values of names of months, or of the halves of a day."""
    width, known = WIDTHS[code], LETTERS[code]
    key = np.zeros(len(matrix), np.int64)
    for k in range(at, at + width):
        key = key * 256 + (matrix[:, k] | 32)
    value = np.full(len(matrix), -1, np.int64)
    for name, number in known.items():
        value[key == int.from_bytes(name.encode(), "big")] = number
    good &= value >= 0
    return np.maximum(value, 0)


def _fixed(matrix: NDArray[np.uint8], parts: list[tuple[str, int]]) -> tuple[Ints, Flags]:
    """Read bytes uint8[n, width] by position."""
    good = np.ones(len(matrix), bool)
    value = {code: _letters(matrix, at, code, good) if code in LETTERS else _digits(matrix, at, WIDTHS[code], good)
             for code, at in parts if code in WIDTHS}
    for code, at in parts:
        if code.startswith("="):
            good &= matrix[:, at] == ord(code[1])
    zero = np.zeros(len(matrix), np.int64)
    year, month, day = value.get("Y", zero), value.get("m", zero + 1), value.get("d", zero + 1)
    if "y" in value:
        year = value["y"] + np.where(value["y"] < 69, 2000, 1900)  # as POSIX strptime reads %y
    if "b" in value:
        month = value["b"]
    hour, minute, second = (value.get(c, zero) for c in "HMS")
    if "I" in value:
        good &= (value["I"] >= 1) & (value["I"] <= 12)
        hour = value["I"] % 12 + value.get("p", zero)
    good &= (year >= 1900) & (year <= 2200) & (month >= 1) & (month <= 12) & (day >= 1)
    good &= (hour < 24) & (minute < 60) & (second < 60) | (hour == 24) & (minute == 0) & (second == 0)
    index = np.where(good, (year - 1970) * 12 + month - 1, 0)
    begin = index.astype("datetime64[M]").astype("datetime64[D]").astype(np.int64)
    after = (index + 1).astype("datetime64[M]").astype("datetime64[D]").astype(np.int64)
    good &= day <= after - begin
    stamp = (begin + np.where(good, day, 1) - 1) * 86_400 + hour * 3600 + minute * 60 + second
    return np.where(good, stamp, 0) * NS, good


def _as_matrix(texts: Texts, width: int) -> tuple[NDArray[np.uint8], Flags]:
    """uint8[n, width] of the texts' bytes, and which of them have exactly that width."""
    packed = texts.astype(f"S{width + 1}")
    right = np.char.str_len(packed) == width
    return packed.view(np.uint8).reshape(len(texts), width + 1)[:, :width], right


def parse_times(texts: Texts, pattern: str) -> tuple[Ints, Flags, bool]:
    """Read times.

    Args:
        texts: object[n] of str. pattern: as in Layout.time_format.
    Returns:
        int64[n] nanoseconds, bool[n] which were read, and whether they are UTC already (epoch, or offsets given).
    """
    n = len(texts)
    if not n:
        return np.zeros(0, np.int64), np.zeros(0, bool), pattern in EPOCHS
    if pattern in EPOCHS:
        value = pd.to_numeric(pd.Series(texts), errors="coerce").to_numpy(np.float64)
        with np.errstate(invalid="ignore", over="ignore"):
            scaled = value * EPOCHS[pattern]
            good = np.isfinite(value) & (scaled >= EARLIEST) & (scaled < LATEST)
        out = np.zeros(n, np.int64)
        whole = good & (value == np.floor(value))
        out[whole] = value[whole].astype(np.int64) * EPOCHS[pattern]
        part = good & ~whole
        out[part] = np.floor(value[part] * EPOCHS[pattern]).astype(np.int64)
        return out, good, True
    if pattern == SPREADSHEET:
        days = pd.to_numeric(pd.Series(texts), errors="coerce").to_numpy(np.float64)
        good = np.isfinite(days) & (days >= 18_264) & (days < 73_050)
        seconds = np.round(np.where(good, days - 25_569, 0) * 86_400).astype(np.int64)
        return _bounded(seconds * NS, good, False)
    if pattern == "iso":
        return _iso(texts)
    if pattern.endswith("%z"):
        return _zoned(texts, pattern.removesuffix("%z").removesuffix("GMT").removesuffix("UTC").rstrip())
    parts = _positions(pattern)
    if parts is not None:
        try:
            matrix, right = _as_matrix(texts, parts[-1][1])
            out, good = _fixed(matrix, parts[:-1])
            good &= right
        except UnicodeEncodeError:
            out, good = np.zeros(n, np.int64), np.zeros(n, bool)
        if good.all():
            return _bounded(out, good, False)
        rest = np.flatnonzero(~good)
        out[rest], good[rest] = _through_pandas(texts[rest], pattern)
        return _bounded(out, good, False)
    out, good = _through_pandas(texts, pattern)
    return _bounded(out, good, False)


def _zoned(texts: Texts, pattern: str) -> tuple[Ints, Flags, bool]:
    """Times with an offset behind them, whatever it is written like, as UTC."""
    different = {}
    heads = np.empty(len(texts), object)
    offsets = np.zeros(len(texts), np.int64)
    known = np.ones(len(texts), bool)
    for i, text in enumerate(texts):
        found = ZONED.match(text)
        heads[i] = found["time"] if found is not None else text
        tail = text[len(heads[i]):]
        if tail not in different:
            different[tail] = offset_in(f"0{tail}")
        minutes = different[tail]
        offsets[i], known[i] = minutes or 0, minutes is not None
    out, good, _ = parse_times(heads, pattern)
    return _bounded(out - offsets * 60 * NS, good & known, True)


def _bounded(out: Ints, good: Flags, utc: bool) -> tuple[Ints, Flags, bool]:
    good = good & (out >= EARLIEST) & (out < LATEST)
    return np.where(good, out, 0), good, utc


def _through_pandas(texts: Texts, pattern: str) -> tuple[Ints, Flags]:
    try:
        parsed = pd.to_datetime(pd.Series(texts), format=pattern, errors="coerce")
    except (ValueError, OverflowError):
        return np.zeros(len(texts), np.int64), np.zeros(len(texts), bool)
    return _ns(parsed)


def _ns(parsed: pd.Series) -> tuple[Ints, Flags]:
    good = parsed.notna().to_numpy()
    # In seconds first: a year beyond 2262 does not fit nanoseconds.
    seconds = parsed.to_numpy("datetime64[us]").astype(np.int64)
    inside = good & (seconds >= EARLIEST // 1000) & (seconds < LATEST // 1000)
    out = np.zeros(len(good), np.int64)
    out[inside] = parsed.to_numpy("datetime64[us]")[inside].astype("datetime64[ns]").astype(np.int64)
    return out, inside


def _iso(texts: Texts) -> tuple[Ints, Flags, bool]:
    width = len(texts[0])
    for pattern in ("%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M", "%Y-%m-%dT%H:%M:%SZ",
                    "%Y-%m-%d"):
        parts = _positions(pattern)
        if parts is None or parts[-1][1] != width:
            continue
        try:
            matrix, right = _as_matrix(texts, width)
        except UnicodeEncodeError:
            break
        out, good = _fixed(matrix, parts[:-1])
        if (good & right).all():
            return _bounded(out, good, pattern.endswith("Z"))
    series = pd.Series(texts)
    offsets = series.str.contains(OFFSET).to_numpy(bool) & (series.str.len() > 11).to_numpy(bool)
    out, good = np.zeros(len(texts), np.int64), np.zeros(len(texts), bool)
    utc = bool(offsets.mean() > 0.5)
    pick = np.flatnonzero(offsets == utc)
    try:
        parsed = pd.to_datetime(series.iloc[pick], format="ISO8601", errors="coerce", utc=utc)
        out[pick], good[pick] = _ns(parsed.dt.tz_localize(None) if utc else parsed)
    except (ValueError, OverflowError, AttributeError):
        pass
    return _bounded(out, good, utc)
