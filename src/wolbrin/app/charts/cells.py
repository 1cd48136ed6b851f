"""Maps as tinted cells: over two numbers, coarse and fine together, or two inside two; regions are marked by dragging."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from wolbrin.app.charts.painted import Painted
from wolbrin.app.theme.theme import Theme, font
from wolbrin.app.theme.tokens import SMALL, blend
from wolbrin.core.measures.wording import number

Floats = NDArray[np.float64]
Flags = NDArray[np.bool_]
LEFT, BOTTOM = 58, 34
OUTER = 15  # pixels of a second line of names


@dataclass(frozen=True)
class Cells:
    """What a map shows. boxes: float64[n, 4], left, right, bottom, top of each cell on a unit square; later ones lie on top.
    values: float64[n]. names: what a cell is called. ticks: place on its side (0 to 1) and text; outer: of what lies around.
    outlined: bool[n], the plateau. center: where the ramp turns."""

    boxes: Floats
    values: Floats
    names: list[str]
    x_ticks: list[tuple[float, str]] = field(default_factory=list)
    y_ticks: list[tuple[float, str]] = field(default_factory=list)
    x_outer: list[tuple[float, str]] = field(default_factory=list)
    y_outer: list[tuple[float, str]] = field(default_factory=list)
    x_title: str = ""
    y_title: str = ""
    outlined: Flags | None = None
    center: float = 0.0
    digits: int = 2
    gaps: tuple[list[float], list[float]] = field(default_factory=lambda: ([], []))


EMPTY = Cells(np.zeros((0, 4)), np.zeros(0), [])


class CellChart(QWidget):
    """Shows `Cells` on one diverging ramp: rust, paper, petrol. picked: a cell clicked or moved to with the arrow keys;
    marked: left, right, bottom, top of a region that was dragged out, on the unit square."""

    picked = Signal(int)
    marked = Signal(float, float, float, float)

    def __init__(self, theme: Theme, name: str) -> None:
        super().__init__()
        self._theme = theme
        self.cells = EMPTY
        self.chosen: int = -1
        self.region: QRectF | None = None
        self._from: QPointF | None = None
        self._still = Painted(self, self._paint_still)
        self.setAccessibleName(name)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumSize(220, 150)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        theme.changed.connect(self._anew)

    def _anew(self) -> None:
        self._still.forget()
        self.update()

    def show_cells(self, cells: Cells, chosen: int = -1, keep_region: bool = False) -> None:
        """Show other cells; the region that is marked stays where that is asked."""
        self.cells, self.chosen = cells, chosen
        self.region = self.region if keep_region else None
        self._anew()

    def choose(self, cell: int) -> None:
        """Ring a cell, -1 for none."""
        self.chosen = cell
        self.update()

    def _area(self) -> QRectF:
        left = LEFT + (OUTER if self.cells.y_outer else 0)
        bottom = BOTTOM + (OUTER if self.cells.x_outer else 0)
        return QRectF(left, 20, max(10, self.width() - left - 10), max(10, self.height() - 20 - bottom))

    def box(self, cell: int) -> QRectF:
        """Where a cell is painted."""
        area = self._area()
        left, right, bottom, top = self.cells.boxes[cell].tolist()
        return QRectF(area.left() + left * area.width(), area.bottom() - top * area.height(), (right - left) * area.width(),
                      (top - bottom) * area.height())

    def _at(self, point: QPointF) -> tuple[float, float]:
        area = self._area()
        return (point.x() - area.left()) / area.width(), (area.bottom() - point.y()) / area.height()

    def cell_at(self, point: QPointF) -> int:
        """The topmost cell at a point of the widget, -1 for none."""
        x, y = self._at(point)
        b = self.cells.boxes
        inside = np.flatnonzero((b[:, 0] <= x) & (x < b[:, 1]) & (b[:, 2] <= y) & (y < b[:, 3]))
        return int(inside[-1]) if len(inside) else -1

    def tints(self) -> list[QColor]:
        """The color of each cell."""
        t, values = self._theme.tokens, self.cells.values
        known = values[np.isfinite(values)]
        reach = float(np.max(np.abs(known - self.cells.center))) if known.size else 1.0
        out = []
        for v in values.tolist():
            if not math.isfinite(v):
                out.append(self._theme.color("hairline", 90))
                continue
            share = min(1.0, abs(v - self.cells.center) / (reach or 1.0))
            out.append(QColor(blend(t.surface, t.gain if v >= self.cells.center else t.loss, 0.06 + 0.86 * share)))
        return out

    def _paint_still(self, painter: QPainter) -> None:
        self._paint_cells(painter)
        self._paint_names(painter)

    def _paint_cells(self, painter: QPainter) -> None:
        painter.setFont(font(SMALL))
        light = self._theme.tokens.name == "paper"
        outlined = self.cells.outlined
        for i, tint in enumerate(self.tints()):
            box = self.box(i)
            gap = 0.5 if box.width() > 4 and box.height() > 4 else 0.0
            inner = box.adjusted(gap, gap, -gap, -gap)
            painter.fillRect(inner, self._theme.color("background"))
            painter.fillRect(inner, tint)
            if box.width() > 34 and box.height() > 13 and math.isfinite(self.cells.values[i]):
                dark = tint.lightness() < 128
                painter.setPen(self._theme.color("surface" if dark == light else "ink"))
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, number(float(self.cells.values[i]), self.cells.digits))
        if outlined is not None and outlined.any():
            painter.setPen(self._theme.pen("ink", 1.4))
            for i in np.flatnonzero(outlined).tolist():
                self._paint_outline(painter, i, outlined)
        area = self._area()
        painter.setPen(self._theme.pen("background", 3))
        for x in self.cells.gaps[0]:
            at = area.left() + x * area.width()
            painter.drawLine(QPointF(at, area.top()), QPointF(at, area.bottom()))
        for y in self.cells.gaps[1]:
            at = area.bottom() - y * area.height()
            painter.drawLine(QPointF(area.left(), at), QPointF(area.right(), at))

    def _paint_outline(self, painter: QPainter, i: int, outlined: Flags) -> None:
        """The sides of a cell of the plateau beyond which there is none."""
        b, box = self.cells.boxes, self.box(i)
        left, right, bottom, top = b[i].tolist()
        x, y, near = (left + right) / 2, (bottom + top) / 2, 1e-6
        for px, py, line in ((left - near, y, (box.topLeft(), box.bottomLeft())),
                             (right + near, y, (box.topRight(), box.bottomRight())),
                             (x, bottom - near, (box.bottomLeft(), box.bottomRight())),
                             (x, top + near, (box.topLeft(), box.topRight()))):
            beside = (b[:, 0] <= px) & (px < b[:, 1]) & (b[:, 2] <= py) & (py < b[:, 3]) & outlined
            if not beside.any():
                painter.drawLine(*line)

    def _paint_names(self, painter: QPainter) -> None:
        painter.setFont(font(SMALL))
        painter.setPen(self._theme.color("muted"))
        area, c, metrics = self._area(), self.cells, painter.fontMetrics()

        def spread(ticks: list[tuple[float, str]], room: float, each: float) -> list[tuple[float, str]]:
            every = max(1, math.ceil(len(ticks) * each / max(1.0, room)))
            return ticks[::every]

        wide = max((metrics.horizontalAdvance(t) for _, t in c.x_ticks), default=10) + 8
        for x, text in spread(c.x_ticks, area.width(), wide):
            at = area.left() + x * area.width()
            painter.drawText(QRectF(at - 60, area.bottom() + 2, 120, 14), Qt.AlignmentFlag.AlignCenter, text)
        for y, text in spread(c.y_ticks, area.height(), 13):
            at = area.bottom() - y * area.height()
            painter.drawText(QRectF(0, at - 8, area.left() - 5, 16),
                             Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)
        wide = max((metrics.horizontalAdvance(t) for _, t in c.x_outer), default=10) + 8
        for x, text in spread(c.x_outer, area.width(), wide):
            at = area.left() + x * area.width()
            painter.drawText(QRectF(at - 80, area.bottom() + 2 + OUTER, 160, 14), Qt.AlignmentFlag.AlignCenter, text)
        for y, text in spread(c.y_outer, area.height(), 13):
            at = area.bottom() - y * area.height()
            painter.drawText(QRectF(2, at - 8, area.left() - 30, 16), Qt.AlignmentFlag.AlignLeft, text)
        painter.drawText(QRectF(area.left(), self.height() - 16, area.width(), 15), Qt.AlignmentFlag.AlignCenter, c.x_title)
        title = metrics.elidedText(c.y_title, Qt.TextElideMode.ElideRight, self.width() - 12)
        painter.drawText(QRectF(4, 2, self.width() - 8, 16), Qt.AlignmentFlag.AlignLeft, title)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        if not len(self.cells.boxes):
            return
        painter.drawPixmap(0, 0, self._still.picture())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if 0 <= self.chosen < len(self.cells.boxes):
            painter.setPen(self._theme.pen("accent", 2.5 if self.hasFocus() else 2))
            box = self.box(self.chosen)
            grow = max(0.0, (9 - min(box.width(), box.height())) / 2)
            painter.drawRect(box.adjusted(-grow, -grow, grow, grow))
        if self.region is not None:
            painter.setPen(self._theme.pen("accent", 1.5, Qt.PenStyle.DashLine))
            painter.setBrush(self._theme.color("accent", 30))
            painter.drawRect(self.region)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.region = None
        super().resizeEvent(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._from = event.position()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._from is not None and (event.position() - self._from).manhattanLength() > 6:
            self.region = QRectF(self._from, event.position()).normalized().intersected(self._area())
            self.update()
            return
        at = self.cell_at(event.position())
        if at >= 0:
            QToolTip.showText(event.globalPosition().toPoint(),
                              f"{self.cells.names[at]}: {number(float(self.cells.values[at]), self.cells.digits)}", self)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        begun, self._from = self._from, None
        if begun is None:
            return
        if self.region is not None and self.region.width() > 4 and self.region.height() > 4:
            left, bottom = self._at(self.region.bottomLeft())
            right, top = self._at(self.region.topRight())
            self.marked.emit(left, right, bottom, top)
            return
        self.region = None
        at = self.cell_at(event.position())
        if at >= 0:
            self.pick(at)
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, 1),
                Qt.Key.Key_Down: (0, -1)}.get(Qt.Key(event.key()))
        if step is None or not len(self.cells.boxes):
            if event.key() == Qt.Key.Key_Escape and self.region is not None:
                self.region = None
                self.update()
                return
            super().keyPressEvent(event)
            return
        b = self.cells.boxes
        middle = np.stack([(b[:, 0] + b[:, 1]) / 2, (b[:, 2] + b[:, 3]) / 2], axis=1)
        now = middle[max(0, self.chosen)]
        off = middle - now
        along, across = off @ np.array(step), np.abs(off @ np.array([step[1], step[0]]))
        ahead = np.flatnonzero(along > 1e-6)
        if len(ahead):
            self.pick(int(ahead[np.argmin(along[ahead] + 3 * across[ahead])]))

    def pick(self, cell: int) -> None:
        """Choose a cell as a click does."""
        self.choose(cell)
        self.picked.emit(cell)
