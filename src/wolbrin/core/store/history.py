"""History files: one Parquet file per market and source, prices as written by the source."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from wolbrin.core.errors import EnvironmentTrouble
from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.terms import Terms

COLUMNS = ("time", "open", "high", "low", "close", "volume")


def write_history(path: Path, bars: Bars) -> None:
    """Write bars so that a crash leaves either the old file or the new one."""
    table = pa.table({"time": pa.array(bars.time, pa.timestamp("ns", "UTC")), "open": bars.open, "high": bars.high,
                      "low": bars.low, "close": bars.close, "volume": bars.volume})
    partial = path.with_suffix(".partial")
    try:
        pq.write_table(table, partial, compression="zstd")
        os.replace(partial, path)
    except OSError as err:
        partial.unlink(missing_ok=True)
        raise EnvironmentTrouble(f"this history file cannot be written ({err.strerror})", str(path),
                                 "Free some space or check the folder's permissions.") from None


def read_history(path: Path, terms: Terms, minutes: int) -> Bars:
    """Read a history file back into bars."""
    try:
        table = pq.read_table(path, columns=list(COLUMNS), memory_map=True)
    except FileNotFoundError:
        raise EnvironmentTrouble("this history file is missing", str(path),
                                 "Restore it from a backup, or import the market again.") from None
    except (OSError, pa.ArrowException) as err:
        raise EnvironmentTrouble(f"this history file is damaged ({str(err).splitlines()[0]})", str(path),
                                 "Restore it from a backup, or import the market again.") from None
    column = {name: table.column(name).to_numpy() for name in COLUMNS}
    time = column["time"].astype("datetime64[ns]").view(np.int64)
    prices = (column["open"], column["high"], column["low"], column["close"])
    return make_bars(terms, minutes, time, prices, column["volume"], str(path))
