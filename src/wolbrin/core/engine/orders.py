"""Entry orders: what a decision asks for, whether it can be, and how a resting order meets a bar.

Numba functions; a waiting order is a row of (wi, wf): codes.O_ columns, and quantity and equity.
"""

from __future__ import annotations

import numpy as np

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.inputs import Floats, Ints
from wolbrin.core.engine.jit import F1, F2, F64, I0, I1, I2, B, fixed
from wolbrin.core.engine.position import distance, nearest, note, open_position, row_of

# Module-level copies: numba freezes plain globals into the compiled code.
FULL = k.FULL
NONE, LEVEL = k.NONE, k.LEVEL
FIXED, RISK, PERCENT_OF_EQUITY = k.FIXED, k.RISK, k.PERCENT_OF_EQUITY
BY_MARKET, BY_STOP, BY_LIMIT = k.BY_MARKET, k.BY_STOP, k.BY_LIMIT
AT_OPEN, AT_CLOSE, INSIDE = k.AT_OPEN, k.AT_CLOSE, k.INSIDE
HELD_NONE, HELD_FRESH, HELD_BY_STOP, HELD_BY_LIMIT = k.HELD_NONE, k.HELD_FRESH, k.HELD_BY_STOP, k.HELD_BY_LIMIT
T_AMBIGUOUS = k.T_AMBIGUOUS
C_SKIPPED, C_REJECTED, C_EXPIRED = k.C_SKIPPED, k.C_REJECTED, k.C_EXPIRED
S_ORDERS, S_DATE, S_FILLS, S_FAULT, S_TODAY = k.S_ORDERS, k.S_DATE, k.S_FILLS, k.S_FAULT, k.S_TODAY
(O_SIDE, O_LEVEL, O_DECISION, O_BARS, O_NUMBER, O_KIND, O_NUMBERS) = (
    k.O_SIDE, k.O_LEVEL, k.O_DECISION, k.O_BARS, k.O_NUMBER, k.O_KIND, k.O_NUMBERS)
W_QUANTITY, W_EQUITY, W_TICK_MONEY, W_NEEDS, NEEDS = k.W_QUANTITY, k.W_EQUITY, k.W_TICK_MONEY, k.W_NEEDS, k.NEEDS
S_NUMBERS = k.S_NUMBERS
(N_STOP, N_TARGET, N_TRAIL, N_START, N_EVEN, N_STOP_LONG, N_STOP_SHORT, N_TARGET_LONG, N_TARGET_SHORT, N_ENTRY_LONG,
 N_ENTRY_SHORT) = (
    k.N_STOP, k.N_TARGET, k.N_TRAIL, k.N_START, k.N_EVEN, k.N_STOP_LONG, k.N_STOP_SHORT, k.N_TARGET_LONG,
    k.N_TARGET_SHORT, k.N_ENTRY_LONG, k.N_ENTRY_SHORT)
(X_EVEN, X_EVEN_UNIT, X_LEVERAGE, X_LONG_BARS, X_LONG_KIND, X_LONG_TOUCH, X_LOT_INVERSE, X_LOT_STEP, X_MARGIN,
 X_MINIMUM_LOT, X_MOST_ENTRIES, X_SHORT_BARS, X_SHORT_KIND, X_SHORT_TOUCH, X_SIZE, X_SIZING, X_START, X_START_UNIT,
 X_STOP, X_STOP_UNIT, X_TARGET, X_TARGET_UNIT, X_TICK_VALUE, X_TRAIL, X_TRAIL_UNIT) = (
    k.X_EVEN, k.X_EVEN_UNIT, k.X_LEVERAGE, k.X_LONG_BARS, k.X_LONG_KIND, k.X_LONG_TOUCH, k.X_LOT_INVERSE,
    k.X_LOT_STEP, k.X_MARGIN, k.X_MINIMUM_LOT, k.X_MOST_ENTRIES, k.X_SHORT_BARS, k.X_SHORT_KIND, k.X_SHORT_TOUCH,
    k.X_SIZE, k.X_SIZING, k.X_START, k.X_START_UNIT, k.X_STOP, k.X_STOP_UNIT, k.X_TARGET, k.X_TARGET_UNIT,
    k.X_TICK_VALUE, k.X_TRAIL, k.X_TRAIL_UNIT)
LONG_ROW, SHORT_ROW, MARKET_ROW, SPARE_ROW = k.LONG_ROW, k.SHORT_ROW, k.MARKET_ROW, k.SPARE_ROW
PLACED, CANCELLED, EXPIRED, REJECTED, SKIPPED = k.PLACED, k.CANCELLED, k.EXPIRED, k.REJECTED, k.SKIPPED
(W_SIGNAL, W_REPLACED, W_OTHER, W_BARS, W_MISSING, W_SMALL, W_MARGIN, W_BEYOND, W_CAP, W_RATE, W_NOTIONAL,
 W_ACCOUNT) = (
    k.W_SIGNAL, k.W_REPLACED, k.W_OTHER, k.W_BARS, k.W_MISSING, k.W_SMALL, k.W_MARGIN, k.W_BEYOND, k.W_CAP, k.W_RATE,
    k.W_NOTIONAL, k.W_ACCOUNT)
W_HELD, F_MARGIN = k.W_HELD, k.F_MARGIN
P_WEIGHT, P_USED = k.P_WEIGHT, k.P_USED
(FAULT_QUANTITY, FAULT_STOP, FAULT_TARGET, FAULT_TRAIL, FAULT_START, FAULT_EVEN, FAULT_LEVEL) = (
    k.FAULT_QUANTITY, k.FAULT_STOP, k.FAULT_TARGET, k.FAULT_TRAIL, k.FAULT_START, k.FAULT_EVEN, k.FAULT_LEVEL)
NO_LEVEL = k.NO_LEVEL
LARGEST_DISTANCE, LARGEST_QUANTITY = k.LARGEST_DISTANCE, k.LARGEST_QUANTITY
FINE = 0  # settled: no objection


@fixed(F64, F64, F64, F64, I0, F64, F64)
def _needs(unit: float, amount: float, atr: float, price: int, stop: float, tick_money: float) -> float:
    """A distance at the decision; 0 where the order is not used, NaN where a value is missing."""
    return 0.0 if unit == NONE else distance(unit, amount, atr, price, stop, tick_money)


@fixed("Tuple((int64, float64, float64))", F1, F1, I1, I0, I0, F64, F64, F64, F64)
def settle(x: Floats, need: Floats, s: Ints, side: int, price: int, equity: float, rate: float, weight: float,
           used: float) -> tuple[int, float, float]:
    """Quantity and margin of an entry decided at bar i with reference price `price`, settled once and for all.

    weight: by which the size is multiplied; used: margin that others on the purse have in use.
    Returns (FINE, quantity, margin), or (why not, 0, 0). An absurd distance or quantity sets s[S_FAULT].
    """
    if not np.isfinite(rate):
        return W_RATE, 0.0, 0.0
    tick_money = x[X_TICK_VALUE] * rate
    beyond = False
    if x[X_STOP_UNIT] == LEVEL:
        raw = need[N_STOP_LONG if side > 0 else N_STOP_SHORT]
        stop = abs(price - raw)
        beyond = abs(raw) < LARGEST_DISTANCE and side * (price - nearest(raw)) < 0
    else:
        stop = _needs(x[X_STOP_UNIT], x[X_STOP], need[N_STOP], price, 0.0, tick_money)
    if x[X_TARGET_UNIT] == LEVEL:
        target = abs(need[N_TARGET_LONG if side > 0 else N_TARGET_SHORT])
    else:
        target = _needs(x[X_TARGET_UNIT], x[X_TARGET], need[N_TARGET], price, stop, tick_money)
    trail, start, even = 0.0, 0.0, 0.0
    if FULL:
        trail = _needs(x[X_TRAIL_UNIT], x[X_TRAIL], need[N_TRAIL], price, stop, tick_money)
        start = _needs(x[X_START_UNIT], x[X_START], need[N_START], price, stop, tick_money)
        even = _needs(x[X_EVEN_UNIT], x[X_EVEN], need[N_EVEN], price, stop, tick_money)
    if np.isnan(stop + target + trail + start + even):
        return W_MISSING, 0.0, 0.0
    for value, fault in ((stop, FAULT_STOP), (target, FAULT_TARGET), (trail, FAULT_TRAIL), (start, FAULT_START),
                         (even, FAULT_EVEN)):
        if value > LARGEST_DISTANCE:
            s[S_FAULT] = fault
            return W_MISSING, 0.0, 0.0
    if beyond:
        return W_BEYOND, 0.0, 0.0
    notional = abs(price) * tick_money
    if x[X_SIZING] == FIXED:
        wanted = x[X_SIZE]
    elif x[X_SIZING] == RISK:
        wanted = x[X_SIZE] / 100.0 * equity / (max(1, nearest(stop)) * tick_money)
    else:
        if notional == 0.0:
            return W_NOTIONAL, 0.0, 0.0
        wanted = (x[X_SIZE] / 100.0 * equity if x[X_SIZING] == PERCENT_OF_EQUITY else x[X_SIZE]) / notional
    if FULL:
        wanted *= weight
    if not wanted <= LARGEST_QUANTITY:
        s[S_FAULT] = FAULT_QUANTITY
        return W_SMALL, 0.0, 0.0
    steps = np.floor(wanted / x[X_LOT_STEP] + 1e-6)
    quantity = steps / x[X_LOT_INVERSE] if x[X_LOT_INVERSE] > 0.0 else steps * x[X_LOT_STEP]
    if quantity <= 0.0 or quantity < x[X_MINIMUM_LOT] - 1e-9:
        return W_SMALL, 0.0, 0.0
    margin = x[X_MARGIN] * quantity
    if x[X_LEVERAGE] > 0.0:
        if notional == 0.0:
            return W_NOTIONAL, 0.0, 0.0
        margin = notional * quantity / x[X_LEVERAGE]
    # Equal to the last bit or so is equal: sums of money in another order must not decide.
    if margin - equity > 1e-9 * abs(equity):
        return W_MARGIN, quantity, margin
    if FULL and margin + used - equity > 1e-9 * abs(equity):
        return W_ACCOUNT, quantity, margin
    return FINE, quantity, margin


@fixed("void", I2, I0, I1, I2, I0, I0, I0, I0)
def cancel(wi: Ints, row: int, s: Ints, log: Ints, bar: int, fine: int, how: int, why: int) -> None:
    """Take a waiting order back."""
    if wi[row, O_SIDE] != 0:
        note(log, s, CANCELLED, wi[row, O_KIND], wi[row, O_NUMBER], wi[row, O_SIDE], bar, fine, how, NO_LEVEL, why)
        wi[row, O_SIDE] = 0


@fixed("void", I2, I1, I2, I1, I0)
def expire(wi: Ints, s: Ints, log: Ints, counts: Ints, bar: int) -> None:
    """One more bar has closed on the resting orders."""
    for row in (LONG_ROW, SHORT_ROW):
        if wi[row, O_SIDE] != 0:
            wi[row, O_BARS] -= 1
            if wi[row, O_BARS] == 0:
                counts[C_EXPIRED] += 1
                note(log, s, EXPIRED, wi[row, O_KIND], wi[row, O_NUMBER], wi[row, O_SIDE], bar, -1, AT_CLOSE,
                     wi[row, O_LEVEL], W_BARS)
                wi[row, O_SIDE] = 0


@fixed(B, F1, I1)
def capped(x: Floats, s: Ints) -> bool:
    """Whether the trading date of the present bar has had all its entries."""
    if x[X_MOST_ENTRIES] == 0:
        return False
    return s[S_DATE] == s[S_TODAY] and s[S_FILLS] >= x[X_MOST_ENTRIES]


@fixed("void", I2, F2, I1, I2, I1, F1, F1, F2, I1, I0, I0, I0, I0, F64, F64)
def order(wi: Ints, wf: Floats, s: Ints, log: Ints, counts: Ints, purse: Floats, x: Floats, needs: Floats, need_of: Ints,
          at: int, side: int, i: int, close: int, equity: float, rate: float) -> None:
    """Turn one side's entry decision at the close of bar i into a waiting order, or refuse it.

    needs, need_of: see inputs.Wanted; at: the place in their rows that belongs to bar i; rate: account money for quote money
    there.
    """
    row = LONG_ROW if side > 0 else SHORT_ROW
    kind = int(x[X_LONG_KIND] if side > 0 else x[X_SHORT_KIND]) if FULL else BY_MARKET
    level = close
    refused = FINE
    quantity, margin = 0.0, 0.0
    if kind == BY_MARKET:
        row = MARKET_ROW
    # Written where the order will stand: a refused one leaves it unused, unless it would replace one of its kind.
    fresh = wi[row, O_SIDE] == 0
    place = row if fresh else SPARE_ROW
    for column in range(NEEDS):
        wf[place, W_NEEDS + column] = needs[need_of[column], at] if need_of[column] >= 0 else np.nan
    need = wf[place, W_NEEDS:]
    if kind != BY_MARKET:
        raw = need[N_ENTRY_LONG if side > 0 else N_ENTRY_SHORT]
        if np.isnan(raw):
            refused = W_MISSING
        elif abs(raw) > LARGEST_DISTANCE:
            s[S_FAULT] = FAULT_LEVEL
            return
        else:
            level = nearest(raw)
    if refused == FINE:
        refused, quantity, margin = settle(x, need, s, side, level, equity, rate, purse[P_WEIGHT], purse[P_USED])
    if s[S_FAULT] != 0:
        return
    s[S_ORDERS] += 1
    shown = NO_LEVEL if kind == BY_MARKET else level
    if refused != FINE:
        dear = refused in (W_MARGIN, W_ACCOUNT)
        counts[C_REJECTED if dear else C_SKIPPED] += 1
        note(log, s, REJECTED if dear else SKIPPED, kind, s[S_ORDERS], side, i, -1, AT_CLOSE, shown, refused)
        return
    cancel(wi, row, s, log, i, -1, AT_CLOSE, W_REPLACED)
    wi[row, O_SIDE] = side
    wi[row, O_LEVEL] = level
    wi[row, O_DECISION] = i
    wi[row, O_BARS] = int(x[X_LONG_BARS] if side > 0 else x[X_SHORT_BARS])
    wi[row, O_NUMBERS] = s[S_NUMBERS]
    wi[row, O_NUMBER] = s[S_ORDERS]
    wi[row, O_KIND] = kind
    wf[row, W_QUANTITY] = quantity
    wf[row, W_EQUITY] = equity
    wf[row, W_TICK_MONEY] = x[X_TICK_VALUE] * rate
    if not fresh:
        wf[row, W_NEEDS:] = need
    wf[row, W_HELD] = margin
    note(log, s, PLACED, kind, s[S_ORDERS], side, i, -1, AT_CLOSE, shown, W_SIGNAL)


@fixed(B, I2, F2, I2, F2, I0, I1, I2, I1, F2, I0, I0, I0, I0, I0, F64)
def enter(ti: Ints, tf: Floats, wi: Ints, wf: Floats, row: int, s: Ints, log: Ints, counts: Ints, xs: Floats, price: int,
          bar: int, fine: int, how: int, nights: int, rate: float) -> bool:
    """Fill a waiting order. Every order ends when a position opens; one refused at its fill is gone.

    xs: rows of numbers; the order goes by those of its decision.
    """
    side = wi[row, O_SIDE]
    kind = wi[row, O_KIND]
    numbers = wi[row, O_NUMBERS] if FULL else 0
    x = xs[numbers]
    wi[row, O_SIDE] = 0
    why = FINE
    if capped(x, s):
        why = W_CAP
    elif not open_position(ti, tf, s, log, x, wf[row, W_NEEDS:], numbers, side, price, bar, fine, how, kind,
                           wi[row, O_DECISION], wi[row, O_NUMBER], wf[row, W_QUANTITY], wf[row, W_EQUITY],
                           wf[row, W_TICK_MONEY], nights, rate):
        why = W_BEYOND
    if why != FINE:
        counts[C_SKIPPED] += 1
        note(log, s, SKIPPED, kind, wi[row, O_NUMBER], side, bar, fine, how, price, why)
        return False
    if FULL:
        tf[row_of(s), F_MARGIN] = wf[row, W_HELD]
    if s[S_DATE] != s[S_TODAY]:
        s[S_DATE] = s[S_TODAY]
        s[S_FILLS] = 0
    s[S_FILLS] += 1
    for other in range(3):
        cancel(wi, other, s, log, bar, fine, how, W_OTHER)
    return True


@fixed("Tuple((boolean, int64, boolean))", I2, I0, F2, I0, I0, I0)
def _meets(wi: Ints, row: int, xs: Floats, o: int, h: int, lo: int) -> tuple[bool, int, bool]:
    """Whether a resting order fills on a bar, at which price, and whether at its open."""
    side = wi[row, O_SIDE]
    if side == 0:
        return False, 0, False
    level = wi[row, O_LEVEL]
    up = h if side > 0 else lo
    down = lo if side > 0 else h
    if wi[row, O_KIND] == BY_STOP:
        if side * (o - level) >= 0:
            return True, o, True
        return side * (up - level) >= 0, level, False
    x = xs[wi[row, O_NUMBERS]]
    touch = int(x[X_LONG_TOUCH] if side > 0 else x[X_SHORT_TOUCH])
    through = side * (down - level) <= -touch
    if side * (o - level) <= 0:
        return through, o, True
    return through, level, False


@fixed(I0, I2, F2, I2, F2, I1, I2, I1, F2, I0, I0, B, I0, I0, I0, I0, F64)
def meet_orders(ti: Ints, tf: Floats, wi: Ints, wf: Floats, s: Ints, log: Ints, counts: Ints, xs: Floats, bar: int, fine: int,
                first: bool, o: int, h: int, lo: int, nights: int, rate: float) -> int:
    """Resting orders against one bar; how a position is then held in it (codes.HELD_*).

    first: whether this is the main bar, or its first finer bar.
    """
    long_fills, long_price, long_open = _meets(wi, LONG_ROW, xs, o, h, lo)
    short_fills, short_price, short_open = _meets(wi, SHORT_ROW, xs, o, h, lo)
    if not long_fills and not short_fills:
        return HELD_NONE
    both = long_fills and short_fills
    # The one nearer the open; equally near, the long. A fill at the open has distance zero.
    long_first = long_fills and (not both or abs(long_price - o) <= abs(short_price - o))
    unsure = both and long_open == short_open
    for turn in range(2):
        is_long = long_first == (turn == 0)
        if not (long_fills if is_long else short_fills):
            continue
        row = LONG_ROW if is_long else SHORT_ROW
        price = long_price if is_long else short_price
        at_open = long_open if is_long else short_open
        by_limit = wi[row, O_KIND] == BY_LIMIT
        # A limit filled at a later finer bar's open counts as inside the main bar.
        how = AT_OPEN if at_open and first else INSIDE
        if enter(ti, tf, wi, wf, row, s, log, counts, xs, price, bar, fine, how, nights, rate):
            ti[row_of(s), T_AMBIGUOUS] = 1 if unsure else 0
            if at_open:
                return HELD_FRESH
            return HELD_BY_LIMIT if by_limit else HELD_BY_STOP
        unsure = False
    return HELD_NONE
