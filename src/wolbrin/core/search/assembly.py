"""Genotypes as genomes, many at once: what each option of an order or exit changes of a genome is worked out once, through
the model, and put together by looking it up."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from threading import Lock
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch import genomes as g
from wolbrin.core.batch.genomes import Genomes, genome_of
from wolbrin.core.batch.pool import FullError, Pool
from wolbrin.core.engine.brief import Brief
from wolbrin.core.errors import UserError
from wolbrin.core.rules.mirror import mirror_condition, mirror_order, mirror_row
from wolbrin.core.rules.model import Row, Strategy
from wolbrin.core.search.genotype import EXITS, FACING, JOIN, ORDER, ROW_PLACES, SIDE, STOP, Plan, rows_at, turned
from wolbrin.core.search.ingredients import Node
from wolbrin.core.search.limits import SIDES

Ints = NDArray[np.int64]
Ints32 = NDArray[np.int32]
Floats = NDArray[np.float64]
NOT_HAD = -2  # a row that cannot be had on this history
LONG_IN, SHORT_IN, LONG_OUT, SHORT_OUT = (g.G_ROWS + i * g.MOST_ROWS for i in range(4))


def mirrored(node: Node) -> Node:
    """The row for the other side."""
    return mirror_row(node) if isinstance(node, Row) else mirror_condition(node)


WRITTEN: dict[str, Callable[[Node], Node]] = {"upright": lambda node: node, "mirrored": mirrored, "turned": turned}


@dataclass(frozen=True)
class _Table:
    """What the options of one place set: genes and numbers by column, a row an option, and whether the full loop is
    needed."""

    gene_at: Ints
    genes: Ints32
    number_at: Ints
    numbers: Floats
    full: NDArray[np.bool_]


class Assembly:
    """Genomes in one pool. Threads may share it. Raises FullError where the pool has no room for the options."""

    def __init__(self, plan: Plan, pool: Pool, brief: Brief) -> None:
        self.plan, self.pool, self._brief = plan, pool, brief
        self._lock = Lock()
        self._known: dict[int, tuple[int, int]] = {-1: (-1, -1)}
        self._codes, self._pairs = np.array([-1], np.int64), np.array([[-1, -1]], np.int32)
        self._stale = False
        kept = plan.kept
        self._upright = plan.facing != "short" if kept is None else kept.long.mode != "off"
        self._turned = plan.mirrored
        options = plan.options()
        reference = self._reference(plan.base(), options)
        start = genome_of(reference, pool, brief)
        self._genes, self._numbers = start.genes[0].copy(), start.numbers[0].copy()
        self._full = bool(self._genes[g.G_FULL])
        self._tables: list[tuple[int, _Table]] = []
        for side in range(plan.sides):
            if len(options["order"]) > 1:
                self._tables.append((side * SIDE + ORDER, self._table(reference, options["order"], self._ordered(side))))
        for key, at in zip(EXITS, range(STOP, STOP + len(EXITS))):
            if len(options[key]) > 1:
                self._tables.append((at, self._table(reference, options[key], partial(_with, key))))
        self._fixed = [[pool.row(n) for n in nodes] for nodes in plan.fixed()]

    def _reference(self, base: Strategy, options: dict[str, tuple[Any, ...]]) -> Strategy:
        """A candidate with a stop where there are any: distances in stops and sizes by risk need one."""
        made = base.model_dump()
        if len(options["stop"]) > 1:
            made["stop"] = options["stop"][1].model_dump()
            if self.plan.limits.sizing.kind == "risk" and self.plan.kept is None:
                made["sizing"] = self.plan.limits.sizing.model_dump()
        return Strategy.model_validate(made)

    def _ordered(self, side: int) -> Callable[[Strategy, Any], Strategy]:
        short = self.plan.facing == "short" or side == 1

        def made(strategy: Strategy, order: Any) -> Strategy:
            name = "short" if short else "long"
            part = getattr(strategy, name).model_copy(update={"order": mirror_order(order) if short else order})
            return Strategy.model_validate(strategy.model_dump() | {name: part.model_dump()})
        return made

    def _table(self, reference: Strategy, options: Sequence[Any], put: Callable[[Strategy, Any], Strategy]) -> _Table:
        found = []
        for option in options:
            try:
                found.append(genome_of(put(reference, option), self.pool, self._brief))
            except ValueError:  # sized by risk, without a stop: such candidates are not drawn
                found.append(Genomes(self._genes[None], self._numbers[None]))
        genes, numbers = np.stack([f.genes[0] for f in found]), np.stack([f.numbers[0] for f in found])
        full = genes[:, g.G_FULL].astype(bool)
        genes[:, g.G_FULL] = self._genes[g.G_FULL]
        gene_at = np.flatnonzero((genes != self._genes).any(axis=0))
        same = (numbers == self._numbers) | (np.isnan(numbers) & np.isnan(self._numbers))
        number_at = np.flatnonzero(~same.all(axis=0))
        return _Table(gene_at, genes[:, gene_at], number_at, numbers[:, number_at], full)

    # Rows

    def has(self, code: int) -> bool:
        return code in self._known

    @property
    def wants(self) -> tuple[str, ...]:
        """How rows are needed: as written, mirrored by the model, or written out for the short side."""
        short = ("turned" if self.plan.written else "mirrored",) if self._turned else ()
        return (*(("upright",) if self._upright else ()), *short)

    def put(self, code: int, rows: Mapping[str, int]) -> None:
        """Take the places of a row in the pool, by how it is written; empty where it cannot be had on this history."""
        pair = NOT_HAD, NOT_HAD
        if rows:
            pair = (rows["upright"] if self._upright else -1,
                    rows["turned" if self.plan.written else "mirrored"] if self._turned else -1)
        with self._lock:
            self._known[code] = pair
            self._stale = True

    def _lookup(self) -> tuple[Ints, Ints32]:
        with self._lock:
            if self._stale:
                known = sorted(self._known.items())
                self._codes = np.array([c for c, _ in known], np.int64)
                self._pairs = np.array([p for _, p in known], np.int32)
                self._stale = False
            return self._codes, self._pairs

    def missing(self, genotypes: Ints) -> list[int]:
        """Codes of rows that have no place yet, in order."""
        return sorted(c for c in set(genotypes[:, ROW_PLACES].ravel().tolist()) if c not in self._known)

    def genomes(self, genotypes: Ints) -> tuple[Genomes, NDArray[np.bool_]]:
        """Genomes of genotypes whose rows all have a place; and which of them can be had, bool[n]."""
        count, plan = len(genotypes), self.plan
        genes, numbers = np.tile(self._genes, (count, 1)), np.tile(self._numbers, (count, 1))
        full = np.full(count, self._full)
        for at, table in self._tables:
            chosen = genotypes[:, at]
            genes[:, table.gene_at] = table.genes[chosen]
            numbers[:, table.number_at] = table.numbers[chosen]
            full |= table.full[chosen]
        codes, pairs = self._lookup()
        had = np.ones(count, bool)
        for side in range(plan.sides):
            entries, exits = rows_at(side)
            ins = pairs[np.searchsorted(codes, genotypes[:, entries])]
            outs = pairs[np.searchsorted(codes, genotypes[:, exits])]
            had &= (ins != NOT_HAD).all(axis=(1, 2)) & (outs != NOT_HAD).all(axis=(1, 2))
            facing = self._facings(side)
            for which in facing:
                if plan.draws_entry:
                    self._entry(genes, genotypes[:, side * SIDE + JOIN], ins[:, :, which], which)
                if plan.draws_exits:
                    begin, logic = (SHORT_OUT, 3) if which else (LONG_OUT, 2)
                    genes[:, begin:begin + outs.shape[1]] = outs[:, :, which]
                    genes[:, g.G_LOGIC + logic] = (outs[:, :, which] >= 0).sum(axis=1) > 1
        genes[:, g.G_FULL] = full
        return Genomes(genes, numbers), had

    def _facings(self, side: int) -> tuple[int, ...]:
        """Which sides of the market a set of rules stands for: 0 long, 1 short."""
        if self.plan.sides == 2:
            return (side,)
        return (*((0,) if self._upright else ()), *((1,) if self._turned else ()))

    def _entry(self, genes: Ints32, join: Ints, rows: Ints32, which: int) -> None:
        fixed = self._fixed[which]
        begin = SHORT_IN if which else LONG_IN
        genes[:, begin:begin + g.MOST_ROWS] = -1
        genes[:, begin:begin + len(fixed)] = fixed
        room = min(rows.shape[1], g.MOST_ROWS - len(fixed))
        genes[:, begin + len(fixed):begin + len(fixed) + room] = rows[:, :room]
        count = (rows >= 0).sum(axis=1)
        genes[:, g.G_LOGIC + which] = 0 if fixed else np.where((join > 0) & (count > 1), np.minimum(join, count), 0)


def _with(key: str, strategy: Strategy, value: Any) -> Strategy:
    plain = value if value is None or isinstance(value, int) else value.model_dump()
    return Strategy.model_validate(strategy.model_dump() | {key: plain})


class Assemblies:
    """An assembly for each way of facing that competes, in one pool."""

    def __init__(self, plan: Plan, pool: Pool, brief: Brief) -> None:
        self.pool = pool
        try:
            self._by = {SIDES.index(f): Assembly(plan.of(SIDES.index(f)), pool, brief) for f in plan.facings}
        except FullError:
            raise UserError("the exits and orders that compete need more columns than the memory for them holds", "limits",
                            "Let fewer ATR lengths compete.") from None
        self._wants = tuple(dict.fromkeys(how for one in self._by.values() for how in one.wants))

    def put(self, code: int, node: Node | None) -> int:
        """Give a row its places; a row of the pool that it stands in, NOT_HAD where it cannot be had. Raises FullError."""
        rows: dict[str, int] = {}
        if node is not None:
            with suppress(UserError):  # such as an interval that bars do not add up to
                rows = {how: self.pool.row(WRITTEN[how](node)) for how in self._wants}
        for one in self._by.values():
            one.put(code, rows)
        return next(iter(rows.values()), NOT_HAD)

    def missing(self, genotypes: Ints) -> list[int]:
        """Codes of rows that have no place yet, in order."""
        return next(iter(self._by.values())).missing(genotypes)  # each row is put into all of them

    def genomes(self, genotypes: Ints) -> tuple[Genomes, NDArray[np.bool_]]:
        """As `Assembly.genomes`, each by its own sides."""
        if len(self._by) == 1:
            return next(iter(self._by.values())).genomes(genotypes)
        parts = [(at, one.genomes(genotypes[at])) for facing, one in self._by.items()
                 if len(at := np.flatnonzero(genotypes[:, FACING] == facing))]
        first = parts[0][1][0]
        genes = np.empty((len(genotypes), first.genes.shape[1]), first.genes.dtype)
        numbers, had = np.empty((len(genotypes), first.numbers.shape[1])), np.zeros(len(genotypes), bool)
        for at, (made, there) in parts:
            genes[at], numbers[at], had[at] = made.genes, made.numbers, there
        return Genomes(genes, numbers), had
