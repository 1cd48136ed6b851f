"""What a scan showed of the rows that a search begins from: how strong each was beside luck, which way, and over how long."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from threading import Condition as Waiting

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import check_stopped
from wolbrin.core.market.bars import Span
from wolbrin.core.scan.luck import LEVEL, Luck, passed_in, tries_worth
from wolbrin.core.scan.moves import END, USUAL, Moves, moves_of
from wolbrin.core.scan.rows import Choice, choose_rows
from wolbrin.core.scan.scanner import GROUPS, OK, Scanner, Tile
from wolbrin.core.scan.scores import at_horizons
from wolbrin.core.scan.signs import FIRST
from wolbrin.core.search.ingredients import AT, Pantry

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]
MEMORY = 0.3  # of what a scan usually takes for columns and bits
BEYOND, NEAR = 1.0, 0.75  # of what luck reaches


@dataclass(frozen=True)
class Evidence:
    """Rows that told something. codes: int64[r], the bar of the session among it; t: float64[r], signed, at the horizon where
    it is strongest; horizon: int64[r], bars held, END for the session's end; state: bool[r], it holds rather than fires;
    clock: bool[r], of the clock, the calendar and the session. every: float32[r, horizons], signed t at each. strength:
    float64[r], |t| over what luck reaches in its question. hurdles: |t| that luck reaches, of each question, NaN without
    rows. rows: that were looked at. most: float64[draws], the strongest |t| of each draw. session: bars of a long
    session. elsewhere: hashes of the other markets' bars that rows read."""

    codes: Ints
    t: Floats
    horizon: Ints
    state: NDArray[np.bool_]
    clock: NDArray[np.bool_]
    every: NDArray[np.float32]
    strength: Floats
    hurdles: tuple[float, ...]
    levels: tuple[int, ...]
    rows: int
    most: Floats
    session: int
    elsewhere: dict[str, str]

    @property
    def worth(self) -> int:
        """How many tries it counts for, see `luck.tries_worth`."""
        return tries_worth(passed_in(self.most, LEVEL))

    @cached_property
    def _places(self) -> dict[int, int]:
        return {int(c): i for i, c in enumerate(self.codes)}

    def of(self, code: int) -> int:
        """The place of a row, -1 where the scan did not look at it, or it told nothing."""
        return self._places.get(code, -1)


def asked_on(moves: Moves) -> tuple[int, ...]:
    """Horizons of a search's scan: the usual ones, without those that a session's end cuts off."""
    return at_horizons(tuple(h for h in USUAL if h == END or not moves.flat or h < moves.longest))


class Looking:
    """A scan that several threads work out, tile by tile; whoever asks gets the same evidence. count: rows at most."""

    def __init__(self, history: Prepared, pantry: Pantry, span: Span, flat: bool, count: int, seed: int) -> None:
        moves = moves_of(history, span, flat)
        self.choice = choose_rows(pantry, count, moves.longest)
        self.moves, self.levels = moves, asked_on(moves)
        code = history.bars.terms.code
        if moves.flat and moves.longest < 2:
            raise UserError("a session is one bar here, and a position that ends with its session is never held", code,
                            "Hold over sessions, or look at shorter bars.")
        if not len(self.choice):
            raise UserError("these ingredients have no rows here", code, "Tick others.")
        self.scanner = Scanner(history, moves, pantry, self.choice, self.levels, FIRST, seed, MEMORY)
        self._tiles: list[Tile | None] = [None] * self.scanner.tiles
        self._left = list(range(self.scanner.tiles))[::-1]
        self._waiting = Waiting()
        self._found: Evidence | None = None

    def evidence(self, told: Callable[[int], None] = lambda rows: None) -> Evidence:
        """Work along until all is known. told: called with how many rows a tile had."""
        while True:
            check_stopped()
            with self._waiting:
                if all(t is not None for t in self._tiles):
                    if self._found is None:
                        self._found = self._together()
                    return self._found
                at = self._left.pop() if self._left else -1
                if at < 0:
                    self._waiting.wait(0.05)
                    continue
            try:
                made = self.scanner.tile(at)
            except BaseException:
                with self._waiting:
                    self._left.append(at)
                raise
            with self._waiting:
                self._tiles[at] = made
                self._waiting.notify_all()
            told(len(made.t))

    def _together(self) -> Evidence:
        tiles = [t for t in self._tiles if t is not None]
        choice: Choice = self.choice
        luck = Luck.begun(self.moves.days, choice.group, FIRST)
        for tile in tiles:
            luck.take(tile)
        t = np.concatenate([x.t for x in tiles]).astype(np.float64)
        side, reason = np.concatenate([x.side for x in tiles]), np.concatenate([x.reason for x in tiles])
        most = luck.most(False, FIRST)
        there = [bool((choice.group == g).any()) for g in range(GROUPS)]
        hurdles = tuple(passed_in(most[g], LEVEL / sum(there)) if there[g] else float("nan") for g in range(GROUPS))
        told = np.flatnonzero((reason == OK) & np.isfinite(t).any(axis=1))
        every = (np.nan_to_num(t) * side)[told]
        here, best = np.arange(len(told)), np.abs(every).argmax(axis=1) if len(told) else np.zeros(0, np.int64)
        strongest = every[here, best]
        group = choice.group[told]
        state = np.concatenate([x.state for x in tiles])[told].astype(bool)
        return Evidence(choice.codes[told] | (choice.at[told].astype(np.int64) << AT), strongest,
                        np.array(self.levels, np.int64)[best], state, group == 0, every.astype(np.float32),
                        np.abs(strongest) / np.array(hurdles)[group], hurdles, self.levels, len(choice),
                        most.max(axis=0), self.moves.longest, self.scanner.reader.columns.elsewhere_read())
