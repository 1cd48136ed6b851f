"""Bars on which nothing can happen: finding them, and booking equity over them. Numba functions, see kernel.py."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.bits import Words, lowest, signed, soon
from wolbrin.core.compiled import njit
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.inputs import Floats, Ints, Ticks
from wolbrin.core.engine.jit import F1, F64, I0, I1, fixed
from wolbrin.core.engine.position import financing_ticks

# Module-level copies: numba freezes plain globals into the compiled code.
FULL, KEEP = k.FULL, k.KEEP
T_SIDE, T_ENTRY, T_NIGHTS, T_BEST, T_WORST = k.T_SIDE, k.T_ENTRY, k.T_NIGHTS, k.T_BEST, k.T_WORST
F_QUANTITY, F_ENTRY_COMMISSION, F_DRAG = k.F_QUANTITY, k.F_ENTRY_COMMISSION, k.F_DRAG
P_CASH, P_GROSS, P_PEAK, P_FALL = k.P_CASH, k.P_GROSS, k.P_PEAK, k.P_FALL
S_DAY = k.S_DAY
R_SHORT_IN, R_LONG_IN, R_LONG_OUT, R_SHORT_OUT, R_EDGE = k.R_SHORT_IN, k.R_LONG_IN, k.R_LONG_OUT, k.R_SHORT_OUT, k.R_EDGE
X_CAPITAL, X_TICK_VALUE = k.X_CAPITAL, k.X_TICK_VALUE
W2 = "uint64[:, ::1]"


@fixed(I0, W2, I0)
def wanted_at(words: Words, at: int) -> int:
    """What is wanted of one bar: bits LONG_IN .. EDGE."""
    w = at >> 6
    b = np.uint64(at & 63)
    one = np.uint64(1)
    return int((words[w, 0] >> b & one) | (words[w, 1] >> b & one) << one | (words[w, 2] >> b & one) << np.uint64(2)
               | (words[w, 3] >> b & one) << np.uint64(3) | (words[w, 4] >> b & one) << np.uint64(4)
               | (words[w, 5] >> b & one) << np.uint64(5))


@fixed(I0, W2, I0, I0, I0)
def next_event(words: Words, side: int, first: int, stop: int) -> int:
    """The first bar in [first, stop) on which something may be wanted of an open position; `stop` if there is none. A
    conflict shows in the opposite side's bit too."""
    if first >= stop:
        return first
    leave, opposite = (R_LONG_OUT, R_SHORT_IN) if side > 0 else (R_SHORT_OUT, R_LONG_IN)
    w = first >> 6
    word = (words[w, leave] | words[w, opposite] | words[w, R_EDGE]) >> np.uint64(first & 63) << np.uint64(first & 63)
    end = (stop - 1) >> 6
    while word == 0 and w < end:
        w += 1
        word = words[w, leave] | words[w, opposite] | words[w, R_EDGE]
    return min(stop, (w << 6) + lowest(word)) if word != 0 else stop


@fixed("void", I1, F1, I1, F1, I0, F64)
def book(s: Ints, purse: Floats, day_ends: Ints, day_equity: Floats, stop: int, value: float) -> None:
    """Book equity that stands from the first bar not booked to bar stop - 1, where no curve is kept."""
    if value > purse[P_PEAK]:
        purse[P_PEAK] = value
    elif purse[P_PEAK] - value > purse[P_FALL]:
        purse[P_FALL] = purse[P_PEAK] - value
    day = s[S_DAY]
    while day < len(day_ends) and day_ends[day] < stop:
        day_equity[day] = value
        day += 1
    s[S_DAY] = day


@njit(cache=True, nogil=True, forceinline=True, error_model="numpy")
def ahead(entries: Ints, which: int, prices: Ticks) -> None:
    """Have the prices around a later entry fetched: every trade would wait for memory several times."""
    if which + 2 < len(entries):
        later = entries[which + 2]
        soon(prices, later)


@njit(cache=True, nogil=True, forceinline=True, error_model="numpy")
def idle(first: int, stop: int, cash: float, gross: float, net_curve: Floats, gross_curve: Floats,
         position_curve: NDArray[np.int8]) -> None:
    """Curves of bars first .. stop - 1, on which nothing is held and nothing wanted."""
    for i in range(first, stop):
        net_curve[i] = cash
    if FULL and len(gross_curve) > 0:
        for i in range(first, stop):
            gross_curve[i] = gross
            position_curve[i] = 0


@njit(cache=True, nogil=True, forceinline=True, error_model="numpy")
def carry(first: int, stop_at: int, s: Ints, purse: Floats, ti: Ints, tf: Floats, d: int, upper: int, lower: int,
          prices: Ticks, nights_end: Ints, rates_end: Floats, x: Floats, net_curve: Floats, gross_curve: Floats,
          position_curve: NDArray[np.int8], day_ends: Ints, day_equity: Floats) -> int:
    """Carry an open position over bars on which nothing can happen to it; returns the first bar that needs a closer look.

    Such a bar stays between `lower` and `upper` (exclusive), lies before `stop_at`, before which nothing is wanted, and does
    not end in ruin. The long way would change only equity and excursions, and computes them by the same formula.
    """
    # Indices without a sign need no look whether they count from the end.
    at, beyond = np.uint64(first), np.uint64(max(first, stop_at))
    while at < beyond and prices[at, 1] < upper and prices[at, 2] > lower:
        at += np.uint64(1)
    i = signed(at)
    if i == first:
        return i
    side = ti[d, T_SIDE]
    entry = ti[d, T_ENTRY]
    start = float(entry)
    base = purse[P_CASH] - tf[d, F_ENTRY_COMMISSION]
    drag = tf[d, F_DRAG]
    unit = x[X_TICK_VALUE] * tf[d, F_QUANTITY]
    moved = FULL and (len(nights_end) > 1 or len(rates_end) > 1)
    whole = unit * rates_end[0]
    # Close to ruin every bar is looked at the long way. The comparison is generous: the long way decides.
    danger = 1e-6 * max(x[X_CAPITAL], abs(base))
    if KEEP:
        least = np.inf
        # The plain loops below have no branches, so that the compiler can work on several bars at once.
        if moved:
            for j in range(first, i):
                held = nights_end[j] - ti[d, T_NIGHTS] if len(nights_end) > 1 else 0
                rate = rates_end[j] if len(rates_end) > 1 else rates_end[0]
                value = base + (side * (prices[j, 3] - start) - (drag + financing_ticks(x, side, held))) * (unit * rate)
                net_curve[j] = value
                least = min(least, value)
        else:
            for j in range(first, i):
                value = base + (side * (prices[j, 3] - start) - drag) * whole
                net_curve[j] = value
                least = min(least, value)
        if least <= danger:
            for j in range(first, i):
                if net_curve[j] <= danger:
                    i = j
                    break
        top = np.int32(entry)
        bottom = np.int32(entry)
        for j in range(first, i):
            top = max(top, prices[j, 1])
            bottom = min(bottom, prices[j, 2])
        ti[d, T_BEST] = max(ti[d, T_BEST], top - entry if side > 0 else entry - bottom)
        ti[d, T_WORST] = min(ti[d, T_WORST], bottom - entry if side > 0 else entry - top)
        if FULL and len(gross_curve) > 0:
            gross = purse[P_GROSS]
            for j in range(first, i):
                rate = rates_end[j] if len(rates_end) > 1 else rates_end[0]
                gross_curve[j] = gross + side * (prices[j, 3] - start) * (unit * rate)
                position_curve[j] = side
        return i
    peak, fall = purse[P_PEAK], purse[P_FALL]
    day = s[S_DAY]
    until = min(i, day_ends[day] + 1) if day < len(day_ends) else i
    j = first
    while j < i:
        value = 0.0
        begin = j
        at, beyond = np.uint64(j), np.uint64(until)
        while at < beyond:
            if moved:
                held = nights_end[at] - ti[d, T_NIGHTS] if len(nights_end) > 1 else 0
                rate = rates_end[at] if len(rates_end) > 1 else rates_end[0]
                value = base + (side * (prices[at, 3] - start) - (drag + financing_ticks(x, side, held))) * (unit * rate)
            else:
                value = base + (side * (prices[at, 3] - start) - drag) * whole
            if value <= danger:
                break
            peak = max(peak, value)
            fall = max(fall, peak - value)
            at += np.uint64(1)
        j = signed(at)
        if j > begin and day < len(day_ends) and j == day_ends[day] + 1:
            day_equity[day] = value
            day += 1
        if j < until:
            break
        until = min(i, day_ends[day] + 1) if day < len(day_ends) else i
    purse[P_PEAK], purse[P_FALL] = peak, fall
    s[S_DAY] = day
    return j
