"""Candidates drawn by what a scan showed: rows that were strong beside luck, in the direction price went, with exits that fit
how long it went.

Same key, same candidates, as for those drawn at random (`search.drawing`).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.scan.evidence import strongest_at
from wolbrin.core.scan.moves import END
from wolbrin.core.search.drawing import BATCH, Drawer
from wolbrin.core.search.genotype import (
    EXITS,
    FACING,
    JOIN,
    ORDER,
    SIDE,
    STOP,
    TIME,
    WIDTH,
    rows_at,
)
from wolbrin.core.search.ingredients import NOT, TURNED
from wolbrin.core.search.limits import SIDES

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]
Rng = np.random.Generator
MIRRORED, LONG, SHORT, OWN = (SIDES.index(s) for s in ("mirrored", "long", "short", "own"))
ALONE, ONE_MORE = 0.55, 0.90  # of candidates have one row, or at most two
ALIGNED = 0.5  # of further rows move price in the same direction by themselves
AT_IT, NEAR_IT = 0.65, 0.90  # of time exits lie at the horizon, or within twice of it; the others are left out
WHILE = 0.7  # of candidates on a state of one bar leave when it no longer holds
OTHER_HORIZON = 0.25  # of candidates are held for another time at which the row was nearly as strong
NEARLY = 0.8
WIDE = 0.6  # spread of distances (of their logarithm) around what price moves in that time
TIMES_MOVE = 1.5  # a stop's usual distance, in what price moves in that time


@dataclass(frozen=True)
class InformedDrawer(Drawer):
    """As `Drawer`, of rows that a scan looked at. every: float32[r, horizons], signed t of each; levels: horizons in bars;
    state, clock: see `Evidence`. session: bars of a long session."""

    every: NDArray[np.float32]
    levels: tuple[int, ...]
    state: NDArray[np.bool_]
    clock: NDArray[np.bool_]
    session: int

    @cached_property
    def _side(self) -> NDArray[np.int8]:
        """+1 where price rises after a row, at the horizon where it is strongest."""
        best = strongest_at(self.every)
        return np.where(self.every[np.arange(len(best)), best] < 0, -1, 1).astype(np.int8)

    @cached_property
    def _one_way(self) -> int:
        """The direction that alone can be traded, 0 for both."""
        kept = self.plan.kept
        if kept is not None:
            own = (kept.long.mode == "own", kept.short.mode != "off")
            return 1 if own == (True, False) else -1 if own == (False, True) else 0
        found = set(self.plan.facings)
        return 1 if found == {"long"} else -1 if found == {"short"} else 0

    @cached_property
    def _lead_odds(self) -> Floats:
        asked = self.asked if not self._one_way else np.where(self._side == self._one_way, self.asked, 0.0)
        return np.cumsum(asked if asked.any() else self.asked)

    @cached_property
    def _state_odds(self) -> Floats:
        return np.cumsum(np.where(self.state, 1.0, 0.02))

    @cached_property
    def _aligned_odds(self) -> dict[int, Floats]:
        found = {}
        for side in (-1, 1):
            odds = np.where(self.state & (self._side == side), self.asked, 0.0)
            found[side] = np.cumsum(odds) if odds.any() else self._state_odds
        return found

    def _pick(self, rng: Rng, odds: Floats) -> int:
        return min(int(np.searchsorted(odds, rng.random() * odds[-1], side="right")), len(odds) - 1)

    def _faced(self, row: int, facing: int, side: int) -> int:
        """The code of a row as a candidate holds it, whose rules are written for its long side, so that it stands there as it
        was looked at where it is about this side."""
        flip = facing == SHORT or (facing in (MIRRORED, OWN) and side < 0)
        return int(self.codes[row]) | (TURNED if flip and not self.clock[row] else 0)

    def another(self, rng: Rng, one: Ints) -> int:
        facing = int(one[FACING])
        side = -1 if facing == SHORT else 1 if facing == LONG else int(rng.choice((-1, 1)))
        return self._filter(rng, facing, side)

    def _filter(self, rng: Rng, facing: int, side: int) -> int:
        row = self._pick(rng, self._aligned_odds[side] if rng.random() < ALIGNED else self._state_odds)
        return self._faced(row, facing, side)

    def batch(self, key: tuple[int, ...], count: int = BATCH) -> Ints:
        rng = np.random.default_rng(key)
        out = np.full((count, WIDTH), -1, np.int64)
        for name, at in zip(EXITS, range(STOP, STOP + len(EXITS))):
            out[:, at] = self.exit_options(rng, name, count)
        for side in range(2):
            out[:, side * SIDE + JOIN] = 0
            out[:, side * SIDE + ORDER] = self._order(rng, count) if side == 0 or OWN in self._facings else 0
        for one in out:
            self._candidate(rng, one)
        return self.settled(out)

    @cached_property
    def _facings(self) -> list[int]:
        return [SIDES.index(f) for f in self.plan.facings]

    def _candidate(self, rng: Rng, one: Ints) -> None:
        lead = self._pick(rng, self._lead_odds)
        side = int(self._side[lead])
        possible = [f for f in self._facings if f in (MIRRORED, OWN) or f == (LONG if side > 0 else SHORT)]
        if self.clock[lead] and len(possible) > 1:
            possible = [f for f in possible if f != MIRRORED]  # its mirror image is itself, and goes the other way
        facing = possible[int(rng.integers(len(possible)))] if possible else self._facings[0]
        one[FACING] = facing
        level = self._level(rng, lead)
        if self.plan.draws_entry:
            self._entry(rng, one, 0, lead, facing, side)
            if facing == OWN:
                some = (self._pick(rng, self._lead_odds) for _ in range(20))
                other = next((row for row in some if self._side[row] != side), lead)
                first, second = (lead, other) if side > 0 else (other, lead)
                self._entry(rng, one, 0, first, LONG, 1)
                self._entry(rng, one, 1, second, SHORT, -1)
        if self.plan.draws_exits:
            self._exits(rng, one, lead, self.levels[level], facing, side)

    def _level(self, rng: Rng, lead: int) -> int:
        """The horizon that a candidate is held for: where its row was strongest, or nearly so."""
        size = np.abs(self.every[lead])
        best = int(size.argmax())
        near = np.flatnonzero((size >= NEARLY * size[best]) & (np.sign(self.every[lead]) == np.sign(self.every[lead, best])))
        return int(near[rng.integers(len(near))]) if rng.random() < OTHER_HORIZON else best

    def _entry(self, rng: Rng, one: Ints, which: int, lead: int, facing: int, side: int) -> None:
        entries, _ = rows_at(which)
        limits, u = self.plan.limits, rng.random()
        wanted = 1 if u < ALONE else 2 if u < ONE_MORE else 3 + int(rng.integers(3))
        count = max(min(limits.least_rows, self.most_rows), min(wanted, self.most_rows))
        one[entries] = -1
        one[entries.start] = self._faced(lead, facing, side)
        for at in range(1, count):
            one[entries.start + at] = self._filter(rng, facing, side)

    def _exits(self, rng: Rng, one: Ints, lead: int, horizon: int, facing: int, side: int) -> None:
        limits = self.plan.limits
        _, leave = rows_at(0)
        held = horizon if horizon != END else max(2, self.session // 2)
        one[leave] = -1
        if limits.most_exit_rows:
            least = limits.least_exit_rows
            if horizon == 1 and self.state[lead] and rng.random() < WHILE:
                one[leave.start] = self._faced(lead, facing, side) | NOT
            for at in range(least):
                if one[leave.start + at] < 0:
                    one[leave.start + at] = self.another(rng, one)
        one[TIME] = self._time(rng, horizon) if one[leave.start] < 0 else 0
        for name, at in zip(EXITS, range(STOP, STOP + len(EXITS))):
            if one[at] > 0 and at != TIME:
                one[at] = self._distance(rng, name, held)

    def _time(self, rng: Rng, horizon: int) -> int:
        times = np.array(self.options["time_exit"][1:], np.float64)
        u = rng.random()
        if not len(times) or horizon == END or u > NEAR_IT:
            return 0
        aim = float(horizon) if u < AT_IT else horizon * 2.0 ** rng.uniform(-1.0, 1.0)
        return 1 + int(np.abs(np.log(times / aim)).argmin())

    def _distance(self, rng: Rng, name: str, held: int) -> int:
        """A place among the distances of an exit, those near what price moves in that time more often: in ATR it grows with
        the root of the bars held. Other units compete alike."""
        odds = self._odds_of(name, held)
        return 1 + int(np.searchsorted(odds, rng.random() * odds[-1], side="right").clip(0, len(odds) - 1))

    def _odds_of(self, name: str, held: int) -> Floats:
        known: dict[tuple[str, int], Floats] = vars(self).setdefault("_distances", {})
        if (name, held) not in known:
            weights = np.array([_fit(option, held) for option in self.options[name][1:]])
            known[name, held] = np.cumsum(weights)
        return known[name, held]


def _fit(option: Any, held: int) -> float:
    distance = getattr(option, "distance", None) or getattr(option, "after", None) or option
    if getattr(distance, "unit", "") != "atr":
        return 0.35
    aim = TIMES_MOVE * np.sqrt(held)
    return float(np.exp(-0.5 * (np.log(distance.amount / aim) / WIDE) ** 2)) + 0.02
