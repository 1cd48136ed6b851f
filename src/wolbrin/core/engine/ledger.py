"""The ledger as named columns, the form in which tables, files and the command line see it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.run import Run
from wolbrin.core.figures.figure import Figure

Values = NDArray[np.generic]


@dataclass(frozen=True)
class LedgerColumn(Figure):
    """One column of the ledger: a figure with of(run), its values, [m]. shown: whether the window's ledger shows it under its
    title; other columns stand in files and JSON only, or the window shows them in a way of its own."""

    of: Callable[[Run], Values]
    shown: bool = field(default=False, kw_only=True)

    @property
    def name(self) -> str:
        return self.key


def _level(run: Run, ticks: NDArray[np.int64]) -> NDArray[np.float64]:
    missing = ticks == k.NO_LEVEL
    price = run.bars.to_price(np.where(missing, 0, ticks))
    return np.where(missing, np.nan, price)


ORDER_COLUMNS = ("number", "event", "order", "side", "time", "price", "reason", "trade")


def order_log(run: Run) -> dict[str, NDArray[np.generic]]:
    """Every order's events in order, one array of length e per column of ORDER_COLUMNS. Times are datetime64[ns] UTC;
    price is NaN where there is none; trade is the ledger number the event belongs to, 0 for none."""
    log = run.log
    trades = run.trades_i
    price = _level(run, log[:, k.L_PRICE])
    trade = log[:, k.L_TRADE] + 1
    # An entry order belongs to a trade only if it was the one filled.
    own = log[:, k.L_ORDER] < k.ENTRIES_END
    number_of = dict(zip(trades[:, k.T_ORDER].tolist(), range(1, len(trades) + 1)))
    trade[own] = [number_of.get(n, 0) for n in log[own, k.L_NUMBER].tolist()]
    trade[trade > len(trades)] = 0
    return {
        "number": log[:, k.L_NUMBER],
        "event": np.array(k.EVENTS)[log[:, k.L_EVENT]],
        "order": np.array(k.ORDERS)[log[:, k.L_ORDER]],
        "side": np.where(log[:, k.L_SIDE] > 0, "buy", "sell"),
        "time": run.instants(log[:, k.L_BAR], log[:, k.L_AT], log[:, k.L_FINE]).view("datetime64[ns]"),
        "price": price,
        "reason": np.array(k.WHY)[log[:, k.L_WHY]],
        "trade": trade,
    }


def _numbers_from(run: Run) -> Values:
    """From which date on the numbers are in force that decided each trade, "" where they are not dated."""
    schedule = run.strategy.schedule
    firsts = np.array([""] if schedule is None else [s.first.isoformat() for s in schedule.spells])
    return firsts[run.trades_i[:, k.T_NUMBERS]]


# One row a trade. To add a column: an entry here; files, JSON and, with a title, the window's ledger take it from this list.
LEDGER: list[LedgerColumn] = [
    LedgerColumn("number", "number", "count", "place in the ledger, by exit",
                 lambda run: np.arange(1, len(run) + 1)),
    LedgerColumn("side", "side", "", "long or short",
                 lambda run: np.where(run.trades_i[:, k.T_SIDE] > 0, "long", "short")),
    LedgerColumn("quantity", "quantity", "contracts", "contracts or lots, rounded down to the market's step",
                 lambda run: run.trades_f[:, k.F_QUANTITY]),
    LedgerColumn("decision_time", "decided", "time", "end of the bar whose close decided the entry, UTC",
                 lambda run: run.bars.end[run.trades_i[:, k.T_DECISION]].view("datetime64[ns]")),
    LedgerColumn("numbers_from", "numbers from", "date", "from which date on the dated numbers are in force that decided it",
                 _numbers_from),
    LedgerColumn("entry_time", "entry", "time", "instant of the entry's fill, UTC",
                 lambda run: run.entry_time.view("datetime64[ns]")),
    LedgerColumn("entry_price", "entry price", "price", "at which the entry was filled, costs apart",
                 lambda run: run.bars.to_price(run.trades_i[:, k.T_ENTRY])),
    LedgerColumn("exit_time", "exit", "time", "instant of the exit's fill, UTC",
                 lambda run: run.exit_time.view("datetime64[ns]")),
    LedgerColumn("exit_price", "exit price", "price", "at which the exit was filled, costs apart",
                 lambda run: run.bars.to_price(run.trades_i[:, k.T_EXIT])),
    LedgerColumn("exit_reason", "reason", "", "why it was left, such as stop, target, time, condition, session",
                 lambda run: np.array(k.REASONS)[run.trades_i[:, k.T_REASON]]),
    LedgerColumn("bars_held", "bars", "bars", "from the entry's bar to the exit's, both counted",
                 lambda run: run.trades_i[:, k.T_HELD]),
    LedgerColumn("initial_stop", "stop", "price", "stop at the entry; none where there is none",
                 lambda run: _level(run, run.trades_i[:, k.T_STOP])),
    LedgerColumn("initial_target", "target", "price", "target at the entry; none where there is none",
                 lambda run: _level(run, run.trades_i[:, k.T_TARGET])),
    LedgerColumn("gross", "gross", "money", "(exit - entry) x side x quantity x point value, at the exit's conversion rate",
                 lambda run: run.trades_f[:, k.F_GROSS]),
    LedgerColumn("spread", "spread", "money", "spread paid, half at each fill",
                 lambda run: run.trades_f[:, k.F_SPREAD]),
    LedgerColumn("slippage", "slippage", "money", "slippage paid at market and stop fills",
                 lambda run: run.trades_f[:, k.F_SLIPPAGE]),
    LedgerColumn("commission", "commission", "money", "commission of both sides",
                 lambda run: run.trades_f[:, k.F_COMMISSION]),
    LedgerColumn("financing", "financing", "money", "nights held x rate, rolls included; negative is paid",
                 lambda run: run.trades_f[:, k.F_FINANCING]),
    LedgerColumn("net", "net", "money", "gross - spread - slippage - commission + financing",
                 lambda run: run.trades_f[:, k.F_NET]),
    LedgerColumn("r_multiple", "R", "R", "net / initial risk; none without a stop",
                 lambda run: run.trades_f[:, k.F_NET] / run.trades_f[:, k.F_RISK]),
    LedgerColumn("mae", "worst", "money", "worst excursion while held (maximum adverse excursion), whole bars seen",
                 lambda run: run.trades_i[:, k.T_WORST] * run.unit),
    LedgerColumn("mfe", "best", "money", "best excursion while held (maximum favorable excursion), whole bars seen",
                 lambda run: run.trades_i[:, k.T_BEST] * run.unit),
    LedgerColumn("ambiguous", "unsure", "flag", "stop and target lie in one bar and no finer bars tell which came first; "
                 "the worse is assumed",
                 lambda run: run.trades_i[:, k.T_AMBIGUOUS].astype(bool)),
    LedgerColumn("conversion_rate", "rate", "account money", "for one unit of quote money at the exit",
                 lambda run: run.trades_f[:, k.F_RATE]),
]


def ledger(run: Run) -> dict[str, Values]:
    """One array of length m per column of LEDGER. Times are datetime64[ns] UTC, money in account currency, NaN where there is
    no value (no stop, hence no R)."""
    return {column.name: column.of(run) for column in LEDGER}
