"""Plots in the house style: hairline axes, labels from the tokens, a time axis over bar numbers or seconds."""

from __future__ import annotations

import datetime as dt

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import Qt, Signal

from wolbrin.app.theme.theme import Theme, font
from wolbrin.app.theme.tokens import SMALL, text_token
from wolbrin.core.measures.wording import MINUS

pg.setConfigOptions(antialias=True, useOpenGL=False)


def when(ns: int, span_days: float) -> str:
    """A UTC instant with as much detail as the span calls for."""
    moment = dt.datetime.fromtimestamp(ns / 1e9, tz=dt.UTC)
    if span_days > 1500:
        return f"{moment:%Y}"
    if span_days > 120:
        return f"{moment:%b %Y}"
    if span_days > 4:
        return f"{moment:%d %b %Y}" if span_days < 30 else f"{moment:%d %b %y}"
    return f"{moment:%d %b %H:%M}"


LINE = 16  # pixels from one label of an upright axis to the next


class BarAxis(pg.AxisItem):
    """Labels bar numbers with their times."""

    def __init__(self) -> None:
        super().__init__("bottom")
        self.times: NDArray[np.int64] = np.zeros(0, np.int64)

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        n = len(self.times)
        if not n:
            return ["" for _ in values]
        low, high = (int(np.clip(v, 0, n - 1)) for v in self.range)
        days = (self.times[high] - self.times[low]) / 86_400e9
        return [when(int(self.times[int(v)]), days) if 0 <= v < n else "" for v in values]


class SecondsAxis(pg.AxisItem):
    """Labels seconds since 1970."""

    def __init__(self) -> None:
        super().__init__("bottom")

    def tickValues(self, low: float, high: float, size: float) -> list[tuple[float, list[float]]]:
        days = (high - low) / 86_400
        if days > 700:
            first, last = (dt.datetime.fromtimestamp(x, tz=dt.UTC).year for x in (low, high))
            step = 1 if (last - first) * 60 < max(size, 1) else 2
            years = range(first, last + 2, step)
            return [(365 * 86_400.0, [dt.datetime(y, 1, 1, tzinfo=dt.UTC).timestamp() for y in years])]
        return super().tickValues(low, high, size)

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        days = (self.range[1] - self.range[0]) / 86_400
        if days > 700:
            return [f"{dt.datetime.fromtimestamp(v, tz=dt.UTC):%Y}" for v in values]
        return [when(int(v * 1e9), days) for v in values]


class NumberAxis(pg.AxisItem):
    """Thousands separators and a true minus sign."""

    def tickValues(self, low: float, high: float, size: float) -> list[tuple[float, list[float]]]:
        """Upright, only as many as can be read: in a low chart labels would stand on one another."""
        levels = super().tickValues(low, high, size)
        if self.orientation not in ("left", "right") or not high > low:
            return levels
        fits = [(step, at) for step, at in levels if step * size >= LINE * (high - low)]
        if fits or not levels or size <= 0:
            return fits
        step, at = levels[0]
        every = int(np.ceil(LINE * (high - low) / (step * size)))
        return [(step, [v for v in at if round(v / step) % every == 0])]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        digits = max(0, int(np.ceil(-np.log10(spacing)))) if 0 < spacing < 1 else 0
        return [f"{v:,.{digits}f}".replace("-", MINUS) for v in values]


class Plot(pg.PlotWidget):
    """A plot without frame or grid clutter, following the theme. Wheel zooms in time, dragging pans."""

    clicked_at = Signal(float, float)

    def __init__(self, theme: Theme, name: str, bottom: pg.AxisItem | None = None, zoom: bool = True) -> None:
        axes = {"bottom": bottom or NumberAxis("bottom"), "right": NumberAxis("right")}
        super().__init__(axisItems=axes)
        self.theme = theme
        self.setAccessibleName(name)
        self.hideAxis("left")
        self.showAxis("right")
        self.hideButtons()
        self.setMenuEnabled(False)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.getAxis("right").setWidth(58)
        self.getAxis("bottom").setHeight(18)
        self.setMouseEnabled(x=zoom, y=False)
        if not zoom:
            self.plotItem.vb.setMouseEnabled(False, False)
        self.scene().sigMouseClicked.connect(self._clicked)
        theme.changed.connect(self.restyle)
        self.restyle()

    def _clicked(self, event: object) -> None:
        at = self.plotItem.vb.mapSceneToView(event.scenePos())  # type: ignore[attr-defined]
        self.clicked_at.emit(at.x(), at.y())

    def restyle(self) -> None:
        self.setBackground(self.theme.color("background"))
        for side in ("right", "bottom"):
            axis = self.getAxis(side)
            axis.setPen(self.theme.pen("hairline"))
            axis.setTextPen(self.theme.pen("muted"))
            axis.setTickFont(font(SMALL))
            axis.setStyle(tickLength=-3, tickTextOffset=4)
        self.draw()

    def draw(self) -> None:
        """Draw everything anew; subclasses fill it."""


class TextOnPlot(pg.TextItem):
    """A small label at a data position."""

    def __init__(self, text: str, theme: Theme, token: str, anchor: tuple[float, float] = (0, 0.5)) -> None:
        super().__init__(text, color=theme.color(text_token(token)), anchor=anchor, fill=theme.color("background", 170))
        self.setFont(font(SMALL))


def holdout_region(theme: Theme, low: float, high: float) -> list[pg.GraphicsObject]:
    """The hatched stretch of a chart that is sealed, and the border where it begins."""
    tint = pg.LinearRegionItem((low, high), movable=False, brush=theme.color("holdout"), pen=pg.mkPen(None))
    hatch = pg.LinearRegionItem((low, high), movable=False, brush=theme.hatch(), pen=pg.mkPen(None))
    for region in (tint, hatch):
        region.setZValue(-20)
        for edge in region.lines:
            edge.hide()
    border = pg.InfiniteLine(low, angle=90, pen=theme.pen("accent", 1.5))
    border.setZValue(-10)
    return [tint, hatch, border]
