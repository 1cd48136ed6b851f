"""A walk asked of one strategy, such as by the gate: laid, fitted and read in one go, nothing kept."""

from __future__ import annotations

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import UserError
from wolbrin.core.rules.axes import Axis
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.numbers import tunables
from wolbrin.core.search.folds import Length
from wolbrin.core.search.walked import WalkAsk, WalkTold
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.procedure import Procedure
from wolbrin.core.work.sweep_estimate import first_set
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.walk_reading import walked
from wolbrin.core.work.walk_request import WalkRequest
from wolbrin.core.work.walk_schedule import carries_on
from wolbrin.core.work.walk_work import WalkWork
from wolbrin.core.work.walking import laid_over


def axes_for(strategy: Strategy, numbers: int, values: int) -> tuple[Axis, ...]:
    """The numbers that are fitted where nobody chose them: those ticked, else the first ones."""
    ticked = {p.name for p in strategy.parameters if p.sweep and not p.formula}
    every = sorted(tunables(strategy), key=lambda t: t.title not in ticked)
    axes = (Axis.over(t, values) for t in every)
    return tuple(a for a in axes if len(a.values) > 1)[:numbers]


def walk_case(footing: Footing, history: Prepared, strategy: Strategy, brief: Brief, ask: WalkAsk) -> WalkTold:
    """Walk a strategy over its training span; one with dated numbers as its own procedure says."""
    try:
        if carries_on(strategy):
            request = Procedure.of(strategy).request
        else:
            axes = axes_for(strategy, ask.numbers, ask.values)
            if not axes:
                return WalkTold({}, fault="It has no number that could be fitted.")
            sweep = SweepRequest(strategy, history.bars.terms.code, history.bars.interval, axes)
            request = WalkRequest(sweep, (Length.parse(ask.training),), (Length.parse(ask.test),), None, ask.anchored,
                                  choice=ask.choice)
        request = laid_over(history, brief, request)
        first_set(request.sweep)
        work = WalkWork(footing, request, brief, history.bars.hash)
        sets = work.sets_on(history)
        fits = {span: work.fit(span, sets, history).fit for span in request.spans}
        found = walked(request, 0, fits, history, brief, detail=False)
    except UserError as err:
        return WalkTold({}, fault=err.sentence())
    return WalkTold(found.figures, found.tested, found.words()[0])
