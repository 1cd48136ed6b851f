"""A scan as far as it came: rows by place with their t, and what luck makes of all of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.record import Record
from wolbrin.core.scan.luck import LEVEL, Luck, reached_by, share_of_luck, stepwise
from wolbrin.core.scan.moves import Floats
from wolbrin.core.scan.scanner import GROUPS, NO_PAIRS, OK, REASONS, Pairs, Strong, Tile
from wolbrin.core.scan.scores import t_of
from wolbrin.core.scan.signs import FIRST
from wolbrin.core.search.ingredients import ROWS
from wolbrin.core.store.tables import Columns
from wolbrin.core.work.scan_request import ScanRequest
from wolbrin.core.work.scan_source import Piece

COLUMNS = ("code", "at", "group", "t", "side", "best", "money", "trades", "covered", "firing", "state", "reason")


@dataclass
class Found:
    """Rows of one place, r of them, in the order in which they are looked at. code: int64[r] of the pantry, at: int64[r]
    bar of the session, 0 any; group: int8[r]; t: float32[r, horizons], NaN where it is not known or tells nothing; side,
    best, money, trades, covered, firing, state, reason: see `Tile`. looked: how many rows were looked at. days: dates;
    cost: of a trade of one contract in and out."""

    code: NDArray[np.int64]
    at: NDArray[np.int64]
    group: NDArray[np.int8]
    t: NDArray[np.float32]
    side: NDArray[np.int8]
    best: NDArray[np.int8]
    money: Floats
    trades: NDArray[np.int64]
    covered: NDArray[np.int64]
    firing: NDArray[np.int64]
    state: NDArray[np.int8]
    reason: NDArray[np.int8]
    luck: Luck
    days: int
    cost: float
    tile: int
    looked: int = 0
    pairs: Pairs = NO_PAIRS

    @classmethod
    def empty(cls, code: NDArray[np.int64], at: NDArray[np.int64], group: NDArray[np.int8], levels: int, luck: Luck,
              days: int, cost: float, tile: int) -> Found:
        r = len(code)
        return cls(code, at, group, np.full((r, levels), np.nan, np.float32), np.zeros((r, levels), np.int8),
                   np.zeros(r, np.int8), np.zeros(r), np.zeros(r, np.int64), np.zeros(r, np.int64), np.zeros(r, np.int64),
                   np.zeros(r, np.int8), np.zeros(r, np.int8), luck, days, cost, tile)

    def take(self, tile: Tile) -> None:
        """Take in what came of some rows."""
        here = slice(tile.first, tile.first + len(tile.t))
        for name in COLUMNS[3:]:
            getattr(self, name)[here] = getattr(tile, name)
        self.looked = max(self.looked, here.stop)

    def rows(self, tile: Tile) -> Columns:
        """Rows of a tile as they are stored."""
        here = slice(tile.first, tile.first + len(tile.t))
        return {name: np.ascontiguousarray(getattr(self, name)[here]) for name in COLUMNS}

    @property
    def ingredient(self) -> NDArray[np.int64]:
        return self.code >> ROWS

    @property
    def strongest(self) -> NDArray[np.float32]:
        """float32[r]: the largest |t| of each row, 0 where none is known."""
        return np.nan_to_num(self.t).max(axis=1) if len(self.t) else np.zeros(0, np.float32)


@dataclass(frozen=True)
class Line:
    """One row, or pair, of a scan at one horizon. place: number of its market; number: of the row in it; holds: of the row
    that holds beside it, -1 where it is no pair. t: without sign; p, luck: stepwise p and share of luck, NaN while unknown.
    money: of one contract in its direction before costs, NaN where it is not known; net: after costs."""

    place: int
    number: int
    holds: int
    horizon: int
    side: int
    t: float
    p: float
    luck: float
    group: int
    state: bool
    trades: int
    firing: int
    money: float
    net: float

    @property
    def beyond(self) -> bool:
        """Whether it moves price more than luck does."""
        return self.p <= LEVEL


@dataclass
class ScanResult:
    """Grows piece by piece. search: its number; records: of each place; notes: sentences on what was left out or means
    something else. draws: of which all is known. unfinished: it can be gone on with. tries: by market, what it counts for."""

    request: ScanRequest
    search: int
    records: tuple[Record, ...]
    places: tuple[Found, ...]
    titles: tuple[tuple[str, ...], ...]
    keys: tuple[tuple[str, ...], ...]
    notes: list[str] = field(default_factory=list)
    draws: int = 0
    tries: dict[str, int] = field(default_factory=dict)
    unfinished: bool = False
    elsewhere: dict[str, str] = field(default_factory=dict)
    _lines: tuple[tuple[int, int], list[Line]] | None = None

    def take(self, piece: Piece) -> None:
        """Take in what came of a piece."""
        found = self.places[piece.unit.place]
        if piece.tile is not None:
            found.take(piece.tile)
        if piece.seen is not None:
            found.pairs = piece.seen
        self.elsewhere |= piece.elsewhere

    def left_out(self) -> dict[str, int]:
        """How many rows were left out on all places, by reason."""
        counts = np.sum([np.bincount(f.reason[:f.looked], minlength=len(REASONS)) for f in self.places], axis=0)
        return {REASONS[i]: int(n) for i, n in enumerate(counts) if n and i != OK}

    @property
    def rows(self) -> int:
        """Rows that were looked at."""
        return sum(f.looked for f in self.places)

    @property
    def total(self) -> int:
        return sum(len(f.code) for f in self.places)

    @property
    def told(self) -> int:
        """Rows that tell something."""
        return sum(int((f.reason[:f.looked] == OK).sum()) for f in self.places)

    @property
    def answered(self) -> bool:
        """Whether luck is known well enough for an answer."""
        return self.draws >= min(FIRST, self.request.draws)

    @property
    def questions(self) -> int:
        """Groups that have rows: one question each."""
        return max(1, len({int(g) for f in self.places for g in np.unique(f.group)}))

    def most(self) -> Floats:
        """float64[GROUPS, draws]: the strongest |t| of each draw known so far, over all places."""
        draws = self.draws or self.request.draws
        return np.maximum.reduce([f.luck.most(self.draws > 0, draws) for f in self.places])

    def hurdles(self) -> tuple[float, ...]:
        """|t| that luck reaches, of each group, see `luck.reached_by`."""
        return reached_by(self.most(), {int(g) for f in self.places for g in np.unique(f.group)})

    def lines(self) -> list[Line]:
        """The strongest rows and pairs, each at its strongest horizon, with p once luck is known; by p, then by t."""
        key = self.rows, self.draws
        if self._lines is None or self._lines[0] != key:
            self._lines = key, self._made()
        return self._lines[1]

    def beyond(self) -> list[Line]:
        """Those that move price more than luck does."""
        return [x for x in self.lines() if x.beyond] if self.answered else []

    def _made(self) -> list[Line]:
        out: list[Line] = []
        share, strongs = self._shares(), [f.luck.strong for f in self.places]  # which may grow meanwhile
        for g in range(GROUPS):
            mine: list[tuple[int, int, int]] = []  # place, followed row or -1, pair or -1
            t: list[float] = []
            for p, f in enumerate(self.places):
                strong = strongs[p]
                at = np.flatnonzero(f.group[strong.row] == g)
                mine += [(p, int(i), -1) for i in at]
                t += t_of(strong.strength[at], f.days).tolist()
                both = f.group[f.pairs.fires] | f.group[f.pairs.holds]
                at = np.flatnonzero(both == g)
                mine += [(p, -1, int(i)) for i in at]
                t += t_of(np.abs(f.pairs.strength[at]), f.days).tolist()
            order = np.argsort(-np.array(t), kind="stable") if t else np.zeros(0, np.int64)
            p_of = np.full(len(t), np.nan)
            if self.answered and len(order):
                p_of[order] = self._stepwise(g, [mine[i] for i in order], np.array(t)[order], strongs)
            out += [self._line(place, (strongs[place], row), pair, t[i], float(p_of[i]), share)
                    for i, (place, row, pair) in enumerate(mine)]
        each: dict[tuple[int, int, int], Line] = {}
        for line in sorted(out, key=lambda x: (not x.beyond, -x.t)):
            each.setdefault((line.place, line.number, line.holds), line)
        return list(each.values())

    def counted(self) -> tuple[int, bool]:
        """How many rows move price more than luck does, and whether it may be more. Within a question a row that is as
        strong as one that does, does so too, whether it was followed through the draws or not."""
        total, more = 0, False
        for g in range(GROUPS):
            mine = [x for x in self.lines() if x.group == g and x.holds < 0]
            beyond = [x.t for x in mine if x.beyond]
            if beyond and self.answered:
                least = min(beyond) - 1e-5
                total += sum(int((f.strongest[(f.group == g)] >= least).sum()) for f in self.places)
                more = more or len(beyond) == len(mine)
        return total, more

    def _stepwise(self, group: int, mine: Sequence[tuple[int, int, int]], t: Floats, strongs: Sequence[Strong]) -> Floats:
        draws = self.draws
        drawn = np.zeros((len(mine), draws))
        for at, (place, row, _) in enumerate(mine):
            if row >= 0:
                drawn[at] = t_of(strongs[place].drawn[row, :draws], self.places[place].days)
        others = np.zeros(draws)
        for f in self.places:
            others = np.maximum(others, t_of(f.luck.rest[group, :draws], f.days))
            if self.request.pairs:
                others = np.maximum(others, t_of(np.nan_to_num(f.luck.pairs[group, :draws]), f.days))
        return np.minimum(1.0, stepwise(t, drawn, others) * self.questions)

    def _shares(self) -> tuple[Floats, Floats]:
        """|t| of all rows and horizons in rising order, and the share of luck among all from there on."""
        every = np.concatenate([f.t[:f.looked].reshape(-1) for f in self.places]) if self.places else np.zeros(0)
        every = np.sort(every[np.isfinite(every)].astype(np.float64))
        return every, share_of_luck(every)

    def _line(self, place: int, followed: tuple[Strong, int], pair: int, t: float, p: float,
              share: tuple[Floats, Floats]) -> Line:
        f = self.places[place]
        at = int(np.searchsorted(share[0], t - 1e-5))
        luck = float(share[1][min(at, len(share[1]) - 1)]) if len(share[1]) else float("nan")
        levels = self.request.levels
        if pair >= 0:
            x = f.pairs
            return Line(place, int(x.fires[pair]), int(x.holds[pair]), levels[int(x.horizon[pair])],
                        1 if x.strength[pair] > 0 else -1, t, p, luck,
                        int(f.group[x.fires[pair]] | f.group[x.holds[pair]]), False, int(x.trades[pair]), int(x.firing[pair]),
                        float(x.money[pair]), float(x.money[pair] - x.trades[pair] * f.cost))
        strong, row = followed
        number, level = int(strong.row[row]), int(strong.horizon[row])
        here = level == f.best[number]
        money = float(f.money[number]) if here else float("nan")
        trades = int(f.trades[number]) if here else 0
        return Line(place, number, -1, levels[level], int(f.side[number, level]), t, p, luck, int(f.group[number]),
                    bool(f.state[number]), trades, int(f.firing[number]), money, money - trades * f.cost)


def pairs_json(pairs: Pairs) -> dict[str, list[Any]]:
    """Pairs that were seen, as JSON."""
    return {name: np.asarray(values).tolist() for name, values in vars(pairs).items()}


def pairs_of(data: dict[str, Any], rows: int) -> Pairs:
    """What `pairs_json` gave; none where it is damaged."""
    try:
        a, b, c = (np.array(data[k], np.int32) for k in ("fires", "holds", "horizon"))
        s, t, u, v, w = (np.array(data[k], np.float64) for k in ("strength", "trades", "covered", "firing", "money"))
        made = Pairs(a, b, c, s, t, u, v, w)
    except (KeyError, TypeError, ValueError):
        return NO_PAIRS
    whole = len({len(v) for v in vars(made).values()}) == 1
    return made if whole and all(0 <= int(x) < rows for x in (*made.fires, *made.holds)) else NO_PAIRS
