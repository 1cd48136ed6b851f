"""What the kernel is given beside bars and signals."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine import codes as k

Ints = NDArray[np.int64]
Ticks = NDArray[np.int32]
Floats = NDArray[np.float64]
Bits = NDArray[np.uint8]
Words = NDArray[np.uint64]


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
    tables: Words


NOTHING_ASKED = Asked(np.zeros((0, 3)), np.zeros((0, 0), np.uint64))


class Elder(NamedTuple):
    """Rules by which positions leave that were opened by other numbers than those that decide now. rows: int64[e], their rows
    of numbers. words: uint64[e, (n + 63) / 64, SIGNALS] as in `Wanted`, without entries. asked: float64[e, m, 3], tables:
    uint64[e, 4, n] as in `Asked`; all of length 0 where no such position or order is alive."""

    rows: Ints
    words: Words
    asked: Floats
    tables: Words


NO_ELDER = Elder(np.zeros(0, np.int64), np.zeros((0, 0, 0), np.uint64), np.zeros((0, 0, 3)), np.zeros((0, 0, 0), np.uint64))


class Tape(NamedTuple):
    """The bars of a run, the first being the first that decides. prices: int32[n, 4] ticks, open, high, low, close side by
    side: a bar is one look into memory. session: int32[n]. last_bar: uint8[n], 1 on a session's last bar."""

    prices: Ticks
    session: NDArray[np.int32]
    last_bar: Bits


class Wanted(NamedTuple):
    """What the rules say. words: uint64[(n + 63) / 64, SIGNALS], bit i % 64 of word i / 64 for bar i: the four conditions,
    BLOCKED, and EDGE where a session begins or ends, if flat matters (codes.R_). entries: int64[m], bars with an entry
    signal, in order. needs: float64[c, m], what their orders need, a row for each different value; need_of: int64[NEEDS],
    the row of each of codes.N_, -1 where it is not used.
    asked: rows on the state of the position; words then say what may hold in some state. offset: the bit of
    the tape's first bar; entries count from that bar. elder: exits of positions that other numbers opened."""

    words: Words
    entries: Ints
    needs: Floats
    need_of: Ints
    asked: Asked
    offset: int
    elder: Elder = NO_ELDER


class State(NamedTuple):
    """Where a run stands between two bars: plain arrays, made by `new_state`, changed by the loop. s: int64[STATE]. purse:
    float64[PURSE]. counts: int64[codes.COUNTS]. wi, wf: waiting orders."""

    s: Ints
    purse: Floats
    counts: Ints
    wi: Ints
    wf: Floats


class Books(NamedTuple):
    """What a run writes.

    trades_i, trades_f: [>= trades + 2, INT_COLUMNS / FLOAT_COLUMNS]; bar columns count from the first bar of the tape. log:
    int64[room, LOG_COLUMNS], length 0 for no log. net: float64[n], equity marked to the close. gross, position: the same
    length, or 0 for a statistics-only run. Where rows are not kept (codes.KEEP): nets: float64[>= trades + 2]; day_ends:
    int64[d], last bars of trading dates; day_equity: float64[d], equity there; and net is of length 0.
    """

    trades_i: Ints
    trades_f: Floats
    log: Ints
    net: Floats
    gross: Floats
    position: NDArray[np.int8]
    nets: Floats
    day_ends: Ints
    day_equity: Floats


NO_FLOATS = np.zeros(0, np.float64)
NO_INTS = np.zeros(0, np.int64)
NO_POSITION = np.zeros(0, np.int8)


def new_state() -> State:
    """A run that has not begun; `begin` sets its purse."""
    return State(np.zeros(k.STATE, np.int64), np.zeros(k.PURSE), np.zeros(len(k.COUNTS), np.int64),
                 np.zeros((4, k.WAITING_INTS), np.int64), np.zeros((4, k.WAITING_FLOATS)))


def books(room: int, bars: int, log: int = 0, detail: bool = False) -> Books:
    """Books that keep a row for every trade. room: how many trades there may be; log: events; detail: all curves."""
    return Books(np.empty((room + 2, k.INT_COLUMNS), np.int64), np.empty((room + 2, k.FLOAT_COLUMNS)),
                 np.empty((log, k.LOG_COLUMNS), np.int64) if log else NO_LOG, np.empty(bars),
                 np.empty(bars) if detail else NO_FLOATS, np.empty(bars, np.int8) if detail else NO_POSITION, NO_FLOATS,
                 NO_INTS, NO_FLOATS)


def gathered(columns: Sequence[Floats | None], at: Ints) -> tuple[Floats, Ints]:
    """The values of some columns at some bars, each column once: needs float64[c, len(at)] and need_of, see `Wanted`."""
    different = {id(c): c for c in columns if c is not None}
    rows = {key: row for row, key in enumerate(different)}
    needs = np.empty((len(rows), len(at)))
    for row, column in enumerate(different.values()):
        np.take(column, at, out=needs[row])
    return needs, np.array([rows[id(c)] if c is not None else -1 for c in columns], np.int64)


NO_BOOKS = books(-2, 0)
