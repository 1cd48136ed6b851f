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
from wolbrin.core.scan.luck import Luck, reached_by
from wolbrin.core.scan.moves import END, USUAL, Moves, moves_of
from wolbrin.core.scan.rows import choose_rows
from wolbrin.core.scan.scanner import OK, Scanner, Tile
from wolbrin.core.scan.scores import at_horizons
from wolbrin.core.scan.signs import FIRST
from wolbrin.core.search.ingredients import AT, Pantry

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]
MEMORY = 0.3  # of what a scan usually takes for columns and bits
BEYOND, NEAR = 1.0, 0.75  # of what luck reaches


@dataclass(frozen=True)
class Evidence:
    """Rows that told something. codes: int64[r], the bar of the session among it; every: float32[r, horizons], signed t at
    each of the levels (bars held, END for the session's end); state: bool[r], it holds rather than fires; clock: bool[r], of
    the clock, the calendar and the session. hurdles: |t| that luck reaches, of the clock's question and of all others, NaN
    without rows. rows: that were looked at. most: float64[draws], the strongest |t| of each draw. session: bars of a long
    session. elsewhere: hashes of the other markets' bars that rows read."""

    codes: Ints
    every: NDArray[np.float32]
    levels: tuple[int, ...]
    state: NDArray[np.bool_]
    clock: NDArray[np.bool_]
    hurdles: tuple[float, ...]
    rows: int
    most: Floats
    session: int
    elsewhere: dict[str, str]

    @cached_property
    def best(self) -> Ints:
        """int64[r]: the place of the horizon at which a row is strongest."""
        return strongest_at(self.every)

    @cached_property
    def t(self) -> Floats:
        """float64[r]: t there, signed."""
        return self.every[np.arange(len(self.codes)), self.best].astype(np.float64)

    @cached_property
    def horizon(self) -> Ints:
        """int64[r]: bars held there."""
        return np.array(self.levels, np.int64)[self.best]

    @cached_property
    def strength(self) -> Floats:
        """float64[r]: |t| over what luck reaches in its question."""
        return np.abs(self.t) / np.array(self.hurdles)[np.where(self.clock, 0, 1)]

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
        choice = self.choice
        luck = Luck.begun(self.moves.days, choice.group, FIRST)
        for tile in tiles:
            luck.take(tile)
        t, side, reason, state = (np.concatenate([getattr(x, name) for x in tiles])
                                  for name in ("t", "side", "reason", "state"))
        most = luck.most(False, FIRST)
        told = np.flatnonzero((reason == OK) & np.isfinite(t).any(axis=1))
        return Evidence(choice.codes[told] | (choice.at[told].astype(np.int64) << AT), (np.nan_to_num(t) * side)[told],
                        self.levels, state[told].astype(bool), choice.group[told] == 0,
                        reached_by(most, {int(g) for g in np.unique(choice.group)}), len(choice), most.max(axis=0),
                        self.moves.longest, self.scanner.reader.columns.elsewhere_read())


def strongest_at(every: NDArray[np.float32]) -> Ints:
    """int64[r]: the place of the horizon with the largest |t|, float32[r, horizons]."""
    return np.abs(every).argmax(axis=1)
