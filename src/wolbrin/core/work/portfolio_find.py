"""Finding portfolios: k of n candidates by their stored results, beside the same choice among members of which none is better
than another; the best are traded exactly. Every combination counts as tried.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from math import comb

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Chunk, Job, State, Work
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.wording import number
from wolbrin.core.portfolio.choosing import (
    AIMS,
    EVERY,
    Choice,
    Chosen,
    Pool,
    Ready,
    check_choice,
    equally_good,
    evolved,
    joined,
    part_of_all,
    score_sets,
    shuffled_apart,
)
from wolbrin.core.portfolio.correlating import pearson
from wolbrin.core.portfolio.plan import Plan
from wolbrin.core.portfolio.played import Part, play
from wolbrin.core.portfolio.sampling import Table
from wolbrin.core.store.database import now
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.work.combining import series_of
from wolbrin.core.work.footing import Footing, Request
from wolbrin.core.work.portfolios import body_of, part_of, plan_of

Ints = NDArray[np.int64]
KIND = "portfolio"
MOST_POOL = 500
EXACTLY = 5  # of the best that are traded exactly
CONTROLS = 10
APART = 3  # choices among members whose days are shuffled apart
TITLES = {"return_drawdown": "return over drawdown", "sharpe": "Sharpe ratio", "net": "net profit"}


@dataclass(frozen=True)
class Found:
    """What a search for portfolios came to. ids: of what was chosen from; chosen: the best, by places among them; exact:
    figures of the first few as they really trade, in order; controls: best score of each choice where none is better; apart:
    where each member's days are shuffled, so that none has to do with another; half: where the best of the first half of
    training comes among all in the second, 1 the best; tried: combinations of all such searches of
    the project, this one included. plan: the settings the members are traded under."""

    ids: tuple[int, ...]
    names: tuple[str, ...]
    choice: Choice
    chosen: Chosen
    exact: tuple[dict[str, float], ...]
    controls: tuple[float, ...]
    apart: tuple[float, ...]
    half: float
    tried: int
    plan: Plan

    @property
    def p(self) -> float:
        """Chance of as good a best where no member is better than another; NaN without controls."""
        if not self.controls or not len(self.chosen.score):
            return float("nan")
        return (1 + sum(c >= self.chosen.score[0] for c in self.controls)) / (1 + len(self.controls))

    def members(self, at: int) -> list[int]:
        """Shelf ids of a combination."""
        return [self.ids[i] for i in self.chosen.members[at].tolist()]

    def words(self) -> str:
        """What to make of it."""
        if not len(self.chosen.score):
            return (f"None of the {number(self.chosen.whole)} combinations keeps the limits." if self.chosen.every else
                    "No combination was found that keeps the limits.")
        best, title = float(self.chosen.score[0]), TITLES[self.choice.aim]
        said = [f"{number(self.chosen.tried)} combinations tried{'' if self.chosen.every else ' by an evolutionary search'}; "
                f"the best shows a {title} of {number(best, 2)}."]
        if self.controls:
            middle = float(np.median(self.controls))
            said.append(f"Were all members equally good and their days drawn anew, the same choice would show "
                        f"{number(middle, 2)}: "
                        + ("these are better than choosing alone makes them look." if self.p <= 0.1 else
                           "choosing among so many brings as much by itself, so that nothing speaks for these before "
                           "others."))
        if self.apart:
            said.append(f"Had its members nothing to do with each other (the days of each shuffled), the best would show "
                        f"{number(float(np.median(self.apart)), 2)}.")
        if self.half == self.half:
            said.append(f"Chosen on the first half alone, the best comes at {self.half:.0%} from the top in the second "
                        "(50% is chance).")
        return " ".join(said)


@dataclass(frozen=True)
class Asked(Request):
    """A search for portfolios as it was asked for."""

    footing: Footing
    pool: Pool
    choice: Choice
    seed: int
    parts: tuple[Part, ...]
    plan: Plan

    @property
    def every(self) -> bool:
        """Whether all combinations are looked at."""
        return comb(self.pool.daily.shape[1], self.choice.k) <= EVERY


def _pool(base: Pool, daily: NDArray[np.float64]) -> Pool:
    """The same members with other days."""
    return Pool(daily, pearson(np.ascontiguousarray(daily.T))[0], base.market, base.family, base.margin)


def _best(pool: Pool, choice: Choice, every: bool, seed: int) -> Chosen:
    ready = Ready.of(pool, choice)
    if not every:
        return evolved(ready, choice, seed)
    return part_of_all(ready, choice, tuple(range(ready.n)))


def look(asked: Asked, unit: tuple[str, int]) -> Chosen | float:
    """A piece: ("part", first member), ("search", 0), ("control", number), ("apart", number) or ("half", 0)."""
    kind, at = unit
    pool, choice = asked.pool, asked.choice
    if kind == "part":
        return part_of_all(Ready.of(pool, choice), choice, (at,))
    if kind == "search":
        return evolved(Ready.of(pool, choice), choice, asked.seed)
    if kind in ("control", "apart"):
        drawn = equally_good if kind == "control" else shuffled_apart
        found = _best(_pool(pool, drawn(pool.daily, asked.seed + at)), choice, asked.every, asked.seed)
        return float(found.score[0]) if len(found.score) else float("-inf")
    return _half(asked)


def _half(asked: Asked) -> float:
    """Where the best of the first half comes in the second, as a share from the top; NaN where not all are looked at. Limits
    are those of the first half's choice; in the second they choose nothing."""
    pool, choice = asked.pool, asked.choice
    middle = len(pool.daily) // 2
    if not asked.every or middle < 20:
        return float("nan")
    first = _best(_pool(pool, pool.daily[:middle]), Choice(choice.k, choice.aim, 1, choice.correlation, choice.per_market,
                                                          choice.per_family), True, asked.seed)
    if not len(first.score):
        return float("nan")
    later = _pool(pool, pool.daily[middle:])
    free = Choice(choice.k, choice.aim, 1, None, choice.per_market, choice.per_family)
    ready = Ready.of(later, free)
    place = part_of_one(ready, free, first.members[0])
    every = part_of_all(ready, free, tuple(range(ready.n)), place)
    return (every.above + 1) / max(every.tried, 1)


def part_of_one(ready: Ready, choice: Choice, members: Ints) -> float:
    """Score of one combination."""
    return float(score_sets(ready.held, members[None, :])[0])


def ask(project: Project, ids: Sequence[int], choice: Choice, plan: Plan, seed: int = 1) -> Asked:
    """Ready a search. plan: settings that the members are traded under (account, capital, limits in a day); its members do
    not count.

    Raises:
        UserError: too few or too many to choose from, or limits that nothing can keep, and which.
    """
    ids = list(dict.fromkeys(int(i) for i in ids))
    if choice.aim not in AIMS:
        raise UserError(f'"{choice.aim}" is nothing portfolios are chosen by', "aim", f"Choose among {', '.join(AIMS)}.")
    if len(ids) < 2:
        raise UserError("there are fewer than two candidates to choose from", "portfolio",
                        "Prove more, or name more of them.")
    if len(ids) > MOST_POOL:
        raise UserError(f"{len(ids):,} candidates are too many to choose from", "portfolio",
                        f"Thin them in Overlap to at most {MOST_POOL}.")
    footing = Footing.of(project)
    known = series_of(project, footing, ids)
    kept = Shelf(project).bodies(ids)
    table = Table.of([k.series for k in known])
    parts = tuple(part_of(footing, body_of(k)) for k in kept)
    margin = []
    for part in parts:
        terms = part.history.bars.terms
        close = float(part.history.bars.c.max()) * terms.tick_value
        each = terms.margin.per_contract or (close / terms.margin.leverage if terms.margin.leverage else 0.0)
        margin.append(each * (part.strategy.quantity if part.strategy.sizing.kind == "fixed" else 1.0))
    labels = [p.label for p in parts]

    def numbered(names: list[str]) -> Ints:
        return np.unique(names, return_inverse=True)[1].astype(np.int64)

    daily = np.ascontiguousarray(table.profit.T)
    pool = Pool(daily, pearson(table.profit)[0], numbered([x.market for x in labels]), numbered([x.family for x in labels]),
                np.array(margin))
    check_choice(choice, pool)
    return Asked(footing, pool, choice, seed, parts, plan_of(kept, plan.name, None).model_copy(update={
        key: getattr(plan, key) for key in ("capital", "one_account", "limits", "resize", "step", "limit", "zone")}))


def find_job(project: Project, ids: Sequence[int], asked: Asked, notify: Callable[[Found], None],
             controls: int = CONTROLS) -> Job:
    """Search, with its controls; notify gets what was found once all is there. What was tried is written down as it goes."""
    n = asked.pool.daily.shape[1]
    searches = Searches(project)
    parts = [("part", i) for i in range(n - asked.choice.k + 1)] if asked.every else [("search", 0)]
    units = [*parts, *(("control", i + 1) for i in range(controls)), *(("apart", i + 1) for i in range(min(APART, controls))),
             ("half", 0)]
    number_of = searches.begin(now(), KIND, f"{asked.choice.k} of {n} candidates",
                               {"choice": vars(asked.choice), "ids": list(ids), "seed": asked.seed})
    got: list[Chosen] = []
    scores: dict[str, list[float]] = {"control": [], "apart": []}
    waiting = iter(units)
    made: list[Found] = []

    def sink(result: Chosen | float) -> None:
        kind, _ = next(waiting)
        if isinstance(result, Chosen):
            got.append(result)
            searches.advance(number_of, result.tried, 0)
        elif kind in scores:
            scores[kind].append(result)
        else:
            made.append(_told(project, ids, asked, joined(got, asked.choice), scores, result))

    def finish(state: State) -> None:
        searches.end(number_of, state)
        if made:
            notify(made[0])

    return Job("Find portfolios", "pieces", [Chunk(u) for u in units], Work(look, asked), sink, finish)


def _told(project: Project, ids: Sequence[int], asked: Asked, chosen: Chosen, scores: dict[str, list[float]],
          half: float) -> Found:
    tried = int(project.rows("SELECT coalesce(sum(tried), 0) n FROM searches WHERE kind = ?", KIND)[0]["n"])
    exact, capital = [], asked.plan.capital or asked.footing.settings.capital
    for row in chosen.members[:EXACTLY].tolist():
        plan = chosen_plan(asked.plan, row, tried)
        try:
            exact.append(measure(play(plan, [asked.parts[i] for i in row], capital).facts))
        except UserError:
            exact.append({})
    return Found(tuple(int(i) for i in ids), tuple(p.name for p in asked.parts), asked.choice, chosen, tuple(exact),
                 tuple(scores["control"]), tuple(scores["apart"]), half, tried, asked.plan)


def chosen_plan(plan: Plan, places: Sequence[int], tried: int) -> Plan:
    """A combination as a portfolio of equal shares. plan: whose members were chosen from; tried: combinations, itself
    included."""
    return plan.model_copy(update={"members": tuple(plan.members[i] for i in places), "tried": max(1, tried)})
