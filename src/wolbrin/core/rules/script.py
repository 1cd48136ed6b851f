"""A whole strategy as text: one assignment a line, Python's syntax, read by `ast` and a whitelist. The same model as the
rows; what is written reads back as the same strategy."""

from __future__ import annotations

import ast
from collections.abc import Callable
from typing import Any

from pydantic import ValidationError

from wolbrin.core.faults import said
from wolbrin.core.rules import slips
from wolbrin.core.rules.dated import schedule_words
from wolbrin.core.rules.formula import FormulaError, Reader, tree_of
from wolbrin.core.rules.language import Names, nearest
from wolbrin.core.rules.model import (
    BreakEven,
    Condition,
    Distance,
    EntryOrder,
    Filters,
    Level,
    Oversized,
    Parameter,
    Side,
    Sizing,
    Strategy,
    Trail,
    Window,
    settled,
)
from wolbrin.core.rules.operands import IndicatorOperand
from wolbrin.core.rules.printing import condition_text, number_text, operand_text

LONGEST_SCRIPT = 40_000
SIZES = {"percent_at_risk": "risk", "percent_of_equity": "percent", "notional": "notional"}
DISTANCES = {"ticks": "ticks", "money": "money", "percent": "percent"}
SETTINGS = ("long", "long_entry", "long_exit", "long_order", "short", "short_entry", "short_exit", "short_order", "stop",
            "target", "trail", "break_even", "time_exit", "flat_by_session_end", "fill", "on_opposite", "quantity", "size",
            "windows", "weekdays", "most_entries", "last_minutes", "oversized", "name", "notes")


# Writing


def _distance(d: Distance) -> str:
    if d.unit == "atr":
        return f"{number_text(d.amount, True)} * atr({number_text(d.length)})"
    if d.unit == "stop":
        return f"{number_text(d.amount, True)} * stop"
    if d.unit == "level" and d.level is not None:
        short = f", short={_level(d.short_level)}" if d.short_level else ""
        return f"at({_level(d.level)}{short})"
    return f"{d.unit}({number_text(d.amount)})"


def _level(level: Level) -> str:
    unit = f", {number_text(level.offset)}, {level.unit!r}" if level.offset or level.unit != "ticks" else ""
    return f"level({operand_text(level.operand)}{unit}{_more(level, 'length', 14)})"


def _more(model: Any, field: str, usual: object) -> str:
    value = getattr(model, field)
    return "" if value == usual and not hasattr(value, "formula") else f", {field}={number_text(value)}"


def _order(order: EntryOrder) -> str:
    level = _level(order.level) if order.level else "None"
    return f"{order.kind}_order({level}{_more(order, 'bars', 1)}{_more(order, 'touch_ticks', 0)})"


def _parameter(p: Parameter) -> str:
    first = p.formula or number_text(p.value)
    more = [f"{k}={number_text(getattr(p, k))}" for k, usual in (("low", 0.0), ("high", 0.0), ("step", 1.0))
            if getattr(p, k) != usual]
    more += ["sweep=True"] if p.sweep else []
    more += [f"notes={p.notes!r}"] if p.notes else []
    return f"parameter({', '.join([first, *more])})"


def strategy_text(s: Strategy) -> str:
    """The strategy as text. Only what differs from the usual is written."""
    usual = Strategy()
    lines = [f"name = {s.name!r}"] + ([f"notes = {s.notes!r}"] if s.notes else [])
    lines += [f"{p.name} = {_parameter(p)}" for p in s.parameters]
    for name, side, mode in (("long", s.long, "own"), ("short", s.short, "mirrored")):
        own = side.entry != Condition() or side.exit != Condition()
        if side.mode != mode or (mode == "mirrored" and own):
            lines.append(f"{name} = {side.mode!r}")
        for part, condition in (("entry", side.entry), ("exit", side.exit)):
            if condition != Condition():
                lines.append(f"{name}_{part} = {condition_text(condition)}")
        if side.order != EntryOrder():
            lines.append(f"{name}_order = {_order(side.order)}")
    lines += [f"{name} = {_distance(d)}" for name, d in (("stop", s.stop), ("target", s.target)) if d]
    if s.trail:
        start = f", start={_distance(s.trail.start_after)}" if s.trail.start_after else ""
        lines.append(f"trail = trail({_distance(s.trail.distance)}{_more(s.trail, 'step_ticks', 0)}{start})")
    if s.break_even:
        lines.append(f"break_even = break_even({_distance(s.break_even.after)}{_more(s.break_even, 'plus_ticks', 0)})")
    if s.time_exit is not None:
        lines.append(f"time_exit = {number_text(s.time_exit)}")
    lines += [f"{k} = {getattr(s, k)!r}" for k in ("flat_by_session_end", "fill", "on_opposite")
              if getattr(s, k) != getattr(usual, k)]
    if s.quantity != 1.0 or hasattr(s.quantity, "formula"):
        lines.append(f"quantity = {number_text(s.quantity)}")
    if s.sizing.kind != "fixed":
        lines.append(f"size = {({v: k for k, v in SIZES.items()})[s.sizing.kind]}({number_text(s.sizing.amount)})")
    f = s.filters
    if f.windows:
        lines.append(f"windows = [{', '.join(f'({w.first!r}, {w.last!r})' for w in f.windows)}]")
    if f.weekdays:
        lines.append(f"weekdays = {list(f.weekdays)!r}")
    lines += [f"{k} = {number_text(v)}" for k, v in (("most_entries", f.most_entries), ("last_minutes", f.last_minutes)) if v]
    if f.oversized:
        lines.append(f"oversized = {number_text(f.oversized.multiple, True)} * atr({number_text(f.oversized.length)})")
    if s.schedule is not None:
        lines += ["# Dated numbers are traded instead; they stand in the strategy's file.", f"# {schedule_words(s, 1)[0]}"]
    return "\n".join(lines) + "\n"


# Reading


class _Script:
    """Turns assignments into the fields of a strategy."""

    def __init__(self, text: str, own: dict[str, tuple[str, str]]) -> None:
        self._text, self._own = text, own
        self.reader = Reader(text, Names({}, own))

    def fail(self, node: ast.AST, what: str) -> None:
        self.reader.fail(node, what)

    def parameters(self, body: list[ast.Assign]) -> list[Parameter]:
        found, places = [], {}
        for line in body:
            name, call = line.targets[0], line.value
            if not (isinstance(call, ast.Call) and isinstance(call.func, ast.Name) and call.func.id == "parameter"):
                continue
            assert isinstance(name, ast.Name)
            if len(call.args) != 1:
                self.fail(call, "it is written parameter(20, low=5, high=50, step=5, sweep=True)")
            fields: dict[str, Any] = {"name": name.id}
            if self.reader.is_number(call.args[0]):
                fields["value"] = self.reader.number(call.args[0])
            else:
                fields["formula"] = ast.unparse(call.args[0])
            for word in call.keywords:
                if word.arg == "sweep" and isinstance(word.value, ast.Constant):
                    fields["sweep"] = word.value.value is True
                elif word.arg == "notes":
                    fields["notes"] = self.reader.text(word.value)
                elif word.arg in ("low", "high", "step"):
                    fields[word.arg] = self.reader.number(word.value)
                else:
                    self.fail(word.value, "a parameter has low, high, step, sweep and notes")
            if name.id in SETTINGS or name.id in self.reader._known:
                self.fail(name, f'a parameter cannot be called "{name.id}"; that name has a meaning already')
            found.append(self.reader.make(call, Parameter, **fields))
            places[name.id] = call
        try:
            return settled(found)
        except ValueError as err:
            bad = next((n for k, n in places.items() if f'"{k}"' in str(err)), next(iter(places.values()), ast.Pass()))
            self.fail(bad, str(err))
            raise

    def call(self, node: ast.AST, *names: str) -> ast.Call:
        """The node as a call of one of the names."""
        if not (isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in names):
            self.fail(node, f"one of these belongs here: {', '.join(n + '()' for n in names)}")
        assert isinstance(node, ast.Call)
        return node

    def words(self, call: ast.Call, read: dict[str, Callable[[ast.AST], Any]]) -> dict[str, Any]:
        made: dict[str, Any] = {}
        for word in call.keywords:
            if word.arg not in read:
                self.fail(word.value, f'there is no "{word.arg}" here; known are {", ".join(read)}')
            made[str(word.arg)] = read[str(word.arg)](word.value)
        return made

    def whole(self, node: ast.AST) -> float:
        return self.reader.number(node, True)

    def distance(self, node: ast.AST) -> Distance:
        if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Mult) and isinstance(node.right, ast.Name) and (
                node.right.id == "stop"):
            return self.reader.make(node, Distance, unit="stop", amount=self.reader.number(node.left))
        named = node.func.id if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) else ""
        if isinstance(node, ast.Call) and named in DISTANCES and len(node.args) == 1:
            return self.reader.make(node, Distance, unit=named, amount=self.reader.number(node.args[0]))
        if isinstance(node, ast.Call) and named == "at" and len(node.args) == 1:
            short = self.words(node, {"short": self.level}).get("short")
            return self.reader.make(node, Distance, unit="level", amount=1.0, level=self.level(node.args[0]),
                                    short_level=short)
        amount, length = self.atr(node)
        return self.reader.make(node, Distance, unit="atr", amount=amount, length=length)

    def atr(self, node: ast.AST) -> tuple[float, float]:
        """Multiple and length of "2 * atr(14)"."""
        wanted = "write a distance as 2 * atr(14), 1.5 * stop, ticks(20), money(100), percent(0.5) or at(level(...))"
        if not isinstance(node, ast.Call | ast.BinOp):
            self.fail(node, wanted)
        one = self.reader.operand(node)
        plain = isinstance(one, IndicatorOperand) and one.indicator == "atr" and one.of is None and not one.ago and (
            one.interval is None and one.market is None)
        if not plain:
            self.fail(node, wanted)
        assert isinstance(one, IndicatorOperand)
        length = one.settings["length"]
        return one.times, length if hasattr(length, "formula") else int(length)

    def level(self, node: ast.AST) -> Level:
        call = self.call(node, "level")
        if not 1 <= len(call.args) <= 3:
            self.fail(call, 'it is written level(value, offset, "ticks"), the offset and its unit may be left out')
        fields: dict[str, Any] = {"operand": self.reader.operand(call.args[0])}
        if len(call.args) > 1:
            fields["offset"] = self.reader.number(call.args[1])
        if len(call.args) > 2:
            fields["unit"] = self.reader.text(call.args[2])
        return self.reader.make(call, Level, **fields, **self.words(call, {"length": self.whole}))

    def order(self, node: ast.AST) -> EntryOrder:
        call = self.call(node, "market_order", "stop_order", "limit_order")
        kind = call.func.id.removesuffix("_order")  # type: ignore[attr-defined]
        empty = not call.args or (isinstance(call.args[0], ast.Constant) and call.args[0].value is None)
        return self.reader.make(call, EntryOrder, kind=kind, level=None if empty else self.level(call.args[0]),
                                **self.words(call, {"bars": self.whole, "touch_ticks": self.whole}))

    def trail(self, node: ast.AST) -> Trail:
        call = self.call(node, "trail")
        more = self.words(call, {"step_ticks": self.whole, "start": self.distance})
        if len(call.args) != 1:
            self.fail(call, "it is written trail(distance, step_ticks=0, start=distance)")
        return self.reader.make(call, Trail, distance=self.distance(call.args[0]), step_ticks=more.get("step_ticks", 0),
                                start_after=more.get("start"))

    def break_even(self, node: ast.AST) -> BreakEven:
        call = self.call(node, "break_even")
        if len(call.args) != 1:
            self.fail(call, "it is written break_even(distance, plus_ticks=0)")
        return self.reader.make(call, BreakEven, after=self.distance(call.args[0]),
                                **self.words(call, {"plus_ticks": self.whole}))

    def size(self, node: ast.AST) -> Sizing:
        call = self.call(node, *SIZES)
        if len(call.args) != 1 or call.keywords:
            self.fail(call, "one amount belongs in the brackets")
        return self.reader.make(call, Sizing, kind=SIZES[call.func.id],  # type: ignore[attr-defined]
                                amount=self.reader.number(call.args[0]))

    def texts(self, node: ast.AST) -> list[str]:
        if not isinstance(node, ast.List | ast.Tuple):
            self.fail(node, "a list of texts in quotation marks belongs here")
        return [self.reader.text(e) for e in node.elts]  # type: ignore[attr-defined]

    def windows(self, node: ast.AST) -> list[Window]:
        if not isinstance(node, ast.List | ast.Tuple):
            self.fail(node, 'it is written [("09:00", "12:00")]')
        made = []
        for one in node.elts:  # type: ignore[attr-defined]
            pair = self.texts(one)
            if len(pair) != 2:
                self.fail(one, "a window has a first and a last time")
            made.append(self.reader.make(one, Window, first=pair[0], last=pair[1]))
        return made

    def flag(self, node: ast.AST) -> bool:
        if not isinstance(node, ast.Constant) or not isinstance(node.value, bool):
            self.fail(node, "True or False belongs here")
        return bool(node.value)  # type: ignore[attr-defined]

    def condition(self, node: ast.AST) -> Condition:
        made = self.reader.condition(node)
        if isinstance(made, Condition) and made.on:
            return made
        return self.reader.make(node, Condition, rows=(made,))


def parse_strategy(text: str, own: dict[str, tuple[str, str]] | None = None) -> Strategy:
    """A strategy from its text. own: digests of confirmed own indicators. Raises FormulaError with the position."""
    tree, _ = tree_of(text, LONGEST_SCRIPT, statements=True)
    script = _Script(text, own or {})
    body: list[ast.Assign] = []
    for line in tree.body:  # type: ignore[attr-defined]
        if not (isinstance(line, ast.Assign) and len(line.targets) == 1 and isinstance(line.targets[0], ast.Name)):
            script.fail(line, "every line is an assignment, as in long_entry = close > open")
        body.append(line)
    seen: dict[str, ast.AST] = {}
    for line in body:
        name = line.targets[0].id  # type: ignore[attr-defined]
        if name in seen:
            script.fail(line, f'"{name}" is set twice')
        seen[name] = line.value
    try:
        parameters = script.parameters(body)
        script.reader = Reader(text, Names({p.name: p.value for p in parameters}, own or {}))
        return _assembled(script, seen, parameters)
    except RecursionError:
        raise FormulaError("this is nested too deeply", 1, 0) from None


def _assembled(script: _Script, seen: dict[str, ast.AST], parameters: list[Parameter]) -> Strategy:
    reader = script.reader
    read: dict[str, Callable[[ast.AST], Any]] = {
        "name": reader.text, "notes": reader.text, "stop": script.distance, "target": script.distance, "trail": script.trail,
        "break_even": script.break_even, "time_exit": script.whole, "flat_by_session_end": script.flag, "fill": reader.text,
        "on_opposite": reader.text, "quantity": reader.number, "size": script.size, "windows": script.windows,
        "weekdays": script.texts, "most_entries": script.whole, "last_minutes": script.whole, "oversized": script.atr}
    sides: dict[str, dict[str, Any]] = {"long": {"mode": "own"}, "short": {"mode": "mirrored"}}
    fields: dict[str, Any] = {}
    filters: dict[str, Any] = {}
    for name, node in seen.items():
        side, _, part = name.partition("_")
        if name in ("long", "short"):
            sides[name]["mode"] = reader.text(node)
        elif side in sides and part in ("entry", "exit"):
            sides[side][part] = script.condition(node)
        elif side in sides and part == "order":
            sides[side][part] = script.order(node)
        elif name == "oversized":
            multiple, length = script.atr(node)
            filters[name] = reader.make(node, Oversized, multiple=multiple, length=length)
        elif name in ("windows", "weekdays", "most_entries", "last_minutes"):
            filters[name] = read[name](node)
        elif name in read:
            fields["sizing" if name == "size" else name] = read[name](node)
        elif name not in {p.name for p in parameters}:
            hint = slips.of_name(name, SETTINGS)
            script.fail(node, f'there is no setting "{name}"' + (f": {hint}" if hint else nearest(name, SETTINGS)) + "; a "
                        "number "
                        f"of your own is written {name} = parameter(20)")
    # A short side of its own needs no further word.
    if "short" not in seen and ("short_entry" in seen or "short_exit" in seen):
        sides["short"]["mode"] = "own"
    made = {name: reader.make(seen.get(name, seen.get(f"{name}_entry", ast.Pass())), Side, **one)
            for name, one in sides.items()}
    try:
        return Strategy.model_validate(fields | made | {
            "parameters": tuple(parameters), "filters": reader.make(ast.Pass(), Filters, **filters)})
    except ValidationError as err:
        fault = err.errors()[0]
        where = str(fault["loc"][0]) if fault["loc"] else "long_entry"
        reader.fail(seen.get("size" if where == "sizing" else where, ast.Pass()), said(fault))
