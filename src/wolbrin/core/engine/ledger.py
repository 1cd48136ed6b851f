"""The ledger as named columns, the form in which tables, files and the command line see it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.run import Run

LEDGER_COLUMNS = ("number", "side", "quantity", "decision_time", "entry_time", "entry_price", "exit_time",
                  "exit_price", "exit_reason", "bars_held", "initial_stop", "initial_target", "gross", "spread",
                  "slippage", "commission", "financing", "net", "r_multiple", "mae", "mfe", "ambiguous",
                  "conversion_rate")


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
    own = np.isin(log[:, k.L_ORDER], (k.BY_MARKET, k.BY_STOP, k.BY_LIMIT))
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


def ledger(run: Run) -> dict[str, NDArray[np.generic]]:
    """One array of length m per column of LEDGER_COLUMNS. Times are datetime64[ns] UTC, money in account currency,
    NaN where there is no value (no stop, hence no R)."""
    t, f = run.trades_i, run.trades_f
    unit = run.unit
    decision = run.bars.end[t[:, k.T_DECISION]]
    return {
        "number": np.arange(1, len(t) + 1),
        "side": np.where(t[:, k.T_SIDE] > 0, "long", "short"),
        "quantity": f[:, k.F_QUANTITY],
        "decision_time": decision.view("datetime64[ns]"),
        "entry_time": run.entry_time.view("datetime64[ns]"),
        "entry_price": run.bars.to_price(t[:, k.T_ENTRY]),
        "exit_time": run.exit_time.view("datetime64[ns]"),
        "exit_price": run.bars.to_price(t[:, k.T_EXIT]),
        "exit_reason": np.array(k.REASONS)[t[:, k.T_REASON]],
        "bars_held": t[:, k.T_HELD],
        "initial_stop": _level(run, t[:, k.T_STOP]),
        "initial_target": _level(run, t[:, k.T_TARGET]),
        "gross": f[:, k.F_GROSS],
        "spread": f[:, k.F_SPREAD],
        "slippage": f[:, k.F_SLIPPAGE],
        "commission": f[:, k.F_COMMISSION],
        "financing": f[:, k.F_FINANCING],
        "net": f[:, k.F_NET],
        "r_multiple": f[:, k.F_NET] / f[:, k.F_RISK],
        "mae": t[:, k.T_WORST] * unit,
        "mfe": t[:, k.T_BEST] * unit,
        "ambiguous": t[:, k.T_AMBIGUOUS].astype(bool),
        "conversion_rate": f[:, k.F_RATE],
    }
