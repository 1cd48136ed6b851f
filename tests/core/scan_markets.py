"""Generated markets for scans: noise of several kinds, and edges whose obvious row has a known strength. Sessions of 32
bars."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tests.build import WORKDAYS, instants, terms
from tests.core.planted import _inside
from wolbrin.core.bits import pack
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.indicators.columns import Columns
from wolbrin.core.market.bars import Bars, Span, make_bars
from wolbrin.core.market.terms import SessionRule
from wolbrin.core.scan.moves import END, moves_of
from wolbrin.core.scan.scanner import Scanner
from wolbrin.core.scan.scores import Scorer, t_of
from wolbrin.core.work.scan_request import ScanRequest
from wolbrin.core.work.scanning import scan_here, scanner_of

NOISE = ("plain", "volatility clusters", "hour patterns", "fat tails", "jumps", "gaps", "drift")
EDGES = ("opening momentum", "mean reversion", "hour drift", "weekday drift", "breakout continuation", "leading market")
A_DAY, SIGMA = 32, 12.0
YEARS, A_YEAR = 6, 250
BREAKOUT = 0.233  # of a bar's spread, for a Sharpe ratio of 1 a day: so that the row comes to what is asked
Floats = NDArray[np.float64]


def _bars(move: Floats, gap: Floats, rng: np.random.Generator, code: str = "TST") -> Bars:
    """Bars of moves (ticks from open to close) and gaps before them, float64[days, 32]."""
    days = len(move)
    flat_move, flat_gap = move.reshape(-1), gap.reshape(-1)
    close = np.cumsum(flat_move + flat_gap)
    open_ = close - flat_move
    reach = np.abs(rng.normal(0.0, 0.5 * SIGMA, (2, len(close))))
    high, low = np.maximum(open_, close) + reach[0], np.minimum(open_, close) - reach[1]
    lift = max(0.0, 20_000 - float(low.min()))
    prices = [np.round(x + lift) for x in (open_, high, low, close)]
    prices[1], prices[2] = np.maximum.reduce(prices), np.minimum.reduce(prices)
    time = _inside(instants(days * 7 * 96 // 5 + 960, 15))[:len(close)]
    volume = rng.integers(50, 500, len(close)).astype(float)
    rule = SessionRule(days=WORKDAYS, open="08:00", close="16:00")
    return make_bars(terms(code=code, time_zone="UTC", sessions=(rule,)), 15, time, tuple(x / 100 for x in prices), volume)  # type: ignore[arg-type]


def noise(kind: str, seed: int, days: int = 500) -> Prepared:
    """A market that nobody can know anything of."""
    rng = np.random.default_rng((seed, NOISE.index(kind), 7))
    move = rng.normal(0.0, SIGMA, (days, A_DAY))
    gap = np.zeros((days, A_DAY))
    gap[:, 0] = rng.normal(0.0, 2 * SIGMA, days)
    if kind == "volatility clusters":
        move *= np.exp(0.4 * _slow(rng, days, 0.95))[:, None]
    elif kind == "hour patterns":
        move *= (0.5 + 1.5 * np.abs(np.linspace(-1, 1, A_DAY)) ** 2)[None]
    elif kind == "fat tails":
        move = SIGMA * rng.standard_t(3, (days, A_DAY)) / np.sqrt(3)
    elif kind == "jumps":
        move += (rng.random((days, A_DAY)) < 0.003) * rng.normal(0.0, 15 * SIGMA, (days, A_DAY))
    elif kind == "gaps":
        gap[:, 0] *= 6
        gap += (rng.random((days, A_DAY)) < 0.02) * rng.normal(0.0, 5 * SIGMA, (days, A_DAY))
    elif kind == "drift":
        move += 0.05 * SIGMA
    bars = _bars(move, gap, rng)
    return Prepared(bars, Columns(bars))


def _slow(rng: np.random.Generator, days: int, keep: float) -> Floats:
    out = np.empty(days)
    level = 0.0
    for i, x in enumerate(rng.normal(size=days)):
        level = keep * level + np.sqrt(1 - keep ** 2) * x
        out[i] = level
    return out


@dataclass(frozen=True)
class Planted:
    """A market with one edge: its history, where the obvious row fires (bool[n]), for how long it is held; other: bars of the
    market that leads it, where one does."""

    history: Prepared
    fires: NDArray[np.bool_]
    horizon: int
    other: Bars | None = None


def edge(kind: str, sharpe: float, seed: int) -> Planted:
    """A market of six years whose obvious row has about this Sharpe ratio a year before costs."""
    rng = np.random.default_rng((seed, EDGES.index(kind), 11))
    days = YEARS * A_YEAR
    daily = sharpe / np.sqrt(A_YEAR)  # of the row, as if it were traded each day
    move = rng.normal(0.0, SIGMA, (days, A_DAY))
    gap = np.zeros((days, A_DAY))
    gap[:, 0] = rng.normal(0.0, 2 * SIGMA, days)
    fires = np.zeros((days, A_DAY), bool)
    horizon, other = END, None
    if kind == "opening momentum":
        up = move[:, :2].sum(axis=1) > 0
        move[:, 2:] += np.where(up, 1.0, -1.0)[:, None] * daily * SIGMA / np.sqrt(A_DAY - 2)
        fires[:, 1] = up
    elif kind == "hour drift":
        move[:, 12:16] += daily * SIGMA / np.sqrt(4)
        fires[:, 11], horizon = True, 4
    elif kind == "weekday drift":
        at = np.arange(days) % 5 == 1
        move[at] += 1.2 * daily * np.sqrt(5) * SIGMA / np.sqrt(A_DAY)
        fires[at, :], horizon = True, 1
    elif kind == "leading market":
        leads = rng.normal(0.0, SIGMA, (days, A_DAY))
        push = np.where(leads[:, :-1] > 0, 1.0, -1.0) * daily * SIGMA / np.sqrt(A_DAY - 1)
        move[:, 1:] += push
        fires, horizon = leads > 0, 1
        other = _bars(leads, np.zeros((days, A_DAY)), rng, "AAA")
    else:
        reverts = kind == "mean reversion"
        size = 1.05 * daily * SIGMA / np.sqrt(A_DAY - 5) if reverts else BREAKOUT * daily * SIGMA
        closes, price, price_at_open = np.zeros(days * A_DAY), 0.0, 0.0
        for d in range(days):
            going, begin = 0, d * A_DAY
            for i in range(A_DAY):
                at = begin + i
                if reverts and i >= 5:
                    move[d, i] -= np.sign(closes[at - 1] - (closes[at - 6] if i > 5 else price_at_open)) * size
                elif not reverts and going:
                    move[d, i] += np.sign(going) * size
                    going -= int(np.sign(going))
                price += gap[d, i]
                price_at_open = price if i == 0 else price_at_open
                price += move[d, i]
                closes[at] = price
                if reverts and i >= 4:
                    fires[d, i] = price > (closes[at - 5] if i > 4 else price_at_open)
                elif not reverts and at >= 10:
                    if price > closes[at - 10:at].max():
                        going, fires[d, i] = 8, True
                    elif price < closes[at - 10:at].min():
                        going = -8
        horizon = 1 if reverts else 8
    bars = _bars(move, gap, rng)
    columns = Columns(bars, elsewhere=lambda market, interval: other) if other is not None else Columns(bars)
    return Planted(Prepared(bars, columns), fires.reshape(-1)[:len(bars)], horizon, other)


def found_edge(kind: str, sharpe: float, seed: int, rows: int = 2_000, pairs: bool = True) -> tuple[bool, float, float]:
    """Whether a scan finds a planted edge (p at most 5%, daily scores correlated by half with the planted row's), the
    planted row's own t, and what luck reaches in its question."""
    planted = edge(kind, sharpe, seed)
    others = ("AAA",) if kind == "leading market" else ()
    request = ScanRequest((("TST", 15),), count=rows, draws=100, others=others, pairs=pairs)
    result = scan_here([planted.history], [Brief()], request)
    moves = moves_of(planted.history, Span())
    own = Scorer(moves, (planted.horizon,)).score(pack((planted.fires.view(np.uint8),), len(planted.fires))[:, 0][None])
    t = float(t_of(own.strength[0], moves.days)[0])
    beyond = result.beyond()
    scanner: Scanner = scanner_of(planted.history, Brief(), request)
    for line in beyond[:200]:
        if line.holds >= 0:
            continue
        bits, _ = scanner.bits(line.number)
        assert bits is not None
        mine = Scorer(moves, (line.horizon,)).score(bits[None])
        if abs(float(np.corrcoef(mine.y[0, 0], own.y[0, 0])[0, 1])) >= 0.5:
            return True, t, result.hurdles()[line.group]
    return False, t, min(result.hurdles())

