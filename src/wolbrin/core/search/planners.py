"""Which sets of a grid are simulated: all, a quasi-random sample, or those that an evolution comes to.

A planner is asked for the next batch once everything before it was told, and comes to the same batches whatever ran where:
so a sweep that was broken off is planned again from what was stored.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import UserError
from wolbrin.core.search.objective import Floor, Objective, front, named, passing
from wolbrin.core.search.space import Space

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
SLAB = 100_000  # sets whose constraints are looked at together
TRIES = 60  # draws for each set that is wanted before a sample gives up
NEIGHBORS_OF = 10  # best sets whose neighbors are simulated after a sample or an evolution, at least one
LEAST_ROOM = 500  # sets that may be simulated for that beside a small sample; those around the very best always are
FIRST = 0.4  # share of an evolution that is a sample
FITTED = 1_500  # best sets through which an evolution lays its surface


class Planner(Protocol):
    """total: sets in all, as far as is known."""

    total: int

    def plan(self) -> Ints | None:
        """The next batch, numbers of sets; None where there is none any more."""
        ...

    def tell(self, at: Ints, figures: Floats) -> None:
        """What came of sets: float64[n, measures], rows of NaN where the model refuses them."""
        ...


class Every:
    """All sets that the constraints leave, but for those known. known: numbers of sets, sorted."""

    def __init__(self, space: Space, known: Ints) -> None:
        self._space, self._known = space, known
        self._next = 0
        self.total = sum(len(batch) for batch in self._batches()) if space.constraints or len(known) else space.size

    def _batches(self) -> Iterable[Ints]:
        for first in range(0, self._space.size, SLAB):
            yield self._slab(first)

    def _slab(self, first: int) -> Ints:
        at = np.arange(first, min(first + SLAB, self._space.size), dtype=np.int64)
        at = at[self._space.allowed(at)] if self._space.constraints else at
        return at[~np.isin(at, self._known)] if len(self._known) else at

    def plan(self) -> Ints | None:
        while self._next < self._space.size:
            batch = self._slab(self._next)
            self._next += SLAB
            if len(batch):
                return batch
        return None

    def tell(self, at: Ints, figures: Floats) -> None:
        """Nothing depends on it."""


def sample_of(space: Space, count: int, seed: int, but: Iterable[int] = ()) -> Ints:
    """So many different sets, spread evenly: a scrambled Halton sequence (scipy.stats.qmc; Owen 2017), each point taken to
    the set it falls on. Fewer where the constraints leave no more."""
    from scipy.stats import qmc  # late

    taken, found = set(but), list[int]()
    drawn = qmc.Halton(len(space.axes), scramble=True, rng=np.random.default_rng(seed))
    levels, tries = np.array(space.shape), 0
    while len(found) < count and tries < TRIES * count + 10_000:
        steps = (drawn.random(max(64, count)) * levels).astype(np.int64)
        tries += len(steps)
        at = space.at(np.minimum(steps, levels - 1))
        for one in at[space.allowed(at)].tolist():
            if one not in taken and len(found) < count:
                taken.add(one)
                found.append(one)
    return np.array(found, np.int64)


class Known:
    """What was told so far, in order: sets, their objectives' measures, and whether the model takes them."""

    def __init__(self, names: Sequence[str], objective: Objective, floors: Sequence[Floor]) -> None:
        self._names, self._objective, self._floors = list(names), objective, tuple(floors)
        self._at: list[Ints] = []
        self._figures: list[Floats] = []
        self.seen: set[int] = set()

    def add(self, at: Ints, figures: Floats) -> None:
        self._at.append(at)
        self._figures.append(figures)
        self.seen.update(at.tolist())

    def ranked(self) -> tuple[Ints, Ints]:
        """All sets and their places from best to worst: those that pass the floors first; of two objectives, those that no
        other beats before those that only they beat, and apart from each other (Deb, Pratap, Agarwal & Meyarivan 2002)."""
        at, figures = np.concatenate(self._at), np.concatenate(self._figures)
        columns = named(self._names, figures)
        score = self._objective.score(columns)
        passes = passing(self._floors, columns, len(at)) & np.isfinite(score)
        score = np.where(np.isfinite(score), score, -np.inf)
        if not self._objective.second:
            return at, np.lexsort((np.arange(len(at)), -score, ~passes))
        second = self._objective.second_score(columns)
        layer, crowd = layers(np.where(np.isfinite(score), score, np.nan), second)
        return at, np.lexsort((np.arange(len(at)), -crowd, layer, ~passes))


def layers(first: Floats, second: Floats, most: int = 40) -> tuple[Ints, Floats]:
    """int64[n]: how many fronts lie before a set; float64[n]: how far its neighbors on its own front are."""
    layer, crowd = np.full(len(first), most, np.int64), np.zeros(len(first))
    left = np.isfinite(first) & np.isfinite(second)
    for number in range(most):
        if not left.any():
            break
        on = front(np.where(left, first, np.nan), np.where(left, second, np.nan))
        at = np.flatnonzero(on)
        layer[at] = number
        left[at] = False
        for values in (first[at], second[at]):
            order = np.argsort(values, kind="stable")
            gap = np.full(len(at), np.inf)
            spread = (values[order[-1]] - values[order[0]]) or 1.0
            gap[order[1:-1]] = (values[order[2:]] - values[order[:-2]]) / spread
            crowd[at] += gap
    return layer, crowd


class _Completing:
    """After a sample or an evolution: neighbors of the best sets that are missing, so that their plateaus are known."""

    def __init__(self, space: Space, known: Known, room: int) -> None:
        self._space, self._known, self._room = space, known, room
        self.rounds = 2  # the first may find better sets, whose neighbors are looked at once more

    def plan(self) -> Ints | None:
        while self.rounds and self._space.has_plateaus:
            self.rounds -= 1
            at, order = self._known.ranked()
            wanted: list[int] = []
            for place, best in enumerate(at[order[:NEIGHBORS_OF]]):
                around = self._space.neighbors(np.array([best]))[0]
                around = around[around >= 0]
                missing = [a for a in around[self._space.allowed(around)].tolist() if a not in self._known.seen]
                if place and len(wanted) + len(missing) > self._room:
                    break
                wanted += [a for a in missing if a not in wanted]
            self._room = max(0, self._room - len(wanted))
            if wanted:
                return np.array(wanted, np.int64)
        return None


class Sampled:
    """A quasi-random sample, then missing neighbors of its best sets."""

    def __init__(self, space: Space, known: Known, count: int, seed: int) -> None:
        self._known = known
        self._first: Ints | None = sample_of(space, count, seed, known.seen)
        self._after = _Completing(space, known, max(count, LEAST_ROOM))
        self.total = len(self._first)

    def plan(self) -> Ints | None:
        batch, self._first = self._first, None
        if batch is None:
            batch = self._after.plan()
            self.total += len(batch) if batch is not None else 0
        return batch

    def tell(self, at: Ints, figures: Floats) -> None:
        self._known.add(at, figures)


class Evolved:
    """An evolution over whole steps of the grid: each generation is bred from the best of all sets so far by crossing and
    moving their values and by steps beside the best peaks; of many children those are run that a surface through the known
    sets promises most of (a surrogate; Jin 2011), never a set twice, as one batch. Then missing neighbors of the best
    sets."""

    def __init__(self, space: Space, known: Known, count: int, seed: int) -> None:
        self._space, self._known = space, known
        self._seed = seed
        self.total = min(count, space.size)
        reserve = min(self.total // 6, space.most_neighbors) if space.has_plateaus else 0  # for neighbors of the best sets
        self._left = self._breed = self.total - reserve
        self._generation = self._given = 0
        self._after = _Completing(space, known, reserve)
        self.many = int(np.clip(self.total // 8, min(8, self.total), max(24, 10 * len(space.axes))))

    def plan(self) -> Ints | None:
        batch = self._bred() if self._left > 0 else np.zeros(0, np.int64)
        if not len(batch):
            self._left = 0
            more = self._after.plan()
            batch = more if more is not None else np.zeros(0, np.int64)
            self.total = self._given + len(batch)
        else:
            self._generation += 1
            self._left -= len(batch)
        self._given += len(batch)
        return batch if len(batch) else None

    def tell(self, at: Ints, figures: Floats) -> None:
        self._known.add(at, figures)

    def _bred(self) -> Ints:
        """The next generation."""
        space, seen = self._space, self._known.seen
        rng = np.random.default_rng((self._seed, self._generation))
        want = min(self.many, self._left)
        if not seen or self._generation == 0:
            return sample_of(space, min(max(2 * want, int(FIRST * self._breed)), self._left), self._seed, seen)
        at, order = self._known.ranked()
        elite = at[order[:max(4, self.many // 2)]]
        near, far = self._fresh(self._near(elite, rng)), self._fresh(self._crossed(elite, 8 * want, rng))
        pool = np.unique(np.concatenate([near, far]))
        if len(pool) <= want:
            more = sample_of(space, want - len(pool), self._seed + 7919 * (self._generation + 1), {*seen, *pool.tolist()})
            return np.concatenate([pool, more])
        guess, apart = self._guess(at, order, pool)
        by_guess = pool[np.lexsort((pool, -guess))]
        by_both = pool[np.lexsort((pool, -(guess + 0.5 * np.std(guess) * apart / (np.std(apart) or 1.0))))]
        # Most by what their surroundings promise, some of them where little is known, some as chance has it.
        picked = list(dict.fromkeys([*by_guess[:(want + 1) // 2].tolist(), *by_both[:max(1, want * 3 // 10)].tolist(),
                                     *rng.permutation(pool).tolist()]))
        return np.array(picked[:want], np.int64)

    def _fresh(self, at: Ints) -> Ints:
        """Those that are allowed and were not tried, each once."""
        at = np.unique(at)
        at = at[self._space.allowed(at)]
        return at[~np.isin(at, np.fromiter(self._known.seen, np.int64, len(self._known.seen)))]

    def _near(self, elite: Ints, rng: np.random.Generator) -> Ints:
        """Sets one step beside the best ones that are not each other's neighbors."""
        space = self._space
        peaks: list[Ints] = []
        for steps in space.steps(elite):
            if all(np.abs(steps - p).max() > 1 for p in peaks):
                peaks.append(steps)
            if len(peaks) == 4:
                break
        if space.most_neighbors > 40 * self.many:
            return np.concatenate([space.beside(space.at(p[None])) for p in peaks])
        at = np.concatenate([space.neighbors(space.at(p[None]))[0] for p in peaks])
        at = at[at >= 0]
        return at if len(at) <= 40 * self.many else rng.choice(at, 40 * self.many, replace=False)

    def _crossed(self, elite: Ints, count: int, rng: np.random.Generator) -> Ints:
        """Children of two of the best, their values moved."""
        space = self._space
        steps, levels = space.steps(elite), np.array(space.shape)
        reach = 0.3 * 0.5 ** (4.0 * (1.0 - self._left / max(1, self._breed)))  # share of an axis that a move covers
        # Better ones are chosen more often: the smaller of two draws.
        pick = np.minimum(rng.integers(len(elite), size=(count, 2)), rng.integers(len(elite), size=(count, 2)))
        one, two = steps[pick[:, 0]], steps[pick[:, 1]]
        children = np.where(rng.random(one.shape) < 0.5, one, two)
        moves = np.rint(rng.normal(size=one.shape) * np.maximum(1.0, reach * levels)).astype(np.int64)
        children = children + np.where(rng.random(one.shape) < 0.5, moves, 0)
        children = np.where(rng.random(one.shape) < 0.08, rng.integers(0, levels, size=one.shape), children)
        children, over = np.abs(children), levels - 1
        return space.at(np.clip(np.where(children > over, 2 * over - children, children), 0, over))

    def _guess(self, at: Ints, order: Ints, pool: Ints) -> tuple[Floats, Floats]:
        """What the sets known promise for those of the pool, by their rank (1 the best): a smooth surface through them
        (radial basis functions); and how far the nearest known set is, as a share of the axes."""
        from scipy.interpolate import RBFInterpolator  # late
        from scipy.spatial import cKDTree  # late

        rank = np.empty(len(at))
        rank[order] = np.linspace(1.0, 0.0, len(at))
        kept = order[:FITTED]
        scale = np.maximum(1, np.array(self._space.shape) - 1)
        known, asked = self._space.steps(at[kept]) / scale, self._space.steps(pool) / scale
        apart = cKDTree(known).query(asked)[0]
        try:
            fit = RBFInterpolator(known, rank[kept] ** 3, neighbors=min(len(kept), 30), kernel="linear", smoothing=1e-3)
            return fit(asked), apart
        except np.linalg.LinAlgError:
            return -apart, apart


METHODS = ("every", "sample", "evolve")


def planner(method: str, space: Space, known: Known, count: int, seed: int) -> Planner:
    """The planner of a method. count: sets of a sample or an evolution.

    Raises:
        UserError: there is no such method, or nothing that the constraints leave.
    """
    if method == "every":
        made: Planner = Every(space, np.array(sorted(known.seen), np.int64))
    elif method == "sample":
        made = Sampled(space, known, count, seed)
    elif method == "evolve":
        made = Evolved(space, known, count, seed)
        if not known.seen and not len(sample_of(space, 1, seed)):
            made.total = 0
    else:
        raise UserError(f'there is no method "{method}"', "--method", f"There are {', '.join(METHODS)}.")
    if not made.total and not known.seen:
        raise UserError("no set satisfies the constraints", "sweep", "Loosen a constraint or widen a range.")
    return made
