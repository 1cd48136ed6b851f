"""The price chart: ink-only bars over any number of bars, downsampled to what the screen can show."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from wolbrin.app.charts.axes import BarAxis, Plot, TextOnPlot, holdout_region
from wolbrin.app.charts.pyramid import Pyramid
from wolbrin.app.theme.theme import Theme, font
from wolbrin.app.theme.tokens import SMALL, text_token
from wolbrin.core.market.terms import Terms

MOST_SHAPES = 700  # bars drawn one by one; more are drawn as vertical strokes of a column each
COLUMNS = 1200


class Drawn(Protocol):
    """What the chart needs of a history: bars of the simulator and a source's raw rows both have it."""

    @property
    def time(self) -> NDArray[np.int64]: ...

    @property
    def open(self) -> NDArray[np.float64]: ...

    @property
    def high(self) -> NDArray[np.float64]: ...

    @property
    def low(self) -> NDArray[np.float64]: ...

    @property
    def close(self) -> NDArray[np.float64]: ...

    def __len__(self) -> int: ...


class BarsItem(pg.GraphicsObject):
    """Paints the visible bars only."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.bars: Drawn | None = None
        self.pyramid: Pyramid | None = None
        self._bounds = QRectF(0, 0, 1, 1)

    def set_bars(self, bars: Drawn | None) -> None:
        self.prepareGeometryChange()
        self.bars = bars
        if bars is not None and len(bars):
            self.pyramid = Pyramid(bars.high, bars.low)
            low, high = self.pyramid.extent(0, len(bars))
            self._bounds = QRectF(-1, low, len(bars) + 2, max(high - low, 1e-9))
        self.update()

    def boundingRect(self) -> QRectF:
        return self._bounds

    def paint(self, painter: QPainter, *_: object) -> None:
        view = self.getViewBox()
        if self.bars is None or self.pyramid is None or view is None or not len(self.bars):
            return
        (left, right), _ = view.viewRange()
        first, stop = max(0, int(left) - 1), min(len(self.bars), int(right) + 2)
        if stop <= first:
            return
        painter.setPen(self._theme.pen("ink"))
        if stop - first > MOST_SHAPES:
            x, h, lo = self.pyramid.columns(first, stop, COLUMNS)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
            painter.drawLines([QLineF(a, b, a, d) for a, b, d in zip(x.tolist(), lo.tolist(), h.tolist())])
            return
        part = slice(first, stop)
        x = np.arange(first, stop, dtype=np.float64)
        o, h, lo, c = self.bars.open[part], self.bars.high[part], self.bars.low[part], self.bars.close[part]
        half = 0.32
        painter.drawLines([QLineF(a, b, a, d) for a, b, d in zip(x, lo, np.minimum(o, c))])
        painter.drawLines([QLineF(a, b, a, d) for a, b, d in zip(x, np.maximum(o, c), h)])
        for falling in (True, False):
            painter.setBrush(self._theme.color("ink" if falling else "background"))
            pick = (c < o) == falling
            painter.drawRects([QRectF(a - half, min(p, q), 2 * half, abs(q - p))
                               for a, p, q in zip(x[pick], o[pick], c[pick])])


class LineItem(pg.GraphicsObject):
    """A line over the bars; only its visible part is painted."""

    def __init__(self, values: NDArray[np.float64], pen: QPen, bounds: QRectF) -> None:
        super().__init__()
        self._values, self._pen, self._bounds = values, pen, bounds
        self.setZValue(2)

    def boundingRect(self) -> QRectF:
        return self._bounds

    def paint(self, painter: QPainter, *_: object) -> None:
        view = self.getViewBox()
        if view is None:
            return
        (left, right), _range = view.viewRange()
        first, stop = max(0, int(left) - 1), min(len(self._values), int(right) + 2)
        step = max(1, (stop - first) // (2 * COLUMNS))
        x = np.arange(first, stop, step, dtype=np.float64)
        if len(x) > 1:
            painter.setPen(self._pen)
            painter.drawPath(pg.arrayToQPath(x, self._values[first:stop:step], connect="finite"))


@dataclass(frozen=True)
class Mark:
    """An entry pennant: bar number, price, side +1 or -1."""

    bar: int
    price: float
    side: int


@dataclass(frozen=True)
class TradeMarks:
    """One trade to draw: entry and exit as (bar, price), stop and target as prices or NaN, won or not."""

    entry: tuple[int, float]
    exit: tuple[int, float]
    side: int
    stop: float
    target: float
    won: bool
    reason: str


class PennantsItem(pg.GraphicsObject):
    """Pennants on staffs, pointing into the trade; sized in pixels, only the visible ones drawn."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._marks: Sequence[Mark] = ()
        self._bounds = QRectF(0, 0, 1, 1)

    def set_marks(self, marks: Sequence[Mark], bounds: QRectF) -> None:
        self.prepareGeometryChange()
        self._marks, self._bounds = marks, bounds
        self.update()

    def boundingRect(self) -> QRectF:
        return self._bounds

    def paint(self, painter: QPainter, *_: object) -> None:
        view = self.getViewBox()
        if view is None or not self._marks:
            return
        (left, right), _ = view.viewRange()
        visible = [m for m in self._marks if left <= m.bar <= right]
        if len(visible) > 1500:
            visible = visible[:: len(visible) // 1500 + 1]
        transform = painter.worldTransform()
        painter.save()
        painter.resetTransform()
        painter.setPen(Qt.PenStyle.NoPen)
        for mark in visible:
            at = transform.map(QPointF(mark.bar, mark.price))
            draw_pennant(painter, at, mark.side, self._theme)
        painter.restore()


class FaultsItem(pg.GraphicsObject):
    """A small hook over each bar with a fault; only the visible ones are drawn, one a pixel column at most."""

    def __init__(self, theme: Theme, rows: NDArray[np.int64], high: NDArray[np.float64], bounds: QRectF) -> None:
        super().__init__()
        self._theme, self._rows, self._high, self._bounds = theme, rows, high, bounds
        self.setZValue(5)

    def boundingRect(self) -> QRectF:
        return self._bounds

    def paint(self, painter: QPainter, *_: object) -> None:
        view = self.getViewBox()
        if view is None:
            return
        (left, right), _range = view.viewRange()
        a, b = np.searchsorted(self._rows, (left, right))
        visible = self._rows[a:b]
        if len(visible) > COLUMNS:
            visible = visible[:: len(visible) // COLUMNS + 1]
        transform = painter.worldTransform()
        painter.save()
        painter.resetTransform()
        painter.setPen(self._theme.pen("caution", 1.4))
        for row in visible.tolist():
            at = transform.map(QPointF(row, float(self._high[row])))
            x, y = at.x(), at.y() - 5
            hook = (QPointF(x - 3, y), QPointF(x - 3, y - 4), QPointF(x + 3, y - 4), QPointF(x + 3, y))
            painter.drawPolyline(QPolygonF(hook))
        painter.restore()


def draw_pennant(painter: QPainter, at: QPointF, side: int, theme: Theme) -> None:
    """A pennant on a staff at a device position: up and filled for long, down and hollow for short."""
    staff = 15.0 * side
    painter.setPen(theme.pen("accent", 1.2))
    painter.drawLine(at, QPointF(at.x(), at.y() + staff))
    base = at.y() + staff
    flag = QPolygonF([QPointF(at.x(), base), QPointF(at.x() + 9, base - 3.5 * side), QPointF(at.x(), base - 7 * side)])
    painter.setBrush(theme.color("accent") if side > 0 else theme.color("background"))
    painter.drawPolygon(flag)


class PriceChart(Plot):
    """Bars, named lines, entry pennants and one selected trade. x is the bar number."""

    def __init__(self, theme: Theme, name: str = "Price chart") -> None:
        self.bars: Drawn | None = None
        self._faults: NDArray[np.int64] = np.zeros(0, np.int64)
        self.pointed: tuple[int, str] | None = None
        self.uprights: list[tuple[int, str]] = []
        self._lines: dict[str, tuple[NDArray[np.float64], str]] = {}
        self._marks: list[Mark] = []
        self.trade_shown: TradeMarks | None = None
        self._holdout_from: int | None = None
        self._extra: list[pg.GraphicsObject] = []
        axis = BarAxis()
        super().__init__(theme, name, axis)
        self._axis = axis
        self._item = BarsItem(theme)
        self._pennants = PennantsItem(theme)
        self.addItem(self._item, ignoreBounds=True)
        self.addItem(self._pennants, ignoreBounds=True)
        self._pennants.setZValue(5)
        self.plotItem.vb.sigXRangeChanged.connect(lambda *_: self._fit())

    def show_bars(self, bars: Drawn, holdout_from: int | None = None, keep_view: bool = False,
                  terms: Terms | None = None) -> None:
        """Show a history; the view goes to the last bars before the holdout unless it is kept."""
        self.bars = bars
        self.terms: Terms | None = terms or getattr(bars, "terms", None)
        self._holdout_from = holdout_from
        self._axis.times = bars.time
        self._item.set_bars(bars)
        self._marks, self.trade_shown, self._lines = [], None, {}
        self._faults, self.pointed, self.uprights = np.zeros(0, np.int64), None, []
        self.plotItem.vb.setLimits(xMin=-len(bars) * 0.02 - 5, xMax=len(bars) * 1.02 + 5, minXRange=12)
        self.draw()
        if not keep_view:
            stop = len(bars) if holdout_from is None or holdout_from < 60 else holdout_from
            self.look(stop - 160, stop + 6)
        self._fit()

    def look(self, first: float, last: float) -> None:
        self.setXRange(first, last, padding=0)

    def look_all(self) -> None:
        if self.bars is not None:
            self.look(0, len(self.bars))

    def look_at(self, bar: int) -> None:
        """Center on a bar, keeping the zoom where it is reasonable."""
        (left, right), _ = self.plotItem.vb.viewRange()
        width = min(max(right - left, 40), 240)
        self.look(bar - width / 2, bar + width / 2)

    def set_lines(self, lines: dict[str, tuple[NDArray[np.float64], str]]) -> None:
        """Named lines over the bars: values float64[n] and a theme token."""
        self._lines = lines
        self.draw()

    def set_marks(self, marks: list[Mark]) -> None:
        self._marks = marks
        bounds = self._item.boundingRect()
        self._pennants.set_marks(marks, bounds)

    def set_trade(self, trade: TradeMarks | None) -> None:
        self.trade_shown = trade
        self.draw()

    def set_faults(self, rows: NDArray[np.int64], uprights: Sequence[tuple[int, str]] = ()) -> None:
        """Marks over bars with a fault (int64[k], rising), and named upright lines such as the rolls of a future."""
        self._faults, self.uprights = rows, list(uprights)
        self.draw()

    def forget_point(self) -> None:
        """Take the words of `point_at` away."""
        if self.pointed is not None:
            self.pointed = None
            self.draw()

    def point_at(self, bar: int, words: str) -> None:
        """Center on a bar and say what is the matter with it."""
        self.pointed = bar, words
        self.draw()
        self.look_at(bar)

    def _fit(self) -> None:
        if self.bars is None or not len(self.bars):
            return
        (left, right), _ = self.plotItem.vb.viewRange()
        first, stop = max(0, int(left)), min(len(self.bars), int(right) + 1)
        if stop <= first:
            return
        assert self._item.pyramid is not None
        low, high = self._item.pyramid.extent(first, stop)
        if self.trade_shown is not None and first <= self.trade_shown.entry[0] < stop:
            levels = [v for v in (self.trade_shown.stop, self.trade_shown.target) if np.isfinite(v)]
            low, high = min([low, *levels]), max([high, *levels])
        pad = (high - low) * 0.09 or 1.0
        self.setYRange(low - pad, high + pad, padding=0)

    def restyle(self) -> None:
        super().restyle()
        if self.bars is not None:
            self._item.update()
            self._pennants.update()

    def _add(self, item: pg.GraphicsObject) -> None:
        self.addItem(item, ignoreBounds=True)
        self._extra.append(item)

    def draw(self) -> None:
        for item in self._extra:
            self.removeItem(item)
        self._extra = []
        if self.bars is None:
            return
        if self._holdout_from is not None and self._holdout_from < len(self.bars):
            for item in holdout_region(self.theme, self._holdout_from - 0.5, len(self.bars) + 10.0):
                self._add(item)
        for values, token in self._lines.values():
            self._add(LineItem(values, self.theme.pen(token, 1.3), self._item.boundingRect()))
        if len(self._faults):
            self._add(FaultsItem(self.theme, self._faults, self.bars.high, self._item.boundingRect()))
        for bar, words in self.uprights:
            self._draw_upright(bar, words, "accent", Qt.PenStyle.DashLine)
        if self.pointed is not None:
            self._draw_upright(*self.pointed, "caution", Qt.PenStyle.DotLine)
        if self.trade_shown is not None:
            self._draw_trade(self.trade_shown)
        self._fit()

    def _draw_upright(self, bar: int, words: str, token: str, dash: Qt.PenStyle) -> None:
        line = pg.InfiniteLine(bar, angle=90, pen=self.theme.pen(token, 1.2, dash), label=words,
                               labelOpts={"position": 0.96, "color": self.theme.color(text_token(token)),
                                          "fill": self.theme.color("background", 200), "anchors": [(0, 0), (0, 0)]})
        line.label.setFont(font(SMALL))
        line.setZValue(4)
        self._add(line)

    def _draw_trade(self, trade: TradeMarks) -> None:
        (x0, y0), (x1, y1) = trade.entry, trade.exit
        token = "gain" if trade.won else "loss"
        for level, dash, color, word in ((trade.stop, Qt.PenStyle.DashLine, "loss", "stop"),
                                         (trade.target, Qt.PenStyle.DotLine, "gain", "target")):
            if np.isfinite(level):
                self._add(pg.PlotCurveItem([x0, x1 + 1], [level, level], pen=self.theme.pen(color, 1.4, dash)))
                if word == trade.reason:
                    continue  # the exit's own label says it
                assert self.terms is not None
                text = TextOnPlot(f"{word} {self.terms.format_price(level)}", self.theme, color, (1, 0.5))
                text.setPos(x0 - 0.6, level)
                self._add(text)
        self._add(pg.PlotCurveItem([x0, x1], [y0, y1], pen=self.theme.pen(token, 1.6)))
        ring = pg.ScatterPlotItem([x1], [y1], symbol="o", size=11, pen=self.theme.pen(token, 2), brush=None)
        ring.setZValue(6)
        self._add(ring)
        assert self.terms is not None
        out = TextOnPlot(f"{trade.reason} {self.terms.format_price(y1)}", self.theme, token)
        out.setPos(x1 + 1, y1)
        self._add(out)
        flag = PennantsItem(self.theme)
        flag.set_marks([Mark(x0, y0, trade.side)], self._item.boundingRect())
        flag.setZValue(6)
        self._add(flag)


