"""Painted grids: the sweep's heat map and the correlation matrix."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from wolbrin.app.theme.theme import Theme, font
from wolbrin.app.theme.tokens import SMALL, blend
from wolbrin.core.measures.wording import number

Floats = NDArray[np.float64]


class Grid(QWidget):
    """Rows x columns of numbers as tinted cells on one diverging ramp: rust - paper - petrol, centered on `center`.

    `picked` gives (row, column) of a cell clicked or moved to with the arrow keys.
    """

    picked = Signal(int, int)

    def __init__(self, theme: Theme, name: str) -> None:
        super().__init__()
        self._theme = theme
        self.values: Floats = np.zeros((0, 0))
        self.rows: list[str] = []
        self.columns: list[str] = []
        self.titles = ("", "")
        self.center = 0.0
        self.digits = 2
        self.chosen: tuple[int, int] | None = None
        self.left = 64
        self.show_numbers = False
        self.strong: tuple[float, float] | None = None
        self.outlined: NDArray[np.bool_] | None = None
        self.setAccessibleName(name)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumSize(200, 140)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        theme.changed.connect(self.update)

    def show_grid(self, values: Floats, rows: list[str], columns: list[str], titles: tuple[str, str] = ("", ""), *,
                  center: float = 0.0, digits: int = 2, numbers: bool = False, left: int = 64,
                  strong: tuple[float, float] | None = None, outlined: NDArray[np.bool_] | None = None) -> None:
        """values: float64[rows, columns], NaN for an empty cell. strong: thresholds for a notable and a strong mark.
        outlined: bool[rows, columns], cells that belong together."""
        self.values, self.rows, self.columns, self.titles = values, rows, columns, titles
        self.center, self.digits, self.show_numbers, self.left, self.strong = center, digits, numbers, left, strong
        self.chosen, self.outlined = None, outlined
        self.update()

    def choose(self, row: int, column: int) -> None:
        self.chosen = (row, column)
        self.update()

    def _area(self) -> QRectF:
        top = 22 if self.titles[0] else 6
        return QRectF(self.left, top, max(10, self.width() - self.left - 8), max(10, self.height() - top - 34))

    def cell(self, row: int, column: int) -> QRectF:
        area = self._area()
        w, h = area.width() / max(1, len(self.columns)), area.height() / max(1, len(self.rows))
        return QRectF(area.left() + column * w, area.bottom() - (row + 1) * h, w, h)

    def _at(self, point: QPointF) -> tuple[int, int] | None:
        area = self._area()
        if not area.contains(point) or not self.values.size:
            return None
        column = int((point.x() - area.left()) / area.width() * len(self.columns))
        row = int((area.bottom() - point.y()) / area.height() * len(self.rows))
        return min(row, len(self.rows) - 1), min(column, len(self.columns) - 1)

    def tint(self, value: float) -> QColor:
        tokens = self._theme.tokens
        finite = self.values[np.isfinite(self.values)]
        reach = float(np.max(np.abs(finite - self.center))) if finite.size else 1.0
        share = min(1.0, abs(value - self.center) / (reach or 1.0))
        return QColor(blend(tokens.surface, tokens.gain if value >= self.center else tokens.loss, 0.08 + 0.82 * share))

    def paintEvent(self, event: object) -> None:
        painter = QPainter(self)
        painter.setFont(font(SMALL))
        metrics = painter.fontMetrics()
        if not self.values.size:
            return
        for r in range(len(self.rows)):
            for c in range(len(self.columns)):
                value, cell = float(self.values[r, c]), self.cell(r, c)
                inner = cell.adjusted(0.5, 0.5, -0.5, -0.5)
                if math.isnan(value):
                    painter.fillRect(inner, self._theme.color("hairline", 70))
                    continue
                painter.fillRect(inner, self.tint(value))
                text = number(value, self.digits) if self.show_numbers and cell.width() > 34 else ""
                if self.strong and r != c and abs(value) >= self.strong[0]:
                    mark = "\u2021" if abs(value) >= self.strong[1] else "\u2020"
                    text = f"{text} {mark}" if cell.width() > 46 or not text else mark
                if text:
                    dark = self.tint(value).lightness() < 128
                    light = self._theme.tokens.name == "paper"
                    painter.setPen(self._theme.color("surface" if dark == light else "ink"))
                    painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, text)
        self._paint_outline(painter)
        painter.setPen(self._theme.color("muted"))
        area = self._area()
        every = max(1, math.ceil(len(self.columns) * (max((metrics.horizontalAdvance(c) for c in self.columns),
                                                          default=10) + 10) / area.width()))
        for c in range(0, len(self.columns), every):
            cell = self.cell(0, c)
            box = QRectF(cell.center().x() - 70, area.bottom() + 2, 140, 14)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, self.columns[c])
        every = max(1, math.ceil(len(self.rows) * 15 / area.height()))
        for r in range(0, len(self.rows), every):
            cell = self.cell(r, 0)
            text = metrics.elidedText(self.rows[r], Qt.TextElideMode.ElideRight, self.left - 10)
            painter.drawText(QRectF(0, cell.top(), self.left - 6, cell.height()),
                             Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)
        painter.drawText(QRectF(area.left(), self.height() - 17, area.width(), 15),
                         Qt.AlignmentFlag.AlignCenter, self.titles[1])
        painter.drawText(QRectF(4, 2, self.width() - 8, 16), Qt.AlignmentFlag.AlignLeft, self.titles[0])
        if self.chosen:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(self._theme.pen("accent", 2.5 if self.hasFocus() else 2))
            painter.drawRect(self.cell(*self.chosen).adjusted(1, 1, -1, -1))

    def _paint_outline(self, painter: QPainter) -> None:
        """A line around the cells that belong together."""
        marked = self.outlined
        if marked is None or marked.shape != self.values.shape:
            return
        painter.setPen(self._theme.pen("ink", 2))
        wide = np.pad(marked, 1)
        for r, c in np.argwhere(marked):
            cell = self.cell(int(r), int(c))
            for there, a, b in ((wide[r + 2, c + 1], cell.topLeft(), cell.topRight()),
                                (wide[r, c + 1], cell.bottomLeft(), cell.bottomRight()),
                                (wide[r + 1, c], cell.topLeft(), cell.bottomLeft()),
                                (wide[r + 1, c + 2], cell.topRight(), cell.bottomRight())):
                if not there:
                    painter.drawLine(a, b)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = self._at(event.position())
        if at is not None:
            self.pick(*at)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        at = self._at(event.position())
        if at is not None:
            value = number(float(self.values[at]), self.digits)
            QToolTip.showText(event.globalPosition().toPoint(),
                              f"{self.rows[at[0]]} \u00b7 {self.columns[at[1]]}: {value}", self)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Left: (0, -1), Qt.Key.Key_Right: (0, 1), Qt.Key.Key_Up: (1, 0),
                Qt.Key.Key_Down: (-1, 0)}.get(Qt.Key(event.key()))
        if step is None or not self.values.size:
            super().keyPressEvent(event)
            return
        row, column = self.chosen or (0, 0)
        self.pick(int(np.clip(row + step[0], 0, len(self.rows) - 1)),
                   int(np.clip(column + step[1], 0, len(self.columns) - 1)))

    def pick(self, row: int, column: int) -> None:
        self.choose(row, column)
        self.picked.emit(row, column)
