"""What entries of this number, at these times of day, earn by chance: a candidate's own entry signals moved by whole sessions
at random, its exits kept.

Sessions change places only with sessions of as many bars, so that every signal keeps its place in its session. Results are
compared in units of each date's volatility: a rule that trades on wild days would look skilled (or hopeless) in money without
being so.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch.driver import FIGURES, Out, begins_at, combine, drive, lean_drive
from wolbrin.core.batch.genomes import G_BLOCKED, G_EDGES, G_FULL, G_LOGIC, GENOME, MOST_ROWS, Genomes
from wolbrin.core.batch.many import ALL_FIGURES, PIECE, Many
from wolbrin.core.batch.pool import Held, Pool
from wolbrin.core.batch.sessions import Sessions, volatility_of
from wolbrin.core.bits import Words, lowest, pack, unpack
from wolbrin.core.compiled import njit
from wolbrin.core.jobs import check_stopped

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


@njit(cache=True, nogil=True)
def move_entries(words: Words, session_of: Ints, start: Ints, target: Ints, out: Words) -> None:
    """Move every set bar to the same place in the session that takes its session's place.

    words, out: uint64[w]. session_of: int64[n], the number of each bar's session, -1 for bars that stay where they are.
    start: int64[s], first bars of sessions. target: int64[s], which session takes whose place.
    """
    out[:] = 0
    for w in range(len(words)):
        word = words[w]
        while word != 0:
            i = (w << 6) + lowest(word)
            word &= word - np.uint64(1)
            s = session_of[i]
            to = i if s < 0 else start[target[s]] + (i - start[s])
            out[to >> 6] |= np.uint64(1) << np.uint64(to & 63)


@dataclass(frozen=True)
class Shifted:
    """actual: the candidate's result, chance: float64[m], of its shifted entries; both sums of daily P/L over the date's
    volatility (mean range of a bar, in account money for one contract). trades: int64[m]."""

    actual: float
    chance: Floats
    trades: Ints

    @property
    def p(self) -> float:
        """Chance of a result as good where entries know nothing, (1 + as good or better) / (m + 1) (Phipson & Smyth 2010)."""
        return (1 + int((self.chance >= self.actual).sum())) / (len(self.chance) + 1)


class Shifting:
    """Shifted entries of one candidate, a genome of `many`'s present pool. Threads may share it."""

    def __init__(self, many: Many, genome: Genomes, pool: Pool | None = None) -> None:
        self._many, self._genome, self._held = many, genome, (pool or many.pool).held
        bars, track = many.history.bars, many.track
        self.sessions = Sessions.within(bars, track.first, track.last)
        self._four = np.zeros((4, self._held.words.shape[1]), np.uint64)
        for which in range(4):
            combine(genome.genes[0], which, self._held.words, self._four[which])
        self._unit = volatility_of(bars, track.first, track.last)

    def run(self, seed: int, first: int, count: int) -> Shifted:
        """Shifted runs first .. first + count - 1 of a seed, beside the candidate itself."""
        actual = self._many.run(self._genome, np.ones(1, np.bool_))
        chance, trades = np.empty(count), np.empty(count, np.int64)

        sessions = self.sessions

        def place(number: int, words: Words) -> None:
            target = sessions.shuffled(np.random.default_rng((seed, first + number)))
            for side in range(2):
                move_entries(self._four[side], sessions.of, sessions.start, target, words[side])

        for piece, out in self._runs(count, place):
            part = slice(piece, piece + len(out.figures))
            chance[part] = np.nansum(out.daily / self._unit, axis=1)
            trades[part] = out.figures[:, 1]
        return Shifted(float(np.nansum(actual.daily[0] / self._unit)), chance, trades)

    def late(self, bars: int) -> float:
        """Net profit with every entry signal so many bars later; those that would leave their session are lost."""
        session = np.asarray(self._many.history.bars.session)

        def place(_: int, words: Words) -> None:
            for side in range(2):
                held = unpack(self._four[side][:, None], len(session))
                held[bars:] = held[:-bars] * (session[bars:] == session[:-bars])
                held[:bars] = 0
                words[side] = pack((held,), len(held))[:, 0]

        return float(next(iter(self._runs(1, place)))[1].figures[0, 0])

    def _runs(self, count: int, place: Callable[[int, Words], None]) -> Iterator[tuple[int, Out]]:
        """Runs with entry bits put in place by number, PIECE by PIECE: where each piece begins, and what came of it."""
        wide = self._four.shape[1]
        held, many = self._held, self._many
        known = np.empty(4 + 2 * PIECE, np.int64)
        words = np.zeros((4 + 2 * PIECE, wide), np.uint64)
        words[0], words[1] = self._four[2], self._four[3]
        gene = self._genome.genes[0]
        for at, row in ((2, gene[G_BLOCKED]), (3, gene[G_EDGES])):
            if row >= 0:
                words[at] = held.words[row]
        loop = lean_drive if gene[G_FULL] == 0 and many.lean else drive
        # The run begins where the candidate's does: what its rows need decides that, not the bits made of them.
        known[:] = begins_at(gene, held, len(many.history.bars))
        own = Held(words, known, np.full(len(known), -1, np.int32), held.columns, held.column_known, held.column_hole,
                   held.holes)
        for piece in range(0, count, PIECE):
            check_stopped()
            size = min(PIECE, count - piece)
            genes = np.full((size, GENOME), -1, np.int32)
            genes[:, G_LOGIC:] = gene[G_LOGIC:]
            genes[:, G_LOGIC:G_LOGIC + 4] = 0
            genes[:, 2 * MOST_ROWS], genes[:, 3 * MOST_ROWS] = 0, 1
            genes[:, G_BLOCKED] = 2 if gene[G_BLOCKED] >= 0 else -1
            genes[:, G_EDGES] = 3 if gene[G_EDGES] >= 0 else -1
            for at in range(size):
                row = 4 + 2 * at
                place(piece + at, words[row:row + 2])
                genes[at, 0], genes[at, MOST_ROWS] = row, row + 1
            out = Out(np.zeros(size, np.uint8), np.zeros(size, np.uint8), np.empty((size, FIGURES)),
                      np.zeros(size, np.uint64), np.empty((size, len(many.days)), np.float32), np.arange(size))
            loop(genes, np.repeat(self._genome.numbers, size, 0), own, many.track, ALL_FIGURES, out)
            yield piece, out
