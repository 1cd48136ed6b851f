"""Bars and a strategy for the benchmark: random, but always the same."""

from __future__ import annotations

from typing import Literal

import numpy as np

from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.sessions import NS_A_MINUTE
from wolbrin.core.market.terms import Commission, SessionRule, Terms
from wolbrin.core.rules.model import (
    Condition,
    Distance,
    FieldOperand,
    IndicatorOperand,
    NumberOperand,
    Row,
    Side,
    Strategy,
)


def bench_bars(count: int) -> Bars:
    """`count` five-minute bars of a random walk in round-the-clock weekday sessions."""
    terms = Terms(code="BENCH", tick_size=0.05, point_value=10.0, spread_ticks=1.0, slippage_ticks=1.0,
                  commission=Commission(per_contract=2.4), time_zone="UTC",
                  sessions=(SessionRule(days=("Mon", "Tue", "Wed", "Thu", "Fri"), open="00:00", close="24:00"),))
    n = count * 7 // 5 + 2000
    rng = np.random.default_rng(7)
    time = int(np.datetime64("2015-01-05", "ns").astype(np.int64)) + np.arange(n, dtype=np.int64) * 5 * NS_A_MINUTE
    close = 2000.0 + np.cumsum(rng.normal(0.0, 0.3, n))
    open_ = np.concatenate(([2000.0], close[:-1]))
    high = np.maximum(open_, close) + rng.exponential(0.2, n)
    low = np.minimum(open_, close) - rng.exponential(0.2, n)
    grid = tuple(np.round(np.round(p / 0.05) * 0.05, 2) for p in (open_, high, low, close))
    bars = make_bars(terms, 5, time, (grid[0], grid[1], grid[2], grid[3]), np.ones(n), "bench")
    return bars.take(count)


def bench_strategy(short: Literal["mirrored", "off"] = "mirrored") -> Strategy:
    """Three conditions on the long side, with ATR stop and target; the short side mirrored (three more) or off."""
    def ema(length: int) -> IndicatorOperand:
        return IndicatorOperand(indicator="ema", params={"length": length})

    rows = (Row(left=ema(20), compare="crosses above", right=ema(50)),
            Row(left=IndicatorOperand(indicator="rsi"), compare="above", right=NumberOperand(value=50.0)),
            Row(left=FieldOperand(), compare="above", right=IndicatorOperand(indicator="sma", params={"length": 100})))
    return Strategy(name="Bench", long=Side(entry=Condition(rows=rows)), short=Side(mode=short),
                    stop=Distance(unit="atr", amount=1.5, length=20),
                    target=Distance(unit="atr", amount=3.0, length=20))
