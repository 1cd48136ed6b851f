"""Every number of a strategy that a sweep may vary, found by walking the model, with a name and a sensible range."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from wolbrin.core.indicators.catalogue import BY_KEY
from wolbrin.core.market.sessions import minutes_of
from wolbrin.core.rules.mirror import output_of
from wolbrin.core.rules.model import (
    RANKED,
    UNARY,
    CombinedOperand,
    Condition,
    CustomOperand,
    Distance,
    Filters,
    IndicatorOperand,
    Level,
    NumberOperand,
    Operand,
    PositionOperand,
    Row,
    Side,
    Strategy,
)
from wolbrin.core.rules.named import formula_of, names_in
from wolbrin.core.whole import whole_of

Path = tuple[str | int, ...]


@dataclass(frozen=True)
class Tunable:
    """One number: where it stands in the model, what it is called, its value and a suggested range. clock: it is a time of
    day, as minutes past midnight."""

    path: Path
    title: str
    value: float
    low: float
    high: float
    step: float
    clock: bool = False

    @property
    def key(self) -> str:
        """The path as text, "long.entry.rows.0.left.params.length"."""
        return ".".join(str(p) for p in self.path)


def _around(value: float, least: float, whole: bool) -> tuple[float, float, float]:
    step = max(1.0, round(abs(value) / 10)) if whole else max(0.1, round(abs(value) / 10, 1))
    return max(least, value - 5 * step), value + 5 * step, step


def _operand(path: Path, operand: Operand, other: Operand, where: str) -> list[Tunable]:
    if isinstance(operand, NumberOperand):
        facing = output_of(other)
        if isinstance(other, PositionOperand):
            least = 0.0 if other.state != "open_profit_r" else -1e9
            low, high, step = _around(operand.value, least, other.state != "open_profit_r")
            return [Tunable((*path, "value"), f"{other.state.replace('_', ' ')}, {where}", operand.value, low, high, step)]
        if isinstance(other, IndicatorOperand) and BY_KEY[other.indicator].group == "time":
            return []
        if facing is None:
            if not isinstance(other, CombinedOperand | CustomOperand):
                return []
            return [Tunable((*path, "value"), f"level, {where}", operand.value, *_around(operand.value, -1e9, False))]
        low, high, step = _around(operand.value, -1e9, float(operand.value).is_integer())
        if facing.nature == "bounded":
            low, high = max(low, facing.bounds[0]), min(high, facing.bounds[1])
        return [Tunable((*path, "value"), f"level for {facing.title if facing.title != 'value' else _name(other)}, "
                        f"{where}", operand.value, low, high, step)]
    if isinstance(operand, CombinedOperand):
        return _operand((*path, "left"), operand.left, operand.right, where) + _operand(
            (*path, "right"), operand.right, operand.left, where)
    if isinstance(operand, CustomOperand):
        return [Tunable((*path, "params", key), f"{operand.name} {key}, {where}", value,
                        *_around(value, 0, float(value).is_integer())) for key, value in operand.params.items()]
    if not isinstance(operand, IndicatorOperand):
        return []
    entry, found = BY_KEY[operand.indicator], []
    for param in entry.params:
        value = operand.settings[param.key]
        low, high, step = _around(value, param.low, param.whole)
        step = param.step * max(1, round(step / param.step)) if param.whole else param.step
        low = max(param.low, value - 5 * step)
        found.append(Tunable((*path, "params", param.key), f"{entry.title} {param.title}, {where}", value, low,
                             min(param.high, value + 5 * step), step))
    if operand.of is not None and not isinstance(operand.of, str):
        found += _operand((*path, "of"), operand.of, operand, where)
    return found


def _name(operand: Operand) -> str:
    return BY_KEY[operand.indicator].title if isinstance(operand, IndicatorOperand) else "price"


def _in_time(path: Path, node: Row | Condition, where: str) -> list[Tunable]:
    if node.when == "now":
        return []
    return [Tunable((*path, "for_bars"), f"bars {node.when}, {where}", node.for_bars, *_around(node.for_bars, 1, True))]


def _rows(path: Path, rows: tuple[Row | Condition, ...], where: str) -> list[Tunable]:
    found: list[Tunable] = []
    for i, row in enumerate(rows):
        if not row.on:
            continue
        if isinstance(row, Condition):
            place = f"{where} group {i + 1}"
            found += _rows((*path, i, "rows"), row.rows, place) + _in_time((*path, i), row, place)
            continue
        place = f"{where} row {i + 1}"
        found += _operand((*path, i, "left"), row.left, row.right, place)
        if row.compare.startswith("ranks") and isinstance(row.right, NumberOperand):
            rank = row.right.value
            found.append(Tunable((*path, i, "right", "value"), f"rank, percent, {place}", rank, max(0.0, rank - 25),
                                 min(100.0, rank + 25), 5))
        elif row.compare not in UNARY:
            found += _operand((*path, i, "right"), row.right, row.left, place)
        if row.compare == "between" and row.upper is not None:
            found += _operand((*path, i, "upper"), row.upper, row.left, place)
        if row.compare in RANKED:
            found.append(Tunable((*path, i, "over"), f"bars looked over, {place}", row.over, *_around(row.over, 1, True)))
        found += _in_time((*path, i), row, place)
    return found


def _distance(path: Path, name: str, distance: Distance) -> list[Tunable]:
    if distance.unit == "level":
        return []
    if distance.unit in ("ticks", "money"):
        low, high, step = _around(distance.amount, 1.0, True)
    else:
        step = 0.25
        low, high = max(0.25, distance.amount - 1.0), distance.amount + 1.0
    unit = {"atr": "ATR multiple", "stop": "stop"}.get(distance.unit, distance.unit)
    found = [Tunable((*path, "amount"), f"{name} {unit}", distance.amount, low, high, step)]
    if distance.unit == "atr":
        found.append(Tunable((*path, "length"), f"{name} ATR length", distance.length, max(2, distance.length - 10),
                             distance.length + 10, 2))
    return found


def _plain(path: Path, title: str, value: float, least: float, whole: bool = True) -> Tunable:
    return Tunable(path, title, value, *_around(value, least, whole))


def _level(path: Path, name: str, level: Level | None) -> list[Tunable]:
    """Numbers of a price level: those of its operand, and what is added to it."""
    if level is None:
        return []
    found = _operand((*path, "operand"), level.operand, level.operand, name)
    unit = "ticks" if level.unit == "ticks" else "ATR"
    if level.offset:
        found.append(_plain((*path, "offset"), f"{name} offset, {unit}", level.offset, -1e6, level.unit == "ticks"))
        if level.unit == "atr":
            found.append(_plain((*path, "length"), f"{name} offset, ATR length", level.length, 2))
    return found


def _order(side: str, part: Side) -> list[Tunable]:
    """Numbers of a resting entry order."""
    if part.order.kind == "market":
        return []
    found = _level((side, "order", "level"), f"{side} entry level", part.order.level)
    found.append(_plain((side, "order", "bars"), f"{side} entry rests, bars", part.order.bars, 1))
    if part.order.kind == "limit":
        found.append(_plain((side, "order", "touch_ticks"), f"{side} limit traded through, ticks", part.order.touch_ticks, 0))
    return found


def _filters(filters: Filters) -> list[Tunable]:
    """Numbers of the filters, times of day among them."""
    found = []
    for i, window in enumerate(filters.windows):
        for end in ("first", "last"):
            at = float(minutes_of(getattr(window, end)))
            name = f"window {i + 1} {'from' if end == 'first' else 'to'}"
            low, high = max(0.0, at - 120), min(1439.0, at + 120)
            found.append(Tunable(("filters", "windows", i, end), name, at, low, high, 30, True))
    if filters.most_entries is not None:
        found.append(_plain(("filters", "most_entries"), "most entries a day", filters.most_entries, 1))
    if filters.last_minutes is not None:
        found.append(Tunable(("filters", "last_minutes"), "no entry in the last minutes", filters.last_minutes,
                             max(1.0, filters.last_minutes - 60), min(1440.0, filters.last_minutes + 60), 15))
    if filters.oversized is not None:
        found.append(Tunable(("filters", "oversized", "multiple"), "no entry after bars above, ATR multiple",
                             filters.oversized.multiple, max(0.5, filters.oversized.multiple - 1.5),
                             filters.oversized.multiple + 1.5, 0.5))
        found.append(_plain(("filters", "oversized", "length"), "large bars, ATR length", filters.oversized.length, 2))
    return found


def _beside(strategy: Strategy) -> list[Tunable]:
    """Numbers of the protective orders beside their distances."""
    found = []
    for name, distance in (("stop", strategy.stop), ("target", strategy.target)):
        if distance is not None and distance.unit == "level":
            found += _level((name, "level"), f"{name} level", distance.level)
    if strategy.trail is not None and strategy.trail.step_ticks:
        found.append(_plain(("trail", "step_ticks"), "trail step, ticks", strategy.trail.step_ticks, 0))
    if strategy.break_even is not None and strategy.break_even.plus_ticks:
        found.append(_plain(("break_even", "plus_ticks"), "break even plus, ticks", strategy.break_even.plus_ticks, -1e6))
    return found


def tunables(strategy: Strategy) -> list[Tunable]:
    """All numbers that matter to the strategy as it stands, parameters first, then entries."""
    found = [Tunable(("parameters", i, "value"), p.name, p.value, p.low, p.high, p.step) if p.high > p.low else
             Tunable(("parameters", i, "value"), p.name, p.value, *_around(p.value, -1e9, float(p.value).is_integer()))
             for i, p in enumerate(strategy.parameters) if not p.formula]
    for side in ("long", "short"):
        part = getattr(strategy, side)
        if part.mode != "own":
            continue
        found += _rows((side, "entry", "rows"), part.entry.rows, f"{side} entry")
        found += _order(side, part)
        found += _rows((side, "exit", "rows"), part.exit.rows, f"{side} exit")
    places: tuple[Path, ...] = (("stop",), ("target",), ("trail", "distance"), ("trail", "start_after"),
                                ("break_even", "after"))
    titles = ("stop", "target", "trail", "trail start", "break even")
    for place, title, distance in zip(places, titles, strategy.distances):
        if distance is not None:
            found += _distance(place, title, distance)
    if strategy.sizing.kind != "fixed":
        low, high, step = _around(strategy.sizing.amount, 0.1, False)
        found.append(Tunable(("sizing", "amount"), f"size, {strategy.sizing.kind}", strategy.sizing.amount, low, high, step))
    if strategy.time_exit is not None:
        low, high, step = _around(strategy.time_exit, 1, True)
        found.append(Tunable(("time_exit",), "time exit bars", strategy.time_exit, low, high, step))
    found += _beside(strategy) + _filters(strategy.filters)
    # A number that follows parameters is varied by them.
    return _told_apart([t for t in found if formula_of(t.value) is None])


def _told_apart(found: list[Tunable]) -> list[Tunable]:
    """Numbers of one row that are called the same, such as the lengths of two averages, by their order."""
    seen: dict[str, int] = {}
    out = []
    for t in found:
        seen[t.title] = seen.get(t.title, 0) + 1
        what, comma, where = t.title.partition(",")
        out.append(t if seen[t.title] == 1 else replace(t, title=f"{what} ({seen[t.title]}){comma}{where}"))
    return out


def followers(strategy: Strategy, key: str) -> list[str]:
    """Keys of the numbers that a number moves: those that name it, if it is a parameter, or parameters that follow it; else
    itself."""
    path = key.split(".")
    if path[0] != "parameters":
        return [key]
    moved = {strategy.parameters[int(path[1])].name}
    while more := {p.name for p in strategy.parameters if p.formula and p.name not in moved and moved & names_in(p.formula)}:
        moved |= more
    found: list[str] = []

    def walk(node: Any, at: tuple[str, ...]) -> None:
        if isinstance(node, dict):
            if isinstance(node.get("is"), str) and set(node) <= {"is", "value"}:
                if moved & names_in(node["is"]):
                    found.append(".".join(at))
                return
            for name, value in node.items():
                walk(value, (*at, str(name)))
        elif isinstance(node, list):
            for number, value in enumerate(node):
                walk(value, (*at, str(number)))

    walk(strategy.model_dump(mode="json", exclude={"parameters", "name", "notes"}), ())
    return found or [key]


def clock(minutes: float) -> str:
    """Minutes past midnight as a time of day, 570 as "09:30"."""
    return f"{int(minutes) // 60:02d}:{int(minutes) % 60:02d}"


def _assign(node: Any, path: Path, value: float) -> Any:
    """A copy of plain data with one number replaced; ints stay ints where they were."""
    if not path:
        if isinstance(node, str):  # a time of day
            return clock(value)
        if formula_of(value) is not None:
            return value
        return int(value) if isinstance(node, int) and float(value).is_integer() else value
    head, rest = path[0], path[1:]
    copy = list(node) if isinstance(node, list | tuple) else dict(node)
    if isinstance(copy, dict) and head not in copy:
        copy[str(head)] = value  # a setting that stood at its default
    else:
        copy[head] = _assign(copy[head], rest, value)  # type: ignore[index]
    return copy


def with_values(strategy: Strategy, values: Mapping[str, float]) -> Strategy:
    """The strategy with the numbers at the given keys (see `Tunable.key`) replaced, validated again."""
    data: Any = strategy.model_dump(mode="python")
    for key, value in values.items():
        path: Path = tuple(p if (at := whole_of(p)) is None else at for p in key.split("."))
        data = _assign(data, path, value)
    return Strategy.model_validate(data)
