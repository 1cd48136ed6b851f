"""A walk as an answer: what the command line prints and what goes into files, all figures with what made them."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from wolbrin.core.rules.axes import Axis
from wolbrin.core.rules.dated import schedule_words
from wolbrin.core.search.folds import Lengths
from wolbrin.core.search.walked import Fit, drift_of
from wolbrin.core.store.tables import Columns
from wolbrin.core.work.walk_grid import Grid, luck_words
from wolbrin.core.work.walk_reading import Walked
from wolbrin.core.work.walk_results import WalkResult


def _lengths(lengths: Lengths) -> dict[str, Any]:
    return {"training": lengths.training.short, "test": lengths.test.short, "gap": lengths.gap.short if lengths.gap else "",
            "anchored": lengths.anchored, "from_the_end": lengths.backward}


def _numbers(axes: tuple[Axis, ...], fit: Fit) -> dict[str, float] | None:
    return None if fit.values is None else {a.key: v for a, v in zip(axes, fit.values)}


def fold_rows(walked: Walked) -> list[dict[str, Any]]:
    """Each fold with its numbers, training and test."""
    axes = walked.request.sweep.axes
    return [{"training_first": t.fold.training_first, "training_last": t.fold.training_last, "test_first": t.fold.test_first,
             "test_last": t.fold.test_last, "numbers": _numbers(axes, t.fit),
             "near": {a.key: list(n) for a, n in zip(axes, t.fit.near)}, "training_net": t.fit.net,
             "test_net": t.net, "test_trades": t.trades, "efficiency": t.efficiency, "sets": t.fit.tried, "why": t.fit.why}
            for t in walked.tested]


def walk_answer(walked: Walked) -> dict[str, Any]:
    """One walk: folds, figures, drift, numbers in force now, the date of the next fit, in words and in numbers."""
    axes, schedule = walked.request.sweep.axes, walked.strategy.schedule
    assert schedule is not None
    now = walked.now
    sentence, *words = walked.words()
    return {"lengths": _lengths(walked.request.cells[walked.cell]), "sentence": sentence, "words": words,
            "figures": walked.figures, "drift": dict(zip((a.key for a in axes), drift_of(axes, walked.fits))),
            "folds": fold_rows(walked), "now": None if now is None else
            {"first": schedule.now.first, "numbers": _numbers(axes, now), "fitted_first": now.first, "fitted_last": now.last},
            "next_fit": schedule.due, "next_fit_after": schedule.due_after, "schedule": schedule_words(walked.strategy),
            "unwalked_net": float(walked.unwalked.profits.sum()), "hindsight_net": float(walked.hindsight[1].sum()),
            "record": walked.run.record().model_dump(mode="json")}


def grid_answer(result: WalkResult, grid: Grid) -> dict[str, Any]:
    """The cells of a walk by one figure, the region that works, and what luck brings."""
    request = result.request
    cells = [_lengths(lengths) | {"figures": result.cells.get(i), "fault": result.faults.get(i, ""),
                                  "region": bool(grid.region.flat[i]), "around": float(grid.median.flat[i])}
             for i, lengths in enumerate(request.cells)]
    return {"figure": grid.key, "cells": cells, "best": grid.best if grid.best >= 0 else None,
            "center": grid.center if grid.center >= 0 else None, "words": grid.words(), "luck": luck_words(result, grid.key),
            "shuffles": len(result.luck)}


def fold_table(walked: Walked) -> Columns:
    """Folds as named columns, for files."""
    rows, axes = fold_rows(walked), walked.request.sweep.axes
    found: Columns = {key: np.array([str(r[key]) for r in rows]) for key in ("training_first", "training_last", "test_first",
                                                                             "test_last")}
    for a in axes:
        found[a.short] = np.array([(r["numbers"] or {}).get(a.key, math.nan) for r in rows])
    return found | {key: np.array([float(r[key]) for r in rows]) for key in ("training_net", "test_net", "test_trades",
                                                                             "efficiency", "sets")}
