"""The event loop that decides every fill. The only one in the project; docs/engine.md states the contract.

Prices are integer ticks throughout, so that comparisons are exact. Money is float64 in account currency.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from wolbrin.core.engine import codes as k

Ints = NDArray[np.int64]
Ticks = NDArray[np.int32]
Floats = NDArray[np.float64]

# Module-level copies: numba freezes plain globals into the compiled code.
(STOP, TARGET, TIME, CONDITION, REVERSE, SESSION, SESSION_LATE, END_OF_DATA, RUIN, NOTHING) = (
    k.STOP, k.TARGET, k.TIME, k.CONDITION, k.REVERSE, k.SESSION, k.SESSION_LATE, k.END_OF_DATA, k.RUIN, k.NOTHING)
REVERSES, IGNORES = k.REVERSES, k.IGNORES
NONE, TICKS, ATR, STOP_MULTIPLE = k.NONE, k.TICKS, k.ATR, k.STOP_MULTIPLE
AT_OPEN, AT_CLOSE, INSIDE = k.AT_OPEN, k.AT_CLOSE, k.INSIDE
(T_SIDE, T_DECISION, T_ENTRY_BAR, T_EXIT_BAR, T_ENTRY, T_EXIT, T_STOP, T_TARGET, T_REASON, T_AMBIGUOUS, T_HELD,
 T_ENTRY_AT, T_EXIT_AT, T_NIGHTS, T_BEST, T_WORST) = range(k.INT_COLUMNS)
(F_QUANTITY, F_GROSS, F_SPREAD, F_SLIPPAGE, F_COMMISSION, F_FINANCING, F_NET, F_RISK, F_EQUITY,
 F_ENTRY_COSTS) = range(k.FLOAT_COLUMNS)
C_CONFLICTS, C_SKIPPED, C_REJECTED, C_AMBIGUOUS, C_LATE, C_EXPOSED, C_RUINED = range(len(k.COUNTS))
NUMBER_OF_COUNTS = len(k.COUNTS)
P_CASH, P_GROSS = k.P_CASH, k.P_GROSS
NO_LEVEL = k.NO_LEVEL
ROLL, ROLL_BITS = k.ROLL, k.ROLL_BITS
FAR = 2**40  # a level no bar reaches


class Plan(NamedTuple):
    """Scalars of a run that come from the strategy."""

    this_close: bool
    on_opposite: int
    flat: bool
    stop_unit: int
    stop_amount: float
    target_unit: int
    target_amount: float
    time_exit: int
    quantity: float


class Money(NamedTuple):
    """Scalars of a run that come from the market and the account.

    tick_money: account money for one tick on one contract. margin: account money per contract, 0 for none.
    leverage: 0 for none. Financing in ticks per night, negative = paid.
    """

    capital: float
    tick_money: float
    spread_ticks: float
    slippage_ticks: float
    commission: float
    commission_percent: float
    commission_minimum: float
    financing_long: float
    financing_short: float
    margin: float
    leverage: float
    roll_ticks: float = 0.0


@njit(cache=True, nogil=True)
def nearest(ticks: float) -> int:
    """Nearest whole tick, an exact half (within 1e-6 tick) away from zero."""
    if ticks >= 0.0:
        return int(np.floor(ticks + 0.5 + 1e-6))
    return -int(np.floor(-ticks + 0.5 + 1e-6))


@njit(cache=True, nogil=True)
def commission_of(money: Money, price: int, quantity: float) -> float:
    """One side's commission in account money."""
    due = money.commission * quantity
    due += money.commission_percent / 100.0 * abs(price) * money.tick_money * quantity
    return max(due, money.commission_minimum)


@njit(cache=True, nogil=True)
def financing_of(money: Money, side: int, held: int, unit: float) -> float:
    """Financing as a cost (positive = paid) in account money, rolls of a continuous future included.

    held: rollover nights held plus ROLL for every roll held over.
    """
    rate = money.financing_long if side > 0 else money.financing_short
    cost = (money.roll_ticks * (held >> ROLL_BITS) - rate * (held & (ROLL - 1))) * unit
    return cost if cost != 0.0 else 0.0


@njit(cache=True, nogil=True)
def marked(ti: Ints, tf: Floats, d: int, purse: Floats, money: Money, close: int, nights: int) -> float:
    """Net equity marked to a close: entry-side costs are charged, exit-side costs are not yet."""
    if ti[d, T_SIDE] == 0:
        return float(purse[P_CASH])
    unit = money.tick_money * tf[d, F_QUANTITY]
    value = (purse[P_CASH] - tf[d, F_ENTRY_COSTS]) + (close - ti[d, T_ENTRY]) * (ti[d, T_SIDE] * unit)
    return float(value - financing_of(money, ti[d, T_SIDE], nights - ti[d, T_NIGHTS], unit))


@njit(cache=True, nogil=True)
def open_position(ti: Ints, tf: Floats, d: int, plan: Plan, money: Money, side: int, price: int, bar: int, at: int,
                  decision: int, equity: float, nights: int, stop_atr: Floats, target_atr: Floats) -> None:
    """Start a trade in row d of (ti, tf): protective orders stand from this moment on."""
    unit = money.tick_money * plan.quantity
    ti[d, T_SIDE] = side
    ti[d, T_DECISION] = decision
    ti[d, T_ENTRY_BAR] = bar
    ti[d, T_ENTRY] = price
    ti[d, T_ENTRY_AT] = at
    ti[d, T_NIGHTS] = nights
    ti[d, T_BEST] = 0
    ti[d, T_WORST] = 0
    ti[d, T_AMBIGUOUS] = 0
    ti[d, T_STOP] = NO_LEVEL
    ti[d, T_TARGET] = NO_LEVEL
    tf[d, F_QUANTITY] = plan.quantity
    tf[d, F_EQUITY] = equity
    tf[d, F_ENTRY_COSTS] = (0.5 * money.spread_ticks + money.slippage_ticks) * unit + commission_of(
        money, price, plan.quantity)
    tf[d, F_RISK] = np.nan
    distance = 0.0
    if plan.stop_unit != NONE:
        distance = plan.stop_amount
        if plan.stop_unit == ATR:
            distance *= stop_atr[decision]
        level = nearest(price - side * distance)
        # A level that lands on the fill moves one tick away.
        if side * (price - level) < 1:
            level = price - side
        ti[d, T_STOP] = level
        tf[d, F_RISK] = abs(price - level) * unit
    if plan.target_unit != NONE:
        reach = plan.target_amount
        if plan.target_unit == ATR:
            reach *= target_atr[decision]
        elif plan.target_unit == STOP_MULTIPLE:
            reach *= distance
        level = nearest(price + side * reach)
        if side * (level - price) < 1:
            level = price + side
        ti[d, T_TARGET] = level


@njit(cache=True, nogil=True)
def close_position(ti: Ints, tf: Floats, d: int, purse: Floats, money: Money, counts: Ints, price: int, bar: int, at: int,
                   reason: int, nights: int, open_: int, high: int, low: int) -> None:
    """Finish the trade in row d of (ti, tf) and book it; the caller moves on to the next row."""
    side = ti[d, T_SIDE]
    entry = ti[d, T_ENTRY]
    move = side * (price - entry)
    up = high if side > 0 else low
    down = low if side > 0 else high
    best = max(ti[d, T_BEST], move)
    worst = min(ti[d, T_WORST], move)
    entered_here = ti[d, T_ENTRY_BAR] == bar and ti[d, T_ENTRY_AT] == AT_CLOSE
    if at == AT_CLOSE and not entered_here:
        best = max(best, side * (up - entry))
        worst = min(worst, side * (down - entry))
    elif at == INSIDE and reason == TARGET:
        worst = min(worst, side * (down - entry))
    elif at == INSIDE:
        best = max(best, side * (open_ - entry))
    quantity = tf[d, F_QUANTITY]
    unit = money.tick_money * quantity
    slips = 1.0 if reason == TARGET else 2.0
    ti[d, T_NIGHTS] = nights - ti[d, T_NIGHTS]
    ti[d, T_EXIT_BAR] = bar
    ti[d, T_EXIT] = price
    ti[d, T_EXIT_AT] = at
    ti[d, T_REASON] = reason
    ti[d, T_BEST] = best
    ti[d, T_WORST] = worst
    ti[d, T_HELD] = bar - ti[d, T_ENTRY_BAR] + (1 if ti[d, T_ENTRY_AT] != AT_CLOSE else 0)
    tf[d, F_GROSS] = move * unit
    tf[d, F_SPREAD] = money.spread_ticks * unit
    tf[d, F_SLIPPAGE] = slips * money.slippage_ticks * unit
    tf[d, F_COMMISSION] = commission_of(money, entry, quantity) + commission_of(money, price, quantity)
    tf[d, F_FINANCING] = financing_of(money, side, ti[d, T_NIGHTS], unit)
    tf[d, F_NET] = tf[d, F_GROSS] - tf[d, F_SPREAD] - tf[d, F_SLIPPAGE] - tf[d, F_COMMISSION] - tf[d, F_FINANCING]
    counts[C_AMBIGUOUS] += ti[d, T_AMBIGUOUS]
    purse[P_CASH] += tf[d, F_NET]
    purse[P_GROSS] += tf[d, F_GROSS]


@njit(cache=True, nogil=True)
def idle(first: int, n: int, ruined: bool, base: float, base_gross: float, signals: NDArray[np.uint8], net_curve: Floats,
         gross_curve: Floats, position_curve: NDArray[np.int8]) -> int:
    """Pass over bars with nothing held and nothing wanted; returns the first bar that is different."""
    i = first
    detail = len(gross_curve) > 0
    while i < n and (signals[i] & 3 == 0 or ruined):
        net_curve[i] = base
        if detail:
            gross_curve[i] = base_gross
            position_curve[i] = 0
        i += 1
    return i


@njit(cache=True, nogil=True)
def carry(first: int, stop_at: int, side: int, entry: int, stop: int, target: int, base: float, base_gross: float,
          unit: float, high: Ticks, low: Ticks, close: Ticks, signals: NDArray[np.uint8], session: NDArray[np.int32],
          last_bar: NDArray[np.uint8], flat: bool, nights_end: Ints, nights: int, money: Money, net_curve: Floats,
          gross_curve: Floats, position_curve: NDArray[np.int8]) -> tuple[int, int, int]:
    """Carry an open position over bars on which nothing can happen to it; returns the first bar that needs a closer
    look, and the highest high and lowest low passed.

    Such a bar touches neither protective level, has no signal, does not begin or end a session that the position must
    not outlive, lies before `stop_at`, and does not end in ruin. The long way would change only the excursions.
    """
    upper = target if side > 0 else stop
    lower = stop if side > 0 else target
    own_session = session[first - 1]
    i = first
    while (i < stop_at and high[i] < upper and low[i] > lower and signals[i] == 0
           and not (flat and (last_bar[i] != 0 or session[i] != own_session))):
        i += 1
    # The three loops below have no branches, so that the compiler can work on several bars at once.
    step = side * unit
    start = float(entry)
    least = 1.0
    if money.financing_long != 0.0 or money.financing_short != 0.0 or money.roll_ticks != 0.0:
        for k in range(first, i):
            value = base + (close[k] - start) * step - financing_of(money, side, nights_end[k] - nights, unit)
            net_curve[k] = value
            least = min(least, value)
    else:
        for k in range(first, i):
            value = base + (close[k] - start) * step
            net_curve[k] = value
            least = min(least, value)
    if least <= 0.0:
        for k in range(first, i):
            if net_curve[k] <= 0.0:
                i = k
                break
    top = entry
    bottom = entry
    for k in range(first, i):
        top = max(top, np.int64(high[k]))  # type: ignore[assignment]
        bottom = min(bottom, np.int64(low[k]))  # type: ignore[assignment]
    if len(gross_curve) > 0:
        for k in range(first, i):
            gross_curve[k] = base_gross + (close[k] - start) * step
            position_curve[k] = side
    return i, top, bottom


@njit(cache=True, nogil=True)
def simulate(open_: Ticks, high: Ticks, low: Ticks, close: Ticks, session: NDArray[np.int32],
             last_bar: NDArray[np.uint8], signals: NDArray[np.uint8], stop_atr: Floats, target_atr: Floats,
             nights_start: Ints, nights_end: Ints, plan: Plan, money: Money, trades_i: Ints, trades_f: Floats,
             net_curve: Floats, gross_curve: Floats, position_curve: NDArray[np.int8]) -> tuple[int, Ints]:
    """Run one strategy over all n bars given: the first one is the first that decides, the last one ends the data.

    Args:
        open_, high, low, close: int32[n] ticks. session: int32[n]. last_bar: uint8[n], 1 on a session's last bar.
        signals: uint8[n], bits long entry, short entry, long exit, short exit at each close.
        stop_atr, target_atr: float64[n] ATR in ticks, or length 1 when unused.
        nights_start, nights_end: int64[n] rollover nights before each bar's start and end, plus ROLL for every roll of
            a continuous future, or length 1 when the market has neither.
        trades_i, trades_f: room for the trades, [>= number of bars with an entry signal + 2, INT_COLUMNS /
            FLOAT_COLUMNS]; bar columns count from the first bar given.
        net_curve: float64[n], equity marked to the close. gross_curve, position_curve: the same length, or length 0
            for a statistics-only run.
    Returns:
        number of trades, int64 counts (codes.COUNTS).
    """
    counts = np.zeros(NUMBER_OF_COUNTS, np.int64)
    n = len(close)
    detail = len(gross_curve) > 0
    financed = money.financing_long != 0.0 or money.financing_short != 0.0 or money.roll_ticks != 0.0
    flat, this_close, time_exit = plan.flat, plan.this_close, plan.time_exit
    purse = np.empty(2, np.float64)
    purse[P_CASH] = money.capital
    purse[P_GROSS] = money.capital
    unit = money.tick_money * plan.quantity
    done = 0
    pending_exit = NOTHING
    pending_side = 0
    pending_bar = 0
    pending_equity = 0.0
    ruined = False
    exposed = 0
    # The open position once more in locals, for the bars on which nothing can happen to it.
    side = 0
    entry = np.int64(0)
    entry_bar = 0
    stop = 0
    target = 0
    best = np.int64(0)
    worst = np.int64(0)
    nights = 0
    base = money.capital  # cash less the entry-side costs of the open position
    base_gross = money.capital

    i = 0
    while i < n:
        if side == 0 and pending_side == 0 and (signals[i] & 3 == 0 or ruined):
            i = idle(i, n, ruined, base, base_gross, signals, net_curve, gross_curve, position_curve)
            continue
        if side != 0 and signals[i] == 0 and pending_exit == NOTHING:
            stop_at = n - 1
            if time_exit > 0:
                stop_at = min(stop_at, entry_bar + time_exit - 1)
            j, top, bottom = carry(i, stop_at, side, entry, stop, target, base, base_gross, unit, high, low, close, signals,
                                   session, last_bar, flat, nights_end, nights, money, net_curve, gross_curve,
                                   position_curve)
            if j > i:
                exposed += j - i
                best = max(best, top - entry if side > 0 else entry - bottom)
                worst = min(worst, bottom - entry if side > 0 else entry - top)
                i = j
                continue
        o = np.int64(open_[i])
        h = np.int64(high[i])
        lo = np.int64(low[i])
        c = np.int64(close[i])

        trades_i[done, T_SIDE] = side
        trades_i[done, T_BEST] = best
        trades_i[done, T_WORST] = worst
        n_start = nights_start[i] if financed else 0
        n_end = nights_end[i] if financed else 0

        # 1. Open: market exits, then market entries. No order outlives its session when flat by session end.
        if flat and i > 0 and session[i] != session[i - 1]:
            pending_side = 0
            if side != 0 and pending_exit == NOTHING:
                pending_exit = SESSION_LATE
                counts[C_LATE] += 1
        if side != 0 and pending_exit != NOTHING:
            close_position(trades_i, trades_f, done, purse, money, counts, o, i, AT_OPEN, pending_exit, n_start, o, h, lo)
            done += 1
            trades_i[done, T_SIDE] = 0
        pending_exit = NOTHING
        fresh = pending_side != 0
        if fresh:
            open_position(trades_i, trades_f, done, plan, money, pending_side, o, i, AT_OPEN, pending_bar, pending_equity,
                          n_start, stop_atr, target_atr)
            pending_side = 0

        # 2 to 4. Protective orders: first against the open of a carried position, then against the whole bar.
        side = trades_i[done, T_SIDE]
        if side != 0:
            stop = trades_i[done, T_STOP]
            target = trades_i[done, T_TARGET]
            down = lo if side > 0 else h
            up = h if side > 0 else lo
            stop_hit = stop != NO_LEVEL and side * (down - stop) <= 0
            target_hit = target != NO_LEVEL and side * (up - target) >= 0
            reason = NOTHING
            price = o
            how = AT_OPEN
            if stop_hit and not fresh and side * (o - stop) <= 0:
                reason = STOP
            elif target_hit and not fresh and side * (o - target) >= 0:
                reason = TARGET
            elif stop_hit:
                reason = STOP
                price = stop
                how = INSIDE
                trades_i[done, T_AMBIGUOUS] = 1 if target_hit else 0
            elif target_hit:
                reason = TARGET
                price = target
                how = INSIDE
            if reason == NOTHING or how == INSIDE:
                exposed += 1
            if reason != NOTHING:
                close_position(trades_i, trades_f, done, purse, money, counts, price, i, how, reason, n_start, o, h, lo)
                done += 1
                trades_i[done, T_SIDE] = 0

        # 6. Close: everything is read before any fill at this close.
        equity = purse[P_CASH]
        side = trades_i[done, T_SIDE]
        wants = signals[i]
        long_in = wants & 1 != 0
        short_in = wants & 2 != 0
        if long_in and short_in:
            counts[C_CONFLICTS] += 1
            long_in = False
            short_in = False
        leave = NOTHING
        if side != 0:
            held = i - trades_i[done, T_ENTRY_BAR] + (1 if trades_i[done, T_ENTRY_AT] != AT_CLOSE else 0)
            if time_exit > 0 and held >= time_exit:
                leave = TIME
            elif (side > 0 and wants & 4 != 0) or (side < 0 and wants & 8 != 0):
                leave = CONDITION
            elif plan.on_opposite != IGNORES and ((side > 0 and short_in) or (side < 0 and long_in)):
                leave = REVERSE
        want = 1 if long_in else (-1 if short_in else 0)
        if side != 0 and (want == side or plan.on_opposite != REVERSES):
            want = 0
        if flat and last_bar[i] != 0:
            want = 0
        if want != 0:
            need = money.margin * plan.quantity
            if money.leverage > 0.0:
                need = abs(c) * unit / money.leverage
            unknown = (plan.stop_unit == ATR and not np.isfinite(stop_atr[i])) or (
                plan.target_unit == ATR and not np.isfinite(target_atr[i]))
            if unknown or (money.leverage > 0.0 and need == 0.0):
                counts[C_SKIPPED] += 1
                want = 0
            elif need > equity:
                counts[C_REJECTED] += 1
                want = 0
        if not this_close:
            pending_exit = leave
            pending_side = want
            pending_bar = i
            pending_equity = equity
            leave = NOTHING
            want = 0
        if leave != NOTHING:
            close_position(trades_i, trades_f, done, purse, money, counts, c, i, AT_CLOSE, leave, n_end, o, h, lo)
            done += 1
            trades_i[done, T_SIDE] = 0
        # Ruin is judged after the exits at a close, and again after entries and session exits.
        reason = NOTHING
        if marked(trades_i, trades_f, done, purse, money, c, n_end) <= 0.0:
            ruined = True
            reason = RUIN
        else:
            if want != 0:
                open_position(trades_i, trades_f, done, plan, money, want, c, i, AT_CLOSE, i, equity, n_end, stop_atr,
                              target_atr)
            if trades_i[done, T_SIDE] != 0 and flat and last_bar[i] != 0:
                close_position(trades_i, trades_f, done, purse, money, counts, c, i, AT_CLOSE, SESSION, n_end, o, h, lo)
                done += 1
                trades_i[done, T_SIDE] = 0
            if marked(trades_i, trades_f, done, purse, money, c, n_end) <= 0.0:
                ruined = True
                reason = RUIN
            elif i == n - 1:
                reason = END_OF_DATA
        if reason != NOTHING and trades_i[done, T_SIDE] != 0:
            close_position(trades_i, trades_f, done, purse, money, counts, c, i, AT_CLOSE, reason, n_end, o, h, lo)
            done += 1
            trades_i[done, T_SIDE] = 0
        if ruined:
            pending_exit = NOTHING
            pending_side = 0

        side = trades_i[done, T_SIDE]
        base = purse[P_CASH]
        base_gross = purse[P_GROSS]
        if side != 0:
            entry = trades_i[done, T_ENTRY]
            # Counted so that bars held at bar i are i - entry_bar + 1 in both cases.
            entry_bar = trades_i[done, T_ENTRY_BAR] + (1 if trades_i[done, T_ENTRY_AT] == AT_CLOSE else 0)
            best = trades_i[done, T_BEST]
            worst = trades_i[done, T_WORST]
            nights = trades_i[done, T_NIGHTS]
            base -= trades_f[done, F_ENTRY_COSTS]
            stop = trades_i[done, T_STOP] if trades_i[done, T_STOP] != NO_LEVEL else -side * FAR
            target = trades_i[done, T_TARGET] if trades_i[done, T_TARGET] != NO_LEVEL else side * FAR
            if entry_bar <= i:
                up = side * ((h if side > 0 else lo) - entry)
                down = side * ((lo if side > 0 else h) - entry)
                best = max(best, up)
                worst = min(worst, down)
        net_curve[i] = marked(trades_i, trades_f, done, purse, money, c, n_end)
        if detail:
            position_curve[i] = side
            gross_curve[i] = base_gross + ((c - entry) * (side * unit) if side != 0 else 0.0)
        i += 1
    counts[C_EXPOSED] = exposed
    counts[C_RUINED] = 1 if ruined or purse[P_CASH] <= 0.0 else 0
    return done, counts
