"""An evolution of candidates: islands whose best are crossed and moved, part by part.

A child takes each part (a row, the stop, the target ...) from one of two parents, and then has few things changed: a row
moved by a digit, replaced, added or left out, an exit moved or replaced. Survivors of a generation are chosen by score less a
charge for complexity, and apart from each other: one whose daily results go with those of a better one is left out. Islands
send their best to the next one now and then; one that finds nothing better for long starts anew.
"""

from __future__ import annotations

import base64
import zlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.search.drawing import Drawer, draw_code, step_code
from wolbrin.core.search.genotype import (
    ENTRY,
    EXITS,
    EXITS_END,
    FACING,
    JOIN,
    ORDER,
    SIDE,
    STOP,
    WIDTH,
    complexity,
    rows_at,
)
from wolbrin.core.search.ingredients import Pantry
from wolbrin.core.search.limits import SIDES

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]
Floats32 = NDArray[np.float32]
Rng = np.random.Generator
OWN = "own"
ISLANDS = 6
CHILDREN = 128  # of a generation
SURVIVORS = 32
NOVEL = 0.9  # correlation of daily results from which one says nothing new beside a better one
CHARGE = 0.015  # of a score for each row and exit
MIGRANTS, EVERY = 3, 5  # so many of the best go to the next island every so many generations
STALE = 12  # generations without anything better, after which an island starts anew
FRESH = 0.1  # of children are drawn anew
MOVED = 0.12  # chance that a row becomes one that was never worked out: that costs more than a test


@dataclass(frozen=True)
class Island:
    """One population as it stands after a generation. genotypes: int64[p, WIDTH], best first; scores: float64[p]; daily:
    float32[p, d] where at hand. best: best score since it last started; since: generations without a better one."""

    generation: int = 0
    genotypes: Ints = field(default_factory=lambda: np.zeros((0, WIDTH), np.int64))
    scores: Floats = field(default_factory=lambda: np.zeros(0))
    daily: Floats32 | None = None
    best: float = -np.inf
    since: int = 0
    starts: int = 0

    def as_json(self) -> dict[str, Any]:
        packed = base64.b64encode(zlib.compress(np.ascontiguousarray(self.genotypes).tobytes())).decode()
        return {"generation": self.generation, "genotypes": packed, "scores": _numbers(self.scores),
                "best": self.best if np.isfinite(self.best) else None, "since": self.since, "starts": self.starts}

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> Island:
        genotypes = np.frombuffer(zlib.decompress(base64.b64decode(data["genotypes"])), np.int64).reshape(-1, WIDTH).copy()
        scores = np.array([-np.inf if s is None else s for s in data["scores"]], np.float64)
        return cls(data["generation"], genotypes, scores, None, -np.inf if data["best"] is None else data["best"],
                   data["since"], data["starts"])


def _numbers(x: Floats) -> list[float | None]:
    return [float(v) if np.isfinite(v) else None for v in x]


@dataclass(frozen=True)
class Step:
    """The next generation of an island: what it stands on, who comes from the next island, and the key of its chances. luck:
    scores that the best tenth of the controls' last generation of this island reached, by how many rows an entry has (one,
    two, more); nothing where none ran, or selection goes by score alone."""

    island: Island
    migrants: Ints
    key: tuple[int, ...]
    count: int
    luck: tuple[float, ...] = ()


def children_of(step: Step, drawer: Drawer, pantry: Pantry) -> Ints:
    """int64[count, WIDTH]: the candidates of a generation."""
    rng = np.random.default_rng(step.key)
    parents = np.concatenate([step.island.genotypes, step.migrants])
    fresh = drawer.batch((*step.key, 1), step.count)
    if len(parents) < 4:
        return fresh
    count = step.count
    # Better ones are chosen more often: the smaller of two draws.
    pick = np.minimum(rng.integers(len(parents), size=(count, 2)), rng.integers(len(parents), size=(count, 2)))
    one, two = parents[pick[:, 0]], parents[pick[:, 1]]
    out = one.copy()
    crossed = rng.random(count) < 0.7
    for part in _parts(drawer):
        take = crossed & (rng.random(count) < 0.5)
        out[np.ix_(take, part)] = two[np.ix_(take, part)]
    for at in range(count):
        for _ in range(1 + int(rng.integers(2))):
            _change(rng, out[at], fresh[at], drawer, pantry)
    new = rng.random(count) < FRESH
    out[new] = fresh[new]
    return drawer.settled(out)


def _parts(drawer: Drawer) -> list[Ints]:
    """Places that are inherited together."""
    found = []
    for side in range(2 if OWN in drawer.plan.facings else 1):
        for part in rows_at(side):
            found += [np.array([p]) for p in range(part.start, part.stop)]
        found += [np.array([side * SIDE + JOIN]), np.array([side * SIDE + ORDER])]
    return found + [np.array([p]) for p in range(STOP, WIDTH)]


def _change(rng: Rng, one: Ints, fresh: Ints, drawer: Drawer, pantry: Pantry) -> None:
    """One change to a child. fresh: a candidate drawn anew, whose parts may come in."""
    plan = drawer.plan
    kinds: list[Callable[[], None]] = []

    def row_of(part: slice, least: int, most: int) -> Callable[[], None]:
        def change() -> None:
            there = [p for p in range(part.start, part.stop) if one[p] >= 0]
            u = rng.random()
            if there and u < 0.45:
                at = there[int(rng.integers(len(there)))]
                known = drawer.another(rng, one)
                if rng.random() < MOVED:
                    one[at] = step_code(rng, pantry, int(one[at])) if rng.random() < 0.8 else draw_code(rng, pantry)
                else:
                    one[at] = known
            elif len(there) < most and u < 0.72:
                free = next(p for p in range(part.start, part.stop) if one[p] < 0)
                one[free] = drawer.another(rng, one)
            elif len(there) > least:
                one[there[int(rng.integers(len(there)))]] = -1
        return change

    for side in range(2 if int(one[FACING]) == SIDES.index(OWN) else 1):
        entries, exits = rows_at(side)
        if plan.draws_entry:
            kinds += [row_of(entries, plan.limits.least_rows, drawer.most_rows)] * 3
            kinds += [partial(_inherit, one, fresh, side * SIDE + at) for at in (JOIN, ORDER)]
        if plan.draws_exits and plan.limits.most_exit_rows:
            kinds.append(row_of(exits, plan.limits.least_exit_rows, plan.limits.most_exit_rows))
    if plan.draws_exits:
        for name, at in zip(EXITS, range(STOP, EXITS_END)):
            size = len(drawer.options[name])
            if size > 1:
                kinds += [partial(_step_option, rng, one, fresh, at, size)] * 2
    if len(plan.facings) > 1:
        kinds.append(partial(_face, one, fresh))
    if kinds:
        kinds[int(rng.integers(len(kinds)))]()


def _face(one: Ints, fresh: Ints) -> None:
    """Trade other sides; with rules for each side the second set comes along."""
    one[FACING] = fresh[FACING]
    if one[SIDE + ENTRY] < 0:
        one[SIDE:2 * SIDE] = fresh[SIDE:2 * SIDE]


def _inherit(one: Ints, other: Ints, at: int) -> None:
    one[at] = other[at]


def _step_option(rng: Rng, one: Ints, fresh: Ints, at: int, size: int) -> None:
    if one[at] > 0 and rng.random() < 0.6:
        one[at] = int(np.clip(one[at] + (1 if rng.random() < 0.5 else -1), 1, size - 1))
    else:
        one[at] = fresh[at]


def survivors(step: Step, genotypes: Ints, scores: Floats, passes: NDArray[np.bool_], daily: Floats32,
              before: Floats32) -> Island:
    """The island after a generation. genotypes, scores, passes, daily: of the children; before: daily results of the
    population that they come from.

    Scores are charged for complexity and -inf where a candidate cannot be judged. What passes the floors goes first.
    """
    island = step.island
    known = np.concatenate([island.genotypes, genotypes])
    score = np.concatenate([island.scores, _charged(genotypes, scores, passes)])
    series = np.concatenate([before, daily]).astype(np.float32)
    # Evolution fits luck too, the more so the more rows there are: what counts is what is beyond the controls' generation.
    ranked = score - beside_luck(known, step.luck)
    order = np.lexsort((np.arange(len(known)), -ranked))
    turned = shapes(series)
    kept: list[int] = []
    for at in order.tolist():
        if len(kept) >= SURVIVORS or not np.isfinite(score[at]):
            break
        if kept and float((turned[kept] @ turned[at]).max()) > NOVEL:
            continue
        kept.append(at)
    best = float(score[kept].max()) if kept else -np.inf
    better = best > island.best
    made = Island(island.generation + 1, known[kept], score[kept], series[kept], max(best, island.best),
                  0 if better else island.since + 1, island.starts)
    if made.since >= STALE:
        return Island(made.generation, starts=made.starts + 1)
    return made


BONUS = 1e6  # of what passes the floors
CLASSES = 3  # of entries: with one row, two, or more
TOP = 0.9  # quantile of a generation's scores that says how far it came
FEW = 8  # of a class, that tell nothing


def class_of(genotypes: Ints) -> Ints:
    """int64[n]: 0 with one row in the entry, 1 with two, 2 with more; of rules for each side those of the larger."""
    rows = np.stack([(genotypes[:, rows_at(side)[0]] >= 0).sum(axis=1) for side in range(2)]).max(axis=0)
    return np.clip(rows - 1, 0, CLASSES - 1)


def beside_luck(genotypes: Ints, luck: tuple[float, ...]) -> Floats:
    """float64[n]: what controls reach with entries of as many rows; 0 where that is not known."""
    return np.array(luck)[class_of(genotypes)] if luck else np.zeros(len(genotypes))


def reached(genotypes: Ints, scores: Floats) -> tuple[float, ...]:
    """How far a generation came, by how many rows an entry has: the TOP quantile of its charged scores, NaN of few. scores:
    -inf where a candidate cannot be judged."""
    charged = _charged(genotypes, scores, np.zeros(len(scores), bool))
    which = class_of(genotypes)
    out = []
    for c in range(CLASSES):
        mine = charged[(which == c) & np.isfinite(charged)]
        out.append(float(np.quantile(mine, TOP)) if len(mine) >= FEW else float("nan"))
    return tuple(out)


def of_controls(several: Sequence[tuple[float, ...]]) -> tuple[float, ...]:
    """What some controls reached, the middle one's by class; where none tells, as the class with fewer rows; nothing where
    nothing is known."""
    if not several:
        return ()
    table = np.array(several, np.float64)
    out: list[float] = []
    for c in range(CLASSES):
        known = table[:, c][np.isfinite(table[:, c])]
        out.append(float(np.median(known)) if len(known) else (out[-1] if out else float("nan")))
    known_any = [x for x in out if x == x]
    return tuple(x if x == x else known_any[0] for x in out) if known_any else ()


def _charged(genotypes: Ints, scores: Floats, passes: NDArray[np.bool_]) -> Floats:
    charged = scores - CHARGE * complexity(genotypes) * np.abs(scores)
    return np.where(np.isfinite(charged), charged + BONUS * passes, -np.inf)


def shapes(daily: Floats32) -> Floats32:
    """Daily results, centered and of length 1; zeros where they never move."""
    x = np.nan_to_num(daily)
    x = x - x.mean(axis=1, keepdims=True)
    size = np.sqrt((x * x).sum(axis=1, keepdims=True))
    return np.divide(x, size, out=np.zeros_like(x), where=size > 0)


class Archipelago:
    """The islands of one stream. A generation of an island is asked once what it stands on is known."""

    def __init__(self, key: tuple[int, ...], islands: list[Island] | None = None,
                 sent: dict[tuple[int, int], Ints] | None = None) -> None:
        self._key = key
        self.islands = islands or [Island() for _ in range(ISLANDS)]
        self._asked = [i.generation for i in self.islands]
        self._sent = sent or {}

    def step(self, island: int, generation: int, count: int = CHILDREN, luck: tuple[float, ...] = ()) -> Step | None:
        """A generation; None where what came before is not known yet. luck: see `Step`."""
        neighbor = (island + 1) % len(self.islands)
        if self.islands[island].generation < generation:
            return None
        migrants = np.zeros((0, WIDTH), np.int64)
        if generation and generation % EVERY == 0:
            if (neighbor, generation) not in self._sent:
                return None
            migrants = self._sent[neighbor, generation]
        return Step(self.islands[island], migrants, (*self._key, island, generation), count, luck)

    def tell(self, island: int, after: Island) -> None:
        """What became of a generation."""
        self.islands[island] = after
        if after.generation % EVERY == 0:
            self._sent[island, after.generation] = after.genotypes[:MIGRANTS].copy()
            self._sent.pop((island, after.generation - 2 * EVERY), None)

    def as_json(self) -> dict[str, Any]:
        return {"islands": [i.as_json() for i in self.islands],
                "sent": [[i, g, x.tolist()] for (i, g), x in sorted(self._sent.items())]}

    @classmethod
    def from_json(cls, key: tuple[int, ...], data: dict[str, Any]) -> Archipelago:
        sent = {(int(i), int(g)): np.array(x, np.int64).reshape(-1, WIDTH) for i, g, x in data["sent"]}
        return cls(key, [Island.from_json(i) for i in data["islands"]], sent)


