"""The open position: opening it with its protective orders, what it is worth, moving its stop, closing it.

Numba functions on the rows of a trade (codes.T_ and F_ columns); prices are whole ticks, money float64 in account currency.
"""

from __future__ import annotations

import numpy as np

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.inputs import Floats, Ints
from wolbrin.core.engine.jit import F1, F2, F64, I0, I1, I2, B, fixed

# Module-level copies: numba freezes plain globals into the compiled code.
FULL, KEEP, SAME = k.FULL, k.KEEP, k.SAME
NONE, TICKS, ATR, STOP_MULTIPLE, MONEY, LEVEL = k.NONE, k.TICKS, k.ATR, k.STOP_MULTIPLE, k.MONEY, k.LEVEL
STOP, TARGET, TRAIL, BREAK_EVEN, NOTHING = k.STOP, k.TARGET, k.TRAIL, k.BREAK_EVEN, k.NOTHING
BY_LIMIT, BY_STOP = k.BY_LIMIT, k.BY_STOP
AT_OPEN, AT_CLOSE, INSIDE = k.AT_OPEN, k.AT_CLOSE, k.INSIDE
HELD_CARRIED, HELD_FRESH, HELD_BY_STOP, HELD_BY_LIMIT = k.HELD_CARRIED, k.HELD_FRESH, k.HELD_BY_STOP, k.HELD_BY_LIMIT
(T_SIDE, T_DECISION, T_ENTRY_BAR, T_EXIT_BAR, T_ENTRY, T_EXIT, T_STOP, T_TARGET, T_REASON, T_AMBIGUOUS, T_HELD,
 T_ENTRY_AT, T_EXIT_AT, T_NIGHTS, T_BEST, T_WORST, T_KIND, T_ENTRY_FINE, T_EXIT_FINE, T_COUNTS, T_PEAK, T_TRAIL,
 T_EVEN, T_ORDER, T_NUMBERS) = (
    k.T_SIDE, k.T_DECISION, k.T_ENTRY_BAR, k.T_EXIT_BAR, k.T_ENTRY, k.T_EXIT, k.T_STOP, k.T_TARGET, k.T_REASON,
    k.T_AMBIGUOUS, k.T_HELD, k.T_ENTRY_AT, k.T_EXIT_AT, k.T_NIGHTS, k.T_BEST, k.T_WORST, k.T_KIND, k.T_ENTRY_FINE,
    k.T_EXIT_FINE, k.T_COUNTS, k.T_PEAK, k.T_TRAIL, k.T_EVEN, k.T_ORDER, k.T_NUMBERS)
(F_QUANTITY, F_GROSS, F_SPREAD, F_SLIPPAGE, F_COMMISSION, F_FINANCING, F_NET, F_RISK, F_EQUITY, F_ENTRY_COMMISSION,
 F_DRAG, F_RATE, F_TRAIL, F_START, F_EVEN) = (
    k.F_QUANTITY, k.F_GROSS, k.F_SPREAD, k.F_SLIPPAGE, k.F_COMMISSION, k.F_FINANCING, k.F_NET, k.F_RISK, k.F_EQUITY,
    k.F_ENTRY_COMMISSION, k.F_DRAG, k.F_RATE, k.F_TRAIL, k.F_START, k.F_EVEN)
C_AMBIGUOUS = k.C_AMBIGUOUS
P_CASH, P_GROSS = k.P_CASH, k.P_GROSS
S_DONE, S_LOGGED, S_ORDERS = k.S_DONE, k.S_LOGGED, k.S_ORDERS
S_STOP_ORDER, S_TARGET_ORDER, S_TRAIL_ORDER = k.S_STOP_ORDER, k.S_TARGET_ORDER, k.S_TRAIL_ORDER
PLACED, MOVED, FILLED, CANCELLED = k.PLACED, k.MOVED, k.FILLED, k.CANCELLED
ORDER_EXIT, ORDER_STOP, ORDER_TARGET, ORDER_TRAIL, ORDER_EVEN = (
    k.ORDER_EXIT, k.ORDER_STOP, k.ORDER_TARGET, k.ORDER_TRAIL, k.ORDER_EVEN)
W_ENTRY, W_OVER, W_SIGNAL = k.W_ENTRY, k.W_OVER, k.W_SIGNAL
(L_EVENT, L_ORDER, L_NUMBER, L_SIDE, L_BAR, L_FINE, L_AT, L_PRICE, L_WHY, L_TRADE) = (
    k.L_EVENT, k.L_ORDER, k.L_NUMBER, k.L_SIDE, k.L_BAR, k.L_FINE, k.L_AT, k.L_PRICE, k.L_WHY, k.L_TRADE)
(N_STOP, N_TARGET, N_TRAIL, N_START, N_EVEN, N_STOP_LONG, N_STOP_SHORT, N_TARGET_LONG, N_TARGET_SHORT) = (
    k.N_STOP, k.N_TARGET, k.N_TRAIL, k.N_START, k.N_EVEN, k.N_STOP_LONG, k.N_STOP_SHORT, k.N_TARGET_LONG,
    k.N_TARGET_SHORT)
(X_COMMISSION, X_COMMISSION_MINIMUM, X_COMMISSION_PERCENT, X_EVEN, X_EVEN_PLUS, X_EVEN_UNIT, X_FINANCING_LONG,
 X_FINANCING_SHORT, X_ROLL, X_SLIPPAGE, X_SPREAD, X_START, X_START_UNIT, X_STOP, X_STOP_UNIT, X_TARGET, X_TARGET_UNIT,
 X_TICK_VALUE, X_TRAIL, X_TRAIL_STEP, X_TRAIL_UNIT) = (
    k.X_COMMISSION, k.X_COMMISSION_MINIMUM, k.X_COMMISSION_PERCENT, k.X_EVEN, k.X_EVEN_PLUS, k.X_EVEN_UNIT,
    k.X_FINANCING_LONG, k.X_FINANCING_SHORT, k.X_ROLL, k.X_SLIPPAGE, k.X_SPREAD, k.X_START, k.X_START_UNIT, k.X_STOP,
    k.X_STOP_UNIT, k.X_TARGET, k.X_TARGET_UNIT, k.X_TICK_VALUE, k.X_TRAIL, k.X_TRAIL_STEP, k.X_TRAIL_UNIT)
NO_LEVEL = k.NO_LEVEL
ROLL, ROLL_BITS = k.ROLL, k.ROLL_BITS


@fixed(I0, I1)
def row_of(s: Ints) -> int:
    """The row of the trade in the making."""
    return int(s[S_DONE]) if KEEP else 0


@fixed(B, F64, F64, F64)
def gone(equity: float, cash: float, capital: float) -> bool:
    """Whether marked equity is at or below zero, amounts of money that count as equal being equal."""
    if cash > 0.0 and equity > 1e-6 * (capital + cash):
        return False  # far above what counts as equal; the usual case
    if equity <= 0.0:
        return True
    return equity <= SAME * max(capital, abs(cash), abs(equity - cash))


@fixed(I0, F64)
def nearest(ticks: float) -> int:
    """Nearest whole tick, an exact half (within 1e-6 tick) away from zero."""
    if ticks >= 0.0:
        return int(np.floor(ticks + 0.5 + 1e-6))
    return -int(np.floor(-ticks + 0.5 + 1e-6))


@fixed("void", I2, I1, I0, I0, I0, I0, I0, I0, I0, I0, I0, inline=False)
def _write(log: Ints, s: Ints, event: int, order: int, number: int, side: int, bar: int, fine: int, how: int, price: int,
         why: int) -> None:
    """Write one event; beyond the room it is counted only, and the caller runs again with more."""
    at_row = s[S_LOGGED]
    s[S_LOGGED] += 1
    if at_row >= len(log):
        return
    log[at_row, L_EVENT] = event
    log[at_row, L_ORDER] = order
    log[at_row, L_NUMBER] = number
    log[at_row, L_SIDE] = side
    log[at_row, L_BAR] = bar
    log[at_row, L_FINE] = fine
    log[at_row, L_AT] = how
    log[at_row, L_PRICE] = price
    log[at_row, L_WHY] = why
    log[at_row, L_TRADE] = s[S_DONE]


@fixed("void", I2, I1, I0, I0, I0, I0, I0, I0, I0, I0, I0)
def note(log: Ints, s: Ints, event: int, order: int, number: int, side: int, bar: int, fine: int, how: int, price: int,
         why: int) -> None:
    """Write one event of the order log, if one is kept."""
    if FULL and len(log) > 0:
        _write(log, s, event, order, number, side, bar, fine, how, price, why)


@fixed(F64, F1, I0, F64, F64)
def commission_of(x: Floats, price: int, quantity: float, rate: float) -> float:
    """One side's commission in account money."""
    due = x[X_COMMISSION] * quantity
    due += x[X_COMMISSION_PERCENT] / 100.0 * abs(price) * x[X_TICK_VALUE] * rate * quantity
    return max(due, x[X_COMMISSION_MINIMUM])


@fixed(F64, F1, I0, I0)
def financing_ticks(x: Floats, side: int, held: int) -> float:
    """Financing per contract as a cost (positive = paid) in ticks, rolls of a continuous future included.

    held: rollover nights held plus ROLL for every roll held over.
    """
    if not FULL:
        return 0.0
    rate = x[X_FINANCING_LONG] if side > 0 else x[X_FINANCING_SHORT]
    cost = x[X_ROLL] * (held >> ROLL_BITS) - rate * (held & (ROLL - 1))
    return cost if cost != 0.0 else 0.0


@fixed(F64, I2, F2, I0, F1, F1, I0, I0, F64)
def marked(ti: Ints, tf: Floats, d: int, purse: Floats, x: Floats, close: int, nights: int, rate: float) -> float:
    """Net equity marked to a close: entry-side costs are charged, exit-side costs are not yet."""
    side = ti[d, T_SIDE]
    if side == 0:
        return float(purse[P_CASH])
    drag = tf[d, F_DRAG] + financing_ticks(x, side, nights - ti[d, T_NIGHTS])
    unit = x[X_TICK_VALUE] * tf[d, F_QUANTITY] * rate
    return float(purse[P_CASH] - tf[d, F_ENTRY_COMMISSION] + (side * (close - ti[d, T_ENTRY]) - drag) * unit)


@fixed(F64, F64, F64, F64, I0, F64, F64)
def distance(unit: float, amount: float, atr: float, price: int, stop: float, tick_money: float) -> float:
    """A distance in ticks, not rounded. atr: in ticks; stop: the stop's distance; tick_money: account money for one tick."""
    if unit == TICKS:
        return amount
    if unit == ATR:
        return amount * atr
    if unit == STOP_MULTIPLE:
        return amount * stop
    if unit == MONEY:
        return amount / tick_money
    return amount / 100.0 * abs(price)


@fixed(I0, I0, I0, F64)
def away(price: int, direction: int, by: float) -> int:
    """The tick nearest to price + direction x by, at least one tick from price."""
    level = nearest(price + direction * by)
    if direction > 0:
        return max(level, price + 1)
    return min(level, price - 1)


@fixed(B, I2, F2, I1, I2, F1, F1, I0, I0, I0, I0, I0, I0, I0, I0, I0, F64, F64, F64, I0, F64)
def open_position(ti: Ints, tf: Floats, s: Ints, log: Ints, x: Floats, need: Floats, numbers: int, side: int, price: int,
                  bar: int, fine: int, how: int, kind: int, decision: int, number: int, quantity: float, equity: float,
                  tick_money: float, nights: int, rate: float) -> bool:
    """Start a trade: protective orders stand from this moment on. False when a level lies beyond the fill.

    x, need: the numbers of the decision (row `numbers`) and what orders needed there (codes.N_); tick_money: account money
    for a tick there.
    """
    d = row_of(s)
    stop = NO_LEVEL
    reach = 0.0
    if x[X_STOP_UNIT] == LEVEL:
        raw = need[N_STOP_LONG if side > 0 else N_STOP_SHORT]
        stop = nearest(raw)
        reach = side * (price - raw)
        if side * (price - stop) <= 0:
            return False
    elif x[X_STOP_UNIT] != NONE:
        reach = distance(x[X_STOP_UNIT], x[X_STOP], need[N_STOP], price, 0.0, tick_money)
        stop = away(price, -side, reach)
    target = NO_LEVEL
    if x[X_TARGET_UNIT] == LEVEL:
        target = nearest(need[N_TARGET_LONG if side > 0 else N_TARGET_SHORT])
        if side * (target - price) <= 0:
            return False
    elif x[X_TARGET_UNIT] != NONE:
        target = away(price, side, distance(x[X_TARGET_UNIT], x[X_TARGET], need[N_TARGET], price, reach,
                                            tick_money))
    ti[d, T_SIDE] = side
    ti[d, T_ENTRY_BAR] = bar
    ti[d, T_ENTRY] = price
    ti[d, T_STOP] = stop
    ti[d, T_TARGET] = target
    ti[d, T_AMBIGUOUS] = 0
    ti[d, T_ENTRY_AT] = how
    ti[d, T_KIND] = kind
    if KEEP:
        ti[d, T_DECISION] = decision
        ti[d, T_BEST] = 0
        ti[d, T_WORST] = 0
        ti[d, T_ENTRY_FINE] = fine
        ti[d, T_ORDER] = number
        tf[d, F_EQUITY] = equity
        tf[d, F_RISK] = np.nan if stop == NO_LEVEL else abs(price - stop) * x[X_TICK_VALUE] * quantity * rate
    if KEEP or FULL:
        ti[d, T_NIGHTS] = nights
        # Whether the entry bar counts for trail and break even.
        ti[d, T_COUNTS] = 1 if how == AT_OPEN or (how == INSIDE and kind == BY_STOP) else 0
        ti[d, T_PEAK] = NO_LEVEL
        ti[d, T_TRAIL] = NO_LEVEL
        ti[d, T_EVEN] = NO_LEVEL
        ti[d, T_NUMBERS] = numbers
        tf[d, F_TRAIL] = 0.0
        tf[d, F_START] = 0.0
        tf[d, F_EVEN] = 0.0
    tf[d, F_QUANTITY] = quantity
    tf[d, F_ENTRY_COMMISSION] = commission_of(x, price, quantity, rate)
    tf[d, F_DRAG] = 0.5 * x[X_SPREAD] + (0.0 if kind == BY_LIMIT else x[X_SLIPPAGE])
    if FULL and x[X_TRAIL_UNIT] != NONE:
        tf[d, F_TRAIL] = distance(x[X_TRAIL_UNIT], x[X_TRAIL], need[N_TRAIL], price, reach, tick_money)
        if x[X_START_UNIT] != NONE:
            tf[d, F_START] = distance(x[X_START_UNIT], x[X_START], need[N_START], price, reach, tick_money)
    if FULL and x[X_EVEN_UNIT] != NONE:
        tf[d, F_EVEN] = distance(x[X_EVEN_UNIT], x[X_EVEN], need[N_EVEN], price, reach, tick_money)
    note(log, s, FILLED, kind, number, side, bar, fine, how, price, W_SIGNAL)
    if stop != NO_LEVEL:
        s[S_ORDERS] += 1
        s[S_STOP_ORDER] = s[S_ORDERS]
        note(log, s, PLACED, ORDER_STOP, s[S_STOP_ORDER], -side, bar, fine, how, stop, W_ENTRY)
    if target != NO_LEVEL:
        s[S_ORDERS] += 1
        s[S_TARGET_ORDER] = s[S_ORDERS]
        note(log, s, PLACED, ORDER_TARGET, s[S_TARGET_ORDER], -side, bar, fine, how, target, W_ENTRY)
    return True


@fixed("UniTuple(int64, 2)", I2, I0)
def working_stop(ti: Ints, d: int) -> tuple[int, int]:
    """The tightest of stop, break even and trail, and the reason it gives (at equal levels in that order)."""
    side = ti[d, T_SIDE]
    level = ti[d, T_STOP]
    reason = STOP
    if FULL:
        for column, name in ((T_EVEN, BREAK_EVEN), (T_TRAIL, TRAIL)):
            other = ti[d, column]
            if other != NO_LEVEL and (level == NO_LEVEL or side * (other - level) > 0):
                level = other
                reason = name
    return level, reason


@fixed("UniTuple(int64, 4)", I2, I0, I0, I0, I0, I0, I0)
def protect(ti: Ints, d: int, how: int, o: int, h: int, lo: int, c: int) -> tuple[int, int, int, int]:
    """Protective orders against one bar (section 4): reason or NOTHING, price, AT_OPEN or INSIDE, 1 if ambiguous."""
    side = ti[d, T_SIDE]
    stop, reason = working_stop(ti, d)
    target = ti[d, T_TARGET]
    down = lo if side > 0 else h
    up = h if side > 0 else lo
    stop_hit = stop != NO_LEVEL and side * (down - stop) <= 0
    if how == HELD_BY_LIMIT:
        up = c  # the favourable extreme may lie before the fill
    target_hit = target != NO_LEVEL and side * (up - target) >= 0
    if how == HELD_CARRIED:
        if stop_hit and side * (o - stop) <= 0:
            return reason, o, AT_OPEN, 0
        if target_hit and side * (o - target) >= 0:
            return TARGET, o, AT_OPEN, 0
    if stop_hit:
        early = how == HELD_BY_STOP and side * (c - stop) > 0  # the adverse extreme may lie before the fill
        return reason, stop, INSIDE, 1 if target_hit or early else 0
    if target_hit:
        return TARGET, target, INSIDE, 0
    return NOTHING, 0, INSIDE, 0


@fixed("void", I2, I0, I0, I0)
def saw(ti: Ints, d: int, best: int, worst: int) -> None:
    """Widen the excursions by two prices met while held."""
    if not KEEP:
        return
    side = ti[d, T_SIDE]
    entry = ti[d, T_ENTRY]
    ti[d, T_BEST] = max(ti[d, T_BEST], side * (best - entry))
    ti[d, T_WORST] = min(ti[d, T_WORST], side * (worst - entry))


@fixed("void", I2, I0, I0, I0, I0, I0, I0, I0, I0)
def witness(ti: Ints, d: int, how: int, reason: int, when: int, o: int, h: int, lo: int, c: int) -> None:
    """Excursions of one bar, the certain part only; the fill itself is added on closing."""
    if not KEEP:
        return
    side = ti[d, T_SIDE]
    up = h if side > 0 else lo
    down = lo if side > 0 else h
    whole = how in (HELD_CARRIED, HELD_FRESH)
    if reason == NOTHING:
        if whole:
            saw(ti, d, up, down)
        elif how == HELD_BY_STOP:
            saw(ti, d, up, c)
        else:
            saw(ti, d, c, down)
    elif when == INSIDE:
        if reason == TARGET:
            if how != HELD_BY_STOP:
                saw(ti, d, down, down)
        elif whole:
            saw(ti, d, o, o)


@fixed("UniTuple(float64, 6)", I2, F2, I0, F1, I0, I0, I0, F64)
def settled(ti: Ints, tf: Floats, d: int, x: Floats, price: int, reason: int, nights: int,
            rate: float) -> tuple[float, float, float, float, float, float]:
    """What a trade comes to if it ends at this price: gross, spread, slippage, commission, financing, net. A net that is
    nothing beside the amounts it is made of is nothing."""
    side = ti[d, T_SIDE]
    quantity = tf[d, F_QUANTITY]
    unit = x[X_TICK_VALUE] * quantity * rate
    slips = (0.0 if ti[d, T_KIND] == BY_LIMIT else 1.0) + (0.0 if reason == TARGET else 1.0)
    gross = side * (price - ti[d, T_ENTRY]) * unit
    spread = x[X_SPREAD] * unit
    slippage = slips * x[X_SLIPPAGE] * unit
    commission = tf[d, F_ENTRY_COMMISSION] + commission_of(x, price, quantity, rate)
    financing = financing_ticks(x, side, nights - ti[d, T_NIGHTS]) * unit if FULL else 0.0
    net = gross - spread - slippage - commission - financing
    if abs(net) <= SAME * max(abs(gross), spread, slippage, abs(commission), abs(financing)):
        net = 0.0
    return gross, spread, slippage, commission, financing, net


@fixed("void", I2, F2, I1, I2, F1, F1, I1, F1, I0, I0, I0, I0, I0, I0, F64)
def close_position(ti: Ints, tf: Floats, s: Ints, log: Ints, purse: Floats, x: Floats, counts: Ints, nets: Floats,
                   price: int, bar: int, fine: int, how: int, reason: int, nights: int, rate: float) -> None:
    """Finish the open trade, book it, and make the next row the open one. nets: float64, room for its net where rows are not
    kept."""
    d = row_of(s)
    gross, spread, slippage, commission, financing, net = settled(ti, tf, d, x, price, reason, nights, rate)
    counts[C_AMBIGUOUS] += ti[d, T_AMBIGUOUS]
    purse[P_CASH] += net
    if KEEP:
        side = ti[d, T_SIDE]
        saw(ti, d, price, price)
        ti[d, T_NIGHTS] = nights - ti[d, T_NIGHTS]
        ti[d, T_EXIT_BAR] = bar
        ti[d, T_EXIT] = price
        ti[d, T_EXIT_AT] = how
        ti[d, T_EXIT_FINE] = fine
        ti[d, T_REASON] = reason
        ti[d, T_HELD] = bar - ti[d, T_ENTRY_BAR] + (1 if ti[d, T_ENTRY_AT] != AT_CLOSE else 0)
        tf[d, F_GROSS] = gross
        tf[d, F_SPREAD] = spread
        tf[d, F_SLIPPAGE] = slippage
        tf[d, F_COMMISSION] = commission
        tf[d, F_FINANCING] = financing
        tf[d, F_NET] = net
        tf[d, F_RATE] = rate
        purse[P_GROSS] += gross
        if reason not in (STOP, BREAK_EVEN, TRAIL, TARGET):
            s[S_ORDERS] += 1
        if FULL and len(log) > 0:
            _log_exit(ti, d, s, log, side, bar, fine, how, reason, price)
    else:
        nets[s[S_DONE]] = net
    s[S_DONE] += 1
    ti[row_of(s), T_SIDE] = 0


@fixed("void", I2, I0, I1, I2, I0, I0, I0, I0, I0, I0, inline=False)
def _log_exit(ti: Ints, d: int, s: Ints, log: Ints, side: int, bar: int, fine: int, how: int, reason: int,
              price: int) -> None:
    by_stop = reason in (STOP, BREAK_EVEN)
    if ti[d, T_STOP] != NO_LEVEL or ti[d, T_EVEN] != NO_LEVEL:
        order = ORDER_EVEN if reason == BREAK_EVEN else ORDER_STOP
        note(log, s, FILLED if by_stop else CANCELLED, order, s[S_STOP_ORDER], -side, bar, fine, how,
             price if by_stop else NO_LEVEL, reason if by_stop else W_OVER)
    if ti[d, T_TRAIL] != NO_LEVEL:
        note(log, s, FILLED if reason == TRAIL else CANCELLED, ORDER_TRAIL, s[S_TRAIL_ORDER], -side, bar, fine, how,
             price if reason == TRAIL else NO_LEVEL, reason if reason == TRAIL else W_OVER)
    if ti[d, T_TARGET] != NO_LEVEL:
        note(log, s, FILLED if reason == TARGET else CANCELLED, ORDER_TARGET, s[S_TARGET_ORDER], -side, bar, fine, how,
             price if reason == TARGET else NO_LEVEL, reason if reason == TARGET else W_OVER)
    if not by_stop and reason != TRAIL and reason != TARGET:
        note(log, s, FILLED, ORDER_EXIT, s[S_ORDERS], -side, bar, fine, how, price, reason)


@fixed("void", I2, F2, I1, I2, F1, I0, I0, I0)
def move_stops(ti: Ints, tf: Floats, s: Ints, log: Ints, x: Floats, bar: int, high: int, low: int) -> None:
    """Trail and break even after a closed bar that counts; what moves here works from the next bar on. x: the numbers that
    the position was opened with."""
    d = row_of(s)
    side = ti[d, T_SIDE]
    entry = ti[d, T_ENTRY]
    extreme = high if side > 0 else low
    if ti[d, T_PEAK] == NO_LEVEL or side * (extreme - ti[d, T_PEAK]) > 0:
        ti[d, T_PEAK] = extreme
    peak = ti[d, T_PEAK]
    profit = side * (peak - entry)
    if x[X_EVEN_UNIT] != NONE and ti[d, T_EVEN] == NO_LEVEL and profit >= max(1.0, tf[d, F_EVEN] - 1e-6):
        ti[d, T_EVEN] = entry + side * int(x[X_EVEN_PLUS])
        if ti[d, T_STOP] == NO_LEVEL:
            s[S_ORDERS] += 1
            s[S_STOP_ORDER] = s[S_ORDERS]
        note(log, s, MOVED, ORDER_EVEN, s[S_STOP_ORDER], -side, bar, -1, AT_CLOSE, ti[d, T_EVEN], BREAK_EVEN)
    if x[X_TRAIL_UNIT] != NONE and (x[X_START_UNIT] == NONE or profit >= max(1.0, tf[d, F_START] - 1e-6)):
        level = away(peak, -side, tf[d, F_TRAIL])
        if ti[d, T_TRAIL] == NO_LEVEL:
            s[S_ORDERS] += 1
            s[S_TRAIL_ORDER] = s[S_ORDERS]
            ti[d, T_TRAIL] = level
            note(log, s, PLACED, ORDER_TRAIL, s[S_TRAIL_ORDER], -side, bar, -1, AT_CLOSE, level, TRAIL)
        elif side * (level - ti[d, T_TRAIL]) >= max(1, x[X_TRAIL_STEP]):
            ti[d, T_TRAIL] = level
            note(log, s, MOVED, ORDER_TRAIL, s[S_TRAIL_ORDER], -side, bar, -1, AT_CLOSE, level, TRAIL)
