"""One set of a sweep: its strategy, a candidate for the Shelf."""

from __future__ import annotations

from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.rules.axes import PLACES, Values, variant
from wolbrin.core.rules.model import Strategy
from wolbrin.core.search.candidate import Candidate, candidate_of
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.work.briefs import brief_again
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweep_results import (
    SweepResult,
)


def strategy_of(request: SweepRequest, values: Values) -> Strategy:
    """The strategy of a set. Raises UserError where the model refuses it."""
    one = variant(request.strategy, request.axes, values)
    if one is None:
        raise UserError("the strategy's model refuses these numbers", "sweep", "Choose another set.")
    return one


def candidate_from_sweep(project: Project, result: SweepResult, values: Values) -> Candidate:
    """Make a candidate of one combination, under the brief of its sweep."""
    request = result.request
    place = request.place(values)
    brief = brief_again(project, result.record_of(place), place.market, place.interval)
    run = backtest(project.prepared(place.market, place.interval), strategy_of(request, values), brief, detail=False)
    label = ", ".join(a.shown(v) for a, v in zip(request.axes, values) if a.kind not in PLACES)
    return candidate_of(run, f"{request.strategy.name} ({label})"[:80], "sweep",
                        max(1, Searches(project).tried_on(place.market)))
