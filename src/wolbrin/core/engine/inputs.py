"""What the kernel is given beside bars and signals."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine import codes as k

Ints = NDArray[np.int64]
Ticks = NDArray[np.int32]
Floats = NDArray[np.float64]
Bits = NDArray[np.uint8]


class Plan(NamedTuple):
    """Scalars of a run that come from the strategy. Units and kinds are codes; amounts go with their unit.

    long_bars, short_bars: how many existing bars a resting order lasts. touch: ticks a limit entry must be traded
    through. trail_step, even_plus: ticks. most_entries: fills per trading date, 0 for no limit. lot_inverse: 1 / lot step
    where that is whole, else 0.
    """

    this_close: bool
    on_opposite: int
    flat: bool
    time_exit: int
    long_kind: int
    short_kind: int
    long_bars: int
    short_bars: int
    long_touch: int
    short_touch: int
    stop_unit: int
    stop: float
    target_unit: int
    target: float
    trail_unit: int
    trail: float
    trail_step: int
    start_unit: int
    start: float
    even_unit: int
    even: float
    even_plus: int
    most_entries: int
    sizing: int
    size: float
    lot_step: float
    lot_inverse: float
    minimum_lot: float


class Money(NamedTuple):
    """Scalars of a run that come from the market and the account.

    tick_value: quote money for one tick on one contract. margin: account money per contract, 0 for none.
    leverage: 0 for none. Financing in ticks per night, negative = paid. roll_ticks: paid for holding over a roll.
    """

    capital: float
    tick_value: float
    spread_ticks: float
    slippage_ticks: float
    commission: float
    commission_percent: float
    commission_minimum: float
    financing_long: float
    financing_short: float
    margin: float
    leverage: float
    roll_ticks: float


def parameters(plan: Plan, money: Money) -> Floats:
    """Plan and money as the kernel reads them, float64[PARAMETERS] in the order of codes.X_."""
    return np.array([*plan, *money], np.float64)


class Clock(NamedTuple):
    """What a run knows of time and rates at each bar; every column has length n, or 1 where it does not matter.

    nights_start, nights_end: int64, rollover nights before each bar's start and end plus ROLL for every roll.
    rate_start, rate_end: float64, account money for one unit of quote money, NaN while unknown. date: int32.
    """

    nights_start: Ints
    nights_end: Ints
    rate_start: Floats
    rate_end: Floats
    date: NDArray[np.int32]


class Finer(NamedTuple):
    """Bars of a finer interval. first: int64[n + 1], finer bars of bar i are first[i] .. first[i+1] - 1, or int64[1] when
    there are none; usable: uint8[n], 1 where they add up to the bar. open .. close: int32[m] ticks.
    nights: int64[m] rollover nights before each finer bar's start, or int64[1]."""

    first: Ints
    usable: Bits
    open: Ticks
    high: Ticks
    low: Ticks
    close: Ticks
    nights: Ints


NO_NIGHTS = np.zeros(1, np.int64)
NO_TICKS = np.zeros(1, np.int32)
NO_FINER = Finer(np.zeros(1, np.int64), np.zeros(1, np.uint8), NO_TICKS, NO_TICKS, NO_TICKS, NO_TICKS, NO_NIGHTS)
NO_LOG = np.zeros((0, k.LOG_COLUMNS), np.int64)


class Asked(NamedTuple):
    """Rows that ask the state of the position. rows: float64[m, 3], what is read, how it compares (codes.COMPARE), with
    which number. tables: uint64[4, n], for long entry, short entry, long exit and short exit: bit c is set where the
    condition holds while the rows that hold have the number c."""

    rows: Floats
    tables: NDArray[np.uint64]


NOTHING_ASKED = Asked(np.zeros((0, 3)), np.zeros((0, 0), np.uint64))
