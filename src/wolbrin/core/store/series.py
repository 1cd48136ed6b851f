"""Daily results as compact bytes: trading dates and profit, zlib over int32 and float64."""

from __future__ import annotations

import zlib

import numpy as np
from numpy.typing import NDArray

Days = NDArray[np.int32]
Floats = NDArray[np.float64]
Daily = tuple[Days, Floats]
LEAST_COMMON = 20  # trading dates two series must share before a correlation means something


def pack(daily: Daily) -> bytes:
    """int32[d] days since 1970 and float64[d] account money, as bytes."""
    days, profit = daily
    return zlib.compress(np.ascontiguousarray(days, np.int32).tobytes() + np.ascontiguousarray(profit, np.float64).tobytes())


def unpack(data: bytes) -> Daily:
    """What `pack` wrote."""
    plain = zlib.decompress(data)
    count = len(plain) // 12
    return np.frombuffer(plain, np.int32, count), np.frombuffer(plain, np.float64, count, 4 * count)


def correlation_of(a: Daily, b: Daily) -> float:
    """Pearson correlation over the dates both have; NaN with too few, or where one never moves."""
    _, i, j = np.intersect1d(a[0], b[0], return_indices=True)
    if len(i) < LEAST_COMMON:
        return float("nan")
    x, y = a[1][i] - a[1][i].mean(), b[1][j] - b[1][j].mean()
    scale = float(np.sqrt((x @ x) * (y @ y)))
    return float(x @ y) / scale if scale > 0 else float("nan")
