"""Variants of one strategy along axes, evaluated block by block.

Numbers that belong together (those of one row, one distance) form a group. What a group's values change of the genome is
worked out once for each combination of them, through the model; a variant is the base with the changes of every group.
A parameter belongs to whatever numbers follow it.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from copy import copy
from dataclasses import dataclass
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch.genomes import Genomes, genome_of, nodes_of, runs_alone
from wolbrin.core.batch.many import NO_DAYS, Days, Many
from wolbrin.core.batch.pool import FullError, Pool
from wolbrin.core.engine.brief import Brief
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import check_stopped
from wolbrin.core.market.bars import Span
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.measures.sums import COMPILED
from wolbrin.core.rules.axes import Axis, Values, variant
from wolbrin.core.rules.mirror import with_sides
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.numbers import followers

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
# Places in the genes and their values, places in the numbers and theirs.
Change = tuple[Ints, NDArray[np.int32], Ints, Floats]


@dataclass(frozen=True)
class Block:
    """What came of a block of combinations, those that the model refused left out.

    settings: float64[b, axes]. figures: float64[b, len(SUMMARY) + extra]. daily: float32[b, d] P/L on the dates asked for,
    account money, NaN before a run begins; [b, 0] where none were. refused: how many were left out. kept: int64[b], places in
    the block of those that were not.
    """

    settings: Floats
    figures: Floats
    daily: NDArray[np.float32]
    refused: int
    kept: Ints


class _Changes:
    """Changes against the base genome, in one pool."""

    def __init__(self, made: Callable[[Sequence[Axis], Values], Strategy | None], axes: Sequence[Axis],
                 groups: Sequence[tuple[int, ...]], pool: Pool, brief: Brief) -> None:
        self.pool, self._brief = pool, brief
        self._made, self._axes, self._groups = made, axes, groups
        base = made((), ())
        assert base is not None
        self._base = genome_of(base, pool, brief)
        self._known: dict[tuple[int, Values], Change | None] = {}

    def _change(self, group: int, values: Values) -> Change | None:
        """What these values of a group change; None where the model or the market refuses them."""
        key = group, values
        if key not in self._known:
            one = self._made([self._axes[a] for a in self._groups[group]], values)
            made = None
            if one is not None:
                try:
                    other = genome_of(one, self.pool, self._brief)
                    genes = np.flatnonzero(other.genes[0] != self._base.genes[0])
                    numbers = np.flatnonzero(other.numbers[0] != self._base.numbers[0])
                    made = genes, other.genes[0, genes], numbers, other.numbers[0, numbers]
                except UserError:
                    pass
            self._known[key] = made
        return self._known[key]

    def genomes(self, block: Sequence[Values]) -> tuple[Genomes, list[int]]:
        """Genomes of those sets that are not refused, and their places in the block. Raises FullError."""
        genes = np.repeat(self._base.genes, len(block), 0)
        numbers = np.repeat(self._base.numbers, len(block), 0)
        kept = []
        for at, values in enumerate(block):
            for group, members in enumerate(self._groups):
                change = self._change(group, tuple(values[a] for a in members))
                if change is None:
                    break
                genes[at, change[0]] = change[1]
                numbers[at, change[2]] = change[3]
            else:
                kept.append(at)
        return Genomes(genes[kept], numbers[kept]), kept


class Variants:
    """Variants of one strategy along axes that are numbers of its rules, on one history. Threads may share it.

    sides: which sides are traded, see mirror.with_sides; "" for those of the strategy. extra: measures beside SUMMARY, in the
    columns after it; they need an ordinary run of each variant.
    """

    def __init__(self, strategy: Strategy, axes: Sequence[Axis], many: Many, sides: str = "",
                 extra: Sequence[str] = ()) -> None:
        self._strategy, self._axes, self._many, self._sides = strategy, axes, many, sides
        self._keys = [*SUMMARY, *extra]
        self._groups = self._joined_groups()
        self._single = runs_alone(strategy) or bool(extra) or tuple(SUMMARY) != COMPILED
        self._lock = Lock()
        self._changes: _Changes | None = None

    def within(self, span: Span) -> Variants:
        """The same variants over another span of the history; what was worked out for them is shared."""
        if not self._single:
            self._at()
        other = copy(self)
        other._many = self._many.within(span)
        return other

    def variant(self, axes: Sequence[Axis], values: Values) -> Strategy | None:
        """The strategy at some values; None where the model refuses it."""
        one = variant(self._strategy, axes, values)
        return with_sides(one, self._sides) if one is not None and self._sides else one

    def _joined_groups(self) -> list[tuple[int, ...]]:
        """Axes whose numbers, or those that move along, belong together."""
        groups: list[tuple[set[tuple[str, ...]], list[int]]] = []
        for at, axis in enumerate(self._axes):
            keys = (axis.key, *(link.key for link in axis.links))
            touched, members = {self._group(key) for k in keys for key in followers(self._strategy, k)}, [at]
            for group in [g for g in groups if g[0] & touched]:
                groups.remove(group)
                touched |= group[0]
                members = group[1] + members
            groups.append((touched, members))
        return [tuple(sorted(members)) for _, members in groups]

    def _group(self, key: str) -> tuple[str, ...]:
        """What a number belongs to: two numbers of different groups never change the same part of a genome."""
        path = key.split(".")
        if path[0] in ("long", "short") and path[1] in ("entry", "exit"):
            condition = getattr(getattr(self._strategy, path[0]), path[1])
            apart = nodes_of(condition)[0] != (condition,)
            return tuple(path[:4] if apart else path[:2])
        if path[-1] in ("amount", "length") and path[0] in ("stop", "target", "trail", "break_even") and "level" not in path:
            return tuple(path)  # how far is a number of the genome, by which ATR a column
        return tuple(path[:2] if path[0] in ("long", "short") else path[:1])

    def _at(self, renew: _Changes | None = None) -> _Changes:
        """The changes in the present pool; in a new one where `renew` has no room left."""
        with self._lock:
            if self._changes is None or self._changes is renew:
                self._changes = self._made(self._many.pool if self._changes is None else self._many.new_pool())
            return self._changes

    def _made(self, pool: Pool) -> _Changes:
        return _Changes(self.variant, self._axes, self._groups, pool, self._many.brief)

    def evaluate(self, block: Sequence[Values], days: Days = NO_DAYS) -> Block:
        """Measures of a block of combinations, and their daily results on `days` (the dates of the span, or none).

        Raises:
            UserError: the base cannot be run, or the memory does not hold the conditions of one combination.
        """
        if self._single:
            return self._one_by_one(block, days)
        try:
            changes = self._at()
            try:
                genomes, kept = changes.genomes(block)
            except FullError:
                # One combination gets a pool that no other thread fills.
                changes = self._at(changes) if len(block) > 1 else self._made(self._many.new_pool())
                genomes, kept = changes.genomes(block)
        except FullError:
            if len(block) < 2:
                raise UserError("the memory for conditions does not hold those of one combination", self._strategy.name,
                                "Sweep on fewer bars.") from None
            half = len(block) // 2
            return _joined(self.evaluate(block[:half], days), self.evaluate(block[half:], days))
        out = self._many.run(genomes, np.full(len(kept), len(days) > 0), pool=changes.pool)
        settings = np.array([block[i] for i in kept], np.float64).reshape(len(kept), len(self._axes))
        daily = out.daily if len(days) else np.zeros((len(kept), 0), np.float32)
        return Block(settings, out.figures, daily, len(block) - len(kept), np.array(kept, np.int64))

    def _one_by_one(self, block: Sequence[Values], days: Days) -> Block:
        settings: list[Values] = []
        kept: list[int] = []
        figures: list[list[float]] = []
        daily = np.full((len(block), len(days)), np.nan, np.float32)
        for at, values in enumerate(block):
            check_stopped()
            one = self.variant(self._axes, values)
            if one is None:
                continue
            figures.append(self._many.single(one, daily[len(settings)] if len(days) else None, self._keys))
            settings.append(values)
            kept.append(at)
        return Block(np.array(settings, np.float64).reshape(len(settings), len(self._axes)),
                     np.array(figures, np.float64).reshape(-1, len(self._keys)), daily[:len(settings)],
                     len(block) - len(settings), np.array(kept, np.int64))


def _joined(a: Block, b: Block) -> Block:
    return Block(np.concatenate([a.settings, b.settings]), np.concatenate([a.figures, b.figures]),
                 np.concatenate([a.daily, b.daily]), a.refused + b.refused,
                 np.concatenate([a.kept, b.kept + len(a.kept) + a.refused]))
