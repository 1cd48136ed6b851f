"""The event loop that decides every fill. The only one in the project; docs/engine.md states the contract.

`begin`, `advance` as often as one likes, `finish`: all that a run is lies in the arrays passed in, and cutting it at any
bars gives the same bits as running it whole. One source: codes.FULL and codes.KEEP say what a form of it can leave out.

Prices are integer ticks throughout, so that comparisons are exact. Money is float64 in account currency.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.inputs import Books, Clock, Finer, Floats, Ints, State, Tape, Ticks, Wanted
from wolbrin.core.engine.jit import F1, F2, F64, I0, I1, I2, B, bare, fixed
from wolbrin.core.engine.orders import cancel, capped, enter, expire, meet_orders, order
from wolbrin.core.engine.passing import ahead, book, carry, idle, next_event, wanted_at
from wolbrin.core.engine.position import (
    close_position,
    gone,
    marked,
    move_stops,
    note,
    protect,
    row_of,
    settled,
    witness,
    working_stop,
)

# Module-level copies: numba freezes plain globals into the compiled code.
FULL, KEEP = k.FULL, k.KEEP
(TIME, CONDITION, REVERSE, SESSION, SESSION_LATE, END_OF_DATA, RUIN, NOTHING) = (
    k.TIME, k.CONDITION, k.REVERSE, k.SESSION, k.SESSION_LATE, k.END_OF_DATA, k.RUIN, k.NOTHING)
REVERSES, IGNORES = k.REVERSES, k.IGNORES
NONE, BY_MARKET = k.NONE, k.BY_MARKET
AT_OPEN, AT_CLOSE = k.AT_OPEN, k.AT_CLOSE
HELD_NONE, HELD_CARRIED, HELD_FRESH = k.HELD_NONE, k.HELD_CARRIED, k.HELD_FRESH
(T_SIDE, T_ENTRY_BAR, T_ENTRY, T_STOP, T_TARGET, T_AMBIGUOUS, T_ENTRY_AT, T_COUNTS, T_PEAK, T_NUMBERS) = (
    k.T_SIDE, k.T_ENTRY_BAR, k.T_ENTRY, k.T_STOP, k.T_TARGET, k.T_AMBIGUOUS, k.T_ENTRY_AT, k.T_COUNTS, k.T_PEAK, k.T_NUMBERS)
F_QUANTITY = k.F_QUANTITY
C_CONFLICTS, C_LATE, C_EXPOSED, C_RUINED, C_WHOLE = k.C_CONFLICTS, k.C_LATE, k.C_EXPOSED, k.C_RUINED, k.C_WHOLE
(P_CASH, P_GROSS, P_PEAK, P_MARK, P_OTHERS, P_WEIGHT, P_SHARED) = (
    k.P_CASH, k.P_GROSS, k.P_PEAK, k.P_MARK, k.P_OTHERS, k.P_WEIGHT, k.P_SHARED)
(S_DONE, S_ORDERS, S_FAULT, S_EXPOSED, S_LEFT, S_DATE, S_TODAY, S_FILLS, S_BAR, S_TAIL, S_PENDING, S_WHICH, S_NUMBERS,
 S_GIVEN_UP, S_BARRED, S_INSIDE) = (
    k.S_DONE, k.S_ORDERS, k.S_FAULT, k.S_EXPOSED, k.S_LEFT, k.S_DATE, k.S_TODAY, k.S_FILLS, k.S_BAR, k.S_TAIL, k.S_PENDING,
    k.S_WHICH, k.S_NUMBERS, k.S_GIVEN_UP, k.S_BARRED, k.S_INSIDE)
BARS_HELD, OPEN_PROFIT_R = k.BARS_HELD, k.OPEN_PROFIT_R
ABOVE, BELOW, AT_OR_ABOVE, AT_OR_BELOW = k.ABOVE, k.BELOW, k.AT_OR_ABOVE, k.AT_OR_BELOW
(X_THIS_CLOSE, X_ON_OPPOSITE, X_FLAT, X_TIME_EXIT, X_LONG_KIND, X_SHORT_KIND, X_TRAIL_UNIT, X_EVEN_UNIT, X_CAPITAL,
 X_TICK_VALUE) = (k.X_THIS_CLOSE, k.X_ON_OPPOSITE, k.X_FLAT, k.X_TIME_EXIT, k.X_LONG_KIND, k.X_SHORT_KIND,
                  k.X_TRAIL_UNIT, k.X_EVEN_UNIT, k.X_CAPITAL, k.X_TICK_VALUE)
O_SIDE = k.O_SIDE
LONG_ROW, SHORT_ROW, MARKET_ROW = k.LONG_ROW, k.SHORT_ROW, k.MARKET_ROW
LONG_IN, SHORT_IN, LONG_OUT, SHORT_OUT, BLOCKED = k.LONG_IN, k.SHORT_IN, k.LONG_OUT, k.SHORT_OUT, k.BLOCKED
EDGE = k.EDGE
EXITS = LONG_OUT | SHORT_OUT
CONDITIONS = LONG_IN | SHORT_IN | EXITS
PLACED, ORDER_EXIT = k.PLACED, k.ORDER_EXIT
W_SESSION = k.W_SESSION
NO_LEVEL = k.NO_LEVEL
FAR = 2**40  # a level no bar reaches
B2 = "int32[:, ::1]"


@fixed(I0, I2, F2, I2, F2, I1, I2, F1, I1, F2, F1, I0, I0, B, I0, I0, I0, I0, I0, I0, F64)
def walk(ti: Ints, tf: Floats, wi: Ints, wf: Floats, s: Ints, log: Ints, purse: Floats, counts: Ints, xs: Floats,
         nets: Floats, bar: int, fine: int, first: bool, how: int, o: int, h: int, lo: int, c: int, nights: int,
         rate: float) -> int:
    """Steps 2 to 4 of one bar, or of one finer bar: resting orders, then protective orders against the rest of it.

    how: how the position stands as the bar opens (codes.HELD_*). Returns how it stands as the next finer bar opens.
    """
    if how == HELD_NONE:
        if FULL and s[S_LEFT] == 0:
            waiting = abs(wi[LONG_ROW, O_SIDE]) + abs(wi[SHORT_ROW, O_SIDE])
            how = meet_orders(ti, tf, wi, wf, s, log, counts, xs, bar, fine, first, o, h, lo, nights, rate)
            if how != HELD_FRESH and abs(wi[LONG_ROW, O_SIDE]) + abs(wi[SHORT_ROW, O_SIDE]) != waiting:
                s[S_INSIDE] = 1
        if how == HELD_NONE:
            return HELD_NONE
    d = row_of(s)
    reason, price, when, unsure = protect(ti, d, how, o, h, lo, c)
    if unsure != 0:
        ti[d, T_AMBIGUOUS] = 1
    if not (reason != NOTHING and when == AT_OPEN and first):
        s[S_EXPOSED] = 1
    witness(ti, d, how, reason, when, o, h, lo, c)
    if reason == NOTHING:
        return HELD_CARRIED
    s[S_LEFT] = 1
    if when != AT_OPEN:
        s[S_INSIDE] = 1
    close_position(ti, tf, s, log, purse, xs[0], counts, nets, price, bar, fine, when, reason, nights, rate)
    return HELD_NONE


@fixed("UniTuple(int64, 2)", I2, I1, I1, F2, I0, I0)
def read_signals(ti: Ints, s: Ints, counts: Ints, xs: Floats, i: int, wants: int) -> tuple[int, int]:
    """Read the signals of bar i: the reason to leave, or NOTHING, and the entries that are still wanted (LONG_IN,
    SHORT_IN)."""
    d = row_of(s)
    x = xs[s[S_NUMBERS]] if FULL else xs[0]
    side = ti[d, T_SIDE]
    long_in = wants & LONG_IN != 0
    short_in = wants & SHORT_IN != 0
    if long_in and short_in and (not FULL or x[X_LONG_KIND] == BY_MARKET or x[X_SHORT_KIND] == BY_MARKET):
        counts[C_CONFLICTS] += 1
        long_in = False
        short_in = False
    leave = NOTHING
    if side != 0:
        held = i - ti[d, T_ENTRY_BAR] + (1 if ti[d, T_ENTRY_AT] != AT_CLOSE else 0)
        time_exit = xs[ti[d, T_NUMBERS] if FULL else 0, X_TIME_EXIT]
        if time_exit > 0 and held >= time_exit:
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
    return leave, (LONG_IN if long_in else 0) | (SHORT_IN if short_in else 0)


@fixed(I0, I1, I0)
def elder_of(rows: Ints, row: int) -> int:
    """The place of a row of numbers among `rows`, -1 where it is not there: it decides now."""
    for e in range(len(rows)):
        if rows[e] == row:
            return e
    return -1


@fixed(I0, I2, I1, F2, I0, I0, inline=False)
def position_case(ti: Ints, s: Ints, rows: Floats, i: int, close: int) -> int:
    """Which rows on the state of the position hold at the close of bar i, as a number: bit r for row r."""
    d = row_of(s)
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
def begin(xs: Floats, state: State, books: Books) -> None:
    """Ready a state and its books for the first bar. xs: float64[rows, PARAMETERS], see `advance`."""
    books.trades_i[0, T_SIDE] = 0
    state.s[:] = 0
    state.s[S_DATE] = NO_LEVEL
    state.s[S_PENDING] = NOTHING
    state.counts[:] = 0
    state.wi[:] = 0
    state.purse[:] = 0.0
    state.purse[P_CASH] = xs[0, X_CAPITAL]
    state.purse[P_GROSS] = xs[0, X_CAPITAL]
    state.purse[P_PEAK] = xs[0, X_CAPITAL]
    state.purse[P_WEIGHT] = 1.0


@fixed("void", I0, B, F64, B2, I1, F1, F2, I1, F1, I1, I2, I2, F2, I2, F1, F1, F1, "int8[::1]", I1, F1)
def end_bar(i: int, ends: bool, value: float, prices: Ticks, nights_end: Ints, rates_end: Floats, xs: Floats, s: Ints,
            purse: Floats, counts: Ints, wi: Ints, ti: Ints, tf: Floats, log: Ints, nets: Floats, net_curve: Floats,
            gross_curve: Floats, position_curve: NDArray[np.int8], day_ends: Ints, day_equity: Floats) -> None:
    """The end of bar i, once it is known whether it is the last one (`ends`): end of data, or moves of the stops; then the
    mark, which is `value` unless something was closed here."""
    c = int(prices[i, 3])
    n_end = nights_end[i] if FULL and len(nights_end) > 1 else 0
    rate_end = rates_end[i] if FULL and len(rates_end) > 1 else rates_end[0]
    if ends:
        if ti[row_of(s), T_SIDE] != 0:
            close_position(ti, tf, s, log, purse, xs[0], counts, nets, c, i, -1, AT_CLOSE, END_OF_DATA, n_end, rate_end)
            value = purse[P_CASH]
        for row in range(3):
            cancel(wi, row, s, log, i, -1, AT_CLOSE, END_OF_DATA)
        s[S_PENDING] = NOTHING
    d = row_of(s)
    side = ti[d, T_SIDE]
    if FULL and side != 0:
        own = xs[ti[d, T_NUMBERS]]
        moving = own[X_TRAIL_UNIT] != NONE or own[X_EVEN_UNIT] != NONE
        if moving and (ti[d, T_ENTRY_BAR] != i or ti[d, T_COUNTS] != 0):
            move_stops(ti, tf, s, log, own, i, int(prices[i, 1]), int(prices[i, 2]))
        if s[S_PENDING] != NOTHING and len(log) > 0:
            note(log, s, PLACED, ORDER_EXIT, s[S_ORDERS] + 1, -side, i, -1, AT_CLOSE, NO_LEVEL, s[S_PENDING])
    if KEEP:
        net_curve[i] = value
        if FULL and len(gross_curve) > 0:
            position_curve[i] = side
            gross_curve[i] = purse[P_GROSS]
            if side != 0:
                gross_curve[i] += side * (c - ti[d, T_ENTRY]) * (xs[0, X_TICK_VALUE] * tf[d, F_QUANTITY] * rate_end)
    else:
        book(s, purse, day_ends, day_equity, i + 1, value)
    s[S_TAIL] = 0
    s[S_BAR] = i + 1


@njit(cache=True, nogil=True, error_model="numpy")
def advance(tape: Tape, wanted: Wanted, clock: Clock, finer: Finer, xs: Floats, state: State, books: Books, until: int,
            hopeless: int) -> None:
    """Go on to bar `until` (exclusive, counted from the tape's first). Whether its last bar ends the data is left open, so
    the end of that bar is booked by the next call, or by `finish`.

    Args:
        tape, wanted, clock, finer: what is known, at least up to `until`; more may be known than in the call before.
        xs: float64[rows, PARAMETERS], see inputs.parameters. Row s[S_NUMBERS] decides; positions and orders keep the row of
            their decision. Rows differ in the strategy's numbers only (distances, lengths of time exits, sizes).
        hopeless: give up after so many trades if their sum is not above zero; 0 for never.
    """
    s, purse, counts, wi, wf = bare(state.s), bare(state.purse), bare(state.counts), bare(state.wi), bare(state.wf)
    ti, tf, log, nets = bare(books.trades_i), bare(books.trades_f), bare(books.log), bare(books.nets)
    xs = bare(xs)
    prices = bare(tape.prices)
    session, last_bar = bare(tape.session), bare(tape.last_bar)
    words, entries, needs = bare(wanted.words), bare(wanted.entries), bare(wanted.needs)
    asked_rows, tables = bare(wanted.asked.rows), bare(wanted.asked.tables)
    elder_rows, elder_words = bare(wanted.elder.rows), bare(wanted.elder.words)
    elder_asked, elder_tables = bare(wanted.elder.asked), bare(wanted.elder.tables)
    need_of = bare(wanted.need_of)
    offset = wanted.offset
    nights_start, nights_end = bare(clock.nights_start), bare(clock.nights_end)
    rates_start, rates_end, dates = bare(clock.rate_start), bare(clock.rate_end), bare(clock.date)
    fine_first, fine_usable, finer_nights = bare(finer.first), bare(finer.usable), bare(finer.nights)
    fine_open, fine_high, fine_low, fine_close = bare(finer.open), bare(finer.high), bare(finer.low), bare(finer.close)
    net_curve, gross_curve, position_curve = bare(books.net), bare(books.gross), bare(books.position)
    day_ends, day_equity = bare(books.day_ends), bare(books.day_equity)
    x = xs[s[S_NUMBERS]] if FULL else xs[0]
    financed = FULL and len(nights_end) > 1
    rated = FULL and len(rates_end) > 1
    has_finer = FULL and len(fine_first) > 1
    fine_nights = FULL and len(finer_nights) > 1
    flat = x[X_FLAT] != 0
    this_close = x[X_THIS_CLOSE] != 0
    capital = x[X_CAPITAL]
    shared = FULL and purse[P_SHARED] != 0.0  # then ruin is judged by whoever shares the purse out
    ended = counts[C_RUINED] != 0 or s[S_FAULT] != 0 or s[S_GIVEN_UP] != 0
    tail = s[S_TAIL] != 0  # bar i is walked, its end is not booked
    faulty = False
    i = s[S_BAR]
    which = s[S_WHICH]
    d = row_of(s)
    side = ti[d, T_SIDE]
    waiting = wi[LONG_ROW, O_SIDE] != 0 or wi[SHORT_ROW, O_SIDE] != 0 or wi[MARKET_ROW, O_SIDE] != 0
    while True:
        if tail:
            if i == until - 1 and not faulty:
                break  # whether the data ends here is not known yet
            end_bar(i, faulty, purse[P_MARK], prices, nights_end, rates_end, xs, s, purse, counts, wi, ti, tf, log,
                    nets, net_curve, gross_curve, position_curve, day_ends, day_equity)
            tail = False
            i += 1
            d = row_of(s)
            side = ti[d, T_SIDE]
            if faulty:
                break
        if i >= until:
            break
        if side == 0 and not waiting:
            while which < len(entries) and entries[which] < i:
                which += 1
                ahead(entries, which, prices)
            stop = until
            if not ended and which < len(entries):
                stop = min(until, entries[which])
            if stop > i:
                if KEEP:
                    idle(i, stop, purse[P_CASH], purse[P_GROSS], net_curve, gross_curve, position_curve)
                else:
                    book(s, purse, day_ends, day_equity, stop, purse[P_CASH])
                i = stop
                continue
        moving = False
        if FULL and side != 0:
            moving = xs[ti[d, T_NUMBERS], X_TRAIL_UNIT] != NONE or xs[ti[d, T_NUMBERS], X_EVEN_UNIT] != NONE
        if side != 0 and s[S_PENDING] == NOTHING and (not moving or ti[d, T_PEAK] != NO_LEVEL):
            stop_at = until - 1
            time_exit = int(xs[ti[d, T_NUMBERS] if FULL else 0, X_TIME_EXIT])
            if time_exit > 0:
                entry_bar = ti[d, T_ENTRY_BAR] + (1 if ti[d, T_ENTRY_AT] == AT_CLOSE else 0)
                stop_at = min(stop_at, entry_bar + time_exit - 1)
            stop_at = next_event(words, side, i + offset, stop_at + offset) - offset
            if FULL and len(elder_rows) > 0:
                e = elder_of(elder_rows, ti[d, T_NUMBERS])
                if e >= 0:
                    stop_at = next_event(elder_words[e], side, i + offset, stop_at + offset) - offset
            if stop_at > i:
                adverse = working_stop(ti, d)[0]
                good = ti[d, T_TARGET]
                adverse = adverse if adverse != NO_LEVEL else -side * FAR
                good = good if good != NO_LEVEL else side * FAR
                if moving:  # a new best price may move a stop
                    beyond = ti[d, T_PEAK] + side
                    good = min(good, beyond) if side > 0 else max(good, beyond)
                upper, lower = (good, adverse) if side > 0 else (adverse, good)
                j = carry(i, stop_at, s, purse, ti, tf, d, upper, lower, prices, nights_end, rates_end, x, net_curve,
                          gross_curve, position_curve, day_ends, day_equity)
                if j > i:
                    counts[C_EXPOSED] += j - i
                    i = j
                    continue
        while which < len(entries) and entries[which] < i:
            which += 1
            ahead(entries, which, prices)
        c = int(prices[i, 3])
        n_end = nights_end[i] if financed else 0
        rate_end = rates_end[i] if rated else rates_end[0]
        wants = wanted_at(words, i + offset)
        edge = wants & EDGE != 0
        last = edge and flat and last_bar[i] != 0
        s[S_TODAY] = dates[i] if len(dates) > 1 else dates[0]
        if side != 0 or waiting:
            o = int(prices[i, 0])
            h = int(prices[i, 1])
            lo = int(prices[i, 2])
            n_start = nights_start[i] if financed else 0
            rate_start = rates_start[i] if rated else rates_start[0]
            s[S_EXPOSED] = 0
            s[S_LEFT] = 0

            # 1. Open: market exits, then market entries. No order outlives its session when flat by session end.
            if edge and flat and i > 0 and session[i] != session[i - 1]:
                for row in range(3):
                    cancel(wi, row, s, log, i, -1, AT_OPEN, W_SESSION)
                if side != 0 and s[S_PENDING] == NOTHING:
                    s[S_PENDING] = SESSION_LATE
                    counts[C_LATE] += 1
            if side != 0 and s[S_PENDING] != NOTHING:
                close_position(ti, tf, s, log, purse, xs[0], counts, nets, o, i, -1, AT_OPEN, s[S_PENDING], n_start,
                               rate_start)
            s[S_PENDING] = NOTHING
            how = HELD_CARRIED if ti[row_of(s), T_SIDE] != 0 else HELD_NONE
            if wi[MARKET_ROW, O_SIDE] != 0 and enter(ti, tf, wi, wf, MARKET_ROW, s, log, counts, xs, o, i, -1, AT_OPEN,
                                                     n_start, rate_start):
                how = HELD_FRESH

            # 2 to 4. Resting and protective orders, through the finer bars where they are at hand.
            begins, ends = i, i + 1
            fine = has_finer and fine_usable[i] != 0
            if fine:
                begins, ends = fine_first[i], fine_first[i + 1]
            s[S_INSIDE] = 0
            for j in range(begins, ends):
                o_j, h_j, lo_j, c_j, n_j = o, h, lo, c, n_start
                if FULL and fine:
                    o_j, h_j, lo_j, c_j = int(fine_open[j]), int(fine_high[j]), int(fine_low[j]), int(fine_close[j])
                    n_j = finer_nights[j] if fine_nights else 0
                how = walk(ti, tf, wi, wf, s, log, purse, counts, xs, nets, i, j if fine else -1, j == begins, how, o_j, h_j,
                           lo_j, c_j, n_j, rate_start)
            counts[C_EXPOSED] += s[S_EXPOSED]
            if has_finer and not fine and s[S_INSIDE] != 0:  # where nothing is met inside, finer bars say the same
                counts[C_WHOLE] += 1
            if FULL:
                expire(wi, s, log, counts, i)

        # 6. Close: everything is read before any fill at this close.
        own = purse[P_CASH]
        equity = own + purse[P_OTHERS] if FULL else own
        elder = -1
        if FULL and len(elder_rows) > 0 and ti[row_of(s), T_SIDE] != 0:
            elder = elder_of(elder_rows, ti[row_of(s), T_NUMBERS])
            if elder >= 0:  # a position leaves by the rules that opened it
                wants = wants & ~EXITS | wanted_at(elder_words[elder], i + offset) & EXITS
        if FULL and len(asked_rows) > 0 and wants & CONDITIONS != 0:
            case = np.uint64(position_case(ti, s, asked_rows, i, c))
            its = case
            if elder >= 0:
                its = np.uint64(position_case(ti, s, elder_asked[elder], i, c))
            for bit in range(4):
                held = tables[bit, i] >> case
                if bit > 1 and elder >= 0:
                    held = elder_tables[elder, bit, i] >> its
                if held & np.uint64(1) == 0:
                    wants &= ~(1 << bit)
        leave, entering = read_signals(ti, s, counts, xs, i, wants)
        d = row_of(s)
        # Ruin is judged after the exits at this close; that bar places no orders and refuses none.
        value = own
        ruined = False
        if side != 0 or waiting:  # else nothing has changed since it was judged last
            value = marked(ti, tf, d, purse, xs[0], c, n_end, rate_end)
            left = value
            if this_close and leave != NOTHING:
                left = own + settled(ti, tf, d, xs[0], c, leave, n_end, rate_end)[5]
            ruined = not shared and gone(left, own, capital)
        free = not ruined and not last and not ended and wants & BLOCKED == 0 and s[S_BARRED] == 0
        if entering != 0 and free and not capped(x, s):
            for turn in range(2):
                if entering & (LONG_IN if turn == 0 else SHORT_IN) != 0:
                    order(wi, wf, s, log, counts, purse, x, needs, need_of, which, 1 - 2 * turn, i, c, equity, rate_end)
        faulty = s[S_FAULT] != 0
        if FULL and last:
            cancel(wi, LONG_ROW, s, log, i, -1, AT_CLOSE, W_SESSION)
            cancel(wi, SHORT_ROW, s, log, i, -1, AT_CLOSE, W_SESSION)
        if not this_close:
            s[S_PENDING] = leave
            leave = NOTHING
        if leave != NOTHING or ruined or last or (this_close and wi[MARKET_ROW, O_SIDE] != 0):
            # In turn: exits, ruin or entries and session exits, ruin once more.
            for turn in range(3):
                reason = leave if turn == 0 else NOTHING
                if turn == 2 and not shared:
                    ruined = gone(marked(ti, tf, row_of(s), purse, xs[0], c, n_end, rate_end), purse[P_CASH], capital)
                if turn > 0 and ruined:
                    reason = RUIN
                elif turn == 1:
                    if this_close and wi[MARKET_ROW, O_SIDE] != 0:
                        enter(ti, tf, wi, wf, MARKET_ROW, s, log, counts, xs, c, i, -1, AT_CLOSE, n_end, rate_end)
                    if last:
                        reason = SESSION
                if reason != NOTHING and ti[row_of(s), T_SIDE] != 0:
                    close_position(ti, tf, s, log, purse, xs[0], counts, nets, c, i, -1, AT_CLOSE, reason, n_end, rate_end)
                if reason == RUIN:
                    break
            if ruined and not ended:
                for row in range(3):
                    cancel(wi, row, s, log, i, -1, AT_CLOSE, RUIN)
                s[S_PENDING] = NOTHING
                counts[C_RUINED] = 1
                ended = True
            value = marked(ti, tf, row_of(s), purse, xs[0], c, n_end, rate_end)
        purse[P_MARK] = value
        if hopeless > 0 and s[S_DONE] >= hopeless and not ended and purse[P_CASH] <= capital:
            s[S_GIVEN_UP] = 1
            faulty = True
        d = row_of(s)
        side = ti[d, T_SIDE]
        waiting = wi[LONG_ROW, O_SIDE] != 0 or wi[SHORT_ROW, O_SIDE] != 0 or wi[MARKET_ROW, O_SIDE] != 0
        tail = True
    s[S_BAR] = i
    s[S_WHICH] = which
    s[S_TAIL] = 1 if tail else 0


@njit(cache=True, nogil=True, error_model="numpy")
def finish(tape: Tape, clock: Clock, xs: Floats, state: State, books: Books) -> None:
    """The data ends at the last bar that was walked: what is open is closed there."""
    if state.s[S_TAIL] != 0:
        end_bar(state.s[S_BAR], True, state.purse[P_MARK], tape.prices, clock.nights_end, clock.rate_end, xs, state.s,
                state.purse, state.counts, state.wi, books.trades_i, books.trades_f, books.log, books.nets, books.net,
                books.gross, books.position, books.day_ends, books.day_equity)
    if state.purse[P_SHARED] == 0.0 and gone(state.purse[P_CASH], state.purse[P_CASH], xs[0, X_CAPITAL]):
        state.counts[C_RUINED] = 1


@njit(cache=True, nogil=True, error_model="numpy")
def simulate(tape: Tape, wanted: Wanted, clock: Clock, finer: Finer, xs: Floats, state: State, books: Books,
             hopeless: int) -> None:
    """Run over a whole tape at once."""
    begin(xs, state, books)
    advance(tape, wanted, clock, finer, xs, state, books, len(tape.prices), hopeless)
    finish(tape, clock, xs, state, books)
