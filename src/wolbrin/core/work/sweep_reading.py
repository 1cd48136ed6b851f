"""What a sweep shows: scores, plateaus, the set that is recommended and why, ends of ranges, importance of each number."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.measures.wording import number
from wolbrin.core.rules.axes import PLACES, Axis, variant
from wolbrin.core.search.basket import Basket, basket
from wolbrin.core.search.importance import Importance, of_grid, of_sample
from wolbrin.core.search.objective import front, named, passing
from wolbrin.core.search.plateau import Surroundings, best_plateau, plateaus
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweep_results import SweepResult

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]
ZOOM = 2  # by how much a zoom makes steps finer


@dataclass(frozen=True)
class Edge:
    """A number whose best value stands at the end of its range. high: at the upper end; further: the values that one action
    adds."""

    axis: int
    high: bool
    further: tuple[float, ...]

    def words(self, axis: Axis) -> str:
        value = axis.values[-1 if self.high else 0]
        end = "highest" if self.high else "lowest"
        return f"{axis.short} {axis.shown(value)} is the {end} value tried: better may lie beyond."


@dataclass(frozen=True)
class Reading:
    """All rows of a sweep, those of older sweeps that it refines included.

    settings: float64[n, axes]; figures: float64[n, measures]; at: int64[n], number of the set on the present grid, -1 beside
    it. score: float64[n], higher is better; passes: bool[n], meets the floors and has a score. median, worst: plateau scores,
    NaN where not all neighbors are known. ended: bool[n, axes], at an end of a range. best, center: rows, -1 for none.
    rejected: how many sets each floor rejects.
    """

    request: SweepRequest
    settings: Floats
    figures: Floats
    at: Ints
    score: Floats
    passes: Flags
    median: Floats
    worst: Floats
    ended: Flags
    best: int
    center: int
    bad: float
    rejected: dict[str, int]
    edges: tuple[Edge, ...]
    unfinished: bool

    def __len__(self) -> int:
        return len(self.settings)

    @property
    def columns(self) -> dict[str, Floats]:
        """Figures by measure."""
        return named(self.request.measures, self.figures)

    def values(self, row: int) -> tuple[float, ...]:
        """A row's set."""
        return tuple(self.settings[row].tolist())

    @cached_property
    def importance(self) -> Importance:
        """Share of the objective's variance that each number explains, over sets of the present grid."""
        on = self.at >= 0
        known = np.where(np.isfinite(self.score), self.score, np.nan)[on]
        if self.request.method == "every":
            return of_grid(self.request.space, self.at[on], known)
        return of_sample(self.request.space, self.at[on], known)

    @cached_property
    def front(self) -> Flags:
        """bool[n]: sets that no other beats in both objectives."""
        if not self.request.objective.second or not len(self):
            return np.zeros(len(self), bool)
        second = self.request.objective.second_score(self.columns)
        return front(np.where(self.passes, self.score, np.nan), np.where(self.passes, second, np.nan))

    @cached_property
    def basket(self) -> Basket | None:
        """Sets beside each other over the places, where there are several."""
        space, on = self.request.space, self.at >= 0
        places = space.size // space.inner
        if places < 2 or not space.numbers or not on.any():
            return None
        found = basket(self.at[on] // space.inner, self.at[on] % space.inner, self.score[on], self.passes[on], places,
                       self.request.basket)
        rows = np.flatnonzero(on)
        return replace(found, best=np.where(found.best >= 0, rows[found.best], -1))

    def _around(self, row: int) -> int:
        near = self.request.space.neighbors(self.at[row:row + 1])[0]
        return int((near >= 0).sum())

    def reason(self, named: bool = True) -> str:
        """Which set is recommended, and why. named: its numbers are said too."""
        r = self.request
        if not len(self):
            return ""
        if self.best < 0:
            if self.rejected and all(self.rejected.values()) and not self.passes.any():
                return "No set passes the floors: " + "; ".join(
                    f"{words} rejects {number(n)} of {number(len(self))}" for words, n in self.rejected.items()) + "."
            return "No set has a value for what is looked for."
        if len(self) == 1:
            return "One set only: there is nothing to compare it with."
        known = self.score[np.isfinite(self.score)]
        if np.ptp(known) == 0.0:
            return "All sets come to the same value: none of these numbers matters to the strategy."
        say = r.objective.value_words
        if not r.space.has_plateaus:
            best, many = r.space.words(self.values(self.best)), r.space.most_neighbors
            return (f"{best} is the best set. With so many numbers nobody can look around it: {many:,} sets lie within one "
                    "step. Vary seven numbers at most to see plateaus.")
        if self.center < 0:
            return "No plateau is known yet: neighbors are missing." if self.unfinished else \
                "No plateau: no set that passes the floors has all its neighbors."
        around = self._around(self.center)
        what = f"{r.space.words(self.values(self.center))} is the" if named else "The"
        text = (f"{what} center of the best plateau: of the {around} sets within one step, half reach "
                f"{say(self.median[self.center])} or better, the worst {say(self.worst[self.center])}.")
        if self.ended[self.center].any():
            text += " It stands at the end of a range, where there are fewer neighbors."
        if self.best == self.center:
            return text + " It is the best set too."
        own = f"The best single set comes to {say(self.score[self.best])}"
        middle = self.median[self.best]
        return text + f" {own}" + (f", but around it half reach only {say(middle)}." if math.isfinite(middle) else ".")


def read(result: SweepResult) -> Reading:
    """Work out everything that needs no further run. Pure; on any thread."""
    request = result.request
    settings, figures, at = _rows(result)
    columns = named(request.measures, figures)
    score = request.objective.score(columns) if len(settings) else np.zeros(0)
    passes = passing(request.floors, columns, len(settings)) & np.isfinite(score)
    rejected = {f.words(): int((~f.passes(columns)).sum()) for f in request.floors}
    median, worst = np.full(len(settings), np.nan), np.full(len(settings), np.nan)
    bad = math.nan
    on = np.flatnonzero(at >= 0)
    ended = np.zeros((len(settings), len(request.axes)), bool)
    if len(on):
        ended[on] = request.space.at_end(at[on])
        # Money of one market says nothing of another's: each has its own worst value.
        market = _market_of(request, settings[on])
        for one in np.unique(market):
            rows = on[market == one]
            # An older program did not keep which sets were refused: on a grid that was walked to its end, those missing were.
            complete = request.method == "every" and not result.unfinished
            found = plateaus(Surroundings(request.space, at[rows], result.refused_sets, complete), score[rows], passes[rows])
            median[rows], worst[rows], bad = found.median, found.worst, found.floor
    fit = np.flatnonzero(passes)
    best = int(fit[np.argmax(score[fit])]) if len(fit) else -1
    center = best_plateau(median, worst, score, passes)
    edges = _edges(request, best, at, ended)
    return Reading(request, settings, figures, at, score, passes, median, worst, ended, best, center, bad, rejected, edges,
                   result.unfinished)


def _market_of(request: SweepRequest, settings: Floats) -> Ints:
    at = next((i for i, a in enumerate(request.axes) if a.kind == "market"), -1)
    return settings[:, at].astype(np.int64) if at >= 0 else np.zeros(len(settings), np.int64)


def _rows(result: SweepResult) -> tuple[Floats, Floats, Ints]:
    """Rows of the sweep and of older ones that it refines, none twice, and their numbers on its grid."""
    request = result.request
    settings, figures = result.table()
    at = request.space.find(settings) if len(settings) else np.zeros(0, np.int64)
    seen = {tuple(s) for s in settings.tolist()} if result.older else set()
    for one in result.older:
        mine = {a.key: i for i, a in enumerate(one.request.axes)}
        if {a.key for a in request.axes} != set(mine):
            continue
        more, its = one.table()
        more = more[:, [mine[a.key] for a in request.axes]]
        new = np.array([tuple(s) not in seen for s in more.tolist()], bool)
        seen.update(tuple(s) for s in more.tolist())
        wide = np.full((int(new.sum()), len(request.measures)), np.nan)
        for i, key in enumerate(request.measures):
            if key in one.request.measures:
                wide[:, i] = its[new, one.request.measures.index(key)]
        settings, figures = np.concatenate([settings, more[new]]), np.concatenate([figures, wide])
        at = np.concatenate([at, request.space.find(more[new])])
    return settings, figures, at


def accepts(request: SweepRequest, axis: int, value: float) -> bool:
    """Whether the model takes a value of an axis, all else as the strategy has it."""
    return variant(request.strategy, (request.axes[axis],), (value,)) is not None


def _edges(request: SweepRequest, best: int, at: Ints, ended: Flags) -> tuple[Edge, ...]:
    if best < 0 or at[best] < 0:
        return ()
    found = []
    steps = request.space.steps(at[best:best + 1])[0]
    for i, axis in enumerate(request.axes):
        if not ended[best, i] or axis.kind in PLACES:
            continue
        high = bool(steps[i] > 0)
        further = _beyond(request, i, high)
        if further:
            found.append(Edge(i, high, further))
    return tuple(found)


def _beyond(request: SweepRequest, i: int, high: bool) -> tuple[float, ...]:
    """Values beyond an end that the model takes: half as many as there are, two at least."""
    axis = request.axes[i]
    count, step, end = max(2, len(axis.values) // 2), axis.step, axis.values[-1 if high else 0]
    further = [float(round(end + (k if high else -k) * step, 10)) for k in range(1, count + 1)]
    if not high and all(v > 0 for v in axis.values):
        further = [v for v in further if v > 0]  # a length or distance does not go below zero
    return tuple(sorted(v for v in further if accepts(request, i, v)))


def extended(request: SweepRequest, search: int, edges: tuple[Edge, ...]) -> SweepRequest:
    """The same sweep with ranges carried on beyond their ends; what is known is not simulated again."""
    axes = list(request.axes)
    for edge in edges:
        axes[edge.axis] = replace(axes[edge.axis], values=tuple(sorted({*axes[edge.axis].values, *edge.further})))
    return replace(request, axes=tuple(axes), base=search)


def zoomed(request: SweepRequest, search: int, region: Mapping[int, tuple[float, float]]) -> SweepRequest:
    """A finer sweep of a region. region: lowest and highest value by axis; other axes stay as they are."""
    axes = list(request.axes)
    for i, (low, high) in region.items():
        axis = axes[i]
        inside = [v for v in axis.values if low - 1e-9 <= v <= high + 1e-9]
        if not axis.ordered or axis.kind == "interval" or not inside:
            continue
        if len(inside) < 2 or axis.step <= 0:
            axes[i] = replace(axis, values=tuple(inside))
            continue
        step = axis.step / ZOOM
        if axis.kind == "clock" or not accepts(request, i, inside[0] + step):
            step = float(max(1, round(step)))
        count = math.floor((inside[-1] - inside[0]) / step + 1e-9) + 1
        axes[i] = replace(axis, values=tuple(float(round(inside[0] + k * step, 10)) for k in range(count)))
    return replace(request, axes=tuple(axes), base=search)
