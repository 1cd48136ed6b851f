"""Sessions of listed exchanges, holidays and early closes included, from the package exchange_calendars."""

from __future__ import annotations

import datetime as dt
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import UserError

EPOCH = dt.date(1970, 1, 1)


@dataclass(frozen=True)
class SessionTable:
    """All sessions that touch a stretch of time, in order.

    open, close: int64[m], UTC nanoseconds. trading_date: int32[m], days since 1970-01-01 of the local date on
    which the session ends. scheduled: False where the market has no schedule and each local day stands in for one.
    """

    open: NDArray[np.int64]
    close: NDArray[np.int64]
    trading_date: NDArray[np.int32]
    scheduled: bool

    def place(self, time: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
        """int64[n]: the session each instant (UTC ns) falls into, or the one before it; bool[n]: whether it is inside."""
        at = np.searchsorted(self.open, time, "right") - 1
        if not len(self.open):
            return np.zeros(len(time), np.int64), np.zeros(len(time), bool)
        inside = (at >= 0) & (time < self.close[np.maximum(at, 0)])
        return np.maximum(at, 0).astype(np.int64), inside


def _package() -> Any:
    # Loaded when first asked for: that takes a second, and most markets have a weekly schedule of their own.
    import exchange_calendars  # late

    return exchange_calendars


@contextmanager
def _quiet() -> Iterator[None]:
    """The package uses ways of pandas that newer versions warn of; these warnings are its own affair."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DeprecationWarning)
        warnings.simplefilter("ignore", FutureWarning)
        yield


@lru_cache(maxsize=1)
def exchange_codes() -> tuple[str, ...]:
    """Codes of all listed exchanges (ISO 10383, a few of the package's own)."""
    return tuple(sorted(_package().get_calendar_names(include_aliases=False)))


def exchange_zone(code: str) -> str:
    """The time zone of a listed exchange. Raises UserError when it is not listed."""
    if code not in exchange_codes():
        raise UserError(f'there is no exchange "{code}" in the list', "exchange", "Choose a listed exchange such as XOSL.")
    with _quiet():
        return str(_package().get_calendar(code).tz)


@lru_cache(maxsize=16)
def exchange_sessions(code: str, first: int, last: int) -> SessionTable:
    """Sessions of an exchange whose dates lie in [first, last] (days since 1970-01-01); two a day where it breaks.

    Raises:
        UserError: the exchange is not listed, or the package has no sessions for these years.
    """
    calendars = _package()
    if code not in exchange_codes():
        raise UserError(f'there is no exchange "{code}" in the list', "sessions", "Choose a listed exchange such as XOSL.")
    start, end = (EPOCH + dt.timedelta(days=d) for d in (first, last))
    with _quiet():
        kind = type(calendars.get_calendar(code))
    # Days outside the years the package knows have no sessions; bars there are left out and counted.
    low, high = kind.bound_min(), kind.bound_max()
    start = max(start, low.date()) if low is not None else start
    end = min(end, high.date()) if high is not None else end
    try:
        with _quiet():
            calendar = calendars.get_calendar(code, start=start.isoformat(), end=end.isoformat())
    except (calendars.errors.CalendarError, ValueError) as err:
        raise UserError(f"the exchange {code} has no sessions from {start} to {end} ({str(err).splitlines()[0]})",
                        "sessions", "Use a weekly schedule instead.") from None
    table = calendar.schedule

    def instants(name: str) -> NDArray[np.int64]:
        return table[name].dt.tz_convert("UTC").dt.tz_localize(None).to_numpy("datetime64[ns]").view(np.int64)

    open_, close = instants("open"), instants("close")
    date = table.index.to_numpy("datetime64[D]").astype(np.int64).astype(np.int32)
    pause = table["break_start"].notna().to_numpy()
    if pause.any():
        stop, again = instants("break_start"), instants("break_end")
        open_, close, date = (np.concatenate(pair) for pair in (
            (open_, again[pause]), (np.where(pause, stop, close), close[pause]), (date, date[pause])))
        order = np.argsort(open_, kind="stable")
        open_, close, date = open_[order], close[order], date[order]
    return SessionTable(open_, close, date, True)
