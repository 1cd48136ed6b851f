"""Averages, RSI and ATR of one series in one pass.

Each is a recursion that waits for its own last value, so several at once cost little more than one. Whatever is asked
together or alone goes through this kernel and has the same bits; it equals TA-Lib to 1e-9 relative (test_indicators.py).
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit

Floats = NDArray[np.float64]
Ticks = NDArray[np.int32]
Kind = Literal["sma", "ema", "rsi", "atr"]
EMAS, SMAS = 3, 2  # lanes of one pass
NOTHING = 1e-14  # TA-Lib's zero
_NO_TICKS = np.zeros(0, np.int32)
_NO_FLOATS = np.zeros(0)


class Wish(NamedTuple):
    """One series: its kind and length."""

    kind: Kind
    length: int


@njit(cache=True, nogil=True, error_model="numpy")
def _pass(x: Floats, high: Ticks, low: Ticks, close: Ticks, begin: int, ema_lengths: NDArray[np.int64], ema0: Floats,
          ema1: Floats, ema2: Floats, sma_lengths: NDArray[np.int64], sma0: Floats, sma1: Floats, rsi_length: int,
          rsi: Floats, atr_length: int, atr: Floats) -> None:
    """Fill lanes whose length is above zero; the arrays of the others are of length 0. x: float64[n], its first value at
    `begin`; ema0 .. atr: float64[n], NaN in warm-up. high .. close: int32[n] ticks for ATR, or [0]."""
    n = max(len(x), len(close))
    n0, n1, n2 = ema_lengths[0], ema_lengths[1], ema_lengths[2]
    m0, m1 = sma_lengths[0], sma_lengths[1]
    a0, a1, a2 = 2.0 / (n0 + 1.0), 2.0 / (n1 + 1.0), 2.0 / (n2 + 1.0)
    e0, e1, e2, s0, s1 = 0.0, 0.0, 0.0, 0.0, 0.0
    gain, loss, true = 0.0, 0.0, 0.0
    keep, share = float(rsi_length - 1), 1.0 / max(1, rsi_length)
    # Each lane's warm-up on its own; all of them stand at bar `first` - 1 then.
    first = min(n, max(max(begin + max(n0, n1, n2, m0, m1), begin + rsi_length + 1), atr_length))
    if len(x) == 0:
        first = min(n, atr_length)
    for i in range(begin, min(first, len(x))):
        at = i - begin
        value = x[i]
        if n0 > 0:
            e0 = e0 + value if at < n0 else (value - e0) * a0 + e0
            if at >= n0 - 1:
                e0 = e0 / n0 if at == n0 - 1 else e0
                ema0[i] = e0
        if n1 > 0:
            e1 = e1 + value if at < n1 else (value - e1) * a1 + e1
            if at >= n1 - 1:
                e1 = e1 / n1 if at == n1 - 1 else e1
                ema1[i] = e1
        if n2 > 0:
            e2 = e2 + value if at < n2 else (value - e2) * a2 + e2
            if at >= n2 - 1:
                e2 = e2 / n2 if at == n2 - 1 else e2
                ema2[i] = e2
        if m0 > 0:
            s0 += value
            if at >= m0 - 1:
                sma0[i] = s0 / m0
                s0 -= x[i - m0 + 1]
        if m1 > 0:
            s1 += value
            if at >= m1 - 1:
                sma1[i] = s1 / m1
                s1 -= x[i - m1 + 1]
        if rsi_length > 0 and at >= 1:
            move = value - x[i - 1]
            up = max(move, 0.0) if move == move else move
            down = up - move
            if at > rsi_length:
                gain = (gain * keep + up) * share
                loss = (loss * keep + down) * share
            else:
                gain += up
                loss += down
                if at == rsi_length:
                    gain /= rsi_length
                    loss /= rsi_length
            if at >= rsi_length:
                both = gain + loss
                rsi[i] = 0.0 if -NOTHING < both < NOTHING else 100.0 * (gain / both)
    wilder = 1.0 / max(1, atr_length)
    for i in range(min(first, n) if atr_length > 0 else 0):
        if i == 0:
            span = float(high[0] - low[0])
        else:
            span = float(max(high[i], close[i - 1]) - min(low[i], close[i - 1]))
        if i < atr_length:
            true += span
            if i == atr_length - 1:
                true /= atr_length
                atr[i] = true
        else:
            true += (span - true) * wilder
            atr[i] = true
    has0, has1, has2, mean0, mean1, strong, ranged = n0 > 0, n1 > 0, n2 > 0, m0 > 0, m1 > 0, rsi_length > 0, atr_length > 0
    f0, f1 = float(max(1, m0)), float(max(1, m1))
    valued = len(x) > 0
    one = np.uint64(1)
    back0, back1 = np.uint64(max(0, m0 - 1)), np.uint64(max(0, m1 - 1))
    u, stop = np.uint64(first), np.uint64(n)
    while u < stop:  # an index without a sign needs no look whether it counts from the end
        if valued:
            value = x[u]
            if has0:
                e0 = (value - e0) * a0 + e0
                ema0[u] = e0
            if has1:
                e1 = (value - e1) * a1 + e1
                ema1[u] = e1
            if has2:
                e2 = (value - e2) * a2 + e2
                ema2[u] = e2
            if mean0:
                s0 += value
                sma0[u] = s0 / f0
                s0 -= x[u - back0]
            if mean1:
                s1 += value
                sma1[u] = s1 / f1
                s1 -= x[u - back1]
            if strong:
                move = value - x[u - one]
                up = max(move, 0.0) if move == move else move
                gain = (gain * keep + up) * share
                loss = (loss * keep + (up - move)) * share
                both = gain + loss
                rsi[u] = 0.0 if -NOTHING < both < NOTHING else 100.0 * (gain / both)
        if ranged:
            previous = close[u - one]
            span = float(max(high[u], previous) - min(low[u], previous))
            true += (span - true) * wilder
            atr[u] = true
        u += one


def _begin(x: Floats) -> int:
    known = np.isfinite(x)
    return int(np.argmax(known)) if known.any() else len(x)


def together(x: Floats, wishes: Sequence[Wish], ticks: tuple[Ticks, Ticks, Ticks] | None = None) -> list[Floats]:
    """Several series over one, float64[n] each, NaN in warm-up.

    x: float64[n], which may begin with NaN; float64[0] for ATR alone. ticks: high, low, close in ticks, for ATR, which comes
    in ticks.
    """
    n = max(len(x), len(ticks[2]) if ticks is not None else 0)
    out: list[Floats] = [_NO_FLOATS] * len(wishes)
    begin = 0 if len(x) and np.isfinite(x[0]) else _begin(x)
    left = list(range(len(wishes)))
    while left:
        lanes: dict[Kind, list[int]] = {"ema": [], "sma": [], "rsi": [], "atr": []}
        room = {"ema": EMAS, "sma": SMAS, "rsi": 1, "atr": 1}
        for at in left:
            kind = wishes[at].kind
            if len(lanes[kind]) < room[kind]:
                lanes[kind].append(at)
        now = [at for part in lanes.values() for at in part]
        left = [at for at in left if at not in now]
        lengths = {kind: [wishes[at].length for at in part] for kind, part in lanes.items()}
        made = {kind: [np.full(n, np.nan) for _ in part] for kind, part in lanes.items()}
        high, low, close = ticks if ticks is not None and lanes["atr"] else (_NO_TICKS, _NO_TICKS, _NO_TICKS)
        ema, sma, rsi, atr = ((made[kind] + [_NO_FLOATS] * room[kind])[:room[kind]] for kind in ("ema", "sma", "rsi", "atr"))
        _pass(x, high, low, close, begin, np.array((lengths["ema"] + [0] * EMAS)[:EMAS], np.int64), ema[0], ema[1], ema[2],
              np.array((lengths["sma"] + [0] * SMAS)[:SMAS], np.int64), sma[0], sma[1], sum(lengths["rsi"]), rsi[0],
              sum(lengths["atr"]), atr[0])
        for kind, part in lanes.items():
            for at, series in zip(part, made[kind]):
                out[at] = series
    return out


def alone(x: Floats, kind: Kind, length: int) -> Floats:
    """One average or RSI, float64[n]."""
    return together(np.ascontiguousarray(x, np.float64), [Wish(kind, length)])[0]
