"""The invented markets: contract terms and planted structure. docs/demo-data.md says what is true of each."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.market.bars import Bars, day_number, make_bars
from wolbrin.core.market.sessions import NS_A_MINUTE, session_table
from wolbrin.core.market.terms import Commission, Financing, Margin, SessionRule, Terms
from wolbrin.demo.generator import Shape, walk

FIRST = dt.date(2016, 1, 1)
LAST = dt.date(2025, 12, 31)
MINUTES = 5
WORKDAYS = ("Mon", "Tue", "Wed", "Thu", "Fri")
FOREVER = day_number(LAST)
CLOSED = ("01-01", "12-25", "12-26")
MISSING_MONTH = (2019, 9)


@dataclass(frozen=True)
class DemoMarket:
    terms: Terms
    shape: Shape
    seed: int
    group: int
    truth: str
    dirty: bool = False


def _future(code: str, name: str, tick: float, point: float, opens: str, closes: str, **more: object) -> Terms:
    return Terms(code=code, name=name, kind="future", tick_size=tick, point_value=point, quote_currency="EUR",
                 slippage_ticks=1.0, commission=Commission(per_contract=2.4), time_zone="Europe/Oslo",
                 sessions=(SessionRule(days=WORKDAYS, open=opens, close=closes),), closed=CLOSED,
                 margin=Margin(per_contract=1500.0), **more)


def _pair(code: str, name: str, tick: float, rate: float, spread: float, swap: tuple[float, float]) -> Terms:
    return Terms(code=code, name=name, kind="currency pair", tick_size=tick, point_value=100_000.0,
                 quote_currency=code[3:], conversion_rate=rate, spread_ticks=spread, slippage_ticks=2.0,
                 commission=Commission(per_contract=2.5), lot_step=0.01, minimum_lot=0.01,
                 financing=Financing(long=swap[0], short=swap[1], time="17:00", triple="Wed"),
                 margin=Margin(leverage=30.0), time_zone="America/New_York",
                 sessions=(SessionRule(days=("Sun", "Mon", "Tue", "Wed", "Thu"), open="17:00", close="17:00"),),
                 closed=CLOSED)


def _shape(start: float, sigma: float, **more: float) -> Shape:
    values = {"floor": start * 0.2, "common": 0.0, "trend_share": 0.0, "trend": 0.0, "trend_until": FOREVER,
              "pull": 0.0, "gap": 2.0} | more
    return Shape(start=start, sigma=sigma, **values)  # type: ignore[arg-type]


MARKETS: tuple[DemoMarket, ...] = (
    DemoMarket(_future("NPW", "Nordic power week", 0.01, 250.0, "09:00", "17:00"),
               _shape(6200.0, 9.0, trend_share=0.4, trend=0.12, common=0.86), 11, 1001,
               "lasting edge: on 40% of days a direction holds from the open to the close"),
    DemoMarket(_future("ASL", "Atlantic salmon", 0.05, 50.0, "08:30", "16:30"),
               _shape(1560.0, 2.6), 12, 1002, "no edge: pure noise"),
    DemoMarket(_future("BBY", "Baltic barley", 0.25, 50.0, "08:00", "18:00"),
               _shape(860.0, 1.9, pull=0.011), 13, 1003,
               "lasting edge: prices are pulled back to their average of the last hours"),
    DemoMarket(_future("HFR", "Harbor freight", 1.0, 10.0, "09:00", "20:00"),
               _shape(1850.0, 2.7, trend_share=0.4, trend=0.12, trend_until=day_number(dt.date(2020, 6, 30))),
               14, 1004, "edge that dies: like NPW, until the end of June 2020"),
    DemoMarket(_future("CRB", "Carbon permit", 0.01, 300.0, "09:00", "17:00"),
               _shape(4480.0, 6.6, trend_share=0.4, trend=0.105, common=0.86), 15, 1001,
               "lasting edge related to NPW: the same days, the same directions, noise partly shared"),
    DemoMarket(_future("COB", "Cobalt", 0.5, 20.0, "19:00", "13:00"),
               _shape(5100.0, 9.0), 16, 1006, "no edge, and dirty data", True),
    DemoMarket(_pair("NOKSEK", "krone against krona", 0.0001, 0.09, 4.0, (-1.1, -0.9)),
               _shape(10450.0, 2.2, gap=1.0), 521, 1011, "no edge: pure noise"),
    DemoMarket(_pair("AUDNZD", "Australian against New Zealand dollar", 0.00001, 0.55, 14.0, (-2.4, -3.1)),
               _shape(108500.0, 26.0, pull=0.008, gap=1.0), 22, 1012,
               "lasting edge: prices are pulled back to their average of the last hours"),
    DemoMarket(_pair("CADCHF", "Canadian dollar against franc", 0.00001, 1.05, 15.0, (2.0, -6.5)),
               _shape(76200.0, 19.0, gap=1.0), 223, 1013, "no edge: pure noise"),
    DemoMarket(_pair("EURPLN", "euro against zloty", 0.0001, 0.23, 18.0, (-14.0, 4.0)),
               _shape(43200.0, 9.0, gap=1.0), 524, 1014, "no edge: pure noise"),
)


def _grid(terms: Terms) -> tuple[NDArray[np.int64], NDArray[np.int32], NDArray[np.int32], NDArray[np.float64]]:
    """Minutes of all scheduled bars, their session and trading date, and the intraday volatility factor."""
    ns = 86_400 * 1_000_000_000
    table = session_table(terms, day_number(FIRST) * ns, (FOREVER + 1) * ns)
    open_days = (table.trading_date >= day_number(FIRST)) & (table.trading_date <= FOREVER)
    minutes, sessions, dates, factors = [], [], [], []
    for at in np.flatnonzero(open_days):
        count = int((table.close[at] - table.open[at]) // (MINUTES * NS_A_MINUTE))
        minutes.append(table.open[at] // NS_A_MINUTE + MINUTES * np.arange(count, dtype=np.int64))
        sessions.append(np.full(count, at, np.int32))
        dates.append(np.full(count, table.trading_date[at], np.int32))
        x = 2.0 * (np.arange(count) + 0.5) / count - 1.0
        factors.append(0.75 + 0.75 * x * x)
    return np.concatenate(minutes), np.concatenate(sessions), np.concatenate(dates), np.concatenate(factors)


@dataclass(frozen=True)
class Faults:
    """What was planted into dirty data, bar starts in UTC ns: spikes, flat bars, and stretches left out."""

    spikes: NDArray[np.int64]
    flat: NDArray[np.int64]
    removed: NDArray[np.int64]


def soil(time: NDArray[np.int64], ticks: NDArray[np.int32]) -> tuple[NDArray[np.bool_], Faults]:
    """Plant faults into `ticks` (int32[n, 4]) in place; returns which bars stay, and what was done."""
    n = len(time)
    minute_of_day = time // NS_A_MINUTE % 1440
    spikes = np.flatnonzero(minute_of_day == 23 * 60)[57::211]
    for j, at in enumerate(spikes):
        height = np.int32(140 + 17 * (j % 5))
        if j % 2:
            ticks[at, 1] += height
        else:
            ticks[at, 2] -= height
    flat = np.concatenate([np.arange(start, start + 12) for start in range(9_000, n - 12, 25_000)])
    ticks[flat] = ticks[flat, 3][:, None]
    stays = np.ones(n, bool)
    for start in range(17_500, n - 40, 31_000):
        stays[start:start + 20 + start % 17] = False
    month = time.view("datetime64[ns]").astype("datetime64[M]")
    stays[month == np.datetime64(f"{MISSING_MONTH[0]}-{MISSING_MONTH[1]:02d}")] = False
    return stays, Faults(time[spikes], time[flat], time[~stays])


def generate(market: DemoMarket, clean: bool = False) -> Bars:
    """All bars of one demo market; clean: as a feed without the planted faults has them, a tick off now and then."""
    minute, session, date, factor = _grid(market.terms)
    ticks, volume = walk(minute, session, date, factor, market.shape, np.uint64(market.seed * 7_919),
                         np.uint64(market.group * 104_729))
    time = minute * NS_A_MINUTE
    if clean:
        off = (np.arange(len(time)) * 7919 % 97 == 0).astype(np.int32) - (np.arange(len(time)) * 104_729 % 89 == 0)
        ticks = ticks + off.astype(np.int32)[:, None]
    elif market.dirty:
        stays, _ = soil(time, ticks)
        time, ticks, volume = time[stays], ticks[stays], volume[stays]
    fraction = market.terms.tick_fraction
    prices = (ticks.astype(np.float64) * float(fraction.numerator) / float(fraction.denominator)).astype(np.float64)
    columns = (prices[:, 0], prices[:, 1], prices[:, 2], prices[:, 3])
    return make_bars(market.terms, MINUTES, time, columns, volume, market.terms.code)
