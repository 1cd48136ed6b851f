"""A candidate as whole numbers that a search can cross and move: which rows, how joined, which order, which exits.

Places of a genotype, int64[WIDTH]: for each side how entry rows are joined, entry rows and exit rows (codes of a Pantry, -1
for none), and the entry order; then stop, target, trail, break even and time exit. Orders and exits are places in lists of
options, 0 for none. The last place says which sides are traded (a place in limits.SIDES); only with rules of its own for each
side does a candidate use the second set.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.rules.mirror import effective_long, effective_short, mirror_order, mirror_row
from wolbrin.core.rules.model import UNARY, Condition, EntryOrder, NumberOperand, Side, Strategy
from wolbrin.core.search.ingredients import Node
from wolbrin.core.search.limits import MOST_EXIT_ROWS, MOST_ROWS, SIDES, Limits, Sides

Ints = NDArray[np.int64]
SIDE = 1 + MOST_ROWS + MOST_EXIT_ROWS + 1
JOIN, ENTRY, EXIT, ORDER = 0, 1, 1 + MOST_ROWS, 1 + MOST_ROWS + MOST_EXIT_ROWS
STOP, TARGET, TRAIL, EVEN, TIME, FACING = range(2 * SIDE, 2 * SIDE + 6)
EXITS_END = FACING
WIDTH = 2 * SIDE + 6
EXITS = ("stop", "target", "trail", "break_even", "time_exit")
MOST_TOGETHER = 8  # rows of a condition that a genome holds


def rows_at(side: int) -> tuple[slice, slice]:
    """Places of a side's entry rows and exit rows."""
    return slice(side * SIDE + ENTRY, side * SIDE + EXIT), slice(side * SIDE + EXIT, side * SIDE + ORDER)


ROW_PLACES = np.array([p for s in range(2) for part in rows_at(s) for p in range(part.start, part.stop)], np.int64)


def turned(node: Node) -> Node:
    """A row written for the long side as it is written for the short one: its mirror image, with numbers as people write
    them and without what its comparison does not read."""
    if isinstance(node, Condition):
        return node.model_copy(update={"rows": tuple(turned(n) for n in node.rows)})
    made = mirror_row(node)
    change: dict[str, object] = {}
    for name in ("right", "upper"):
        operand = getattr(made, name)
        if isinstance(operand, NumberOperand):
            change[name] = operand.model_copy(update={"value": round(operand.value, 9) + 0.0})  # never a minus before 0
    if made.compare in UNARY:
        change["right"] = node.right
    return made.model_copy(update=change)


def turned_condition(condition: Condition) -> Condition:
    """A condition of such rows."""
    return condition.model_copy(update={"rows": tuple(turned(n) for n in condition.rows)})


def complexity(genotypes: Ints) -> Ints:
    """int64[n]: rows, orders that rest, and exits of each."""
    rows = np.zeros(len(genotypes), np.int64)
    for side in range(2):
        for part in rows_at(side):
            rows += (genotypes[:, part] >= 0).sum(axis=1)
        rows += genotypes[:, side * SIDE + ORDER] > 0
    return rows + (genotypes[:, STOP:EXITS_END] > 0).sum(axis=1)


def plain_rows(condition: Condition) -> tuple[Node, ...]:
    """Parts of a condition that more can be added to with "and"."""
    nodes = condition.active
    plain = condition.match == "all" and condition.when == "now" and not condition.back and len(nodes) <= MOST_TOGETHER - 3
    return nodes if plain or not nodes else (condition,)


@dataclass(frozen=True)
class Plan:
    """How genotypes read as strategies under some limits: what is fixed, what is drawn, and the options of each order and
    exit (the first of each is none). facing: of candidates that trade these sides; each has a plan of its own."""

    limits: Limits
    facing: Sides = "mirrored"

    @property
    def facings(self) -> tuple[Sides, ...]:
        """Sides that compete, in the order of limits.SIDES."""
        return ("mirrored",) if self.kept is not None else tuple(s for s in SIDES if s in self.limits.sides)

    def of(self, facing: int) -> Plan:
        """The plan of candidates whose genotype says so."""
        return Plan(self.limits, SIDES[facing])

    @property
    def kept(self) -> Strategy | None:
        return self.limits.strategy if self.limits.keep else None

    @property
    def draws_entry(self) -> bool:
        return self.limits.keep != "entry"

    @property
    def draws_exits(self) -> bool:
        return self.limits.keep in ("", "entry")

    @property
    def sides(self) -> int:
        """Sets of rules: two where each side has rules of its own."""
        return 2 if self.facing == "own" and self.kept is None else 1

    @property
    def mirrored(self) -> bool:
        """Whether rows are needed turned over too."""
        if self.kept is not None:
            return self.kept.short.mode != "off"
        return self.facing != "long"

    @property
    def written(self) -> bool:
        """Whether the short side's rows are written out, rather than mirrored by its mode."""
        if self.kept is not None:
            return self.kept.short.mode == "own"
        return self.facing in ("short", "own")

    def options(self) -> dict[str, tuple[Any, ...]]:
        """By exit and "order": what may stand there, the first being none (of orders: at market)."""
        limits = self.limits
        times = tuple(int(v) for v in limits.time_exit.values) if limits.time_exit is not None else ()
        found: dict[str, tuple[Any, ...]] = {
            "stop": limits.stop.distances, "target": limits.target.distances, "trail": limits.trails,
            "break_even": limits.break_evens, "time_exit": times}
        if not self.draws_exits:
            found = dict.fromkeys(found, ())
        orders = tuple(o for o in limits.orders.options if o.kind != "market") if self.draws_entry and not self.kept else ()
        return {key: (None, *values) for key, values in found.items()} | {"order": (EntryOrder(), *orders)}

    def base(self) -> Strategy:
        """A candidate without what is drawn."""
        limits, kept = self.limits, self.kept
        if kept is not None:
            change: dict[str, object] = {}
            if self.draws_exits:
                change |= dict.fromkeys(EXITS)
                change |= {side: getattr(kept, side).model_copy(update={"exit": Condition()}) for side in ("long", "short")}
            if limits.keep == "exits":
                for name in ("long", "short"):
                    part: Side = getattr(kept, name)
                    change[name] = part.model_copy(update={"entry": Condition(), "order": EntryOrder()})
            made = kept.model_dump() | {k: v.model_dump() if isinstance(v, Side) else v for k, v in change.items()}
            if self.draws_exits and made["sizing"]["kind"] == "risk":
                made["sizing"] = {"kind": "fixed", "amount": 1.0}
            return Strategy.model_validate(made | {"name": "x"})
        short = {"mirrored": "mirrored", "long": "off", "short": "own", "own": "own"}[self.facing]
        return Strategy.model_validate({
            "name": "x", "long": {"mode": "off" if self.facing == "short" else "own"}, "short": {"mode": short},
            "flat_by_session_end": limits.flat_by_session_end, "quantity": limits.quantity or 1.0,
            "sizing": limits.sizing.model_dump() if limits.sizing.kind != "risk" else {},
            "filters": limits.filters.model_dump()})

    def fixed(self) -> tuple[tuple[Node, ...], tuple[Node, ...]]:
        """Rows that every candidate's long and short entry has: those of a strategy that a filter is sought for."""
        if self.kept is None or self.limits.keep != "both":
            return (), ()
        return plain_rows(effective_long(self.kept).entry), plain_rows(effective_short(self.kept).entry)

    def strategy(self, genotype: Ints, node: Callable[[int], Node], name: str) -> Strategy:
        """The rules of a genotype of these sides. node: the row of a code, written for the long side."""
        base, options = self.base(), self.options()
        change: dict[str, Any] = base.model_dump()
        for which in range(self.sides):
            entry, leave, order = self._side(genotype, which, node, options["order"])
            self._put(change, which, entry, leave, order)
        for key, at in zip(EXITS, range(STOP, EXITS_END)):
            chosen = options[key][int(genotype[at])]
            if chosen is not None:
                change[key] = chosen if isinstance(chosen, int) else chosen.model_dump()
        if self.limits.sizing.kind == "risk" and not self.kept:
            change["sizing"] = self.limits.sizing.model_dump()
        return Strategy.model_validate(change | {"name": name})

    def _side(self, genotype: Ints, which: int, node: Callable[[int], Node],
              orders: tuple[Any, ...]) -> tuple[Condition, Condition, EntryOrder]:
        entries, exits = rows_at(which)
        rows = tuple(node(int(c)) for c in genotype[entries] if c >= 0)
        leave = tuple(node(int(c)) for c in genotype[exits] if c >= 0)
        join = int(genotype[which * SIDE + JOIN])
        if join == 0 or len(rows) < 2:
            entry = Condition(rows=rows)
        elif join == 1:
            entry = Condition(match="any", rows=rows)
        else:
            entry = Condition(match="at least", least=min(join, len(rows)), rows=rows)
        order: EntryOrder = orders[int(genotype[which * SIDE + ORDER])]
        return entry, Condition(match="any" if len(leave) > 1 else "all", rows=leave), order

    def _put(self, change: dict[str, Any], which: int, entry: Condition, leave: Condition, order: EntryOrder) -> None:
        """Put one set of rules where it belongs."""
        if self.kept is not None:
            self._into_kept(change, entry, leave)
            return
        short = self.facing == "short" or which == 1
        if short:  # rows are written for the long side
            entry, leave, order = turned_condition(entry), turned_condition(leave), mirror_order(order)
        change["short" if short else "long"] |= {"mode": "own", "entry": entry.model_dump(), "exit": leave.model_dump(),
                                                  "order": order.model_dump()}

    def _into_kept(self, change: dict[str, Any], entry: Condition, leave: Condition) -> None:
        fixed, kept = self.fixed(), self.kept
        assert kept is not None
        for name, rows, facing in (("long", fixed[0], False), ("short", fixed[1], True)):
            if getattr(kept, name).mode != "own":
                continue
            own = [turned_condition(c) if facing else c for c in (entry, leave)]
            if self.draws_entry:
                added = own[0].rows
                change[name]["entry"] = (Condition(rows=(*rows, *added)) if rows else own[0]).model_dump()
            if self.draws_exits:
                change[name]["exit"] = own[1].model_dump()


