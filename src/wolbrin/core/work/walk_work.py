"""What a piece of a walk is, wherever it runs: a fit, a cell, or the whole walk on one shuffled history."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from wolbrin.core.batch.many import Many
from wolbrin.core.batch.variants import Variants
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import UserError
from wolbrin.core.figures.searches import WALKED
from wolbrin.core.jobs import Chunk, check_stopped
from wolbrin.core.market.bars import Floats, Span
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.measures.inference import Tally
from wolbrin.core.search.walked import Fit
from wolbrin.core.study.shuffle import DEALING, shuffle
from wolbrin.core.work.footing import Footing, Request
from wolbrin.core.work.sweep_reading import Reading
from wolbrin.core.work.walk_fits import chosen, sweep_span, work_on
from wolbrin.core.work.walk_reading import walked
from wolbrin.core.work.walk_request import WalkRequest

SHARPE = "sharpe_daily"
SEED = 20260101  # of the shuffled histories


@dataclass(frozen=True)
class Fitted:
    """A fit and the daily Sharpe ratios of all sets it looked at."""

    fit: Fit
    tally: Tally


@dataclass(frozen=True)
class CellDone:
    """What came of a cell: figures by name, or why there are none."""

    cell: int
    figures: dict[str, float]
    fault: str = ""


@dataclass(frozen=True)
class LuckDone:
    """A whole grid on one shuffled history. figures: float64[cells, columns of `columns_of`], NaN where there are none."""

    deal: int
    figures: Floats


Argument = tuple[str, int, tuple[Fit, ...]]
Result = Fitted | CellDone | LuckDone


def columns_of(request: WalkRequest) -> tuple[str, ...]:
    """Figures that are kept of every cell."""
    return (*request.sweep.measures, *WALKED)


@dataclass(frozen=True)
class WalkWork(Request):
    """All that a piece needs. brief, content: the training brief and the hash of its bars."""

    footing: Footing
    request: WalkRequest
    brief: Brief
    content: str
    mirrored: bool = False

    @cached_property
    def history(self) -> Prepared:
        """The training view."""
        sweep = self.request.sweep
        return self.footing.prepared(sweep.market, sweep.interval, self.content)

    @cached_property
    def shared(self) -> Variants:
        """The sets, whose conditions all spans share."""
        return self.sets_on(self.history)

    def sets_on(self, history: Prepared) -> Variants:
        """The sets on a history."""
        sweep = self.request.sweep
        return Variants(sweep.strategy, sweep.space.numbers, Many(history, self.brief), "", sweep.measures[len(SUMMARY):])

    def let_go(self) -> None:
        """Drop what takes much memory."""
        vars(self).pop("shared", None)

    def read(self, span: tuple[dt.date, dt.date], sets: Variants, history: Prepared) -> Reading:
        """The sweep over one training span of a history. sets: those on it."""
        return sweep_span(work_on(self.footing, self.request.sweep, *span, sets, history))

    def fit(self, span: tuple[dt.date, dt.date], sets: Variants, history: Prepared) -> Fitted:
        """What a training span chooses, and how what it looked at did."""
        check_stopped()
        try:
            reading = self.read(span, sets, history)
        except UserError as err:  # such as a span without bars
            return Fitted(Fit(*span, None, {}, np.nan, 0, err.sentence()), Tally())
        return Fitted(chosen(reading, Span(*span), self.request.choice), Tally.of(reading.columns[SHARPE]))


def evaluate_walk(work: WalkWork, argument: Argument) -> Result:
    """One piece: ("fit", number of a span), ("cell", number, all fits), ("luck", number of a shuffle)."""
    kind, at, fits = argument
    request = work.request
    if kind == "fit":
        return work.fit(request.spans[at], work.shared, work.history)
    if kind == "cell":
        return cell_done(work, at, fits, work.history)
    history = shuffle(work.history, SEED * 1000 + at, work.mirrored, request.sweep.strategy.flat_by_session_end)
    sets = work.sets_on(history)
    made = tuple(work.fit(span, sets, history).fit for span in request.spans)
    table = np.full((len(request.cells), len(columns_of(request))), np.nan)
    for cell in range(len(request.cells)):
        check_stopped()
        done = cell_done(work, cell, made, history)
        table[cell] = [done.figures.get(key, np.nan) for key in columns_of(request)]
    return LuckDone(at, table)


def cell_done(work: WalkWork, cell: int, fits: tuple[Fit, ...], history: Prepared) -> CellDone:
    """Figures of one cell."""
    if work.request.layouts[cell].fault:
        return CellDone(cell, {}, work.request.layouts[cell].fault)
    try:
        found = walked(work.request, cell, dict(zip(work.request.spans, fits)), history, work.brief, detail=False)
        return CellDone(cell, found.figures)
    except UserError as err:
        return CellDone(cell, {}, err.sentence())


class WalkSource:
    """Fits first, then cells, then shuffled histories. known: how many of each are there already."""

    def __init__(self, request: WalkRequest, fits: list[Fit], cells: int, shuffles: tuple[int, int]) -> None:
        """fits: those that are there, which grow as more are told. shuffles: done, and wanted in all."""
        self._spans, self._cells = len(request.spans), len(request.cells)
        self._fits = fits
        self._asked = [len(fits), cells, shuffles[0]]
        self._told = list(self._asked)
        self._most = [self._spans, self._cells, shuffles[1]]
        self._weight = max(1, self._spans)  # a shuffle counts for all its fits

    @property
    def total(self) -> int:
        return self._spans + self._weight * self._most[2]

    @property
    def done(self) -> int:
        return self._told[0] + self._weight * self._told[2]

    @property
    def over(self) -> bool:
        return self._told >= self._most

    def ask(self) -> Chunk | None:
        for at, kind in enumerate(("fit", "cell", "luck")):
            if self._asked[at] < self._most[at]:
                if kind == "cell" and self._told[0] < self._spans:
                    return None
                number = self._asked[at]
                self._asked[at] += 1
                return Chunk((kind, number, tuple(self._fits) if kind == "cell" else ()), 1)
        return None

    def tell(self, chunk: Chunk, result: Any) -> None:
        if isinstance(result, Fitted):
            self._fits.append(result.fit)
        self._told[("fit", "cell", "luck").index(chunk.argument[0])] += 1

    def state(self) -> dict[str, Any]:
        return {"fits": self._told[0], "cells": self._told[1], "shuffled": self._told[2], "shuffles": self._most[2],
                "dealing": DEALING}
