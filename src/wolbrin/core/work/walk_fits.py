"""Fitting a strategy's numbers on a training span, as Sweep would on that span alone: what every fold of a walk asks."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from wolbrin.core.batch.many import NO_DAYS
from wolbrin.core.batch.variants import Variants
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import need_bars
from wolbrin.core.market.bars import Span
from wolbrin.core.search.folds import Fold
from wolbrin.core.search.planners import Known, planner
from wolbrin.core.search.walked import Choice, Fit
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.sweep_estimate import count_of
from wolbrin.core.work.sweep_reading import Reading, read
from wolbrin.core.work.sweep_request import Place, SweepRequest
from wolbrin.core.work.sweep_results import SweepResult
from wolbrin.core.work.sweep_source import SetSource, Stored
from wolbrin.core.work.sweep_work import Question, SweepWork, evaluate_block


def spans_to_fit(folds: Sequence[Fold]) -> list[tuple[dt.date, dt.date]]:
    """Training spans of folds, each once, in order: folds of other lengths that train on the same days share a sweep."""
    return list(dict.fromkeys((f.training_first, f.training_last) for f in folds))


@dataclass(frozen=True)
class SpanWork(SweepWork):
    """A sweep's work over one span. shared: sets on the same history, whose conditions are shared between spans."""

    shared: Variants | None = None

    @cached_property
    def _within(self) -> Variants:
        assert self.shared is not None
        return self.shared.within(self.questions[0][1].brief.span)

    def variants(self, place: Place) -> Variants:
        return super().variants(place) if self.shared is None else self._within

    def let_go(self) -> None:
        super().let_go()
        vars(self).pop("_within", None)


def work_on(footing: Footing, request: SweepRequest, first: dt.date, last: dt.date,
            shared: Variants | None = None, history: Prepared | None = None) -> SpanWork:
    """The sweep's work over one training span. No bar after `last` is read: the runs end there. shared: sets that share what
    was worked out over other spans, history: the one they stand on, where that is at hand.

    Raises:
        UserError: there is no bar in the span.
    """
    place, = dict.fromkeys((p.market, p.interval) for p in request.places)
    history = history or footing.prepared(*place)
    brief = replace(footing.brief(history.bars.terms, request.own), span=Span(first, last), most_bars=None)
    need_bars(history, brief.span)
    question = Question(brief, history.bars.hash, NO_DAYS, NO_DAYS)
    return SpanWork(footing, request, ((place, question),), "none", shared)


def sweep_span(work: SpanWork) -> Reading:
    """All sets that the sweep's method tries over the work's span, read as Sweep reads them."""
    request = work.request
    known = Known(request.measures, request.objective, request.floors)
    source = SetSource(planner(request.method, request.space, known, count_of(request), request.seed), request.space.inner,
                       Stored.of(np.zeros(0, np.int64), np.zeros((0, len(request.measures)))))
    result = SweepResult(request)
    while (chunk := source.ask()) is not None:
        done = evaluate_block(work, chunk.argument)
        source.tell(chunk, done)
        result.add(done.settings, done.figures)
        result.refused += done.refused
    result.total = result.count
    work.let_go()
    return read(result)


def chosen(reading: Reading, span: Span, choice: Choice = "center") -> Fit:
    """The set that a span chooses: the center of its best plateau (the best set where there is no plateau), or the best."""
    assert span.first is not None
    assert span.last is not None
    row = reading.center if choice == "center" and reading.center >= 0 else reading.best
    if row < 0:
        return Fit(span.first, span.last, None, {}, math.nan, len(reading), reading.reason())
    figures = {key: float(column[row]) for key, column in reading.columns.items()}
    return Fit(span.first, span.last, reading.values(row), figures, float(reading.score[row]), len(reading),
               near=_near(reading, row))


def fit_span(work: SpanWork, choice: Choice = "center") -> Fit:
    """What a training span chooses."""
    return chosen(sweep_span(work), work.questions[0][1].brief.span, choice)


def _near(reading: Reading, row: int) -> tuple[tuple[float, float], ...]:
    """By axis, how far values may move from a row, all else as it is, and still pass with half of its score."""
    r, at = reading, reading.at[row]
    own = r.values(row)
    if at < 0:
        return tuple((v, v) for v in own)
    least = r.score[row] - abs(r.score[row]) / 2
    good = {tuple(s) for s, ok in zip(r.settings.tolist(), r.passes & (r.score >= least)) if ok}
    found = []
    for i, axis in enumerate(r.request.axes):
        place, ends = axis.values.index(own[i]), []
        for step in (-1, 1):
            k = place
            while 0 <= k + step < len(axis.values) and (*own[:i], axis.values[k + step], *own[i + 1:]) in good:
                k += step
            ends.append(axis.values[k])
        found.append((ends[0], ends[1]))
    return tuple(found)
