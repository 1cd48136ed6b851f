"""One market under a scan: rows as packed bits, their scores, and what random signs make of them, a tile at a time."""

from __future__ import annotations

from dataclasses import dataclass
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.bits import Words, pack, words_of
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import check_stopped
from wolbrin.core.market.bars import Bars
from wolbrin.core.rules.evaluate import operand_column, truth
from wolbrin.core.rules.operands import CustomOperand, Operand
from wolbrin.core.scan.moves import Floats, Ints, Moves
from wolbrin.core.scan.pairs import pair
from wolbrin.core.scan.reader import COLUMN_BYTES, RowReader
from wolbrin.core.scan.rows import Choice, says_when, unanchored
from wolbrin.core.scan.scores import LEAST_EFFECTIVE, LEAST_FIRING, Scorer, t_of
from wolbrin.core.scan.signs import signs_of
from wolbrin.core.search.ingredients import Pantry

TILE = 512
SCORES = 12_000_000  # daily scores of a tile
ROW_BYTES = 64 * 1024**2
FEWEST, LEAST_TILES = 8, 4
PAIRS_KEPT = 200  # of what was seen, the strongest
STRONGEST = 50  # rows that pairs are made of
STRONG = 40  # of a tile, that are followed through every draw
WORTH = 2.5  # |t| below which none is
BITS_BYTES = 128 * 1024**2
FIRES = 0.05  # a row that holds on fewer bars fires at moments
WANDERS = 0.04  # a series of the user's own that crosses its middle on fewer days has no fixed level
GROUPS = 2
OK, FEW_DAYS, FEW_EFFECTIVE, NO_LEVEL, WHEN, CANNOT = range(6)
REASONS = ("", f"fires on fewer than {LEAST_FIRING} days", f"rests on fewer than {LEAST_EFFECTIVE:g} days",
           "has no such level", "a level of what has no fixed one", "cannot be read here")


@dataclass(frozen=True)
class Strong:
    """Rows that are followed: their place in the choice and horizon int32[s], strength float32[s], and the same in each draw
    float32[s, draws]."""

    row: NDArray[np.int32]
    horizon: NDArray[np.int32]
    strength: NDArray[np.float32]
    drawn: NDArray[np.float32]

    def taken(self, at: NDArray[np.integer]) -> Strong:
        return Strong(self.row[at], self.horizon[at], self.strength[at], self.drawn[at])


@dataclass(frozen=True)
class Tops:
    """The strongest rows of each draw, the first column being what was seen: row and horizon int32[k, 1 + draws], strength
    float32[k, 1 + draws] (-1 where there is none)."""

    row: NDArray[np.int32]
    horizon: NDArray[np.int32]
    strength: NDArray[np.float32]


@dataclass(frozen=True)
class Tile:
    """What came of r rows, from number `first` on. t: float32[r, horizons], NaN where it tells nothing; side: int8[r,
    horizons], +1 where price rises after it; best: int8[r], the horizon with the largest t, at which money (of one
    contract, in the row's direction, before costs), trades and covered (bars held) are. firing: dates; state: 1 where it
    holds rather than fires. reason: int8[r], why it is left out, a place in REASONS. strong: those followed; rest: the
    strongest of all others in each draw, float32[GROUPS, draws]."""

    first: int
    t: NDArray[np.float32]
    side: NDArray[np.int8]
    best: NDArray[np.int8]
    money: Floats
    trades: Ints
    covered: Ints
    firing: Ints
    state: NDArray[np.int8]
    reason: NDArray[np.int8]
    strong: Strong
    rest: NDArray[np.float32]
    tops: Tops


@dataclass(frozen=True)
class Pairs:
    """Pairs that tell something: rows that fire and that hold, and horizons, int32[k]; strength float64[k], signed; trades,
    covered, firing: float64[k]; money: float64[k], of one contract in its direction before costs, NaN in draws."""

    fires: NDArray[np.int32]
    holds: NDArray[np.int32]
    horizon: NDArray[np.int32]
    strength: Floats
    trades: Floats
    covered: Floats
    firing: Floats
    money: Floats


_NO_ROWS, _NO_NUMBERS = np.zeros(0, np.int32), np.zeros(0)
NO_PAIRS = Pairs(_NO_ROWS, _NO_ROWS, _NO_ROWS, _NO_NUMBERS, _NO_NUMBERS, _NO_NUMBERS, _NO_NUMBERS, _NO_NUMBERS)


def tile_size(horizons: int, days: int, draws: int, codes: NDArray[np.int64], bars: Bars) -> int:
    """How many rows are worked out together, so that their scores and bits stay in bounds.

    Raises:
        UserError: not even a few fit.
    """
    by_scores = SCORES // max(1, horizons * max(days, draws))
    by_bits = ROW_BYTES // max(1, 8 * words_of(len(bars)))
    size = min(TILE, by_scores, by_bits)
    if size < FEWEST:
        raise UserError(f"{len(bars):,} bars are too many for a scan in memory", bars.terms.code,
                        "Scan longer bars, a shorter span, or fewer horizons.")
    return int(max(FEWEST, min(size, -(-len(codes) // LEAST_TILES))))


class Scanner:
    """Threads share it. choice: the rows, whose numbers name them from here on. share: of the memory that columns and bits
    may take."""

    def __init__(self, history: Prepared, moves: Moves, pantry: Pantry, choice: Choice, horizons: tuple[int, ...],
                 draws: int, seed: int, share: float = 1.0) -> None:
        self.history, self.moves, self.pantry, self.choice, self.horizons = history, moves, pantry, choice, horizons
        self.reader = RowReader(history, pantry, moves.first, moves.stop, int(share * COLUMN_BYTES))
        self.scorer = Scorer(moves, horizons)
        self.draws = draws
        self.signs = signs_of(moves.dates, draws, seed)
        self._bits: dict[int, Words] = {}
        self._wanders: dict[str, bool] = {}
        self._at: dict[int, Words] = {}
        self._lock = Lock()
        self._most_bits = max(STRONGEST, int(share * BITS_BYTES) // max(1, 8 * words_of(len(history.bars))))
        self.size = tile_size(len(horizons), moves.days, draws, choice.codes, history.bars)

    @property
    def tiles(self) -> int:
        return -(-len(self.choice) // self.size)

    # Rows

    def _no_fixed_level(self, series: Operand) -> bool:
        """Whether a level of this series says when in the history it is."""
        if says_when(series):
            return True
        if not isinstance(series, CustomOperand):
            return False
        key = series.model_dump_json()
        if key not in self._wanders:
            values = operand_column(self.reader.columns, series)
            day = self.moves.day
            use = np.isfinite(values) & (day >= 0)
            above = values[use] > np.median(values[use]) if use.any() else np.zeros(0, bool)
            crossed = np.unique(day[use][1:][above[1:] != above[:-1]]) if len(above) else np.zeros(0)
            self._wanders[key] = len(crossed) < WANDERS * self.moves.days
        return self._wanders[key]

    def bits(self, number: int) -> tuple[Words | None, int]:
        """Where a row fires, uint64[words]; None, and why, where it does not stand for anything here."""
        with self._lock:
            held = self._bits.get(number)
        if held is not None:
            return held, OK
        made, why = self._plain(int(self.choice.codes[number]))
        return (None, why) if made is None else (self._kept(number, made), OK)

    def _kept(self, number: int, made: Words) -> Words:
        """A row of these firings at its bar of the session; kept while there is room."""
        bar = int(self.choice.at[number])
        made = made & self._bar(bar) if bar else made
        with self._lock:
            if len(self._bits) < self._most_bits:
                self._bits[number] = made
        return made

    def _plain(self, code: int) -> tuple[Words | None, int]:
        """Where a row fires at any bar of the session."""
        try:
            node = self.reader.plain(code)
            if node is None:
                return None, NO_LEVEL
            series = unanchored(node)
            if series is not None and self._no_fixed_level(series):
                return None, WHEN
            return pack((truth(self.reader.columns, node),), len(self.history.bars))[:, 0], OK
        except UserError:
            return None, CANNOT

    def _bar(self, bar: int) -> Words:
        if bar not in self._at:
            self._at[bar] = pack(((self.moves.place == bar - 1).view(np.uint8),), len(self.moves.day))[:, 0]
        return self._at[bar]

    # Tiles

    def tile(self, which: int) -> Tile:
        """What came of tile number `which`."""
        first = which * self.size
        return self.drawn(first, *self.words(range(first, min(first + self.size, len(self.choice)))))

    def words(self, numbers: range) -> tuple[Words, NDArray[np.int8]]:
        """Where rows fire, uint64[r, words], none where they do not stand for anything here, and why: int8[r]."""
        words = np.zeros((len(numbers), words_of(len(self.history.bars))), np.uint64)
        reason = np.zeros(len(numbers), np.int8)
        before, made, why = -1, None, OK
        for at, number in enumerate(numbers):
            check_stopped()
            code = int(self.choice.codes[number])
            if code != before:  # rows at several bars of the session follow one another
                before, (made, why) = code, self._plain(code)
            reason[at] = why
            if made is not None:
                words[at] = self._kept(number, made)
        return words, reason

    def drawn(self, first: int, words: Words, reason: NDArray[np.int8]) -> Tile:
        """Scores of rows from number `first` on, and what every draw makes of them."""
        scored = self.scorer.score(words)
        rows, levels, days = scored.y.shape
        told = scored.ok & (reason == OK)[:, None]
        reason = np.where((reason == OK) & (scored.firing < LEAST_FIRING), FEW_DAYS, reason)
        reason = np.where((reason == OK) & ~told.any(axis=1), FEW_EFFECTIVE, reason).astype(np.int8)
        scored.y[~told] = 0.0
        strength = np.where(told, scored.strength, 0.0)
        t = t_of(strength, days)
        drawn = np.abs(scored.y.reshape(rows * levels, days) @ self.signs).reshape(rows, levels, self.draws)
        group = self.choice.group[first:first + rows]
        flat = strength.reshape(-1)
        order = np.argsort(-flat, kind="stable")
        followed = np.sort(order[:STRONG][t.reshape(-1)[order[:STRONG]] >= WORTH])
        strong = Strong((first + followed // levels).astype(np.int32), (followed % levels).astype(np.int32),
                        flat[followed].astype(np.float32), drawn.reshape(-1, self.draws)[followed])
        tops = self._tops(first, strength, drawn)
        drawn.reshape(-1, self.draws)[followed] = 0.0
        by_row = drawn.max(axis=1)
        rest = np.stack([by_row[group == g].max(axis=0) if (group == g).any() else np.zeros(self.draws, np.float32)
                         for g in range(GROUPS)])
        best = t.argmax(axis=1)
        here = np.arange(rows)
        money = self.scorer.earned(words, np.array(self.horizons, np.int64)[best]) * scored.side[here, best]
        state = (np.bitwise_count(words & self.moves.counted).sum(axis=1) >= FIRES * self.moves.bars).astype(np.int8)
        return Tile(first, np.where(told, t, np.nan).astype(np.float32), scored.side, best.astype(np.int8), money,
                    scored.trades[here, best], scored.covered[here, best], scored.firing, state, reason, strong, rest, tops)

    def _tops(self, first: int, strength: Floats, drawn: NDArray[np.float32]) -> Tops:
        """The strongest rows of what was seen, and of each draw."""
        rows = len(strength)
        best = np.concatenate([strength.max(axis=1)[:, None].astype(np.float32), drawn.max(axis=1)], axis=1)
        keep = min(STRONGEST, rows)
        every = np.tile(np.arange(rows)[:, None], best.shape[1])
        top = np.argpartition(-best, keep - 1, axis=0)[:keep] if rows > keep else every
        horizon = np.empty(top.shape, np.int32)
        horizon[:, 0] = strength.argmax(axis=1)[top[:, 0]]
        horizon[:, 1:] = drawn.argmax(axis=1)[top[:, 1:], np.arange(self.draws)]
        return Tops((first + top).astype(np.int32), horizon, np.take_along_axis(best, top, axis=0))

    # Pairs

    def paired(self, draw: int, rows: NDArray[np.integer], horizons: NDArray[np.integer]) -> Pairs:
        """Pairs of the strongest rows of a draw, or of what was seen (draw -1): each row that fires, at its own horizon, with
        each that holds."""
        words, state, kept = [], [], []
        for at, number in enumerate(rows.tolist()):
            found, _ = self.bits(number)
            if found is not None:
                words.append(found)
                kept.append(at)
                state.append(int(np.bitwise_count(found & self.moves.counted).sum()) >= FIRES * self.moves.bars)
        holds = np.array(state, bool)
        kept_rows, levels = np.asarray(rows)[kept], np.asarray(self.horizons, np.int64)[np.asarray(horizons)[kept]]
        if not holds.any() or holds.all():
            return NO_PAIRS
        every = np.stack(words)
        signs = np.ones(self.moves.days, np.float32) if draw < 0 else self.signs[:, draw]
        made = pair(self.scorer, every[~holds], every[holds], levels[~holds], signs)
        a, b = np.nonzero(made.strength)
        if draw < 0:
            some = np.argsort(-np.abs(made.strength[a, b]), kind="stable")[:PAIRS_KEPT]
            a, b = a[some], b[some]
        money = np.full(len(a), np.nan)
        if draw < 0 and len(a):
            money = self.scorer.earned(every[~holds][a] & every[holds][b], levels[~holds][a]) * np.sign(made.strength[a, b])
        return Pairs(kept_rows[~holds][a].astype(np.int32), kept_rows[holds][b].astype(np.int32),
                     np.asarray(horizons)[kept][~holds][a].astype(np.int32), made.strength[a, b], made.trades[a, b],
                     made.covered[a, b], made.firing[a, b], money)

    def strongest_pair(self, draw: int, rows: NDArray[np.integer], horizons: NDArray[np.integer]) -> NDArray[np.float32]:
        """Strength of the strongest pair of a draw by group, float32[GROUPS]; 0 where there is none."""
        made = self.paired(draw, rows, horizons)
        both = self.choice.group[made.fires] | self.choice.group[made.holds]
        return np.array([np.abs(made.strength[both == g]).max(initial=0.0) for g in range(GROUPS)], np.float32)
