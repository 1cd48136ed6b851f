"""How many sets a sweep has and how long they take, before it starts."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from wolbrin.core.errors import UserError
from wolbrin.core.jobs import cores
from wolbrin.core.measures.wording import time_words
from wolbrin.core.rules.axes import variant
from wolbrin.core.rules.model import Strategy
from wolbrin.core.search.planners import Known, Planner, planner
from wolbrin.core.store.project import Project
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweep_work import SweepWork, evaluate_block, questions_of

LARGEST_SWEEP = 1_000_000


def count_of(request: SweepRequest) -> int:
    """Sets of a sample or an evolution: those asked for, else 2,000 of a sample and a tenth of the grid of an evolution, 200
    to 5,000."""
    size = request.space.size
    usual = 2_000 if request.method == "sample" else max(200, min(size // 10, 5_000))
    return request.count or min(size, usual)


def check_sets(request: SweepRequest, known: Known, seconds: Callable[[], float]) -> Planner:
    """The planner of a request. seconds: how long one set takes.

    Raises:
        UserError: nothing is to be tried, or more than is tried at once; then it says how long it would take.
    """
    space = request.space
    if request.method == "every" and space.size > LARGEST_SWEEP:
        raise UserError(f"{space.size:,} sets are more than are tried one by one ({LARGEST_SWEEP:,}); they would take about "
                        f"{time_words(space.size * seconds())}", "sweep",
                        "Take a sample of 20,000 or an evolution instead, or enlarge a step.")
    count = count_of(request)
    if count < 1 or count > LARGEST_SWEEP:
        raise UserError(f"a sample has 1 to {LARGEST_SWEEP:,} sets", "sweep", "Change the count.")
    return planner(request.method, space, known, count, request.seed)


def first_set(request: SweepRequest) -> Strategy:
    """The first strategy that the model takes. Raises UserError where it takes none."""
    space = request.space
    tries = np.unique(np.linspace(0, space.size - 1, min(space.size, 2_000)).astype(np.int64))
    tries = tries[space.allowed(tries)]
    refused = 0
    for values in space.values(tries).tolist():
        one = variant(request.strategy, request.axes, tuple(values))
        if one is not None:
            return one
        refused += 1
    if refused:
        raise UserError("the strategy's model refuses these numbers", "sweep", "Change the ranges.")
    return request.strategy  # constraints leave few sets, or none, which the planner says


@dataclass(frozen=True)
class Estimate:
    """sets: in all, as far as is known. seconds: about how long they take on this machine with all its cores."""

    sets: int
    seconds: float

    def words(self) -> str:
        return f"{self.sets:,} sets, about {time_words(self.seconds)}"


def seconds_a_set(footing: Footing, request: SweepRequest, sample: int = 24) -> float:
    """How long one set takes on this machine, from a quick sample whose results nobody sees."""
    questions = {p: g for p, (_, g) in questions_of(footing, request).items()}
    work = SweepWork(footing, request, tuple(questions.items()), "none")
    rng, space = np.random.default_rng(1), request.space
    spent, ran = 0.0, 0
    for place in rng.permutation(len(request.places))[:2]:
        at = int(place) * space.inner + rng.integers(0, space.inner, sample, dtype=np.int64)
        evaluate_block(work, at[:4])
        began = time.perf_counter()
        evaluate_block(work, at[4:])
        spent += time.perf_counter() - began
        ran += len(at) - 4
    work.let_go()
    return spent / max(1, ran) / cores()


def estimate(project: Project, request: SweepRequest) -> Estimate:
    """How many sets there are and about how long they take. Raises UserError as `sweep_job` does."""
    footing = Footing.of(project)
    first_set(request)
    each = seconds_a_set(footing, request)
    plan = check_sets(request, Known(request.measures, request.objective, request.floors), lambda: each)
    return Estimate(plan.total, plan.total * each)
