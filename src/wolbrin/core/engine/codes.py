"""Numbers by which kernel and Python speak of reasons, options and columns."""

from __future__ import annotations

REASONS = ("stop", "target", "time", "condition", "reverse", "session", "session (late)", "end of data", "ruin")
STOP, TARGET, TIME, CONDITION, REVERSE, SESSION, SESSION_LATE, END_OF_DATA, RUIN = range(len(REASONS))
NOTHING = -1

ON_OPPOSITE = {"reverse": 0, "close": 1, "ignore": 2}
REVERSES, CLOSES, IGNORES = 0, 1, 2

UNIT = {None: 0, "ticks": 1, "atr": 2, "stop": 3}
NONE, TICKS, ATR, STOP_MULTIPLE = 0, 1, 2, 3

# How a fill happened: at a bar's open, at its close, or inside it.
AT_OPEN, AT_CLOSE, INSIDE = 0, 1, 2

# Integer columns of a trade. An open position is a trade in the making and uses the same row.
(T_SIDE, T_DECISION, T_ENTRY_BAR, T_EXIT_BAR, T_ENTRY, T_EXIT, T_STOP, T_TARGET, T_REASON, T_AMBIGUOUS, T_HELD,
 T_ENTRY_AT, T_EXIT_AT, T_NIGHTS, T_BEST, T_WORST) = range(16)
INT_COLUMNS = 16
# Decimal columns of a trade: quantity, then money in account currency.
(F_QUANTITY, F_GROSS, F_SPREAD, F_SLIPPAGE, F_COMMISSION, F_FINANCING, F_NET, F_RISK, F_EQUITY,
 F_ENTRY_COSTS) = range(10)
FLOAT_COLUMNS = 10

COUNTS = ("conflicts", "skipped", "rejected", "ambiguous", "late", "exposed", "ruined")
C_CONFLICTS, C_SKIPPED, C_REJECTED, C_AMBIGUOUS, C_LATE, C_EXPOSED, C_RUINED = range(len(COUNTS))

# Purse: what the account holds besides the open position.
P_CASH, P_GROSS = range(2)

NO_LEVEL = -(2**62)

# One roll of a continuous future in the count of rollover nights, which stay far below it.
ROLL_BITS = 32
ROLL = 1 << ROLL_BITS
