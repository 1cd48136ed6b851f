"""Equity, drawdown and other curves over time; bands; histograms."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import Qt

from wolbrin.app.charts.axes import Plot, SecondsAxis, TextOnPlot, holdout_region
from wolbrin.app.theme.theme import Theme
from wolbrin.core.measures.wording import number
from wolbrin.core.study.spread import normal_overlay

Floats = NDArray[np.float64]
POINTS = 1600
POINTS_OF_MANY = 800  # of each of many


@dataclass(frozen=True)
class Curve:
    """x: seconds since 1970 or any number, y: values; token: theme color; width in pixels. under: the label stands under its
    end; where None, over it if the curve is a wide one. whole: all points are drawn, as of several curves with NaN
    between."""

    x: Floats
    y: Floats
    token: str = "ink"
    width: float = 1.5
    label: str = ""
    fill: str = ""
    dashed: bool = False
    under: bool | None = None
    whole: bool = False


def thinned(x: Floats, y: Floats, most: int = POINTS) -> tuple[Floats, Floats]:
    """At most about `most` points that keep every extreme: the lowest and highest of each stretch, in order."""
    n = len(x)
    if n <= most:
        return x, y
    step = -(-2 * n // most)
    whole = n // step * step
    block = y[:whole].reshape(-1, step)
    base = np.arange(0, whole, step)
    pair = np.sort(np.stack([base + block.argmin(axis=1), base + block.argmax(axis=1)], axis=1), axis=1).ravel()
    at = np.append(pair, n - 1)
    return x[at], y[at]


def several(x: Floats, ys: Sequence[Floats], token: str = "muted", width: float = 0.8) -> Curve:
    """Curves over the same x that look alike as one, which is drawn much faster. ys: float64[n] each."""
    parts = [thinned(x, y, POINTS_OF_MANY) for y in ys] if len(x) else []
    gap = np.array([np.nan])
    return Curve(np.concatenate([part for px, _ in parts for part in (px, px[-1:])]) if parts else x[:0],
                 np.concatenate([part for _, py in parts for part in (py, gap)]) if parts else x[:0], token, width,
                 whole=True)


class CurveChart(Plot):
    """Curves over time with the sealed stretch hatched."""

    def __init__(self, theme: Theme, name: str, *, time: bool = True, zoom: bool = True) -> None:
        self.curves: list[Curve] = []
        self._sealed: tuple[float, float, str] | None = None
        self._band: tuple[Floats, Floats, Floats] | None = None
        self._marks: list[tuple[float, str]] = []
        self._few = False
        super().__init__(theme, name, SecondsAxis() if time else None, zoom)

    def few_ticks(self) -> None:
        """For low plots: only zero and the deepest value are labeled."""
        self._few = True

    def show_curves(self, curves: list[Curve], sealed: tuple[float, float, str] | None = None,
                    band: tuple[Floats, Floats, Floats] | None = None,
                    marks: list[tuple[float, str]] | None = None) -> None:
        """sealed: from, to and a word for the hatched stretch. band: x, low, high. marks: dotted verticals."""
        self.curves, self._sealed, self._band, self._marks = curves, sealed, band, marks or []
        self.draw()

    def draw(self) -> None:
        self.plotItem.clear()
        if self._sealed:
            low, high, word = self._sealed
            for item in holdout_region(self.theme, low, high):
                self.addItem(item, ignoreBounds=False)
        if self._band is not None:
            x, low_edge, high_edge = self._band
            edges = [pg.PlotDataItem(x, e, pen=pg.mkPen(None)) for e in (low_edge, high_edge)]
            for e in edges:
                self.addItem(e)
            self.addItem(pg.FillBetweenItem(*edges, brush=self.theme.color("bar", 150)))
        for curve in self.curves:
            x, y = (curve.x, curve.y) if curve.whole else thinned(curve.x, curve.y)
            pen = self.theme.pen(curve.token, curve.width,
                                 Qt.PenStyle.DashLine if curve.dashed else Qt.PenStyle.SolidLine)
            item = pg.PlotDataItem(x, y, pen=pen, connect="finite")
            if curve.fill:
                item.setFillLevel(0.0)
                item.setFillBrush(self.theme.color(curve.fill))
            self.addItem(item)
            if curve.label and len(x):
                under = curve.width < 1.5 if curve.under is None else curve.under
                text = TextOnPlot(curve.label, self.theme, curve.token, (1, 0 if under else 1))
                text.setPos(float(x[-1]), float(y[-1]))
                self.addItem(text, ignoreBounds=True)
        for at, word in self._marks:
            self.addItem(pg.InfiniteLine(at, angle=90, pen=self.theme.pen("accent", 1.2, Qt.PenStyle.DotLine)))
            if word:
                text = TextOnPlot(word, self.theme, "accent", (0, 0))
                self.addItem(text, ignoreBounds=True)
                text.setPos(at, self.plotItem.vb.viewRange()[1][1])
        self.plotItem.vb.enableAutoRange()
        self.plotItem.vb.updateAutoRange()
        if self._few and self.curves and len(self.curves[0].y):
            low = float(self.curves[0].y.min())
            self.getAxis("right").setTicks([[(0.0, "0"), (low, number(low))]])
        if self._sealed:
            (low_y, high_y) = self.plotItem.vb.viewRange()[1]
            text = TextOnPlot(self._sealed[2], self.theme, "accent", (0, 0))
            text.setPos(self._sealed[0], high_y - 0.02 * (high_y - low_y))
            self.addItem(text, ignoreBounds=True)


class Histogram(Plot):
    """Bars of a distribution; the mean marked."""

    def __init__(self, theme: Theme, name: str) -> None:
        self._values: Floats = np.zeros(0)
        self._marks: list[tuple[float, str, str]] = []
        self._normal = False
        super().__init__(theme, name, zoom=False)
        self.getAxis("right").setWidth(40)

    def show_values(self, values: Floats, marks: list[tuple[float, str, str]], normal: bool = False) -> None:
        """marks: value, word, theme token. normal: lay the normal distribution of the values over them."""
        self._values, self._marks, self._normal = values, marks, normal
        self.draw()

    def draw(self) -> None:
        self.plotItem.clear()
        if len(self._values) < 2:
            return
        low, high = np.percentile(self._values, (0.5, 99.5))
        if low == high:
            low, high = low - 0.5, high + 0.5
        counts, edges = np.histogram(np.clip(self._values, low, high), bins=48, range=(low, high))
        middle = (edges[1:] + edges[:-1]) / 2
        for won, token in ((True, "gain"), (False, "loss")):
            pick = (middle > 0) == won
            if pick.any():
                self.addItem(pg.BarGraphItem(x=middle[pick], height=counts[pick], width=(edges[1] - edges[0]) * 0.84,
                                             brush=self.theme.color(token, 150), pen=pg.mkPen(None)))
        top = float(counts.max())
        if self._normal:
            bell = normal_overlay(self._values, edges)
            top = max(top, float(bell.max()))
            self.addItem(pg.PlotDataItem(middle, bell, pen=self.theme.pen("ink", 1.2, Qt.PenStyle.DashLine)))
        for i, (at, word, token) in enumerate(self._marks):
            self.addItem(pg.InfiniteLine(at, angle=90, pen=self.theme.pen(token, 1.4, Qt.PenStyle.DashLine)))
            text = TextOnPlot(word, self.theme, token, (0 if at <= (low + high) / 2 else 1, 0))
            text.setPos(at, top * (1.08 - 0.09 * i))
            self.addItem(text, ignoreBounds=True)
        self.setYRange(0, top * 1.1, padding=0)
        self.setXRange(low, high, padding=0.02)


