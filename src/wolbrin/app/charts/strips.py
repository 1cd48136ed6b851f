"""Strips under a price chart: for each row of a condition, the bars on which it is true."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter

from wolbrin.app.charts.axes import BarAxis, Plot
from wolbrin.app.theme.theme import Theme, font
from wolbrin.app.theme.tokens import SMALL

HEIGHT = 17
COLUMNS = 1200


class StripsItem(pg.GraphicsObject):
    """Runs of true bars as ink blocks, one line a row; only the visible part is painted, a pixel column at most once."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.rows: list[tuple[str, NDArray[np.uint8], bool]] = []
        self._size = 1

    def set_rows(self, rows: list[tuple[str, NDArray[np.uint8], bool]], size: int) -> None:
        self.prepareGeometryChange()
        self.rows, self._size = rows, size
        self.update()

    def boundingRect(self) -> QRectF:
        return QRectF(-1, 0, self._size + 2, max(1, len(self.rows)))

    def paint(self, painter: QPainter, *_: object) -> None:
        view = self.getViewBox()
        if view is None or not self.rows:
            return
        (left, right), _range = view.viewRange()
        first, stop = max(0, int(left) - 1), min(self._size, int(right) + 2)
        if stop <= first:
            return
        step = max(1, (stop - first) // COLUMNS)
        painter.setPen(Qt.PenStyle.NoPen)
        for number, (_name, flags, strong) in enumerate(self.rows):
            part = flags[first:stop]
            if step > 1:
                whole = len(part) // step * step
                part = part[:whole].reshape(-1, step).max(axis=1) if whole else part
            edges = np.flatnonzero(np.diff(np.concatenate(([0], part != 0, [0])).astype(np.int8)))
            painter.setBrush(self._theme.color("accent" if strong else "muted"))
            y = len(self.rows) - 1 - number + 0.22
            painter.drawRects([QRectF(first + a * step - 0.5, y, (b - a) * step, 0.56)
                               for a, b in zip(edges[::2].tolist(), edges[1::2].tolist())])


class StripsChart(Plot):
    """Named strips that move with a price chart."""

    def __init__(self, theme: Theme, name: str) -> None:
        self.item: StripsItem | None = None
        super().__init__(theme, name, BarAxis())
        self.hideAxis("bottom")
        self.getAxis("right").setStyle(showValues=False)
        self.getAxis("right").setTicks([])
        self.item = StripsItem(theme)
        self.addItem(self.item, ignoreBounds=True)

    def show_rows(self, rows: list[tuple[str, NDArray[np.uint8], bool]], size: int) -> None:
        """rows: name, flags uint8[size], and whether it is the whole condition."""
        assert self.item is not None
        self.item.set_rows(rows, size)
        self.setYRange(0, max(1, len(rows)), padding=0)
        self.setFixedHeight(len(rows) * HEIGHT + 4 if rows else 0)
        self.setVisible(bool(rows))
        self.viewport().update()

    def paintEvent(self, event: object) -> None:
        super().paintEvent(event)
        if self.item is None:
            return
        painter = QPainter(self.viewport())
        painter.setFont(font(SMALL))
        metrics = painter.fontMetrics()
        for number, (name, _flags, strong) in enumerate(self.item.rows):
            text = metrics.elidedText(name, Qt.TextElideMode.ElideRight, 300)
            box = QRectF(2, number * HEIGHT + 2, metrics.horizontalAdvance(text) + 6, HEIGHT - 1)
            painter.fillRect(box, self.theme.color("background", 190))
            painter.setPen(self.theme.color("accent" if strong else "ink"))
            painter.drawText(box.adjusted(3, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, text)
