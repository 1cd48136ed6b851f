"""A gate's figure over all candidates, with its threshold to drag."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import Signal

from wolbrin.app.charts.axes import Plot
from wolbrin.app.theme.theme import Theme

Floats = NDArray[np.float64]
BINS = 36


class Threshold(Plot):
    """dragged: where the threshold was put, in the figure's own unit."""

    dragged = Signal(float)

    def __init__(self, theme: Theme) -> None:
        self._passed: Floats = np.zeros(0)
        self._fell: Floats = np.zeros(0)
        self._at: float | None = None
        super().__init__(theme, "The gate's figure over all candidates", zoom=False)
        self.getAxis("right").setWidth(34)

    def show_figures(self, passed: Floats, fell: Floats, at: float | None) -> None:
        """Figures of those that passed and of those that did not; at: the threshold, None where there is no one figure."""
        self._passed, self._fell, self._at = passed, fell, at
        self.draw()

    def draw(self) -> None:
        self.plotItem.clear()
        every = np.concatenate([self._passed, self._fell])
        every = every[np.isfinite(every)]
        if not len(every):
            return
        ends = [*np.percentile(every, (1, 99)).tolist(), *([self._at] if self._at is not None else [])]
        low, high = min(ends), max(ends)
        if not high > low:
            low, high = low - 0.5, high + 0.5
        edges = np.linspace(low, high, BINS + 1)
        middle = (edges[1:] + edges[:-1]) / 2
        base = np.zeros(BINS)
        for part, token in ((self._passed, "gain"), (self._fell, "loss")):
            counts = np.histogram(np.clip(part[np.isfinite(part)], low, high), edges)[0].astype(np.float64)
            self.addItem(pg.BarGraphItem(x=middle, y0=base, height=counts, width=(edges[1] - edges[0]) * 0.86,
                                         brush=self.theme.color(token, 150), pen=pg.mkPen(None)))
            base = base + counts
        if self._at is not None:
            line = pg.InfiniteLine(self._at, angle=90, movable=True, pen=self.theme.pen("accent", 2.0),
                                   hoverPen=self.theme.pen("accent", 4.0))
            line.sigPositionChangeFinished.connect(lambda moved: self.dragged.emit(float(moved.value())))
            self.addItem(line)
        self.setXRange(low, high, padding=0.04)
        self.setYRange(0, float(base.max()) * 1.08, padding=0)
