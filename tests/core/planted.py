"""Generated markets that hold one known edge, or none: intraday walks in sessions of 32 bars, in ticks."""

from __future__ import annotations

import numpy as np

from tests.build import instants, terms
from wolbrin.core.market.bars import Bars, make_bars

KINDS = ("opening momentum", "mean reversion", "hour drift", "weekday drift", "breakout continuation")
A_DAY, FINE = 32, 6  # bars of a session, and steps within a bar
SIGMA = 5.0  # ticks of a step


def planted(kind: str, seed: int, days: int = 500, strength: float = 1.0) -> Bars:
    """A market with an edge of this kind; "noise" and "drift" hold none.

    opening momentum: the first hour's direction goes on through the session. mean reversion: what went far in the last
    session hour comes back in the next. hour drift: two hours of each session rise. weekday drift: every Tuesday rises.
    breakout continuation: a close beyond the extremes of the last 24 bars goes on for 8. drift: all rises alike.
    """
    rng = np.random.default_rng(seed)
    volatility = np.exp(0.3 * np.cumsum(rng.normal(size=days) * 0.15) / 2)
    time = instants(days * 7 * 96 // 5 + 960, 15)
    close = np.empty(days * A_DAY)
    open_, high, low = np.empty_like(close), np.empty_like(close), np.empty_like(close)
    price = 20_000.0
    for day in range(days):
        scale = SIGMA * volatility[day]
        begin = price
        steps = rng.normal(0.0, scale, (A_DAY, FINE))
        going, morning = 0, 0.0
        for i in range(A_DAY):
            at = day * A_DAY + i
            push = 0.0
            if kind == "opening momentum" and i >= 4:
                morning = float(np.sign(close[at - 1] - begin)) if i == 4 else morning
                push = 0.11 * morning
            elif kind == "mean reversion" and i >= 4:
                push = -0.12 * np.clip((close[at - 1] - close[at - 4]) / (2 * np.sqrt(3 * FINE) * scale), -1, 1) * 2
            elif kind == "hour drift" and 12 <= i < 20:
                push = 0.16
            elif kind == "weekday drift" and day % 5 == 1:
                push = 0.14
            elif kind == "breakout continuation" and at > 24:
                if close[at - 1] > high[at - 25:at - 1].max():
                    going = 8
                elif close[at - 1] < low[at - 25:at - 1].min():
                    going = -8
                push = 0.16 * np.sign(going)
                going -= int(np.sign(going))
            elif kind == "drift":
                push = 0.05 * SIGMA / scale  # the same in ticks on lively and on quiet days
            path = price + np.cumsum(steps[i] + strength * push * scale)
            open_[at], close[at] = price, path[-1]
            high[at], low[at] = max(price, path.max()), min(price, path.min())
            price = path[-1]
        price += rng.normal(0.0, 4 * scale)
    whole = [np.round(x) for x in (open_, high, low, close)]
    whole[1] = np.maximum.reduce(whole)
    whole[2] = np.minimum.reduce(whole)
    lift = max(0.0, 2_000 - float(whole[2].min()))
    volume = rng.integers(50, 500, len(close)).astype(float)
    inside = _inside(time)[:len(close)]
    return make_bars(terms(), 15, inside, tuple((x + lift) / 100 for x in whole), volume)  # type: ignore[arg-type]


def _inside(time: np.ndarray) -> np.ndarray:
    """Instants of 15 minutes that lie in the sessions of the market, 09:00 to 17:00 on workdays."""
    hour = (time // 3_600_000_000_000) % 24
    day = (time // 86_400_000_000_000 + 3) % 7
    return time[(hour >= 8) & (hour < 16) & (day < 5)]
