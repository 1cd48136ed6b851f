"""Small histories and strategies for tests."""

from __future__ import annotations

from typing import Any

import numpy as np

from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.sessions import NS_A_MINUTE
from wolbrin.core.market.terms import SessionRule, Terms
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
from wolbrin.core.search.grammar import TEMPLATES, Limits

WORKDAYS = ("Mon", "Tue", "Wed", "Thu", "Fri")


def terms(**more: Any) -> Terms:
    """A plain future in Oslo, 09:00 to 17:00, tick 0.01 worth 1.00."""
    given: dict[str, Any] = {"code": "TST", "tick_size": 0.01, "point_value": 100.0, "time_zone": "Europe/Oslo",
                             "sessions": (SessionRule(days=WORKDAYS, open="09:00", close="17:00"),)}
    return Terms(**(given | more))


def instants(count: int, minutes: int, start: str = "2024-01-08T08:00") -> np.ndarray:
    """`count` steps from a Monday 09:00 in Oslo, weekends and nights included."""
    first = int(np.datetime64(start, "ns").astype(np.int64))
    return first + np.arange(count, dtype=np.int64) * minutes * NS_A_MINUTE


def walk_bars(count: int, seed: int = 1, minutes: int = 15, sigma: float = 12.0, **more: Any) -> Bars:
    """A random walk of about `count` bars in sessions, in whole ticks around 100.00."""
    rng = np.random.default_rng(seed)
    time = instants(count * 5, minutes)
    close = 10_000 + np.cumsum(rng.normal(0, sigma, len(time))).round()
    open_ = np.concatenate(([10_000.0], close[:-1])) + rng.integers(-3, 4, len(time))
    high = np.maximum(open_, close) + rng.integers(0, 12, len(time))
    low = np.minimum(open_, close) - rng.integers(0, 12, len(time))
    volume = rng.integers(1, 500, len(time)).astype(float)
    prices = (open_ / 100, high / 100, low / 100, close / 100)
    return make_bars(terms(**more), minutes, time, prices, volume).take(count)


def price(field: str = "close", **more: Any) -> FieldOperand:
    return FieldOperand(field=field, **more)


def ind(key: str, output: str = "value", of: str | None = None, times: float = 1.0, ago: int = 0,
        **params: float) -> IndicatorOperand:
    return IndicatorOperand(indicator=key, output=output, of=of, params=params, times=times, ago=ago)


def num(value: float) -> NumberOperand:
    return NumberOperand(value=value)


def row(left: Any, compare: str, right: Any = None, on: bool = True) -> Row:
    return Row(left=left, compare=compare, right=right or num(0), on=on)


def entry(*rows: Row, match: str = "all", leave: tuple[Row, ...] = ()) -> Side:
    return Side(entry=Condition(rows=rows, match=match), exit=Condition(rows=leave))


def cross(**more: Any) -> Strategy:
    """A quick averages cross, mirrored."""
    given: dict[str, Any] = {"name": "Cross", "long": entry(row(ind("ema", length=5), "crosses above",
                                                                ind("ema", length=15)))}
    return Strategy(**(given | more))


def draw_strategy(rng: np.random.Generator, limits: Limits, name: str) -> Strategy:
    """One random strategy of plain conditions: a trigger, up to most_rows - 1 further rows, a stop, perhaps a target or an
    exit row."""
    triggers = [t for t in TEMPLATES if t.trigger]
    rows = [triggers[int(rng.integers(len(triggers)))].draw(rng)]
    for _ in range(int(rng.integers(limits.most_rows))):
        rows.append(TEMPLATES[int(rng.integers(len(TEMPLATES)))].draw(rng))
    leave = Condition()
    if rng.random() < 0.25:
        leave = Condition(rows=(triggers[int(rng.integers(len(triggers)))].draw(rng),))
    side = Side(entry=Condition(rows=tuple(rows)), exit=leave)
    stop = Distance(unit="atr", amount=float(rng.choice(np.arange(1.0, 4.25, 0.5))), length=20)
    target = None
    if rng.random() < 0.7:
        target = Distance(unit="stop", amount=float(rng.choice(np.arange(1.0, 4.25, 0.5))))
    time_exit = int(rng.choice(np.arange(4, 41, 4))) if rng.random() < 0.25 else None
    off = Side(mode="off")
    sides = {"both": (side, Side(mode="mirrored")), "long": (side, off), "short": (off, side)}[limits.sides]
    return Strategy(name=name, long=sides[0], short=sides[1], stop=stop, target=target, time_exit=time_exit,
                    flat_by_session_end=limits.flat_by_session_end, quantity=limits.quantity)
