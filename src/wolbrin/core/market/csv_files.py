"""Reading bars from delimited text in the open layouts of docs/history-file.md."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd

from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.sessions import NS_A_MINUTE
from wolbrin.core.market.terms import Terms
from wolbrin.core.market.zones import to_utc

ALIASES = {"timestamp": "time", "datetime": "time", "date_time": "time", "vol": "volume", "o": "open", "h": "high",
           "l": "low", "c": "close"}
LARGEST_FILE = 2 * 1024**3
EPOCH_SCALES = ((10**11, 10**9), (10**14, 10**6), (10**17, 10**3), (10**19, 1))


def _number(frame: pd.DataFrame, name: str, source: str) -> np.ndarray:
    text = frame[name].str.strip()
    if text.str.contains(",", regex=False).any() and not text.str.contains(".", regex=False).any():
        text = text.str.replace(",", ".", regex=False)
    values = pd.to_numeric(text, errors="coerce").to_numpy(np.float64)
    bad = ~np.isfinite(values)
    if bad.any():
        row = int(np.argmax(bad))
        raise UserError(f'"{frame[name].iloc[row]}" is not a number', f'{source}, row {row + 2}, field "{name}"',
                        "Correct or remove the row.")
    return values


def _times(frame: pd.DataFrame, zone: str, source: str) -> np.ndarray:
    if "time" in frame and "date" in frame:
        text = frame["date"].str.strip() + " " + frame["time"].str.strip()
    else:
        text = frame["time" if "time" in frame else "date"].str.strip()
    digits = text.str.fullmatch(r"\d{9,19}")
    if digits.all():
        stamp = text.astype("int64").to_numpy()
        # Seconds, milliseconds, microseconds or nanoseconds since 1970, told apart by size.
        largest = int(stamp.max())
        return stamp * next(scale for bound, scale in EPOCH_SCALES if largest < bound)
    parsed = pd.to_datetime(text, errors="coerce", format="ISO8601", utc=bool(text.str.contains(
        r"(?:Z|[+-]\d\d:?\d\d)$").any()))
    bad = parsed.isna().to_numpy()
    if bad.any():
        row = int(np.argmax(bad))
        raise UserError(f'"{text.iloc[row]}" is not a time like 2024-03-01 09:30',
                        f'{source}, row {row + 2}, field "time"', "Correct or remove the row.")
    if getattr(parsed.dt, "tz", None) is not None:
        return parsed.dt.tz_convert("UTC").dt.tz_localize(None).to_numpy("datetime64[ns]").view(np.int64)
    return to_utc(parsed.to_numpy("datetime64[ns]").view(np.int64), zone)


def read_bars(path: Path, terms: Terms, minutes: int | None = None, zone: str = "UTC") -> Bars:
    """Read a CSV of bars: a header naming time (or date and time), open, high, low, close and, if present, volume.

    Times are bar STARTS; without an offset they are read in `zone`. `minutes` None: the most common step.
    """
    source = str(path)
    try:
        if path.stat().st_size > LARGEST_FILE:
            raise UserError("this file is larger than 2 GB", source, "Split it by year.")
        with path.open(encoding="utf-8-sig") as handle:
            head = handle.readline()
        delimiter = max(";\t,|", key=head.count)
        frame = pd.read_csv(path, sep=delimiter, dtype=str, keep_default_na=False, encoding="utf-8-sig",
                            skipinitialspace=True, quotechar='"')
    except FileNotFoundError:
        raise UserError("this history file does not exist", source, "Check the path.") from None
    except UnicodeDecodeError:
        raise UserError("this file is not UTF-8 text", source, "Save it as UTF-8 CSV.") from None
    except OSError as err:
        raise EnvironmentTrouble(f"this file cannot be read ({err.strerror})", source) from None
    except (pd.errors.ParserError, pd.errors.EmptyDataError) as err:
        raise UserError(f"this file cannot be read as a table ({str(err).strip()})", source,
                        "Every row needs the same columns.") from None
    names = [ALIASES.get(str(n).strip().lower(), str(n).strip().lower()) for n in frame.columns]
    frame.columns = pd.Index(names)
    need = {"open", "high", "low", "close"} - set(names)
    if need or not {"time", "date"} & set(names):
        lack = ", ".join(sorted(need | (set() if {"time", "date"} & set(names) else {"time"})))
        raise UserError(f"the header lacks {lack}", f"{source}, row 1",
                        "The first row must name the columns time, open, high, low, close.")
    if len(set(names)) != len(names):
        raise UserError("the header names a column twice", f"{source}, row 1", "Rename one of them.")
    if frame.empty:
        raise UserError("there are no bars in this history", source, "Choose another file.")
    o, h, l, c = (_number(frame, n, source) for n in ("open", "high", "low", "close"))  # noqa: E741
    volume = _number(frame, "volume", source) if "volume" in names else None
    time = _times(frame, zone, source)
    if minutes is None:
        steps = np.diff(time)
        steps = steps[steps > 0]
        if not len(steps):
            raise UserError("one bar does not tell the interval", source, "Name the interval in minutes.")
        values, counts = np.unique(steps, return_counts=True)
        minutes = max(1, int(values[np.argmax(counts)] // NS_A_MINUTE))
    return make_bars(terms, minutes, time, (o, h, l, c), volume, source)
