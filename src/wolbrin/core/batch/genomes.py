"""A candidate as numbers: rows of a pool, how they are joined, and settings of orders and exits."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch.pool import Pool
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.inputs import parameters
from wolbrin.core.engine.run import check, money_of, plan_of
from wolbrin.core.rules.decide import level_column, levels_of
from wolbrin.core.rules.mirror import effective_long, effective_short, entry_orders
from wolbrin.core.rules.model import Condition, PositionOperand, Row, Strategy

Ints32 = NDArray[np.int32]
Floats = NDArray[np.float64]

# A genome's whole numbers: rows of four conditions (long entry, short entry, long exit, short exit), -1 for none; how each is
# joined (ALL, or at least so many); rows of what blocks entries and of session edges; columns that orders need (codes.N_);
# whether the lean loop will do.
MOST_ROWS = 8
ALL = 0
G_ROWS = 0
G_LOGIC = G_ROWS + 4 * MOST_ROWS
G_BLOCKED, G_EDGES = G_LOGIC + 4, G_LOGIC + 5
G_NEEDS = G_LOGIC + 6
G_FULL = G_NEEDS + k.NEEDS
GENOME = G_FULL + 1


class Genomes:
    """Some candidates: genes int32[g, GENOME], numbers float64[g, PARAMETERS] (see inputs.parameters)."""

    def __init__(self, genes: Ints32, numbers: Floats) -> None:
        self.genes, self.numbers = genes, numbers

    def __len__(self) -> int:
        return len(self.genes)

    @classmethod
    def joined(cls, parts: Sequence[Genomes]) -> Genomes:
        return cls(np.concatenate([p.genes for p in parts]), np.concatenate([p.numbers for p in parts]))


def runs_alone(strategy: Strategy) -> bool:
    """Whether a genome has no words for a strategy, so that it takes a run of its own: a row asks the state of the position,
    or its numbers are dated."""
    if strategy.schedule is not None:
        return True
    conditions = (strategy.long.entry, strategy.long.exit, strategy.short.entry, strategy.short.exit)
    return any(isinstance(r.left, PositionOperand) for c in conditions for r in c.leaves)


def nodes_of(condition: Condition) -> tuple[tuple[Row | Condition, ...], int]:
    """The parts of a condition that have a row each, and how they are joined."""
    nodes = condition.active
    plain = condition.when == "now" and not condition.back and len(nodes) <= MOST_ROWS
    if plain and condition.match == "all":
        return nodes, ALL
    if plain and condition.match in ("any", "at least"):
        return nodes, 1 if condition.match == "any" else int(condition.least)
    return ((condition,), ALL) if nodes else ((), ALL)


def numbers_of(strategy: Strategy, pool: Pool, brief: Brief) -> Floats:
    """float64[PARAMETERS]."""
    terms = pool.history.bars.terms
    return parameters(plan_of(strategy, terms), money_of(terms, brief))


def genome_of(strategy: Strategy, pool: Pool, brief: Brief) -> Genomes:
    """A strategy as one genome. It must not ask the state of the position.

    Raises:
        UserError: a request that cannot be run. FullError: the pool has no room.
    """
    check(pool.history.bars, strategy, brief)
    genes = np.full((1, GENOME), -1, np.int32)
    long_side, short_side = effective_long(strategy), effective_short(strategy)
    for which, condition in enumerate((long_side.entry, short_side.entry, long_side.exit, short_side.exit)):
        nodes, logic = nodes_of(condition)
        for at, node in enumerate(nodes):
            genes[0, G_ROWS + which * MOST_ROWS + at] = pool.row(node)
        genes[0, G_LOGIC + which] = logic
    genes[0, G_BLOCKED] = pool.blocked(strategy.filters)
    genes[0, G_EDGES] = pool.edges() if strategy.flat_by_session_end else -1
    columns = pool.columns
    for at, distance in enumerate(strategy.distances):
        if distance is not None and distance.unit == "atr":
            genes[0, G_NEEDS + at] = atr_column(pool, int(distance.length))
    long_order, short_order = entry_orders(strategy)
    levels = [*levels_of(strategy.stop), *levels_of(strategy.target),
              long_order.level if long_order.kind != "market" else None,
              short_order.level if short_order.kind != "market" else None]
    for at, level in enumerate(levels, len(strategy.distances)):
        if level is not None:
            values = level_column(columns, level)
            assert values is not None
            genes[0, G_NEEDS + at] = pool.column(level.model_dump_json(), lambda values=values: values)  # type: ignore[misc]
    market = long_order.kind == short_order.kind == "market"
    genes[0, G_FULL] = not (market and strategy.trail is None and strategy.break_even is None)
    return Genomes(genes, numbers_of(strategy, pool, brief).reshape(1, -1))


def atr_column(pool: Pool, length: int) -> int:
    """The number of the column of ATR(length) in ticks."""
    return pool.column(("atr", length), lambda: pool.columns.atr_ticks(length))
