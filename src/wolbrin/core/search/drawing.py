"""Drawing candidates: batch number b of a seed always holds the same genotypes."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.search.genotype import (
    EXITS,
    EXITS_END,
    FACING,
    JOIN,
    MOST_TOGETHER,
    ORDER,
    SIDE,
    STOP,
    WIDTH,
    Plan,
    rows_at,
)
from wolbrin.core.search.ingredients import AT, LONGER_SHARE, MOST_AT, OTHER_SHARE, PLAIN, RARE_SHARE, ROWS, Pantry
from wolbrin.core.search.limits import SIDES

Ints = NDArray[np.int64]
Rng = np.random.Generator
BATCH = 256  # candidates drawn together
FEW = 4  # an ingredient that spans no more rows than this, times how often it is asked, comes into the pool whole
FIRING = 0.75  # of entries begin with a row that fires at moments
MOVED_BAR = 0.4  # chance that of a row at one bar of the session the bar is moved, not the row
LEAVES = 0.25  # of candidates have exit rows, where none need be
OWN = SIDES.index("own")
JOINS = {"all": 0, "any": 1, "at least": 2}


def draw_code(rng: Rng, pantry: Pantry) -> int:
    """The code of a row: an ingredient by its weight, then each digit; rare ones are mostly 0."""
    which = int(rng.choice(len(pantry.items), p=pantry.weights))
    return pantry.code(which, [digit_of(rng, pantry, which, at) for at in range(len(pantry.items[which].shape))])


def digit_of(rng: Rng, pantry: Pantry, which: int, at: int) -> int:
    """One digit of a row of an ingredient."""
    item = pantry.items[which]
    levels = item.shape[at]
    if at == 0 and item.places is not None:
        longer, others = item.places
        u = rng.random()
        if u < LONGER_SHARE and longer:
            return 1 + int(rng.integers(longer))
        return 1 + longer + int(rng.integers(others)) if u > 1 - OTHER_SHARE and others else 0
    if at < item.rare:
        return int(rng.integers(1, levels)) if levels > 1 and rng.random() < RARE_SHARE else 0
    if item.groups and at == len(item.shape) - 1:
        group = int(rng.integers(len(item.groups)))
        return sum(item.groups[:group]) + int(rng.integers(item.groups[group]))
    return int(rng.integers(levels))


def draw_pool(seed: int, count: int, pantry: Pantry) -> dict[int, float]:
    """So many codes, fewer where the ingredients span no more, each with how often it is asked.

    An ingredient of few rows, such as a weekday, comes in whole: a handful of draws would by chance leave out just the row
    that matters. It is asked no more often for that.
    """
    rng = np.random.default_rng((seed, 16))
    whole = _whole(count, pantry)
    found = dict.fromkeys((code for codes in whole.values() for code in codes), 0.0)
    drawn = 0
    while drawn < 8 * count + 100 and len(found) < min(count, pantry.size):
        code = draw_code(rng, pantry)
        drawn += 1
        if code >> ROWS not in whole:
            found[code] = found.get(code, 0.0) + 1.0
    for which, codes in whole.items():
        for code in codes:
            found[code] = max(drawn, 1) * pantry.weights[which] / len(codes)
    return found


def _whole(count: int, pantry: Pantry) -> dict[int, range]:
    """Codes of ingredients that span few rows for how often they are asked, by ingredient; half of the pool at most."""
    out: dict[int, range] = {}
    room = count // 2
    for which in sorted(range(len(pantry.items)), key=lambda i: pantry.items[i].size):
        size = pantry.items[which].size
        if size <= min(room, FEW * count * pantry.weights[which]):
            out[which] = range(which << ROWS, (which << ROWS) + size)
            room -= size
    return out


@dataclass(frozen=True)
class Drawer:
    """How genotypes are drawn. codes: of all rows that are of use, asked: how often each; firing: which fire at moments."""

    plan: Plan
    codes: Ints
    asked: NDArray[np.float64]
    firing: NDArray[np.bool_]

    @cached_property
    def _odds(self) -> NDArray[np.float64]:
        return np.cumsum(self.asked)

    @cached_property
    def _firing_odds(self) -> NDArray[np.float64]:
        return np.cumsum(np.where(self.firing, self.asked, 0.0)) if self.firing.any() else self._odds

    def rows(self, rng: Rng, shape: int | tuple[int, ...], firing: bool = False) -> Ints:
        """Codes of rows, of those that fire at moments where that is asked (of all where none do)."""
        odds = self._firing_odds if firing else self._odds
        return self.codes[np.searchsorted(odds, rng.random(shape) * odds[-1], side="right")]

    def another(self, rng: Rng, one: Ints) -> int:
        """The code of a row that may come into a candidate."""
        return int(self.rows(rng, 1)[0])

    @cached_property
    def options(self) -> dict[str, tuple[Any, ...]]:
        return self.plan.options()

    @cached_property
    def _in_stops(self) -> list[tuple[int, NDArray[np.bool_]]]:
        """Places whose options may be measured in stops, and which are."""
        found = []
        for key, at in zip(EXITS, range(STOP, EXITS_END)):
            units = [_unit(v) for v in self.options[key]]
            if "stop" in units:
                found.append((at, np.array([u == "stop" for u in units])))
        return found

    @property
    def most_rows(self) -> int:
        """Rows that may be drawn for an entry."""
        fixed = max(len(nodes) for nodes in self.plan.fixed())
        return min(self.plan.limits.most_rows, MOST_TOGETHER - fixed)

    def batch(self, key: tuple[int, ...], count: int = BATCH) -> Ints:
        """int64[count, WIDTH] genotypes of a key, such as seed and number."""
        rng = np.random.default_rng(key)
        out = np.full((count, WIDTH), -1, np.int64)
        facings = np.array([SIDES.index(f) for f in self.plan.facings], np.int64)
        out[:, FACING] = facings[rng.integers(len(facings), size=count)]
        for side in range(2):
            if side == 0 or OWN in facings:
                self._rows(rng, out, side)
                out[:, side * SIDE + ORDER] = self._order(rng, count)
            else:
                out[:, side * SIDE + JOIN] = out[:, side * SIDE + ORDER] = 0
        for which, name in enumerate(EXITS):
            out[:, STOP + which] = self.exit_options(rng, name, count)
        return self.settled(out)

    def settled(self, genotypes: Ints) -> Ints:
        """Without what cannot be: exits in stops where there is no stop; rows without gaps and each once."""
        for at, units in self._in_stops:
            lost = (genotypes[:, STOP] == 0) & units[genotypes[:, at]] & (at != STOP)
            genotypes[lost, at] = 0
        if self.plan.draws_entry and self.plan.kept is None:
            # Rules of its own for each side need some for the second; other candidates have no use for them.
            bare = (genotypes[:, FACING] == OWN) & (genotypes[:, rows_at(1)[0]] < 0).all(axis=1)
            genotypes[bare, FACING] = SIDES.index("long") if "long" in self.plan.facings else OWN
        single = genotypes[:, FACING] != OWN
        for part in rows_at(1):
            genotypes[single, part] = -1
        genotypes[single, SIDE + JOIN] = genotypes[single, SIDE + ORDER] = 0
        for side in range(2):
            for part in rows_at(side):
                _compact(genotypes, part)
        return genotypes

    def _rows(self, rng: Rng, out: Ints, side: int) -> None:
        limits, count = self.plan.limits, len(out)
        entries, exits = rows_at(side)
        if self.plan.draws_entry:
            rows = rng.integers(min(limits.least_rows, self.most_rows), self.most_rows + 1, count)
            picks = self.rows(rng, (count, entries.stop - entries.start))
            firing = self.rows(rng, count, firing=True)
            filtering = self.plan.limits.keep == "both"  # what is added to an entry need not fire by itself
            picks[:, 0] = np.where((rng.random(count) < FIRING) & (not filtering), firing, picks[:, 0])
            out[:, entries] = np.where(np.arange(picks.shape[1]) < rows[:, None], picks, -1)
        joins = np.array([JOINS[j] for j in limits.joins])
        out[:, side * SIDE + JOIN] = joins[rng.integers(len(joins), size=count)]
        if self.plan.draws_exits and limits.most_exit_rows:
            least = limits.least_exit_rows
            rows = rng.integers(max(1, least), limits.most_exit_rows + 1, count)
            rows = np.where((rng.random(count) < LEAVES) | (least > 0), rows, 0)
            picks = self.rows(rng, (count, exits.stop - exits.start))
            out[:, exits] = np.where(np.arange(picks.shape[1]) < rows[:, None], picks, -1)

    def _order(self, rng: Rng, count: int) -> Ints:
        orders = self.options["order"]
        kinds = self.plan.limits.orders.kinds
        if len(orders) < 2:
            return np.zeros(count, np.int64)
        by_kind = [[i for i, o in enumerate(orders) if o.kind == kind] for kind in kinds]
        chosen = rng.integers(len(kinds), size=count)
        u = rng.random(count)
        return np.array([by_kind[c][int(v * len(by_kind[c]))] for c, v in zip(chosen.tolist(), u.tolist())], np.int64)

    def exit_options(self, rng: Rng, name: str, count: int) -> Ints:
        """Places in an exit's options: kinds compete alike, whatever their ranges span."""
        limits, options = self.plan.limits, self.options[name]
        chance, u = rng.random(count), rng.random((2, count))
        if len(options) < 2:
            return np.zeros(count, np.int64)
        if name == "time_exit":
            none, sizes = limits.no_time_exit, np.array([len(options) - 1])
        else:
            exits = getattr(limits, name)
            none, sizes = exits.none, np.array([len(r.distances) for r in exits.reaches])
        kind = (u[0] * len(sizes)).astype(np.int64)
        begins = 1 + np.concatenate([[0], np.cumsum(sizes)[:-1]])
        picked = begins[kind] + (u[1] * sizes[kind]).astype(np.int64)
        if name == "stop" and limits.sizing.kind == "risk":
            none = 0.0
        return np.where(chance < none, 0, picked)


def _unit(option: Any) -> str:
    distance = getattr(option, "distance", None) or getattr(option, "after", None) or option
    return getattr(distance, "unit", "")


def _compact(genotypes: Ints, part: slice) -> None:
    """Each row once, and the empty places last."""
    rows = genotypes[:, part]
    for at in range(1, rows.shape[1]):
        rows[:, at] = np.where((rows[:, :at] == rows[:, at:at + 1]).any(axis=1), -1, rows[:, at])
    order = np.argsort(rows < 0, axis=1, kind="stable")
    genotypes[:, part] = np.take_along_axis(rows, order, axis=1)


def step_code(rng: Rng, pantry: Pantry, code: int) -> int:
    """A row beside another: one of its digits moved, those that count by one or two; or the bar at which it is read."""
    at_bar, plain = (code >> AT) & MOST_AT, code & PLAIN
    if at_bar and rng.random() < MOVED_BAR:
        moved = at_bar + (1 if rng.random() < 0.5 else -1)
        return code if not 1 <= moved <= MOST_AT else code - (at_bar << AT) + (moved << AT)
    return (code - plain) | _stepped(rng, pantry, plain)


def _stepped(rng: Rng, pantry: Pantry, code: int) -> int:
    which, number = code >> ROWS, code & ((1 << ROWS) - 1)
    item = pantry.items[which]
    digits = list(item.digits(number))
    movable = [i for i, levels in enumerate(item.shape) if levels > 1]
    if not movable:
        return code
    at = movable[int(rng.integers(len(movable)))]
    if item.rare <= at < len(item.shape) - 1 or (at == len(item.shape) - 1 and rng.random() < 0.7):
        by = int(rng.integers(1, 3)) * (1 if rng.random() < 0.5 else -1)
        digits[at] = int(np.clip(digits[at] + by, 0, item.shape[at] - 1))
    else:
        digits[at] = digit_of(rng, pantry, which, at)
    return pantry.code(which, digits)


