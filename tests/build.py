"""Small histories and strategies for tests."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from typing import Any

import numpy as np

from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.sessions import NS_A_MINUTE
from wolbrin.core.market.terms import SessionRule, Terms
from wolbrin.core.proving.line import Line, Step
from wolbrin.core.rules.mirror import output_of
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
from wolbrin.core.rules.operands import Operand
from wolbrin.core.search.drawing import draw_code
from wolbrin.core.search.families import FAMILIES
from wolbrin.core.search.floors import STANDING
from wolbrin.core.search.ingredients import Node, Pantry, Sources, parse_chosen
from wolbrin.core.search.limits import Limits, Sides
from wolbrin.core.search.objective import Floor
from wolbrin.core.store.project import Project
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.store.wanted import Wanted
from wolbrin.core.work.discover_request import DiscoverRequest

WAIT = 235_000  # milliseconds that anything may take, as long as the suite lets a test run: machines may be busy
WORKDAYS = ("Mon", "Tue", "Wed", "Thu", "Fri")
SHORT = Line(name="short", steps=(Step(gate="monte_carlo"),))  # a line for tests of what comes after it


def any_seed() -> int:
    """A seed that is drawn anew each time and printed; WOLBRIN_SEED runs a test again with one that failed."""
    seed = int(os.environ.get("WOLBRIN_SEED") or np.random.default_rng().integers(1, 2**31))
    print("seed", seed)
    return seed


def any_rng() -> np.random.Generator:
    """Random numbers from such a seed."""
    return np.random.default_rng(any_seed())


def until(there: Callable[[], object]) -> None:
    """Look until it is so; the suite's own limit ends what never is."""
    while not there():
        time.sleep(0.002)


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


# Families whose rows know up and down, or know neither, so that their mirror image trades the mirrored history.
PANTRY = Pantry(FAMILIES, Sources(15), parse_chosen([
    "average", "extreme", "oscillator:rsi", "oscillator:momentum", "session", "trend:directional.adx", "bar:range", "clock",
    "weekday"]))


def usual_level(operand: Operand, share: float) -> float:
    """A level that a series may take, without looking at its values."""
    output = output_of(operand)
    if output is not None and output.nature == "bounded":
        return round(output.bounds[0] + share * (output.bounds[1] - output.bounds[0]), 6)
    return (share - 0.487) * 40.3


def draw_row(rng: np.random.Generator) -> Node:
    """A row of any ingredient on the history itself."""
    while (node := PANTRY.node(draw_code(rng, PANTRY), usual_level)) is None:
        pass
    return node


def draw_strategy(rng: np.random.Generator, name: str, sides: str = "mirrored", quantity: float = 1.0) -> Strategy:
    """One random strategy: up to three rows, a stop, perhaps a target, an exit row or a time exit."""
    rows = tuple(draw_row(rng) for _ in range(int(rng.integers(1, 4))))
    leave = Condition(rows=(draw_row(rng),)) if rng.random() < 0.25 else Condition()
    side, off = Side(entry=Condition(rows=rows), exit=leave), Side(mode="off")
    stop = Distance(unit="atr", amount=float(rng.choice(np.arange(1.0, 4.25, 0.5))), length=20)
    target = None
    if rng.random() < 0.7:
        target = Distance(unit="stop", amount=float(rng.choice(np.arange(1.0, 4.25, 0.5))))
    time_exit = int(rng.choice(np.arange(4, 41, 4))) if rng.random() < 0.25 else None
    both = {"mirrored": (side, Side(mode="mirrored")), "long": (side, off), "short": (off, side)}[sides]
    return Strategy(name=name, long=both[0], short=both[1], stop=stop, target=target, time_exit=time_exit, quantity=quantity)


EASY = (Floor(key="trades", value=5.0), Floor(key="profit_factor", value=0.5))


def discover_request(market: str = "AAA", interval: int = 15, count: int = 24, pool: int = 60,
                     floors: tuple[Floor, ...] = EASY, seed: int = 1, sides: tuple[Sides, ...] = ("mirrored", "long"),
                     **more: Any) -> DiscoverRequest:
    """A small search with floors that much passes."""
    return DiscoverRequest(((market, interval),), Limits(pool=pool, sides=sides), floors=floors, count=count, seed=seed,
                           **({"without": STANDING} | more))


def found_by(project: Project, search: int) -> list[str]:
    """Hashes of what a search kept, in order."""
    shelf = Shelf(project)
    return [k.hash for k in shelf.bodies(shelf.ids(Wanted(search=search)))]
