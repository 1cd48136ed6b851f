"""Bars in memory: integer ticks for the simulator, exact decimal prices for the indicators."""

from __future__ import annotations

import datetime as dt
import hashlib
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import Door, UserError
from wolbrin.core.market.sessions import NS_A_MINUTE, SessionTable, session_table
from wolbrin.core.market.terms import Terms

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
LARGEST_TICK = 2**31 - 1
FIELDS = ("open", "high", "low", "close")


@dataclass(frozen=True)
class Span:
    """A stretch of trading dates, both ends included; None leaves that side open."""

    first: dt.date | None = None
    last: dt.date | None = None

    def __str__(self) -> str:
        left = f"{self.first:%d %b %Y}" if self.first else "start"
        right = f"{self.last:%d %b %Y}" if self.last else "end"
        return f"{left} \u2013 {right}"


def day_number(day: dt.date) -> int:
    """Days since 1970-01-01."""
    return (day - dt.date(1970, 1, 1)).days


def day_of(number: int) -> dt.date:
    """The date that lies `number` days after 1970-01-01."""
    return dt.date(1970, 1, 1) + dt.timedelta(days=int(number))


@dataclass(frozen=True, repr=False)
class Bars:
    """A market's bars at one interval, n of them, all inside sessions, strictly rising in time.

    interval: code of the bars' interval (see intervals), minutes as they are.
    time, end: int64[n] UTC nanoseconds of start and end. o, h, l, c: int32[n] ticks. volume: float64[n].
    session: int32[n] index into `sessions`. last: uint8[n], 1 where the bar's end is at or past its session's end.
    left_out: bars dropped as outside every session. off_grid: prices moved to the nearest tick. rolls: UTC nanoseconds
    at which a continuous future changes its contract month.
    """

    terms: Terms
    interval: int
    time: Ints
    end: Ints
    o: NDArray[np.int32]
    h: NDArray[np.int32]
    l: NDArray[np.int32]  # noqa: E741 - open, high, low, close as the trade abbreviates them
    c: NDArray[np.int32]
    volume: Floats
    session: NDArray[np.int32]
    last: NDArray[np.uint8]
    sessions: SessionTable
    left_out: int = 0
    off_grid: int = 0
    rolls: tuple[int, ...] = ()

    def __repr__(self) -> str:
        span = f", {day_of(self.trading_date[0])} to {day_of(self.trading_date[-1])}" if len(self) else ""
        return f"Bars({self.terms.code}, interval {self.interval}: {len(self):,}{span})"

    def __len__(self) -> int:
        return len(self.time)

    def to_price(self, ticks: NDArray[np.integer] | int) -> Floats:
        """Ticks to prices, each the double nearest to the exact decimal."""
        fraction = self.terms.tick_fraction
        whole = np.asarray(ticks, np.int64).astype(np.float64)
        return np.asarray(whole * float(fraction.numerator) / float(fraction.denominator))

    @cached_property
    def open(self) -> Floats:
        return self.to_price(self.o)

    @cached_property
    def high(self) -> Floats:
        return self.to_price(self.h)

    @cached_property
    def low(self) -> Floats:
        return self.to_price(self.l)

    @cached_property
    def close(self) -> Floats:
        return self.to_price(self.c)

    @cached_property
    def trading_date(self) -> NDArray[np.int32]:
        """int32[n]: days since 1970-01-01 of each bar's trading date."""
        return self.sessions.trading_date[self.session]

    @cached_property
    def prices(self) -> NDArray[np.int32]:
        """int32[n, 4]: open, high, low and close in ticks side by side, as the simulator reads them."""
        return np.ascontiguousarray(np.stack((self.o, self.h, self.l, self.c), axis=1), np.int32)

    @cached_property
    def day_ends(self) -> Ints:
        """int64[d]: index of the last bar of each trading date that has bars, in order."""
        dates = self.trading_date
        return np.append(np.flatnonzero(dates[1:] != dates[:-1]), len(dates) - 1).astype(np.int64)

    @cached_property
    def edges(self) -> NDArray[np.uint8]:
        """uint8[n]: 1 on the first bar of each session, and on a session's last bar."""
        first = np.append(False, self.session[1:] != self.session[:-1])
        return (first | (self.last != 0)).view(np.uint8)

    @cached_property
    def hash(self) -> str:
        """Hex digest of what the simulator sees: times, ticks, volume, interval, terms."""
        digest = hashlib.sha256(f"{self.interval}|{self.terms.identity()}".encode())
        for column in (self.time, self.o, self.h, self.l, self.c, self.volume):
            digest.update(np.ascontiguousarray(column).tobytes())
        if self.rolls:
            digest.update(np.array(self.rolls, np.int64).tobytes())
        return digest.hexdigest()[:16]

    def digest(self, stop: int) -> str:
        """The hash of the first `stop` bars alone."""
        return self.hash if stop >= len(self) else self.take(stop).hash

    def range_of(self, span: Span | None) -> tuple[int, int]:
        """First and one-past-last bar index whose trading date lies in `span`."""
        first, stop = 0, len(self)
        if span and span.first:
            first = int(np.searchsorted(self.trading_date, day_number(span.first), "left"))
        if span and span.last:
            stop = int(np.searchsorted(self.trading_date, day_number(span.last), "right"))
        return first, max(first, stop)

    def take(self, stop: int) -> Bars:
        """The first `stop` bars, as a history that ends there."""
        cut = {k: getattr(self, k)[:stop] for k in ("time", "end", "o", "h", "l", "c", "volume", "session", "last")}
        return Bars(self.terms, self.interval, **cut, sessions=self.sessions,
                    left_out=self.left_out, off_grid=self.off_grid, rolls=self.rolls)


def _refuse(bad: NDArray[np.bool_], what: str, source: str) -> None:
    if bad.any():
        row = int(np.argmax(bad)) + 1
        raise UserError(f"{what} ({int(bad.sum())} bars in all)", f"{source}, bar {row}", "Correct or remove the bar.")


def make_bars(terms: Terms, interval: int, time: Ints, prices: tuple[Floats, Floats, Floats, Floats],
              volume: Floats | None = None, source: str = "history", ends: Ints | None = None) -> Bars:
    """Check raw bars, snap prices to the tick grid and place each bar in its session.

    Args:
        interval: its code. time: int64[n] UTC nanoseconds of the bar STARTS. prices: open, high, low, close, float64[n]
        each. ends: int64[n] UTC nanoseconds, needed where they do not follow from the interval.
    Raises:
        UserError: dirty bars (missing price, high below low, open or close outside, unsorted, repeated), or none.
    """
    if interval < 1:
        raise UserError("the bar interval must be at least one minute", source)
    if len(time) == 0:
        raise UserError("there are no bars in this history", source, "Choose another file.")
    o, h, l, c = (np.asarray(p, np.float64) for p in prices)  # noqa: E741
    _refuse(~np.isfinite(o + h + l + c), "a price is missing or not a number", source)
    _refuse(h < l, "the high lies below the low", source)
    _refuse((o > h) | (o < l) | (c > h) | (c < l), "open or close lies outside high and low", source)
    step = np.diff(time)
    _refuse(np.append(False, step < 0), "the bars are not in order of time", source)
    _refuse(np.append(False, step == 0), "this time stamp is repeated", source)

    fraction = terms.tick_fraction
    ticks, off_grid = [], 0
    for p in (o, h, l, c):
        exact = p * float(fraction.denominator) / float(fraction.numerator)
        # Half away from zero, an exact half being a half within 1e-6 tick.
        whole = np.copysign(np.floor(np.abs(exact) + 0.5 + 1e-6), exact)
        _refuse(np.abs(whole) > LARGEST_TICK, "a price is too large for the tick size", source)
        off_grid += int(np.count_nonzero(np.abs(exact - whole) > 1e-6))
        ticks.append(whole.astype(np.int32))

    table = session_table(terms, int(time[0]), int(time[-1]))
    at, inside = table.place(time)
    if not inside.any():
        raise UserError("every bar lies outside the market's sessions", source,
                        "Check the time zone and the session schedule.", Door(f"Correct {terms.code}'s sessions", "sessions"))
    keep = slice(None) if inside.all() else inside
    place: NDArray[np.int32] = at[keep].astype(np.int32)
    start = np.ascontiguousarray(time[keep])
    end = start + interval * NS_A_MINUTE if ends is None else np.ascontiguousarray(ends[keep])
    vol = np.zeros(len(time)) if volume is None else np.asarray(volume, np.float64)
    opens, highs, lows, closes = (t[keep] for t in ticks)
    return Bars(terms, interval, start, end, opens, highs, lows, closes, vol[keep], place,
                (end >= table.close[place]).astype(np.uint8), table, int(len(time) - inside.sum()), off_grid)
