"""Drawing candidates: compiled, and read back as strategies. Candidate number k of a seed is always the same."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch import genomes as g
from wolbrin.core.batch.genomes import GENOME, Genomes, atr_column, numbers_of
from wolbrin.core.batch.pool import Pool
from wolbrin.core.compiled import njit
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.rules.mirror import mirror_condition, mirror_row
from wolbrin.core.rules.model import Condition, Distance, Row, Side, Strategy
from wolbrin.core.search.grammar import Limits

Ints32 = NDArray[np.int32]
Floats = NDArray[np.float64]
Node = Row | Condition
MOST_DRAWN = 5
STOP_LENGTH = 20
MOST_ROWS, G_EDGES, G_NEEDS, G_FULL, G_LOGIC = g.MOST_ROWS, g.G_EDGES, g.G_NEEDS, g.G_FULL, g.G_LOGIC
N_STOP, X_STOP, X_TARGET_UNIT, X_TARGET, X_TIME_EXIT, NONE, STOP_MULTIPLE = (
    k.N_STOP, k.X_STOP, k.X_TARGET_UNIT, k.X_TARGET, k.X_TIME_EXIT, k.NONE, k.STOP_MULTIPLE)


@njit(cache=True, nogil=True)
def _next(state: NDArray[np.uint64]) -> float:
    """The next number in [0, 1) (splitmix64: Steele, Lea & Flood 2014)."""
    state[0] += np.uint64(0x9E3779B97F4A7C15)
    z = state[0]
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    z ^= z >> np.uint64(31)
    return float(z >> np.uint64(11)) * 2.0**-53


@njit(cache=True, nogil=True)
def draw_picks(seed: int, number: int, triggers: int, others: int, most_rows: int, picks: Ints32, settings: Floats) -> None:
    """One candidate: entry conditions and one exit condition into picks, int32[MOST_DRAWN + 1], -1 for none (triggers are
    numbered 0 .. triggers - 1, the rest after them); settings: float64[3], stop in ATR, target in stops (0 for none), bars
    of the time exit (0 for none)."""
    state = np.empty(1, np.uint64)
    state[0] = (np.uint64(seed) + np.uint64(1)) * np.uint64(0xD1342543DE82EF95)
    state[0] += np.uint64(number) * np.uint64(0xA0761D6478BD642F)
    picks[:] = -1
    picks[0] = int(_next(state) * triggers)
    rows = 1 + int(_next(state) * most_rows)
    for at in range(1, rows):
        pick = int(_next(state) * (triggers + others))
        for before in range(at):
            if picks[before] == pick:
                pick = -1
        if pick < 0:
            break
        picks[at] = pick
    leave = _next(state)
    other = int(_next(state) * triggers)
    if leave < 0.25:
        picks[MOST_DRAWN] = other
    settings[0] = 1.0 + 0.5 * int(_next(state) * 7)
    target = _next(state)
    multiple = 1.0 + 0.5 * int(_next(state) * 7)
    settings[1] = multiple if target < 0.7 else 0.0
    timed = _next(state)
    bars = 4.0 * (1 + int(_next(state) * 10))
    settings[2] = bars if timed < 0.25 else 0.0


class Rows(NamedTuple):
    """Pool rows of the conditions candidates are built from: long_rows, short_rows: int32[c] (mirrored), -1 where a side is
    off. triggers: how many of them, the first ones, fire at moments."""

    long_rows: Ints32
    short_rows: Ints32
    triggers: int


@njit(cache=True, nogil=True)
def draw_genomes(seed: int, first: int, rows: Rows, most_rows: int, base: Ints32, base_numbers: Floats, genes: Ints32,
                 numbers: Floats) -> None:
    """Candidates first .. first + len(genes) - 1 as genomes; base: what they have in common."""
    picks, settings = np.empty(MOST_DRAWN + 1, np.int32), np.empty(3)
    count = len(rows.long_rows)
    for at in range(len(genes)):
        draw_picks(seed, first + at, rows.triggers, count - rows.triggers, most_rows, picks, settings)
        gene = genes[at]
        gene[:] = base
        for row in range(MOST_DRAWN):
            if picks[row] >= 0:
                gene[row] = rows.long_rows[picks[row]]
                gene[MOST_ROWS + row] = rows.short_rows[picks[row]]
        if picks[MOST_DRAWN] >= 0:
            gene[2 * MOST_ROWS] = rows.long_rows[picks[MOST_DRAWN]]
            gene[3 * MOST_ROWS] = rows.short_rows[picks[MOST_DRAWN]]
        numbers[at] = base_numbers
        numbers[at, X_STOP] = settings[0]
        numbers[at, X_TARGET_UNIT] = STOP_MULTIPLE if settings[1] > 0.0 else NONE
        numbers[at, X_TARGET] = settings[1]
        numbers[at, X_TIME_EXIT] = settings[2]


def mirrored(node: Node) -> Node:
    return mirror_row(node) if isinstance(node, Row) else mirror_condition(node)


@dataclass(frozen=True)
class Grammar:
    """How candidates of one search are drawn: conditions, triggers first, and what all candidates have in common."""

    limits: Limits
    seed: int
    nodes: tuple[Node, ...]
    triggers: int

    def base(self) -> Strategy:
        """A candidate without conditions."""
        return Strategy(name="x", stop=Distance(unit="atr", amount=1.0, length=STOP_LENGTH),
                        flat_by_session_end=self.limits.flat_by_session_end, quantity=self.limits.quantity)

    def strategy(self, number: int, name: str) -> Strategy:
        """Candidate `number` as rules."""
        picks, settings = np.empty(MOST_DRAWN + 1, np.int32), np.empty(3)
        draw_picks(self.seed, number, self.triggers, len(self.nodes) - self.triggers, self.limits.most_rows, picks, settings)
        entry = Condition(rows=tuple(self.nodes[p] for p in picks[:MOST_DRAWN] if p >= 0))
        leave = Condition(rows=(self.nodes[picks[MOST_DRAWN]],)) if picks[MOST_DRAWN] >= 0 else Condition()
        side, off = Side(entry=entry, exit=leave), Side(mode="off")
        target = Distance(unit="stop", amount=float(settings[1])) if settings[1] > 0 else None
        change: dict[str, object] = {
            "name": name, "stop": Distance(unit="atr", amount=float(settings[0]), length=STOP_LENGTH), "target": target,
            "time_exit": int(settings[2]) or None}
        if self.limits.sides == "short":
            # The conditions are written for the long side; a short candidate trades their mirror image.
            entry, leave = mirror_condition(entry), mirror_condition(leave)
            change |= {"long": off, "short": Side(entry=entry, exit=leave)}
        else:
            change |= {"long": side, "short": Side(mode="mirrored") if self.limits.sides == "both" else off}
        return Strategy.model_validate(self.base().model_copy(update=change).model_dump())

    def genomes(self, rows: Rows, pool: Pool, brief: Brief, first: int, count: int) -> Genomes:
        """Candidates first .. first + count - 1."""
        base = np.full(GENOME, -1, np.int32)
        base[G_LOGIC:G_LOGIC + 4] = 0
        base[G_EDGES] = pool.edges() if self.limits.flat_by_session_end else -1
        base[G_NEEDS + N_STOP] = atr_column(pool, STOP_LENGTH)
        base[G_FULL] = 0
        genes, numbers = np.empty((count, GENOME), np.int32), np.empty((count, k.PARAMETERS))
        draw_genomes(self.seed, first, rows, self.limits.most_rows, base, numbers_of(self.base(), pool, brief), genes,
                     numbers)
        return Genomes(genes, numbers)
