"""The event loop that decides every fill. The only one in the project; docs/engine.md states the contract.

Prices are integer ticks throughout, so that comparisons are exact. Money is float64 in account currency.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.inputs import Asked, Bits, Clock, Finer, Floats, Ints, Ticks
from wolbrin.core.engine.jit import F1, F2, F64, I0, I1, I2, B, bare, fixed
from wolbrin.core.engine.orders import cancel, capped, enter, expire, meet_orders, order
from wolbrin.core.engine.position import (
    close_position,
    financing_ticks,
    marked,
    move_stops,
    note,
    protect,
    witness,
    working_stop,
)

# Module-level copies: numba freezes plain globals into the compiled code.
(TIME, CONDITION, REVERSE, SESSION, SESSION_LATE, END_OF_DATA, RUIN, NOTHING) = (
    k.TIME, k.CONDITION, k.REVERSE, k.SESSION, k.SESSION_LATE, k.END_OF_DATA, k.RUIN, k.NOTHING)
REVERSES, IGNORES = k.REVERSES, k.IGNORES
NONE, BY_MARKET = k.NONE, k.BY_MARKET
AT_OPEN, AT_CLOSE = k.AT_OPEN, k.AT_CLOSE
HELD_NONE, HELD_CARRIED, HELD_FRESH = k.HELD_NONE, k.HELD_CARRIED, k.HELD_FRESH
(T_SIDE, T_ENTRY_BAR, T_ENTRY, T_TARGET, T_AMBIGUOUS, T_ENTRY_AT, T_NIGHTS, T_BEST, T_WORST, T_COUNTS, T_PEAK) = (
    k.T_SIDE, k.T_ENTRY_BAR, k.T_ENTRY, k.T_TARGET, k.T_AMBIGUOUS, k.T_ENTRY_AT, k.T_NIGHTS, k.T_BEST, k.T_WORST,
    k.T_COUNTS, k.T_PEAK)
F_QUANTITY, F_ENTRY_COMMISSION, F_DRAG = k.F_QUANTITY, k.F_ENTRY_COMMISSION, k.F_DRAG
C_CONFLICTS, C_LATE, C_EXPOSED, C_RUINED, C_WHOLE = k.C_CONFLICTS, k.C_LATE, k.C_EXPOSED, k.C_RUINED, k.C_WHOLE
NUMBER_OF_COUNTS = len(k.COUNTS)
P_CASH, P_GROSS = k.P_CASH, k.P_GROSS
S_DONE, S_ORDERS, S_FAULT, S_EXPOSED, S_LEFT, S_DATE = k.S_DONE, k.S_ORDERS, k.S_FAULT, k.S_EXPOSED, k.S_LEFT, k.S_DATE
S_TODAY, S_FILLS = k.S_TODAY, k.S_FILLS
T_STOP = k.T_STOP
BARS_HELD, OPEN_PROFIT_R = k.BARS_HELD, k.OPEN_PROFIT_R
ABOVE, BELOW, AT_OR_ABOVE, AT_OR_BELOW = k.ABOVE, k.BELOW, k.AT_OR_ABOVE, k.AT_OR_BELOW
STATE, WAITING_INTS, WAITING_FLOATS = k.STATE, k.WAITING_INTS, k.WAITING_FLOATS
(X_THIS_CLOSE, X_ON_OPPOSITE, X_FLAT, X_TIME_EXIT, X_LONG_KIND, X_SHORT_KIND, X_TRAIL_UNIT, X_EVEN_UNIT, X_CAPITAL,
 X_TICK_VALUE) = (k.X_THIS_CLOSE, k.X_ON_OPPOSITE, k.X_FLAT, k.X_TIME_EXIT, k.X_LONG_KIND, k.X_SHORT_KIND,
                  k.X_TRAIL_UNIT, k.X_EVEN_UNIT, k.X_CAPITAL, k.X_TICK_VALUE)
O_SIDE = k.O_SIDE
LONG_ROW, SHORT_ROW, MARKET_ROW = k.LONG_ROW, k.SHORT_ROW, k.MARKET_ROW
LONG_IN, SHORT_IN, LONG_OUT, SHORT_OUT, BLOCKED, EDGE = k.LONG_IN, k.SHORT_IN, k.LONG_OUT, k.SHORT_OUT, k.BLOCKED, k.EDGE
CONDITIONS = LONG_IN | SHORT_IN | LONG_OUT | SHORT_OUT
PLACED, ORDER_EXIT = k.PLACED, k.ORDER_EXIT
W_SESSION = k.W_SESSION
NO_LEVEL = k.NO_LEVEL
FAR = 2**40  # a level no bar reaches


@njit(cache=True, nogil=True, forceinline=True, error_model="numpy")
def idle(first: int, stop: int, cash: float, gross: float, net_curve: Floats, gross_curve: Floats,
         position_curve: NDArray[np.int8]) -> None:
    """Curves of bars first .. stop - 1, on which nothing is held and nothing wanted."""
    for i in range(first, stop):
        net_curve[i] = cash
    if len(gross_curve) > 0:
        for i in range(first, stop):
            gross_curve[i] = gross
            position_curve[i] = 0


@njit(cache=True, nogil=True, forceinline=True, error_model="numpy")
def carry(first: int, stop_at: int, side: int, entry: int, upper: int, lower: int, mask: int, base: float, drag: float,
          unit: float, gross: float, high: Ticks, low: Ticks, close: Ticks, signals: Bits, nights_end: Ints,
          rate_end: Floats, nights: int, x: Floats, net_curve: Floats, gross_curve: Floats,
          position_curve: NDArray[np.int8]) -> tuple[int, int, int]:
    """Carry an open position over bars on which nothing can happen to it; returns the first bar that needs a closer
    look, and the highest high and lowest low passed.

    Such a bar stays between `lower` and `upper` (exclusive), has no signal of `mask`, lies before `stop_at`, and does not
    end in ruin. The long way would change only equity and excursions, and computes them by the same formula.
    """
    i = first
    while i < stop_at and high[i] < upper and low[i] > lower and signals[i] & mask == 0:
        i += 1
    start = float(entry)
    least = 1.0
    financed = len(nights_end) > 1
    # The plain loops below have no branches, so that the compiler can work on several bars at once.
    if financed or len(rate_end) > 1:
        for j in range(first, i):
            held = nights_end[j] - nights if financed else 0
            rate = rate_end[j] if len(rate_end) > 1 else rate_end[0]
            value = base + (side * (close[j] - start) - (drag + financing_ticks(x, side, held))) * (unit * rate)
            net_curve[j] = value
            least = min(least, value)
    else:
        whole = unit * rate_end[0]
        for j in range(first, i):
            value = base + (side * (close[j] - start) - drag) * whole
            net_curve[j] = value
            least = min(least, value)
    if least <= 0.0:
        for j in range(first, i):
            if net_curve[j] <= 0.0:
                i = j
                break
    top = np.int32(entry)
    bottom = np.int32(entry)
    for j in range(first, i):
        top = max(top, high[j])
        bottom = min(bottom, low[j])
    if len(gross_curve) > 0:
        for j in range(first, i):
            rate = rate_end[j] if len(rate_end) > 1 else rate_end[0]
            gross_curve[j] = gross + side * (close[j] - start) * (unit * rate)
            position_curve[j] = side
    return i, int(top), int(bottom)


@fixed(I0, I2, F2, I2, F2, I1, I2, F1, I1, F1, F2, I0, I0, B, I0, I0, I0, I0, I0, I0, F64)
def walk(ti: Ints, tf: Floats, wi: Ints, wf: Floats, s: Ints, log: Ints, purse: Floats, counts: Ints, x: Floats,
         needs: Floats, bar: int, fine: int, first: bool, how: int, o: int, h: int, lo: int, c: int, nights: int,
         rate: float) -> int:
    """Steps 2 to 4 of one bar, or of one finer bar: resting orders, then protective orders against the rest of it.

    how: how the position stands as the bar opens (codes.HELD_*). Returns how it stands as the next finer bar opens.
    """
    if how == HELD_NONE:
        if s[S_LEFT] == 0:
            how = meet_orders(ti, tf, wi, wf, s, log, counts, x, needs, bar, fine, first, o, h, lo, nights, rate)
        if how == HELD_NONE:
            return HELD_NONE
    d = s[S_DONE]
    reason, price, when, unsure = protect(ti, d, how, o, h, lo, c)
    if unsure != 0:
        ti[d, T_AMBIGUOUS] = 1
    if not (reason != NOTHING and when == AT_OPEN and first):
        s[S_EXPOSED] = 1
    witness(ti, d, how, reason, when, o, h, lo, c)
    if reason == NOTHING:
        return HELD_CARRIED
    s[S_LEFT] = 1
    close_position(ti, tf, s, log, purse, x, counts, price, bar, fine, when, reason, nights, rate)
    return HELD_NONE


@fixed(I0, I2, I2, F2, I1, I2, I1, F1, F2, I0, I0, I0, B, I0, F64, F64)
def decide_orders(ti: Ints, wi: Ints, wf: Floats, s: Ints, log: Ints, counts: Ints, x: Floats, needs: Floats, which: int,
                  i: int, wants: int, last: bool, close: int, equity: float, rate: float) -> int:
    """Read the signals of bar i: the reason to leave, or NOTHING; entry orders are left waiting."""
    d = s[S_DONE]
    side = ti[d, T_SIDE]
    long_in = wants & LONG_IN != 0
    short_in = wants & SHORT_IN != 0
    if long_in and short_in and (x[X_LONG_KIND] == BY_MARKET or x[X_SHORT_KIND] == BY_MARKET):
        counts[C_CONFLICTS] += 1
        long_in = False
        short_in = False
    leave = NOTHING
    if side != 0:
        held = i - ti[d, T_ENTRY_BAR] + (1 if ti[d, T_ENTRY_AT] != AT_CLOSE else 0)
        if x[X_TIME_EXIT] > 0 and held >= x[X_TIME_EXIT]:
            leave = TIME
        elif wants & (LONG_OUT if side > 0 else SHORT_OUT) != 0:
            leave = CONDITION
        elif x[X_ON_OPPOSITE] != IGNORES and (short_in if side > 0 else long_in):
            leave = REVERSE
        if x[X_ON_OPPOSITE] != REVERSES:
            long_in = False
            short_in = False
        elif side > 0:
            long_in = False
        else:
            short_in = False
    if (long_in or short_in) and not last and wants & BLOCKED == 0 and not capped(x, s):
        for turn in range(2):
            if long_in if turn == 0 else short_in:
                order(wi, wf, s, log, counts, x, needs, which, 1 - 2 * turn, i, close, equity, rate)
    return leave


@fixed(I0, I2, I1, F2, I0, I0, inline=False)
def position_case(ti: Ints, s: Ints, rows: Floats, i: int, close: int) -> int:
    """Which rows on the state of the position hold at the close of bar i, as a number: bit r for row r."""
    d = s[S_DONE]
    side = ti[d, T_SIDE]
    case = 0
    for r in range(len(rows)):
        value = 0.0
        if rows[r, 0] == BARS_HELD:
            if side != 0:
                value = float(i - ti[d, T_ENTRY_BAR] + (1 if ti[d, T_ENTRY_AT] != AT_CLOSE else 0))
        elif rows[r, 0] == OPEN_PROFIT_R:
            if side != 0 and ti[d, T_STOP] != NO_LEVEL:
                value = side * (close - ti[d, T_ENTRY]) / float(abs(ti[d, T_ENTRY] - ti[d, T_STOP]))
        elif s[S_DATE] == s[S_TODAY]:
            value = float(s[S_FILLS])
        other = rows[r, 2]
        how = rows[r, 1]
        if how == ABOVE:
            holds = value > other
        elif how == BELOW:
            holds = value < other
        elif how == AT_OR_ABOVE:
            holds = value >= other
        elif how == AT_OR_BELOW:
            holds = value <= other
        else:
            holds = value == other
        if holds:
            case |= 1 << r
    return case


@njit(cache=True, nogil=True, error_model="numpy")
def simulate(open_: Ticks, high: Ticks, low: Ticks, close: Ticks, session: NDArray[np.int32], last_bar: Bits, signals: Bits,
             entries: Ints, needs: Floats, clock: Clock, finer: Finer, asked: Asked, x: Floats, trades_i: Ints,
             trades_f: Floats, log: Ints, net_curve: Floats, gross_curve: Floats,
             position_curve: NDArray[np.int8]) -> tuple[Ints, Ints, int]:
    """Run one strategy over all n bars given: the first one is the first that decides, the last one ends the data.

    Args:
        open_, high, low, close: int32[n] ticks. session: int32[n]. last_bar: uint8[n], 1 on a session's last bar.
        signals: uint8[n], codes.LONG_IN .. BLOCKED at each close; EDGE where a session begins or ends, if flat matters.
        entries: int64[m], bars with an entry signal, in order. needs: float64[m, NEEDS], what their orders need.
        asked: rows on the state of the position; signals then say what may hold in some state.
        x: float64[PARAMETERS], see inputs.parameters.
        trades_i, trades_f: room for the trades, [>= m + 2, INT_COLUMNS / FLOAT_COLUMNS]; bar columns count from the first
            bar given.
        log: int64[room, LOG_COLUMNS], length 0 for no log.
        net_curve: float64[n], equity marked to the close. gross_curve, position_curve: the same length, or length 0
            for a statistics-only run.
    Returns:
        state (codes.S_: trades done, log events, fault), counts (codes.COUNTS), number of bars run (fewer than n only
        after a fault).
    """
    counts_kept = np.zeros(NUMBER_OF_COUNTS, np.int64)
    s_kept = np.zeros(STATE, np.int64)
    wi_kept = np.zeros((3, WAITING_INTS), np.int64)
    wf_kept = np.zeros((3, WAITING_FLOATS), np.float64)
    purse_kept = np.zeros(2, np.float64)
    counts, s, wi, wf, purse = bare(counts_kept), bare(s_kept), bare(wi_kept), bare(wf_kept), bare(purse_kept)
    trades_i, trades_f, log, x, needs = bare(trades_i), bare(trades_f), bare(log), bare(x), bare(needs)
    open_, high, low, close, session = bare(open_), bare(high), bare(low), bare(close), bare(session)
    last_bar, signals, entries = bare(last_bar), bare(signals), bare(entries)
    net_curve, gross_curve, position_curve = bare(net_curve), bare(gross_curve), bare(position_curve)
    s[S_DATE] = NO_LEVEL
    n = len(close)
    detail = len(gross_curve) > 0
    nights_start, nights_end = bare(clock.nights_start), bare(clock.nights_end)
    rates_start, rates_end, dates = bare(clock.rate_start), bare(clock.rate_end), bare(clock.date)
    financed = len(nights_end) > 1
    rated = len(rates_end) > 1
    has_finer = len(finer.first) > 1
    fine_nights = len(finer.nights) > 1
    flat = x[X_FLAT] != 0
    this_close = x[X_THIS_CLOSE] != 0
    time_exit = int(x[X_TIME_EXIT])
    moving = x[X_TRAIL_UNIT] != NONE or x[X_EVEN_UNIT] != NONE
    purse[P_CASH] = x[X_CAPITAL]
    purse[P_GROSS] = x[X_CAPITAL]
    trades_i[0, T_SIDE] = 0
    pending_exit = NOTHING
    ruined = False
    exposed = 0
    waiting = False
    d = 0
    side = 0
    mask = 0
    which = 0  # the first entry signal at or after bar i
    i = 0
    while i < n:
        while which < len(entries) and entries[which] < i:
            which += 1
        if side == 0 and not waiting:
            until = n
            if not ruined and which < len(entries):
                until = entries[which]
            if until > i:
                idle(i, until, purse[P_CASH], purse[P_GROSS], net_curve, gross_curve, position_curve)
                i = until
                continue
        if side != 0 and pending_exit == NOTHING and signals[i] & mask == 0 and (
                not moving or trades_i[d, T_PEAK] != NO_LEVEL):
            stop_at = n - 1
            if time_exit > 0:
                entry_bar = trades_i[d, T_ENTRY_BAR] + (1 if trades_i[d, T_ENTRY_AT] == AT_CLOSE else 0)
                stop_at = min(stop_at, entry_bar + time_exit - 1)
            adverse = working_stop(trades_i, d)[0]
            good = trades_i[d, T_TARGET]
            adverse = adverse if adverse != NO_LEVEL else -side * FAR
            good = good if good != NO_LEVEL else side * FAR
            if moving:  # a new best price may move a stop
                beyond = trades_i[d, T_PEAK] + side
                good = min(good, beyond) if side > 0 else max(good, beyond)
            entry = trades_i[d, T_ENTRY]
            j, top, bottom = carry(i, stop_at, side, entry, good if side > 0 else adverse, adverse if side > 0 else good,
                                   mask, purse[P_CASH] - trades_f[d, F_ENTRY_COMMISSION], trades_f[d, F_DRAG],
                                   x[X_TICK_VALUE] * trades_f[d, F_QUANTITY], purse[P_GROSS], high, low, close, signals,
                                   nights_end, rates_end, trades_i[d, T_NIGHTS], x, net_curve, gross_curve, position_curve)
            if j > i:
                exposed += j - i
                trades_i[d, T_BEST] = max(trades_i[d, T_BEST], top - entry if side > 0 else entry - bottom)
                trades_i[d, T_WORST] = min(trades_i[d, T_WORST], bottom - entry if side > 0 else entry - top)
                i = j
                continue
        o = int(open_[i])
        h = int(high[i])
        lo = int(low[i])
        c = int(close[i])
        n_start = nights_start[i] if financed else 0
        n_end = nights_end[i] if financed else 0
        rate_start = rates_start[i] if rated else rates_start[0]
        rate_end = rates_end[i] if rated else rates_end[0]
        last = flat and last_bar[i] != 0
        s[S_EXPOSED] = 0
        s[S_LEFT] = 0
        s[S_TODAY] = dates[i] if len(dates) > 1 else dates[0]

        # 1. Open: market exits, then market entries. No order outlives its session when flat by session end.
        if flat and i > 0 and session[i] != session[i - 1]:
            for row in range(3):
                cancel(wi, row, s, log, i, AT_OPEN, W_SESSION)
            if side != 0 and pending_exit == NOTHING:
                pending_exit = SESSION_LATE
                counts[C_LATE] += 1
        if side != 0 and pending_exit != NOTHING:
            close_position(trades_i, trades_f, s, log, purse, x, counts, o, i, -1, AT_OPEN, pending_exit, n_start,
                           rate_start)
        pending_exit = NOTHING
        how = HELD_CARRIED if trades_i[s[S_DONE], T_SIDE] != 0 else HELD_NONE
        if wi[MARKET_ROW, O_SIDE] != 0 and enter(trades_i, trades_f, wi, wf, MARKET_ROW, s, log, counts, x, needs, o, i, -1,
                                                 AT_OPEN, n_start, rate_start):
            how = HELD_FRESH

        # 2 to 4. Resting and protective orders, through the finer bars where they are at hand.
        begin, end = i, i + 1
        fine = has_finer and finer.usable[i] != 0
        if fine:
            begin, end = finer.first[i], finer.first[i + 1]
        elif has_finer and (how != HELD_NONE or waiting):
            counts[C_WHOLE] += 1
        for j in range(begin, end):
            o_j, h_j, lo_j, c_j, n_j = o, h, lo, c, n_start
            if fine:
                o_j, h_j, lo_j, c_j = int(finer.open[j]), int(finer.high[j]), int(finer.low[j]), int(finer.close[j])
                n_j = finer.nights[j] if fine_nights else 0
            how = walk(trades_i, trades_f, wi, wf, s, log, purse, counts, x, needs, i, j if fine else -1, j == begin, how,
                       o_j, h_j, lo_j, c_j, n_j, rate_start)
        exposed += s[S_EXPOSED]

        # 6. Close: everything is read before any fill at this close.
        equity = purse[P_CASH]
        expire(wi, s, log, counts, i)
        wants = int(signals[i])
        if len(asked.rows) > 0 and wants & CONDITIONS != 0:
            case = np.uint64(position_case(trades_i, s, asked.rows, i, c))
            for bit in range(4):
                if asked.tables[bit, i] >> case & np.uint64(1) == 0:
                    wants &= ~(1 << bit)
        leave = decide_orders(trades_i, wi, wf, s, log, counts, x, needs, which, i, wants, last, c, equity, rate_end)
        faulty = s[S_FAULT] != 0
        if last:
            cancel(wi, LONG_ROW, s, log, i, AT_CLOSE, W_SESSION)
            cancel(wi, SHORT_ROW, s, log, i, AT_CLOSE, W_SESSION)
        if not this_close:
            pending_exit = leave
            leave = NOTHING
        # In turn: exits, ruin, entries and session exits, ruin once more, end of data.
        stop = False
        for turn in range(3):
            reason = leave if turn == 0 else NOTHING
            if turn > 0 and marked(trades_i, trades_f, s[S_DONE], purse, x, c, n_end, rate_end) <= 0.0:
                reason = RUIN
                ruined = True
            elif turn == 1:
                if this_close and wi[MARKET_ROW, O_SIDE] != 0:
                    enter(trades_i, trades_f, wi, wf, MARKET_ROW, s, log, counts, x, needs, c, i, -1, AT_CLOSE, n_end,
                          rate_end)
                if last:
                    reason = SESSION
            elif turn == 2 and (i == n - 1 or faulty):
                reason = END_OF_DATA
            if reason != NOTHING and trades_i[s[S_DONE], T_SIDE] != 0:
                close_position(trades_i, trades_f, s, log, purse, x, counts, c, i, -1, AT_CLOSE, reason, n_end, rate_end)
            if reason in (RUIN, END_OF_DATA):
                for row in range(3):
                    cancel(wi, row, s, log, i, AT_CLOSE, reason)
                pending_exit = NOTHING
                stop = True
            if stop:
                break

        d = s[S_DONE]
        side = trades_i[d, T_SIDE]
        waiting = wi[LONG_ROW, O_SIDE] != 0 or wi[SHORT_ROW, O_SIDE] != 0 or wi[MARKET_ROW, O_SIDE] != 0
        if side != 0:
            if moving and (trades_i[d, T_ENTRY_BAR] != i or trades_i[d, T_COUNTS] != 0):
                move_stops(trades_i, trades_f, s, log, x, i, h, lo)
            # A conflict shows in the opposite side's bit too.
            mask = EDGE | ((LONG_OUT | SHORT_IN) if side > 0 else (SHORT_OUT | LONG_IN))
            if pending_exit != NOTHING and len(log) > 0:
                note(log, s, PLACED, ORDER_EXIT, s[S_ORDERS] + 1, -side, i, -1, AT_CLOSE, NO_LEVEL, pending_exit)
        net_curve[i] = marked(trades_i, trades_f, d, purse, x, c, n_end, rate_end)
        if detail:
            position_curve[i] = side
            gross_curve[i] = purse[P_GROSS]
            if side != 0:
                gross_curve[i] += side * (c - trades_i[d, T_ENTRY]) * (x[X_TICK_VALUE] * trades_f[d, F_QUANTITY] * rate_end)
        i += 1
        if faulty:
            break
    counts[C_EXPOSED] = exposed
    counts[C_RUINED] = 1 if ruined or purse[P_CASH] <= 0.0 else 0
    wf_kept[0, 0] = wi_kept[0, 0] + purse_kept[0]  # used to the end, so that their memory is
    return s_kept, counts_kept, i
