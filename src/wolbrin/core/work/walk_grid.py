"""A grid of lengths read: which region of lengths works, by the plateau rule of sweeps, and what is luck."""

from __future__ import annotations

import datetime as dt
import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.figures.searches import WALKED
from wolbrin.core.market.bars import Floats
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.search.objective import signed
from wolbrin.core.search.plateau import OUTSIDE, best_plateau, scores
from wolbrin.core.study.trial import permutation_p
from wolbrin.core.work.walk_request import WalkRequest
from wolbrin.core.work.walk_results import WalkResult

USUAL = "t_daily"
APART = 180  # days by which tests may begin apart before it is said
Flags = NDArray[np.bool_]


def title_of(key: str) -> str:
    """What a figure of a walk is called."""
    return WALKED[key].title if key in WALKED else BY_KEY[key].title


def shown(key: str, value: float) -> str:
    """A figure of a walk as it is read."""
    if key not in WALKED:
        return worded(key, value)
    one = WALKED[key]
    text = number(value, one.digits or 0)
    return text if text == "n/a" or one.unit != "percent" else f"{text}%"


def oriented(key: str, values: Floats) -> Floats:
    """A figure as a score: higher is better."""
    if key in WALKED:
        return -values if WALKED[key].better < 0 else values
    return signed(key, values)


@dataclass(frozen=True)
class Grid:
    """Cells by one figure, float64[trainings, tests] each. score: higher is better, NaN where there is none. median, worst:
    plateau scores. region: cells around the best plateau's center whose surroundings hold. best, center: places of cells, -1
    for none."""

    request: WalkRequest
    key: str
    value: Floats
    score: Floats
    median: Floats
    worst: Floats
    region: Flags
    best: int
    center: int

    def name(self, cell: int) -> str:
        """A cell as it is written: 24m / 6m."""
        lengths = self.request.cells[cell]
        return f"{lengths.training.short} / {lengths.test.short}"

    def _say(self, score: float) -> str:
        return shown(self.key, -score if oriented(self.key, np.ones(1))[0] < 0 else score)

    @property
    def lonely(self) -> bool:
        """Whether the best cell stands among cells that do not hold what it shows."""
        if self.best < 0:
            return False
        top, around = self.score.flat[self.best], self.median.flat[self.best]
        return not (math.isfinite(around) and around >= top - abs(top) / 2 and around > 0)

    def words(self) -> list[str]:
        """Which lengths work, and what is luck, in plain words."""
        if self.value.size < 2:
            return []
        if self.best < 0:
            return ["No pair of lengths earned in its tests: tuning does not carry over at any of them."]
        say, title = self._say, title_of(self.key)
        lines = []
        if self.center >= 0 and self.median.flat[self.center] > 0:
            around = int(self.region.sum())
            lines.append(f"{self.name(self.center)} is the center of the region that works: within one step of it half reach "
                         f"{title} {say(self.median.flat[self.center])} or better, the worst "
                         f"{say(self.worst.flat[self.center])}; {around} of {self.value.size} pairs belong to it.")
        else:
            lines.append("No region of lengths works: around every pair that earned, half of the others do not.")
        top = f"{self.name(self.best)} is the best single pair ({title} {say(self.score.flat[self.best])})"
        if self.lonely:
            lines.append(f"{top}, but around it half reach only {say(self.median.flat[self.best])}: a good cell in a bad "
                         "neighborhood is luck.")
        elif self.best != self.center:
            lines.append(f"{top}; what stands around it holds.")
        starts = {x: self._starts(i) for i, x in enumerate(self.request.trainings)}
        known = {x: d for x, d in starts.items() if d is not None}
        if len(known) > 1 and (max(known.values()) - min(known.values())).days > APART:
            (a, first), (b, last) = (f(known.items(), key=lambda item: item[1]) for f in (min, max))
            lines.append(f"Longer training leaves fewer tests: those of {a.short} begin in {first:%b %Y}, those of {b.short} "
                         f"in {last:%b %Y}.")
        return lines

    def _starts(self, row: int) -> dt.date | None:
        """When the tests of a training length begin."""
        wide = len(self.request.tests)
        mine = self.request.layouts[row * wide:(row + 1) * wide]
        return min((o.folds[0].test_first for o in mine if o.folds), default=None)


def _around(shape: tuple[int, int], known: Flags) -> NDArray[np.int64]:
    """int64[cells, 9]: cells within one step, itself included; those without a figure are none."""
    rows, columns = shape
    out = np.full((rows * columns, 9), OUTSIDE, np.int64)
    for cell in range(rows * columns):
        r, c = divmod(cell, columns)
        near = [a * columns + b for a in range(max(0, r - 1), min(rows, r + 2))
                for b in range(max(0, c - 1), min(columns, c + 2))]
        inside = [n for n in near if known[n]]
        out[cell, :len(inside)] = inside
    return out


def _plateaus(shape: tuple[int, int], score: Floats, earns: Flags) -> tuple[Floats, Floats, int]:
    """Median and worst around each cell, and the best plateau's center; cells that did not earn count as the worst."""
    known = np.isfinite(score)
    out = np.full((len(score), 2), np.nan)
    if known.any():
        bad = float(score[known].min())
        scores(np.where(earns & known, score, bad), _around(shape, known), bad, out)
        out[~known] = np.nan
    return out[:, 0], out[:, 1], best_plateau(out[:, 0], out[:, 1], score, earns)


def _region(shape: tuple[int, int], median: Floats, earns: Flags, center: int) -> Flags:
    """Cells joined to the center by steps over cells whose surroundings reach half of its."""
    found = np.zeros(len(median), bool)
    if center < 0 or not median[center] > 0:
        return found
    good = earns & (median >= median[center] / 2)
    waiting = [center]
    near = _around(shape, good)
    while waiting:
        cell = waiting.pop()
        if not found[cell]:
            found[cell] = True
            waiting += [int(n) for n in near[cell] if n >= 0 and not found[n]]
    return found


def grid_of(request: WalkRequest, values: Floats, net: Floats, key: str = USUAL) -> Grid:
    """A grid by one figure. values, net: float64[cells], NaN where there are none."""
    shape = len(request.trainings), len(request.tests)
    score = oriented(key, values)
    earns = np.isfinite(score) & (net > 0)
    median, worst, center = _plateaus(shape, score, earns)
    fit = np.flatnonzero(earns)
    best = int(fit[np.argmax(score[fit])]) if len(fit) else -1
    region = _region(shape, median, earns, center)
    return Grid(request, key, values.reshape(shape), score.reshape(shape), median.reshape(shape), worst.reshape(shape),
                region.reshape(shape), best, center)


def grid_of_result(result: WalkResult, key: str = USUAL) -> Grid:
    """The grid of a walk's cells, as far as they are there."""
    cells = range(len(result.request.cells))
    values, net = (np.array([result.cells.get(c, {}).get(k, math.nan) for c in cells]) for k in (key, "net"))
    return grid_of(result.request, values, net, key)


def luck_words(result: WalkResult, key: str = USUAL) -> str:
    """What the same grid shows on shuffled histories: the best cell and the best plateau of each beside the real ones."""
    luck = result.luck
    if not len(luck):
        return ""
    real = grid_of_result(result, key)
    at, net = result.columns.index(key), result.columns.index("net")
    dealt = [grid_of(result.request, one[:, at], one[:, net], key) for one in luck]

    def top(grid: Grid) -> float:
        return float(grid.score.flat[grid.best]) if grid.best >= 0 else -math.inf

    def hill(grid: Grid) -> float:
        return float(grid.median.flat[grid.center]) if grid.center >= 0 else -math.inf

    p = permutation_p(top(real), [top(g) for g in dealt])
    known = sorted(t for g in dealt if math.isfinite(t := top(g)))
    many = f"On {len(dealt)} shuffled histor{'ies' if len(dealt) > 1 else 'y'}"
    if real.best < 0:
        return f"{many} {len(known)} had a pair that earned; here there is none."
    if not known:
        return f"{many} no pair of lengths earned: p {p:.3f}, the finest so many allow."
    middle = known[len(known) // 2]
    say = shown(key, -middle if oriented(key, np.ones(1))[0] < 0 else middle)
    text = f"{many} the best pair comes to {title_of(key)} {say} at half of those that earn: p {p:.3f}"
    if real.value.size > 1:
        text += f"; for the region as a whole p {permutation_p(hill(real), [hill(g) for g in dealt]):.3f}"
    return text + "."
