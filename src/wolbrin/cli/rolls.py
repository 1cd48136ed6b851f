"""Words for rolls on the command line: when a contract month is left for the next, and how prices are moved over it."""

from __future__ import annotations

import csv
import datetime as dt
from pathlib import Path

from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.market.contracts import Adjust, Rule
from wolbrin.core.whole import whole_of

ROLL = "volume, open-interest, days:5 (before a month's end), or a CSV of dates."
ADJUST = "Earlier prices over a roll: difference, ratio or none."
ADJUSTED: dict[str, Adjust] = {"difference": "difference", "ratio": "ratio", "none": "unadjusted"}
MOST_LINES = 10_000


def adjust_of(text: str) -> Adjust:
    if text not in ADJUSTED:
        raise UserError(f'"{text}" is not known', "--adjust", "Write difference, ratio or none.")
    return ADJUSTED[text]


def rule_of(roll: str, adjust: str, expiries: Path | None = None) -> Rule:
    """A rule as written.

    Raises:
        UserError: it cannot be read, or its file.
    """
    moved = adjust_of(adjust)
    if roll == "volume":
        return Rule("volume", moved)
    if roll == "open-interest":
        return Rule("open interest", moved)
    days = whole_of(roll.removeprefix("days:")) if roll.startswith("days:") else None
    if days is not None and days <= 60:
        known = tuple((name, day) for name, day in _dated(expiries, "--expiries") if name) if expiries else ()
        if expiries is not None and not known:
            raise UserError("this file names no month beside its dates", str(expiries),
                            "Write lines such as 2024-03,2024-03-15.")
        return Rule("days before the last", moved, days, expiries=known)
    if roll.lower().endswith((".csv", ".txt")):
        return Rule("dates", moved, dates=tuple(sorted(day for _, day in _dated(Path(roll), "--roll"))))
    raise UserError(f'"{roll}" is no way to roll', "--roll", f"Write {ROLL}")


def _dated(path: Path, option: str) -> list[tuple[str, dt.date]]:
    """(name, date) of a file's lines: a date alone, or a month's name and a date; a first line of words is a header."""
    try:
        with path.open(newline="", encoding="utf-8-sig", errors="replace") as handle:
            rows = [[f.strip() for f in r if f.strip()] for _, r in zip(range(MOST_LINES), csv.reader(handle))]
    except OSError as err:
        raise EnvironmentTrouble(f"this file cannot be read ({err.strerror})", str(path), "Check the path.") from None
    except csv.Error as err:
        raise UserError(f"this file is no table ({err})", str(path), "Write a date a line.") from None
    out = []
    for number, row in enumerate(rows, 1):
        if not row:
            continue
        try:
            day = dt.date.fromisoformat(row[-1][:10])
        except ValueError:
            if number == 1:
                continue
            raise UserError(f'"{row[-1][:40]}" is not a date', f"{option} {path}, row {number}",
                            "Write dates such as 2024-03-12.") from None
        out.append((row[0] if len(row) > 1 else "", day))
    if not out:
        raise UserError("there is no date in this file", f"{option} {path}", "Write a date a line, such as 2024-03-12.")
    return out
