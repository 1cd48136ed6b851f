"""A walk as an answer: what the command line prints and what goes into files, all figures with what made them."""

from __future__ import annotations

import datetime as dt
import math

import numpy as np

from wolbrin.core.engine.record import Record
from wolbrin.core.models import Model
from wolbrin.core.rules.axes import Axis
from wolbrin.core.rules.dated import schedule_words
from wolbrin.core.search.folds import Lengths
from wolbrin.core.search.walked import Fit, FoldResult, drift_of
from wolbrin.core.store.tables import Columns
from wolbrin.core.work.walk_grid import Grid, luck_words
from wolbrin.core.work.walk_reading import Walked
from wolbrin.core.work.walk_results import WalkResult


class LengthsAnswer(Model):
    """How folds are laid; lengths as they are written, gap "" for none."""

    training: str
    test: str
    gap: str = ""
    anchored: bool = False
    from_the_end: bool = True

    @classmethod
    def of(cls, lengths: Lengths) -> LengthsAnswer:
        return cls(training=lengths.training.short, test=lengths.test.short,
                   gap=lengths.gap.short if lengths.gap is not None else "", anchored=lengths.anchored,
                   from_the_end=lengths.backward)


class FoldAnswer(Model):
    """One fold. numbers: by key, None where nothing was fitted (why says so); near: how far each may move and still reach
    half. promised: the test span at the pace of training; efficiency: None where training did not earn. sets: looked at."""

    training_first: dt.date
    training_last: dt.date
    test_first: dt.date
    test_last: dt.date
    numbers: dict[str, float] | None
    near: dict[str, tuple[float, float]]
    training_net: float
    promised: float
    test_net: float
    test_trades: int
    efficiency: float | None
    sets: int
    why: str = ""

    @classmethod
    def of(cls, axes: tuple[Axis, ...], t: FoldResult) -> FoldAnswer:
        return cls(training_first=t.fold.training_first, training_last=t.fold.training_last, test_first=t.fold.test_first,
                   test_last=t.fold.test_last, numbers=_numbers(axes, t.fit),
                   near={a.key: n for a, n in zip(axes, t.fit.near)}, training_net=t.fit.net, promised=t.promised,
                   test_net=t.net, test_trades=t.trades, efficiency=_or_none(t.efficiency), sets=t.fit.tried, why=t.fit.why)


class NowAnswer(Model):
    """Numbers in force now: from which day, by key, and what they were fitted to."""

    first: dt.date
    numbers: dict[str, float] | None
    fitted_first: dt.date
    fitted_last: dt.date


class CellAnswer(Model):
    """A pair of lengths. figures: None where there are none (fault says why). region: it belongs to what works; around: the
    median within one step."""

    lengths: LengthsAnswer
    figures: dict[str, float | None] | None
    fault: str = ""
    region: bool = False
    around: float | None = None


class GridAnswer(Model):
    """All pairs of lengths by one figure. best, center: places in `cells`."""

    figure: str
    cells: list[CellAnswer]
    best: int | None
    center: int | None
    words: list[str]
    luck: str = ""
    shuffles: int = 0


class WalkAnswer(Model):
    """One walk and the grid it belongs to. next_fit: the day it is due, None where that is so many trades away
    (next_fit_after). unwalked_net: the strategy with the numbers it shows, on the same days; hindsight_net: each test with
    the numbers of the next fit. strategy: its id where the dated strategy was kept."""

    id: int
    unfinished: bool
    fits: int
    tried: int
    strategy: int | None = None
    lengths: LengthsAnswer
    sentence: str
    words: list[str]
    figures: dict[str, float | None]
    drift: dict[str, float | None]
    folds: list[FoldAnswer]
    now: NowAnswer | None
    next_fit: dt.date | None
    next_fit_after: str = ""
    schedule: list[str]
    unwalked_net: float
    hindsight_net: float
    grid: GridAnswer
    record: Record


def _or_none(value: float) -> float | None:
    return value if math.isfinite(value) else None


def _known(figures: dict[str, float]) -> dict[str, float | None]:
    return {key: _or_none(value) for key, value in figures.items()}


def _numbers(axes: tuple[Axis, ...], fit: Fit) -> dict[str, float] | None:
    return None if fit.values is None else {a.key: v for a, v in zip(axes, fit.values)}


def walk_answer(result: WalkResult, walked: Walked, grid: Grid, tried: int, strategy: int | None = None) -> WalkAnswer:
    """Folds, figures, drift, numbers in force now, the date of the next fit, in words and in numbers."""
    axes, schedule, now = walked.request.sweep.axes, walked.strategy.schedule, walked.now
    assert schedule is not None
    sentence, *words = walked.words()
    return WalkAnswer(
        id=result.search, unfinished=result.unfinished, fits=len(result.fits), tried=tried, strategy=strategy,
        lengths=LengthsAnswer.of(walked.request.cells[walked.cell]), sentence=sentence, words=words,
        figures=_known(walked.figures), drift=_known(dict(zip((a.key for a in axes), drift_of(axes, walked.fits)))),
        folds=[FoldAnswer.of(axes, t) for t in walked.tested],
        now=None if now is None else NowAnswer(first=schedule.now.first, numbers=_numbers(axes, now), fitted_first=now.first,
                                               fitted_last=now.last),
        next_fit=schedule.due, next_fit_after=schedule.due_after, schedule=schedule_words(walked.strategy),
        unwalked_net=float(walked.unwalked.profits.sum()), hindsight_net=float(walked.hindsight[1].sum()),
        grid=grid_answer(result, grid), record=walked.run.record(tried=max(1, tried)))


def grid_answer(result: WalkResult, grid: Grid) -> GridAnswer:
    """The cells of a walk by one figure, the region that works, and what luck brings."""
    cells = [CellAnswer(lengths=LengthsAnswer.of(lengths),
                        figures=_known(result.cells[i]) if i in result.cells else None, fault=result.faults.get(i, ""),
                        region=bool(grid.region.flat[i]), around=_or_none(float(grid.median.flat[i])))
             for i, lengths in enumerate(result.request.cells)]
    return GridAnswer(figure=grid.key, cells=cells, best=grid.best if grid.best >= 0 else None,
                      center=grid.center if grid.center >= 0 else None, words=grid.words(), luck=luck_words(result, grid.key),
                      shuffles=len(result.luck))


def fold_table(walked: Walked) -> Columns:
    """Folds as named columns, for files."""
    rows, axes = [FoldAnswer.of(walked.request.sweep.axes, t) for t in walked.tested], walked.request.sweep.axes
    found: Columns = {key: np.array([str(getattr(r, key)) for r in rows])
                      for key in ("training_first", "training_last", "test_first", "test_last")}
    for a in axes:
        found[a.short] = np.array([(r.numbers or {}).get(a.key, math.nan) for r in rows])
    return found | {key: np.array([math.nan if (v := getattr(r, key)) is None else float(v) for r in rows])
                    for key in ("training_net", "promised", "test_net", "test_trades", "efficiency", "sets")}
