"""What looks wrong in a strategy before it is run: on this history, and by itself."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass
from itertools import combinations
from typing import Any, Literal

import numpy as np

from wolbrin.core.indicators.columns import Columns
from wolbrin.core.market.date_numbers import date_of, date_words
from wolbrin.core.rules.decide import used_columns, warm_up
from wolbrin.core.rules.evaluate import condition_flags, operands, truth
from wolbrin.core.rules.mirror import FLIPPED, effective_long, effective_short
from wolbrin.core.rules.model import Condition, PositionOperand, Row, Strategy
from wolbrin.core.rules.named import formula_of, names_in
from wolbrin.core.rules.words import node_words, row_words


@dataclass(frozen=True)
class Finding:
    """One thing that looks wrong. where: the part of the strategy, such as "long entry"."""

    severity: Literal["error", "caution", "note"]
    where: str
    words: str


def names_used(node: Any) -> set[str]:
    """Parameters that named numbers anywhere in plain data read."""
    if isinstance(node, Mapping):
        if set(node) == {"is", "value"}:
            return names_in(str(node["is"]))
        return set().union(*(names_used(v) for k, v in node.items() if k != "parameters"))
    if isinstance(node, list | tuple):
        return set().union(*(names_used(v) for v in node))
    formula = formula_of(node)
    return names_in(formula) if formula else set()


_OPPOSITE = {
    "above": ("below", "at or below", "equals"), "at or above": ("below",), "below": ("above", "at or above", "equals"),
    "at or below": ("above",), "rises": ("falls",), "falls": ("rises",), "inside": ("outside",),
    "crosses above": ("crosses below", "below", "at or below"), "crosses below": ("crosses above", "above", "at or above")}


def contradictions(condition: Condition) -> list[tuple[Row, Row]]:
    """Pairs of rows in an all-of group that can never both be true, seen from their form alone."""
    found = []
    if condition.match == "all":
        rows = [r for r in condition.active if isinstance(r, Row) and r.when == "now" and not r.back]
        for a, b in combinations(rows, 2):
            against = _OPPOSITE.get(a.compare, ())
            alike = (a.left, a.right) == (b.left, b.right) and b.compare in against
            swapped = (a.left, a.right) == (b.right, b.left) and FLIPPED.get(b.compare) in against
            if alike or swapped:
                found.append((a, b))
    for group in condition.active:
        if isinstance(group, Condition):
            found += contradictions(group)
    return found


def dates_in(strategy: Strategy) -> list[tuple[float, dt.date]]:
    """Numbers of some rules that read like dates."""
    found: dict[float, dt.date] = {}

    def walk(node: Any) -> None:
        if isinstance(node, Mapping):
            for value in node.values():
                walk(value)
        elif isinstance(node, list | tuple):
            for value in node:
                walk(value)
        elif isinstance(node, int | float) and not isinstance(node, bool):
            day = date_of(float(node))
            if day is not None:
                found[float(node)] = day

    walk(strategy.model_dump(exclude={"schedule", "notes", "name"}))
    return sorted(found.items())


def lint(strategy: Strategy) -> list[Finding]:
    """What can be said without a history."""
    found: list[Finding] = []
    sides = [(name, side) for name, side in (("long", effective_long(strategy)), ("short", effective_short(strategy)))
             if side.entry.active]
    if not sides:
        return [Finding("error", "entry", "no entry: add a row to the long or the short entry")]
    leaves = strategy.stop or strategy.target or strategy.trail or strategy.time_exit
    for name, side in sides:
        other = any(n != name for n, _ in sides) and strategy.on_opposite != "ignore"
        if not (leaves or side.exit.active or other or strategy.flat_by_session_end):
            found.append(Finding("error", name, f"nothing ever closes a {name} position: add an exit, a stop, a target or a "
                                 "time exit"))
        for part, condition in (("entry", side.entry), ("exit", side.exit)):
            for a, b in contradictions(condition):
                found.append(Finding("error", f"{name} {part}", f'"{row_words(a)}" and "{row_words(b)}" cannot both be true'))
    found += [Finding("caution", "dates", f"{value:g} {date_words(day)}: what knows dates can be traded and studied, and "
                                          "cannot stand") for value, day in dates_in(strategy)]
    if strategy.stop is None and strategy.trail is None:
        found.append(Finding("caution", "protection", "no stop: the loss of one trade has no limit"))
    used = names_used(strategy.model_dump()) | {n for p in strategy.parameters for n in names_in(p.formula)}
    for p in strategy.parameters:
        if p.name not in used:
            found.append(Finding("note", "parameters", f'parameter "{p.name}" is used nowhere'))
        if p.sweep and not p.formula and not p.low < p.high:
            found.append(Finding("note", "parameters", f'parameter "{p.name}" is to be swept but has no range'))
    unknown = used - {p.name for p in strategy.parameters}
    if unknown:
        found.append(Finding("error", "parameters", f"no such parameter: {', '.join(sorted(unknown))}"))
    return found


def _rows(columns: Columns, where: str, condition: Condition, start: int, stop: int) -> list[Finding]:
    found = []
    flags = condition_flags(columns, condition)[start:stop]
    fired = int(np.count_nonzero(flags))
    if not fired:
        dead = [r for r in condition.active if not _asks(r) and not truth(columns, r)[start:stop].any()]
        if dead and condition.match == "all":
            found.append(Finding("caution", where, f'never fires on this history: "{node_words(dead[0])}" is never true'))
        else:
            found.append(Finding("caution", where, "never fires on this history"
                                 + (": its rows are never true together" if len(condition.active) > 1 else "")))
    elif fired == len(flags):
        found.append(Finding("caution", where, "is true on every bar of this history"))
    elif condition.match == "all":
        for node in condition.active:
            if not _asks(node) and truth(columns, node)[start:stop].all():
                found.append(Finding("note", where, f'"{node_words(node)}" is true on every bar of this history'))
    return found


def _asks(node: Row | Condition) -> bool:
    rows = (node,) if isinstance(node, Row) else node.leaves
    return any(isinstance(r.left, PositionOperand) for r in rows)


def lint_on(columns: Columns, strategy: Strategy, first: int = 0, stop: int | None = None) -> list[Finding]:
    """What can be said on bars [first, stop) of a history, after `lint`'s own findings."""
    found = lint(strategy)
    size = len(columns.bars)
    stop = size if stop is None else stop
    sides = {"long": effective_long(strategy)}
    if strategy.short.mode == "own":
        sides["short"] = effective_short(strategy)
    parts = [(f"{name} {part}", getattr(side, part)) for name, side in sides.items() for part in ("entry", "exit")]
    asked = [o for _, c in parts for o in operands(c)]
    start = max(first, warm_up(size, used_columns(columns, asked)))
    if start >= stop:
        need = "no bar of the span has a value of every indicator: the warm-up is longer than the data"
        return [*found, Finding("error", "history", need)]
    if start - first > (stop - first) / 4:
        found.append(Finding("caution", "history", f"warm-up takes {start - first:,} of {stop - first:,} bars"))
    for where, condition in parts:
        if condition.active:
            found += _rows(columns, where, condition, start, stop)
    return found
