"""Numbers by which kernel and Python speak of reasons, options and columns."""

from __future__ import annotations

REASONS = ("stop", "target", "time", "condition", "reverse", "session", "session (late)", "end of data", "ruin", "trail",
           "break even", "daily limit")
(STOP, TARGET, TIME, CONDITION, REVERSE, SESSION, SESSION_LATE, END_OF_DATA, RUIN, TRAIL, BREAK_EVEN,
 LIMIT) = range(len(REASONS))
NOTHING = -1

REVERSES, CLOSES, IGNORES = range(3)
ON_OPPOSITE = {"reverse": REVERSES, "close": CLOSES, "ignore": IGNORES}

NONE, TICKS, ATR, STOP_MULTIPLE, MONEY, PERCENT, LEVEL = range(7)
UNIT = {None: NONE, "ticks": TICKS, "atr": ATR, "stop": STOP_MULTIPLE, "money": MONEY, "percent": PERCENT, "level": LEVEL}

BY_MARKET, BY_STOP, BY_LIMIT = range(3)
ENTRY = {"market": BY_MARKET, "stop": BY_STOP, "limit": BY_LIMIT}

FIXED, RISK, PERCENT_OF_EQUITY, NOTIONAL = range(4)
SIZING = {"fixed": FIXED, "risk": RISK, "percent": PERCENT_OF_EQUITY, "notional": NOTIONAL}

# How a fill happened: at a bar's open, at its close, or inside it.
AT_OPEN, AT_CLOSE, INSIDE = 0, 1, 2

# What a bar (or finer bar) meets: nothing held, a carried position, one entered at its open, or inside by stop or limit.
HELD_NONE, HELD_CARRIED, HELD_FRESH, HELD_BY_STOP, HELD_BY_LIMIT = range(5)

# Rows on the state of the position: what they read, how they compare; columns of `leaves`.
BARS_HELD, OPEN_PROFIT_R, ENTRIES_TODAY = range(3)
POSITION = {"bars_held": BARS_HELD, "open_profit_r": OPEN_PROFIT_R, "entries_today": ENTRIES_TODAY}
ABOVE, BELOW, AT_OR_ABOVE, AT_OR_BELOW, EQUALS = range(5)
COMPARE = {"above": ABOVE, "below": BELOW, "at or above": AT_OR_ABOVE, "at or below": AT_OR_BELOW, "equals": EQUALS}

# What the kernel is compiled for. Its full form does everything; other forms leave out what a run does not need
# (compiled.form). FULL: trail, break even, resting orders, finer bars, financing, moving rates, rows on the position, log.
# KEEP: a row for every trade and a point of equity for every bar; without it only net results, equity at each date's end and
# the largest fall.
FULL = True
KEEP = True

# Bits of a bar's signals, and their rows where each has bits of its own, 64 bars a word.
LONG_IN, SHORT_IN, LONG_OUT, SHORT_OUT, BLOCKED, EDGE = 1, 2, 4, 8, 16, 32
R_LONG_IN, R_SHORT_IN, R_LONG_OUT, R_SHORT_OUT, R_BLOCKED, R_EDGE = range(6)
SIGNALS = 6

# Integer columns of a trade. An open position is a trade in the making and uses the same row.
(T_SIDE, T_DECISION, T_ENTRY_BAR, T_EXIT_BAR, T_ENTRY, T_EXIT, T_STOP, T_TARGET, T_REASON, T_AMBIGUOUS, T_HELD,
 T_ENTRY_AT, T_EXIT_AT, T_NIGHTS, T_BEST, T_WORST, T_KIND, T_ENTRY_FINE, T_EXIT_FINE, T_COUNTS, T_PEAK, T_TRAIL,
 T_EVEN, T_ORDER, T_NUMBERS) = range(25)
INT_COLUMNS = 25
# Decimal columns of a trade: quantity, then money in account currency; drag and distances in ticks; margin as it was settled.
(F_QUANTITY, F_GROSS, F_SPREAD, F_SLIPPAGE, F_COMMISSION, F_FINANCING, F_NET, F_RISK, F_EQUITY,
 F_ENTRY_COMMISSION, F_DRAG, F_RATE, F_TRAIL, F_START, F_EVEN, F_MARGIN) = range(16)
FLOAT_COLUMNS = 16

COUNTS = ("conflicts", "skipped", "rejected", "ambiguous", "late", "exposed", "ruined", "expired", "walked whole")
(C_CONFLICTS, C_SKIPPED, C_REJECTED, C_AMBIGUOUS, C_LATE, C_EXPOSED, C_RUINED, C_EXPIRED, C_WHOLE) = range(len(COUNTS))

# Purse: what the account holds besides the open position; the highest equity so far and the largest fall from it; equity
# marked to the bar whose end is still to be booked. Where several share one purse (P_SHARED): what the others have earned, by
# what sizes are multiplied, and margin that the others have in use.
P_CASH, P_GROSS, P_PEAK, P_FALL, P_MARK, P_OTHERS, P_WEIGHT, P_USED, P_SHARED = range(9)
PURSE = 9
# Amounts of money closer than this share of the largest amount in their sum count as equal.
SAME = 1e-9

# State of a run beside the open position. S_BAR: the next bar, or the bar whose end is still to be booked (S_TAIL).
# S_PENDING: why a market exit waits. S_WHICH: the first entry signal not behind. S_NUMBERS: the row of numbers that decides.
# S_DAY: the first date whose end is not booked. S_GIVEN_UP: 1 where a hopeless run was ended. S_BARRED: 1 where
# the account lets nothing be entered. S_INSIDE: 1 where an order was met inside the bar that was walked last.
(S_DONE, S_LOGGED, S_ORDERS, S_DATE, S_FILLS, S_FAULT, S_EXPOSED, S_STOP_ORDER, S_TARGET_ORDER, S_TRAIL_ORDER,
 S_LEFT, S_TODAY, S_BAR, S_TAIL, S_PENDING, S_WHICH, S_NUMBERS, S_DAY, S_GIVEN_UP,
 S_BARRED, S_INSIDE) = range(21)
STATE = 21

# An entry order waiting: rows long, short (resting) and market, and a spare one.
(O_SIDE, O_LEVEL, O_DECISION, O_BARS, O_NUMBER, O_KIND, O_NUMBERS) = range(7)
WAITING_INTS = 7
(W_QUANTITY, W_EQUITY, W_TICK_MONEY, W_NEEDS) = range(4)  # from W_NEEDS on: what its decision needed, codes.N_
W_HELD = 3 + 11  # its margin
WAITING_FLOATS = 3 + 11 + 1
LONG_ROW, SHORT_ROW, MARKET_ROW, SPARE_ROW = range(4)  # the last holds what an order needs that may replace another

# Order log.
EVENTS = ("placed", "moved", "filled", "cancelled", "expired", "rejected", "skipped")
PLACED, MOVED, FILLED, CANCELLED, EXPIRED, REJECTED, SKIPPED = range(len(EVENTS))
# Kinds of entry have the codes of ENTRY and room for more below ENTRIES_END; what leaves or protects a position stands above.
ENTRIES_END = 16
ORDER_EXIT, ORDER_STOP, ORDER_TARGET, ORDER_TRAIL, ORDER_EVEN = range(ENTRIES_END, ENTRIES_END + 5)
_ENTRY_ORDERS = tuple(f"{kind} entry" for kind in ENTRY)
ORDERS = (*_ENTRY_ORDERS, *[""] * (ENTRIES_END - len(_ENTRY_ORDERS)), "exit", "stop", "target", "trail", "break even")
WHY = (*REASONS, "signal", "replaced", "other side filled", "trade over", "session ended", "its bars have passed",
       "a needed value is missing", "below the smallest lot", "margin above equity", "level beyond entry",
       "entries per date", "no conversion rate yet", "no notional", "with the entry", "account")
(W_SIGNAL, W_REPLACED, W_OTHER, W_OVER, W_SESSION, W_BARS, W_MISSING, W_SMALL, W_MARGIN, W_BEYOND, W_CAP, W_RATE,
 W_NOTIONAL, W_ENTRY, W_ACCOUNT) = range(len(REASONS), len(WHY))
(L_EVENT, L_ORDER, L_NUMBER, L_SIDE, L_BAR, L_FINE, L_AT, L_PRICE, L_WHY, L_TRADE) = range(10)
LOG_COLUMNS = 10

# What ends a run early.
FAULTS = ("", "quantity", "stop", "target", "trail", "start after", "break even", "entry level")
(NO_FAULT, FAULT_QUANTITY, FAULT_STOP, FAULT_TARGET, FAULT_TRAIL, FAULT_START, FAULT_EVEN, FAULT_LEVEL) = range(len(FAULTS))
LARGEST_DISTANCE = 2.0**31
LARGEST_QUANTITY = 1e12

# Parameters of a run, one float64 array: first the strategy's, then the market's and the account's.
(X_THIS_CLOSE, X_ON_OPPOSITE, X_FLAT, X_TIME_EXIT, X_LONG_KIND, X_SHORT_KIND, X_LONG_BARS, X_SHORT_BARS, X_LONG_TOUCH,
 X_SHORT_TOUCH, X_STOP_UNIT, X_STOP, X_TARGET_UNIT, X_TARGET, X_TRAIL_UNIT, X_TRAIL, X_TRAIL_STEP, X_START_UNIT, X_START,
 X_EVEN_UNIT, X_EVEN, X_EVEN_PLUS, X_MOST_ENTRIES, X_SIZING, X_SIZE, X_LOT_STEP, X_LOT_INVERSE, X_MINIMUM_LOT,
 X_CAPITAL, X_TICK_VALUE, X_SPREAD, X_SLIPPAGE, X_COMMISSION, X_COMMISSION_PERCENT, X_COMMISSION_MINIMUM,
 X_FINANCING_LONG, X_FINANCING_SHORT, X_MARGIN, X_LEVERAGE, X_ROLL) = range(40)
PARAMETERS = 40

# Values that orders need at the decision bar: ATR in ticks of five distances, and levels in ticks (not rounded).
(N_STOP, N_TARGET, N_TRAIL, N_START, N_EVEN, N_STOP_LONG, N_STOP_SHORT, N_TARGET_LONG, N_TARGET_SHORT, N_ENTRY_LONG,
 N_ENTRY_SHORT) = range(11)
NEEDS = 11

NO_LEVEL = -(2**62)

# One roll of a continuous future in the count of rollover nights, which stay far below it.
ROLL_BITS = 32
ROLL = 1 << ROLL_BITS
