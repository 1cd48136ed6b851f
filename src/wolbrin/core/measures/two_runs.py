"""The same strategy on two sources: which trades are the same, and how much of the difference is data, how much costs."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.run import Run


@dataclass(frozen=True)
class Pair:
    """A trade of the first run, of the second, or of both. Times in UTC ns, money in account currency; NaN or 0 where a
    run does not have it."""

    entry_time: int
    side: int
    first: int | None
    second: int | None
    first_net: float
    second_net: float

    @property
    def standing(self) -> str:
        return "both" if self.first is not None and self.second is not None else (
            "first only" if self.first is not None else "second only")


@dataclass(frozen=True)
class TwoRuns:
    """pairs: in order of time. data: what the second source's prices change in net profit under the first one's costs.
    costs: what its costs change on top. difference = data + costs."""

    pairs: tuple[Pair, ...]
    first_net: float
    second_net: float
    data: float
    costs: float

    @property
    def difference(self) -> float:
        return self.second_net - self.first_net

    def count(self, standing: str) -> int:
        return sum(p.standing == standing for p in self.pairs)


def match_runs(first: Run, second: Run, second_under_first_costs: Run) -> TwoRuns:
    """Match trades of two runs by entry time (within one bar) and side, each to at most one, in order of time."""
    times = first.entry_time, second.entry_time
    sides = first.trades_i[:, k.T_SIDE], second.trades_i[:, k.T_SIDE]
    within = int(np.median(np.diff(first.bars.time))) if len(first.bars) > 1 else 0
    pairs: list[Pair] = []
    taken: set[int] = set()
    for i in range(len(first)):
        near = range(*np.searchsorted(times[1], (times[0][i] - within, times[0][i] + within + 1)))
        options = [j for j in near if j not in taken and sides[1][j] == sides[0][i]]
        j = min(options, key=lambda j: abs(int(times[1][j] - times[0][i])), default=None)
        if j is not None:
            taken.add(j)
        pairs.append(Pair(int(times[0][i]), int(sides[0][i]), i, j, float(first.profits[i]),
                          float(second.profits[j]) if j is not None else float("nan")))
    pairs += [Pair(int(times[1][j]), int(sides[1][j]), None, j, float("nan"), float(second.profits[j]))
              for j in range(len(second)) if j not in taken]
    pairs.sort(key=lambda p: p.entry_time)
    a, b, c = (float(run.profits.sum()) for run in (first, second, second_under_first_costs))
    return TwoRuns(tuple(pairs), a, b, c - a, b - c)
