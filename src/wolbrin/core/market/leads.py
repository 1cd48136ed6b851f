"""Whether one market's moves go before another's by more than any market does: most often its file is stamped wrongly, or
holds what came later."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.market.bars import Bars

Floats = NDArray[np.float64]
MOST = 0.3  # correlation of one market's moves with later ones of another that no market shows (common practice, no source)
SURE = 8.0  # its t, from which it is no chance
SESSIONS = 5  # lags looked at, in sessions
BARS = 400  # lags looked at, in bars
LEAST = 200  # moves that must be compared


@dataclass(frozen=True)
class Lead:
    """The strongest correlation of moves of one market with later moves of another. lag: how much later, in bars or
    sessions."""

    correlation: float
    t: float
    lag: int
    sessions: bool

    @property
    def beyond(self) -> bool:
        """Whether it is more than any market shows."""
        return abs(self.correlation) >= MOST and abs(self.t) >= SURE

    def words(self, first: str, second: str) -> str:
        """Such as "moves of ASL go before those of NPW by 1 bar (correlation 0.98, t 812)"."""
        unit = "session" if self.sessions else "bar"
        return (f"moves of {first} go before those of {second} by {self.lag} {unit}{'s' if self.lag != 1 else ''} "
                f"(correlation {self.correlation:.2f}, t {self.t:.0f})")


def lead_of(first: Bars, second: Bars) -> Lead | None:
    """How moves of `first` go before those of `second`, the strongest of all lags, by bars (of one interval) and by
    sessions; None where too little can be compared."""
    found = [_strongest(*_bars(first, second), BARS, False) if first.interval == second.interval else None,
             _strongest(*_sessions(first, second), SESSIONS, True)]
    known = [f for f in found if f is not None]
    return max(known, key=lambda f: (f.beyond, abs(f.correlation))) if known else None


def _moves(x: NDArray[np.int32]) -> Floats:
    """Changes in units of their usual size, the largest cut: a few days must not decide."""
    d = np.diff(x.astype(np.float64))
    usual = float(np.abs(d).mean()) or 1.0
    return np.clip(d / usual, -8.0, 8.0)


def _bars(first: Bars, second: Bars) -> tuple[Floats, Floats]:
    """Moves at the ends that both have."""
    _, i, j = np.intersect1d(first.end, second.end, return_indices=True)
    return _moves(first.c[i]), _moves(second.c[j])


def _closes(bars: Bars) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    stops = np.flatnonzero(np.r_[bars.trading_date[1:] != bars.trading_date[:-1], True])
    return bars.trading_date[stops], bars.c[stops]


def _sessions(first: Bars, second: Bars) -> tuple[Floats, Floats]:
    """Moves from session to session on the dates that both have."""
    (a, x), (b, y) = _closes(first), _closes(second)
    _, i, j = np.intersect1d(a, b, return_indices=True)
    return _moves(x[i]), _moves(y[j])


def _strongest(a: Floats, b: Floats, most: int, sessions: bool) -> Lead | None:
    """The lag at which moves of a are most like later ones of b."""
    n = len(a)
    most = min(most, n // 4)
    if n < LEAST or most < 1 or not a.any() or not b.any():
        return None
    a, b = a - a.mean(), b - b.mean()
    size = 1 << (2 * n - 1).bit_length()
    cross = np.fft.irfft(np.conj(np.fft.rfft(a, size)) * np.fft.rfft(b, size), size)[1:most + 1]
    r = cross / math.sqrt(float(a @ a) * float(b @ b))
    lag = int(np.argmax(np.abs(r)))
    return Lead(float(r[lag]), float(r[lag]) * math.sqrt(n - lag - 1), lag + 1, sessions)
