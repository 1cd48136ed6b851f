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


def ledger(run: Run) -> dict[str, NDArray[np.generic]]:
    """One array of length m per column of LEDGER_COLUMNS. Times are datetime64[ns] UTC, money in account currency,
    NaN where there is no value (no stop, hence no R)."""
    t, f = run.trades_i, run.trades_f
    unit = run.tick_money * f[:, k.F_QUANTITY]
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
        "conversion_rate": np.full(len(t), run.bars.terms.conversion_rate),
    }
