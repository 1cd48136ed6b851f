"""Known markets: bars on a known schedule, with holidays, half days and thin hours. Prices are made up."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np

from wolbrin.core.market.raw import Raw
from wolbrin.core.market.sessions import NS_A_DAY, NS_A_MINUTE, session_table
from wolbrin.core.market.terms import SessionRule, Terms

DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri")
NIGHTS = ("Sun", "Mon", "Tue", "Wed", "Thu")


@dataclass(frozen=True)
class Truth:
    """terms: the schedule and grid that a reader should find. raw: its bars."""

    terms: Terms
    raw: Raw


def rule(days: tuple[str, ...], opens: str, closes: str) -> SessionRule:
    return SessionRule(days=days, open=opens, close=closes)


MARKETS: dict[str, dict[str, Any]] = {
    "PWR": {"tick_size": 0.25, "time_zone": "Europe/Oslo", "sessions": (rule(DAYS, "09:00", "17:00"),),
            "closed": ("01-01", "12-25"), "level": 1200.0, "minutes": 15, "first": "2019-01-02", "days": 500},
    "GRN": {"tick_size": 0.01, "time_zone": "America/New_York", "sessions": (rule(DAYS, "09:30", "16:00"),), "level": 84.0,
            "minutes": 5, "first": "2020-02-03", "days": 400},
    "NGT": {"tick_size": 0.5, "time_zone": "America/Chicago", "sessions": (rule(NIGHTS, "17:00", "16:00"),), "level": 5200.0,
            "minutes": 15, "first": "2018-01-02", "days": 500},
    "EURSEK": {"kind": "currency pair", "tick_size": 0.00001, "quote_currency": "SEK", "time_zone": "America/New_York",
               "sessions": (rule(NIGHTS, "17:00", "17:00"),), "level": 10.4, "minutes": 15, "first": "2019-01-02",
               "days": 420},
    "BRK": {"tick_size": 1.0, "time_zone": "Australia/Sydney",
            "sessions": (rule(DAYS, "09:50", "12:00"), rule(DAYS, "13:00", "16:10")), "level": 6800.0, "minutes": 10,
            "first": "2018-03-01", "days": 420},
    "LWH": {"tick_size": 0.005, "time_zone": "Europe/London", "sessions": (rule(DAYS, "08:00", "16:30"),), "level": 94.0,
            "minutes": 1, "first": "2021-01-04", "days": 230},
}


@lru_cache(maxsize=12)
def truth(code: str, seed: int = 1, thin: float = 0.03, half_days: bool = True) -> Truth:
    """A market's bars on its grid and schedule; a share `thin` of bars is missing by chance."""
    values = dict(MARKETS[code])
    level, minutes, first, days = (values.pop(k) for k in ("level", "minutes", "first", "days"))
    terms = Terms(code=code, point_value=10.0, **values)
    begin = int(np.datetime64(str(first), "ns").astype(np.int64))
    table = session_table(terms, begin, begin + int(str(days)) * 7 // 5 * NS_A_DAY)
    rng = np.random.default_rng(seed)
    times = []
    for k, (a, b) in enumerate(zip(table.open, table.close)):
        early = half_days and k % 97 == 60
        times.append(np.arange(a, a + (b - a) // 2 if early else b, int(str(minutes)) * NS_A_MINUTE))
    time = np.concatenate(times)
    keep = rng.random(len(time)) >= thin
    time = time[keep]
    tick = terms.tick_size
    width = float(str(level)) * 0.0006 / tick
    close = np.round(float(str(level)) / tick + np.cumsum(rng.normal(0, width, len(time))))
    open_ = np.append(close[:1], close[:-1]) + np.round(rng.normal(0, width / 8, len(time)))
    high = np.maximum(open_, close) + np.round(rng.exponential(width / 2, len(time)))
    low = np.minimum(open_, close) - np.round(rng.exponential(width / 2, len(time)))
    o, h, l, c = (np.round(x * tick, 10) for x in (open_, high, low, close))  # noqa: E741
    volume = np.round(rng.exponential(300, len(time))) + 1
    return Truth(terms, Raw(int(str(minutes)), time, o, h, l, c, volume))


def day_of(ns: int) -> dt.date:
    return dt.date(1970, 1, 1) + dt.timedelta(days=int(ns // NS_A_DAY))
