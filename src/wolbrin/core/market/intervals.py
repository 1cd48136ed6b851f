"""Bar intervals: multiples of the base interval inside sessions, whole trading dates, and bars by activity.

One whole number stands for an interval wherever it is stored: minutes as they are (1,440 being one bar a trading date),
and bars by activity above `TICKS`. `Interval` reads and writes that number.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import Door, UserError
from wolbrin.core.market.bars import Bars
from wolbrin.core.market.sessions import NS_A_MINUTE

Kind = Literal["minutes", "daily", "ticks", "volume", "range"]
DAILY = 1440
TICKS, VOLUME, RANGE = 10_000_000, 20_000_000, 30_000_000
LARGEST = 9_999_999
_BASE: dict[str, int] = {"ticks": TICKS, "volume": VOLUME, "range": RANGE}
_TEXT = re.compile(r"^(\d{1,7})\s*(min|t|ticks?|v|volume|r|range)?$", re.IGNORECASE)


@dataclass(frozen=True)
class Interval:
    """Minutes, a trading date, or bars of n ticks (trades), n traded units or a range of n price ticks."""

    kind: Kind
    count: int

    @classmethod
    def of(cls, code: int) -> Interval:
        for kind, base in sorted(_BASE.items(), key=lambda item: -item[1]):
            if code > base:
                return cls(kind, code - base)  # type: ignore[arg-type]
        return cls("daily", 1) if code == DAILY else cls("minutes", code)

    @classmethod
    def parse(cls, text: str) -> Interval:
        """Read "15", "15 min", "daily", "500 ticks" or 500t, "2000 volume" or 2000v, "8 range" or 8r."""
        wanted = text.strip().replace(",", "")
        if wanted.lower() in ("daily", "day", "d"):
            return cls("daily", 1)
        found = _TEXT.match(wanted)
        if not found or int(found[1]) < 1:
            raise UserError(f'"{text}" is not a bar interval', "interval",
                            "Write minutes such as 15, or daily, 500 ticks, 2000 volume, 8 range.")
        letter = (found[2] or "m")[0].lower()
        kind: Kind = {"m": "minutes", "t": "ticks", "v": "volume", "r": "range"}[letter]  # type: ignore[assignment]
        if kind == "minutes" and int(found[1]) > DAILY:
            raise UserError("bars longer than a day are not built", "interval", "Choose daily bars.")
        return cls.of(int(found[1])) if kind == "minutes" else cls(kind, int(found[1]))

    @property
    def code(self) -> int:
        if self.kind in _BASE:
            return _BASE[self.kind] + self.count
        return DAILY if self.kind == "daily" else self.count

    @property
    def by_activity(self) -> bool:
        return self.kind in _BASE

    @property
    def words(self) -> str:
        return {"minutes": f"{self.count} min", "daily": "daily", "ticks": f"{self.count:,} ticks",
                "volume": f"{self.count:,} volume", "range": f"range {self.count:,}"}[self.kind]


def interval_words(code: int) -> str:
    """An interval as people write it, such as "15 min"."""
    return Interval.of(code).words


def _gathered(bars: Bars, interval: int, fresh: NDArray[np.bool_], time: NDArray[np.int64],
              end: NDArray[np.int64]) -> Bars:
    """Bars gathered from those whose groups begin where `fresh` is set; time and end belong to the groups."""
    first = np.flatnonzero(fresh)
    final = np.append(first[1:], len(bars)) - 1
    session = bars.session[final]
    last = (end >= bars.sessions.close[session]).astype(np.uint8)
    return Bars(bars.terms, interval, time, end, bars.o[first], np.maximum.reduceat(bars.h, first),
                np.minimum.reduceat(bars.l, first), bars.c[final], np.add.reduceat(bars.volume, first), session,
                last, bars.sessions, bars.left_out, bars.off_grid, bars.rolls)


def _daily(bars: Bars) -> Bars:
    """One bar a trading date: from its first session's open to its last session's close."""
    dates = bars.trading_date
    fresh = np.append(True, dates[1:] != dates[:-1])
    table = bars.sessions
    every = table.trading_date
    begins = np.flatnonzero(np.append(True, every[1:] != every[:-1]))
    closes = np.append(begins[1:], len(every)) - 1
    at = np.searchsorted(every[begins], dates[fresh])
    return _gathered(bars, DAILY, fresh, table.open[begins][at], table.close[closes][at])


def to_interval(bars: Bars, interval: int, later: int = 0) -> Bars:
    """Bars of a longer interval: minutes counted from each session's open and cut at its end, or whole trading dates.

    later: minutes by which every boundary inside a session lies later, fewer than the interval; the first bar of a session is
    as much shorter. Not for daily bars.

    Raises:
        UserError: not a multiple of the base interval, or a kind that needs ticks (see market.activity).
    """
    if interval == bars.interval:
        return bars
    wanted, base = Interval.of(interval), Interval.of(bars.interval)
    if wanted.by_activity or base.by_activity:
        raise UserError(f"{wanted.words} bars cannot be built from {base.words} bars", bars.terms.code,
                        "Choose an interval in minutes.", Door("Choose another interval", "interval"))
    if wanted.kind == "daily" and base.kind == "minutes":
        return _daily(bars)
    if interval < bars.interval or interval % bars.interval:
        raise UserError(f"{wanted.words} bars cannot be built from {base.words} bars",
                        bars.terms.code, f"Choose a multiple of {base.words}.",
                        Door("Choose another interval", "interval"))
    step = interval * NS_A_MINUTE
    opened = bars.sessions.open[bars.session]
    offset = later * NS_A_MINUTE
    slot = (bars.time - opened - offset) // step
    fresh = np.empty(len(bars), bool)
    fresh[0] = True
    fresh[1:] = (slot[1:] != slot[:-1]) | (bars.session[1:] != bars.session[:-1])
    time = (opened + slot * step + offset)[fresh]
    end = np.minimum(time + step, bars.sessions.close[bars.session[fresh]])
    return _gathered(bars, interval, fresh, np.maximum(time, opened[fresh]), end)
