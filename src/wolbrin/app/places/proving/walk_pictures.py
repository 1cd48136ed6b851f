"""Pictures of a walk: stitched equity beside what it is compared with, drift of each number, the grid of lengths."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QWidget

from wolbrin.app.charts.grids import Grid
from wolbrin.app.charts.lines import Curve, CurveChart
from wolbrin.app.parts import column, label, row
from wolbrin.app.session import Session
from wolbrin.core.engine.run import Run
from wolbrin.core.figures.searches import WALKED
from wolbrin.core.market.bars import Floats
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.search.walked import FoldResult
from wolbrin.core.work.walk_grid import Grid as Lengths
from wolbrin.core.work.walk_grid import shown, title_of
from wolbrin.core.work.walk_reading import Walked

DAY = 86_400.0
MOST_MARKS = 40
ONE_PAIR = "One pair of lengths: write several under Set up, such as 12m, 24m, 36m, to see which work."
WAITING = "Pairs are shown once all fits are there."
FIGURES_SHOWN = ("t_daily", *WALKED, *(k for k in SUMMARY if k != "t_daily"))


def seconds(day: dt.date) -> float:
    return (day - dt.date(1970, 1, 1)).days * DAY


def _equity(run: Run) -> tuple[Floats, Floats]:
    days, profit = run.daily
    return days.astype(np.float64) * DAY, np.cumsum(profit)


class EquityPicture(QWidget):
    """Stitched tests, today's numbers on the same days, and what the next fit showed of each test in training."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._walked: Walked | None = None
        self._training: Curve | None = None
        self.chart = CurveChart(session.theme, "Equity of the walk")
        words = label("Net profit over the tests; dotted: a new fit. As fitted: each test with the numbers of the next fit, "
                      "which had seen it. Choose a fold below to see its training.", "small", wrap=True)
        self.setLayout(column(words, self.chart, spacing=2))

    def show_walk(self, w: Walked) -> None:
        """Draw a walk."""
        self._walked, self._training = w, None
        self._draw(w)

    def show_training(self, fold: FoldResult, run: Run) -> None:
        """Draw the training of a fold too, so that it ends where its test begins."""
        if self._walked is None:
            return
        x, y = _equity(self._walked.run)
        at = int(np.searchsorted(x, seconds(fold.fold.test_first)))
        days, profit = _equity(run)
        start = float(y[at - 1]) if at and len(y) else 0.0
        self._training = Curve(days, profit - (profit[-1] if len(profit) else 0.0) + start, "caution", 1.5, "training")
        self._draw(self._walked)

    def _draw(self, w: Walked) -> None:
        days, profit = w.hindsight
        curves = [Curve(*_equity(w.unwalked), "muted", 1.0, "numbers shown"),
                  Curve(days * DAY, np.cumsum(profit), "accent", 1.0, "as fitted", dashed=True),
                  Curve(*_equity(w.run), "ink", 1.8, "walked")]
        if self._training is not None:
            curves.append(self._training)
        lowest = min((c for c in curves if len(c.x)), key=lambda c: float(c.y[-1]), default=None)
        curves = [replace(c, under=c is lowest) for c in curves]
        marks = [(seconds(t.fold.test_first), "") for t in w.tested]
        self.chart.show_curves([c for c in curves if len(c.x)], marks=marks if len(marks) <= MOST_MARKS else [])


class DriftPicture(QWidget):
    """One number over the folds: what each fit chose, and how far it could have moved and still reach half of it."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._walked: Walked | None = None
        self.which = QComboBox()
        self.which.setAccessibleName("Number whose drift is shown")
        self.which.setMinimumContentsLength(24)
        self.which.currentIndexChanged.connect(lambda *_: self.draw())
        self.words = label("", "small")
        self.chart = CurveChart(session.theme, "Drift of the number over the folds")
        self.setLayout(column(row(self.which, self.words, None), self.chart, spacing=2))

    def show_walk(self, w: Walked) -> None:
        """Draw a walk."""
        self._walked = w
        titles = [a.short for a in w.request.sweep.axes]
        if [self.which.itemText(i) for i in range(self.which.count())] != titles:
            self.which.blockSignals(True)
            self.which.clear()
            self.which.addItems(titles)
            self.which.blockSignals(False)
        self.draw()

    def draw(self) -> None:
        w, at = self._walked, self.which.currentIndex()
        if w is None or at < 0:
            return
        axis = w.request.sweep.axes[at]
        x, y, low, high = [], [], [], []
        spans = [(t.fold.test_first, t.fold.test_last, t.fit) for t in w.tested]
        ahead = w.layout.ahead
        if w.now is not None and ahead is not None and ahead.first > w.tested[-1].fold.test_first:
            spans.append((ahead.first, ahead.due or ahead.first + dt.timedelta(days=30), w.now))
        for first, last, fit in spans:
            value = fit.values[at] if fit.values is not None else np.nan
            near = fit.near[at] if fit.near else (np.nan, np.nan)
            for day in (first, last):
                x.append(seconds(day))
                y.append(value)
                low.append(near[0] if near[0] == near[0] else value)
                high.append(near[1] if near[1] == near[1] else value)
        xs, ys = np.array(x), np.array(y)
        known = np.isfinite(ys)
        band = (xs[known], np.array(low)[known], np.array(high)[known])
        self.chart.show_curves([Curve(xs, ys, "ink", 1.8, axis.short)], band=band if known.any() else None)
        self.words.setText(f"tried from {axis.shown(axis.values[0])} to {axis.shown(axis.values[-1])}; tinted: still half as "
                           "good, or better")


class LengthsPicture(QWidget):
    """The grid of lengths by one figure; picked: a cell."""

    picked = Signal(int)
    figure_chosen = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._columns = 1
        self.figure = QComboBox()
        self.figure.setAccessibleName("Figure of the grid")
        for key in FIGURES_SHOWN:
            self.figure.addItem(title_of(key), key)
        self.figure.currentIndexChanged.connect(lambda *_: self.figure_chosen.emit(self.figure.currentData()))
        self.chart = Grid(session.theme, "Grid of lengths")
        self.chart.picked.connect(lambda r, c: self.picked.emit(r * self._columns + c))
        self.words = label("", "small", wrap=True)
        self.setLayout(column(row(label("Color and figure:", "muted"), self.figure, label(
            "Outlined: what works. Ringed: the walk shown.", "small"), None), self.chart, self.words, spacing=2))

    def show_grid(self, grid: Lengths, cell: int, luck: str, whole: bool = True) -> None:
        """Draw a grid; cell: the one that is looked at. whole: all of its cells are there."""
        request = grid.request
        self._columns = len(request.tests)
        key = grid.key
        digits = (WALKED[key].digits or 0) if key in WALKED else len(shown(key, 0.123456).partition(".")[2].rstrip("%R "))
        self.chart.show_grid(grid.value, [x.short for x in request.trainings], [x.short for x in request.tests],
                             ("training length", "test length"), digits=digits, numbers=True, outlined=grid.region)
        if whole:
            self.chart.choose(*divmod(cell, self._columns))
        at = self.figure.findData(key)
        if at != self.figure.currentIndex():
            self.figure.blockSignals(True)
            self.figure.setCurrentIndex(at)
            self.figure.blockSignals(False)
        said = [*(grid.words() if grid.value.size > 1 else [ONE_PAIR]), luck] if whole else [WAITING]
        self.words.setText(" ".join(line for line in said if line))
