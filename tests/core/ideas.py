"""Hypothesis strategies for operands, conditions and whole strategies, and a slow reading of conditions by definition."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from hypothesis import strategies as st

from wolbrin.core.indicators.catalogue import BY_KEY, PRICE_FIELDS
from wolbrin.core.indicators.columns import Columns
from wolbrin.core.rules.evaluate import operand_column
from wolbrin.core.rules.model import (
    BreakEven,
    CombinedOperand,
    Condition,
    Distance,
    EntryOrder,
    FieldOperand,
    Filters,
    IndicatorOperand,
    Level,
    NumberOperand,
    Oversized,
    Parameter,
    Row,
    Side,
    Sizing,
    Strategy,
    Trail,
    Window,
)
from wolbrin.core.rules.named import named

PARAMETERS = (Parameter(name="fast", value=4, low=2, high=9, step=1, sweep=True), Parameter(name="wide", formula="3 * fast"))
KNOWN = {"fast": 4.0, "wide": 12.0}
small = st.one_of(st.integers(1, 12), st.sampled_from([named(4, "fast"), named(12, "wide"), named(6, "fast + 2")]))
decimals = st.one_of(st.integers(-9, 9).map(float), st.floats(-1e6, 1e6, allow_nan=False).map(lambda x: round(x, 6) + 0.0),
                     st.sampled_from([named(4.0, "fast"), named(-6.0, "-(wide / 2)"), named(2.0, "fast / 2")]))
lengths = st.one_of(st.integers(2, 12), st.sampled_from([named(4, "fast"), named(12, "wide")]))
SERIES = ("sma", "ema", "rsi", "momentum", "atr", "highest", "place", "gap", "bars_in_session")
BANDS = ("bands", "keltner", "donchian")


@st.composite
def indicators(draw: Any, inner: Any = None, key: str = "") -> IndicatorOperand:
    entry = BY_KEY[key or draw(st.sampled_from((*SERIES, *BANDS, "macd", "swings")))]
    params = {p.key: draw(lengths) for p in entry.params if p.key == "length" and draw(st.booleans())}
    of = None
    if entry.takes_field and draw(st.booleans()):
        of = draw(st.sampled_from(PRICE_FIELDS) if inner is None else st.one_of(st.sampled_from(PRICE_FIELDS), inner))
    elsewhere = {} if key else {"interval": draw(st.sampled_from([None, None, 60])), "ago": draw(st.sampled_from([0, 0, 3])),
                                "times": draw(st.one_of(st.just(1.0), decimals))}
    return IndicatorOperand(indicator=entry.key, params=params, of=of, output=draw(st.sampled_from(entry.outputs)).key,
                            **elsewhere)


fields = st.builds(FieldOperand, field=st.sampled_from(PRICE_FIELDS), ago=st.sampled_from([0, 0, 2]),
                   times=st.one_of(st.just(1.0), decimals))
numbers = st.builds(NumberOperand, value=decimals)


def _combined(inner: Any) -> Any:
    def made(args: Any) -> Any:
        left, right, join, ago = args
        if isinstance(left, NumberOperand) and (isinstance(right, NumberOperand) or join == "*"):
            left = FieldOperand()
        return CombinedOperand(left=left, right=right, join=join, ago=ago)
    return st.tuples(inner, inner, st.sampled_from("+-*/"), st.sampled_from([0, 0, 2])).map(made)


series = st.recursive(st.one_of(fields, indicators()), lambda inner: st.one_of(indicators(inner), _combined(inner)),
                      max_leaves=4)
values = st.one_of(series, numbers, _combined(st.one_of(fields, numbers, indicators())))
modifiers = st.fixed_dictionaries({}, optional={"when": st.sampled_from(["held", "within"]), "for_bars": small,
                                                "back": st.integers(1, 4)}).map(
    lambda m: m if "when" in m else {k: v for k, v in m.items() if k != "for_bars"})


@st.composite
def rows(draw: Any) -> Row:
    compare = draw(st.sampled_from(Row.model_fields["compare"].annotation.__args__))
    more: dict[str, Any] = draw(modifiers)
    if compare in ("inside", "outside"):
        more["right"] = draw(indicators(key=draw(st.sampled_from(BANDS))))
    elif compare not in ("rises", "falls", "makes a new high", "makes a new low"):
        more["right"] = draw(values)
    if compare == "between":
        more["upper"] = draw(values)
    if compare.startswith(("makes", "ranks")):
        more["over"] = draw(small)
    return Row(left=draw(values), compare=compare, on=draw(st.sampled_from([True, True, True, False])), **more)


def _group(inner: Any) -> Any:
    match = st.sampled_from(["all", "any", "none", "at least"])
    return st.builds(lambda match, rows, least, on, more: Condition(
        match=match, rows=tuple(rows), on=on, **more, **({"least": least} if match == "at least" else {})),
        match, st.lists(inner, min_size=0, max_size=3), st.integers(1, 3), st.sampled_from([True, True, False]), modifiers)


nodes = st.recursive(rows(), _group, max_leaves=6)
conditions = _group(nodes).map(lambda c: c.model_copy(update={"on": True}))
levels = st.builds(Level, operand=series, offset=decimals, unit=st.sampled_from(["ticks", "atr"]), length=lengths)
amounts = st.one_of(st.floats(0.01, 99).map(lambda x: round(x, 4)), st.just(named(4.0, "fast")))


def distances(*units: str) -> Any:
    found = [st.builds(Distance, unit=st.sampled_from(units), amount=amounts)]
    found.append(st.builds(Distance, unit=st.just("atr"), amount=amounts, length=lengths))
    if "level" in units:
        found = [st.builds(Distance, unit=st.just("level"), amount=st.just(1.0), level=levels,
                           short_level=st.one_of(st.none(), levels)), *found[1:]]
    return st.one_of(*found)


def orders() -> Any:
    return st.one_of(st.just(EntryOrder()), st.builds(EntryOrder, kind=st.sampled_from(["stop", "limit"]), level=levels,
                                                      bars=small, touch_ticks=st.integers(0, 3)))


ideas = st.builds(
    Strategy, name=st.text(min_size=1, max_size=12).filter(str.isprintable), parameters=st.just(PARAMETERS),
    long=st.builds(Side, mode=st.sampled_from(["own", "off"]), entry=conditions, exit=conditions, order=orders()),
    short=st.builds(Side, mode=st.sampled_from(["own", "off", "mirrored"]), entry=conditions, exit=conditions,
                    order=orders()),
    stop=distances("ticks", "money", "percent"), target=st.one_of(st.none(), distances("level"), distances("stop")),
    trail=st.one_of(st.none(), st.builds(Trail, distance=distances("ticks", "stop"), step_ticks=small,
                                         start_after=st.one_of(st.none(), distances("money")))),
    break_even=st.one_of(st.none(), st.builds(BreakEven, after=distances("percent"), plus_ticks=st.integers(-5, 5))),
    time_exit=st.one_of(st.none(), small), flat_by_session_end=st.booleans(),
    fill=st.sampled_from(["next open", "this close"]), on_opposite=st.sampled_from(["reverse", "close", "ignore"]),
    quantity=amounts, sizing=st.builds(Sizing, kind=st.sampled_from(["risk", "percent", "notional"]), amount=amounts),
    filters=st.builds(Filters, windows=st.sampled_from([(), (Window(first="22:00", last="02:30"),)]),
                      weekdays=st.sampled_from([(), ("Mon", "Fri")]), most_entries=st.one_of(st.none(), small),
                      last_minutes=st.one_of(st.none(), small),
                      oversized=st.one_of(st.none(), st.builds(Oversized, multiple=amounts, length=lengths))))


def _at(columns: Columns, operand: Any, bar: int) -> float:
    column = operand_column(columns, operand)
    return math.nan if bar < 0 else float(column[bar if len(column) > 1 else 0])


def _bare(columns: Columns, row: Row, bar: int) -> bool | None:
    now = [_at(columns, o, bar) for o in row.asked]
    x = now[0]
    if row.compare in ("rises", "falls") or row.compare.startswith("crosses"):
        was = [_at(columns, o, bar - 1) for o in row.asked]
        if any(map(math.isnan, now + was)):
            return None
        if row.compare in ("rises", "falls"):
            return x > was[0] if row.compare == "rises" else x < was[0]
        return (x > now[1] and was[0] <= was[1]) if row.compare == "crosses above" else (x < now[1] and was[0] >= was[1])
    if row.compare.startswith(("makes", "ranks")):
        past = [_at(columns, row.left, bar - k) if bar >= k else math.nan for k in range(1, int(row.over) + 1)]
        if any(map(math.isnan, now + past)):
            return None
        if row.compare.startswith("makes"):
            return x > max(past) if row.compare.endswith("high") else x < min(past)
        rank = 100.0 * sum(p < x for p in past) / len(past)
        return rank > now[1] if row.compare == "ranks above" else rank < now[1]
    if any(map(math.isnan, now)):
        # Outside needs one known line beyond; all else needs every value.
        return True if row.compare == "outside" and (x < now[1] or x > now[2]) else None
    return {"above": lambda: x > now[1], "below": lambda: x < now[1], "at or above": lambda: x >= now[1],
            "at or below": lambda: x <= now[1], "equals": lambda: x == now[1], "between": lambda: now[1] <= x <= now[2],
            "inside": lambda: now[1] <= x <= now[2], "outside": lambda: not now[1] <= x <= now[2]}[row.compare]()


def slow_truth(columns: Columns, node: Row | Condition, bar: int) -> bool | None:
    """True, False or None (unknown) at one bar, straight from the definition."""
    def bare(at: int) -> bool | None:
        if at < 0:
            return None
        if isinstance(node, Row):
            return _bare(columns, node, at)
        told = [slow_truth(columns, n, at) for n in node.active]
        if not told:
            return None
        yes, no, n = told.count(True), told.count(False), len(told)
        need = {"all": n, "any": 1, "none": 0, "at least": int(node.least)}[node.match]
        if node.match == "none":
            return True if no == n else False if yes else None
        return True if yes >= need else False if no > n - need else None

    at = bar - int(node.back)
    if node.when == "now":
        return bare(at)
    told = [bare(at - k) for k in range(int(node.for_bars))]
    some, every = (False, True) if node.when == "held" else (True, False)
    if some in told:
        return some
    return None if None in told else every


def slow_flags(columns: Columns, node: Row | Condition) -> np.ndarray:
    return np.array([slow_truth(columns, node, i) is True for i in range(len(columns.bars))])
