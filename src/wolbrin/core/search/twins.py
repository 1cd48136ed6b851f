"""Candidates that trade alike: the same trades are dropped, nearly the same ones are grouped and the simpler one is kept."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

Floats32 = NDArray[np.float32]
Fate = Literal["kept", "twin", "near", "instead"]
ALIKE = 0.95  # correlation of daily results above which two are one idea


@dataclass(frozen=True)
class Decided:
    """What becomes of a candidate that passed: kept; a twin of one met before; near another that is simpler; or kept instead
    of a less simple one. other: the place of that other among those kept."""

    fate: Fate
    other: int = -1


class Twins:
    """What one search has kept so far. limit: correlation above which two are near-twins, 1 for none."""

    def __init__(self, days: int, limit: float = ALIKE) -> None:
        self.limit = limit
        self._met: set[int] = set()
        self._shapes = np.zeros((64, days), np.float32)
        self._plain: list[int] = []
        self.alike: list[int] = []  # how many each stands for, itself included

    def _shape(self, daily: Floats32) -> Floats32:
        """Daily results, centered and of length 1; zeros where they never move. Days before the run began count as flat."""
        x = np.nan_to_num(daily.astype(np.float64))
        x = x - x.mean() if len(x) else x
        size = float(np.sqrt(x @ x))
        return (x / size if size > 0 else np.zeros(len(x))).astype(np.float32)

    def take(self, digest: int, daily: Floats32, complexity: int) -> Decided:
        """Decide about one that passed."""
        if digest in self._met:
            return Decided("twin")
        self._met.add(digest)
        shape = self._shape(daily)
        count = len(self._plain)
        if count and self.limit < 1.0:
            like = self._shapes[:count] @ shape
            best = int(np.argmax(like))
            if like[best] > self.limit:
                self.alike[best] += 1
                if complexity >= self._plain[best]:
                    return Decided("near", best)
                self._shapes[best], self._plain[best] = shape, complexity
                return Decided("instead", best)
        if count == len(self._shapes):
            self._shapes = np.concatenate([self._shapes, np.zeros_like(self._shapes)])
        self._shapes[count] = shape
        self._plain.append(complexity)
        self.alike.append(1)
        return Decided("kept", count)
