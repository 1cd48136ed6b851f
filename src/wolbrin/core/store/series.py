"""Daily results as compact bytes: trading dates, profit and share of the day in the market, under zlib."""

from __future__ import annotations

import zlib

import numpy as np
from numpy.typing import NDArray

Days = NDArray[np.int32]
Floats = NDArray[np.float64]
Shares = NDArray[np.float32]
Daily = tuple[Days, Floats]
WITH_SHARE = b"W2"  # no zlib stream begins so
MOST = 64 * 1024**2  # bytes of four million days
LEAST_COMMON = 20  # trading dates two series must share before a correlation means something


def pack(daily: Daily, share: Shares | None = None) -> bytes:
    """int32[d] days since 1970, float64[d] account money, and where it is known float32[d] share of the day's bars in the
    market, as bytes."""
    days, profit = daily
    plain = np.ascontiguousarray(days, np.int32).tobytes() + np.ascontiguousarray(profit, np.float64).tobytes()
    if share is None:
        return zlib.compress(plain)
    return WITH_SHARE + zlib.compress(plain + np.ascontiguousarray(share, np.float32).tobytes())


def unpack(data: bytes) -> Daily:
    """Days and profit of what `pack` wrote."""
    days, profit, _ = unpack_all(data)
    return days, profit


def unpack_all(data: bytes) -> tuple[Days, Floats, Shares | None]:
    """What `pack` wrote; no shares where they were not known."""
    known = data.startswith(WITH_SHARE)
    reader = zlib.decompressobj()
    plain = reader.decompress(data[len(WITH_SHARE):] if known else data, MOST)
    if not reader.eof:
        raise ValueError("daily results are cut short, or longer than any history")
    count = len(plain) // (16 if known else 12)
    share = np.frombuffer(plain, np.float32, count, 12 * count) if known else None
    return np.frombuffer(plain, np.int32, count), np.frombuffer(plain, np.float64, count, 4 * count), share


def correlation_of(a: Daily, b: Daily) -> float:
    """Pearson correlation over the dates both have; NaN with too few, or where one never moves."""
    _, i, j = np.intersect1d(a[0], b[0], return_indices=True)
    if len(i) < LEAST_COMMON:
        return float("nan")
    x, y = a[1][i] - a[1][i].mean(), b[1][j] - b[1][j].mean()
    scale = float(np.sqrt((x @ x) * (y @ y)))
    return float(x @ y) / scale if scale > 0 else float("nan")
