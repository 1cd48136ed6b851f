"""A matrix of correlations beside the tree that orders it, cut where the user drags."""

from __future__ import annotations

import math
from collections.abc import Callable
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from wolbrin.app.charts.painted import Painted
from wolbrin.app.theme.theme import Theme, font
from wolbrin.app.theme.tokens import SMALL
from wolbrin.core.measures.wording import number

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
TREE, NAMES, LONG_NAMES, ROW = 120, 170, 330, 15
LEVELS = 511  # of the ramp
SMOOTH = 120  # leaves, beyond which the tree's lines are too close to be smoothed
NEAR = 6  # pixels around the cut in which it is taken hold of


def _rgb(color: str) -> Floats:
    one = QColor(color)
    return np.array([one.red(), one.green(), one.blue()], np.float64)


class MatrixTree(QWidget):
    """describe: what else a cell says, such as ", p 0.03, 120 weeks"; shown in cells with room for it. picked: row and
    column, in the order given, of a cell clicked or moved to with the arrow keys. cut_at: correlation at which the tree is
    cut, while it is dragged and after."""

    picked = Signal(int, int)
    cut_at = Signal(float)

    def __init__(self, theme: Theme, name: str) -> None:
        super().__init__()
        self._theme = theme
        self.matrix: Floats = np.zeros((0, 0))
        self.names: list[str] = []
        self.describe: Callable[[int, int], str] | None = None
        self.order: Ints = np.zeros(0, np.int64)
        self.tree: Floats = np.zeros((0, 4))
        self.clusters: Ints = np.zeros(0, np.int64)
        self.cut = 0.4
        self.marks = (0.4, 0.7)
        self.apart = False
        self.chosen: tuple[int, int] | None = None
        self._image: QImage | None = None
        self._still = Painted(self, self._paint_still)  # all that does not move with the pointer
        self._pixels: NDArray[np.uint32] = np.zeros((0, 0), np.uint32)
        self._dragging = False
        self.setAccessibleName(name)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumSize(320, 220)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        theme.changed.connect(self._restyle)

    def show_matrix(self, matrix: Floats, names: list[str], order: Ints, tree: Floats, clusters: Ints, cut: float,
                    marks: tuple[float, float], apart: bool = False) -> None:
        """matrix: float64[n, n], NaN for none; order: int64[n] rows from the top; tree: linkage matrix over 1 - correlation;
        marks: a notable and a strong correlation; apart: whether strongly negative ones are marked too."""
        self.matrix, self.names, self.order, self.tree = matrix, names, order, tree
        self.clusters, self.cut, self.marks, self.apart = clusters, cut, marks, apart
        self.chosen = None
        self._restyle()

    def set_clusters(self, clusters: Ints, cut: float) -> None:
        """The tree is cut elsewhere."""
        self.clusters, self.cut = clusters, cut
        self._still.forget()
        self.update()

    def _restyle(self) -> None:
        """Paint the cells into an image of one pixel each."""
        self._image = None
        self._still.forget()
        n = len(self.order)
        if n:
            tokens = self._theme.tokens
            base, up, down, gone = (_rgb(c) for c in (tokens.surface, tokens.gain, tokens.loss, tokens.hairline))
            level = np.linspace(-1.0, 1.0, LEVELS)[:, None]
            ramp = base * (1 - 0.86 * np.abs(level)) + np.where(level >= 0, up, down) * 0.86 * np.abs(level)
            parts = np.vstack([ramp, gone]).astype(np.uint32)
            colors = (parts @ np.array([1 << 16, 1 << 8, 1], np.uint32)) + np.uint32(0xFF000000)
            values = self.matrix[np.ix_(self.order, self.order)]
            at = np.nan_to_num((values + 1.0) * ((LEVELS - 1) / 2), nan=LEVELS).astype(np.int16)
            self._pixels = np.ascontiguousarray(colors.astype(np.uint32)[at])
            self._image = QImage(self._pixels.data, n, n, 4 * n, QImage.Format.Format_RGB32)
        self.update()

    # Where things are

    def _names_width(self) -> int:
        """Room for names: more where there is more, at most a quarter."""
        return max(NAMES, min(LONG_NAMES, self.width() // 4))

    def area(self) -> QRectF:
        """The cells."""
        left = self._names_width()
        return QRectF(left, 4, max(10, self.width() - left - TREE - 6), max(10, self.height() - 24))

    def _tree_area(self) -> QRectF:
        area = self.area()
        return QRectF(area.right() + 4, area.top(), TREE - 4, area.height())

    def _lowest(self) -> float:
        """The correlation at the far end of the tree."""
        return min(0.0, 1.0 - float(self.tree[:, 2].max())) if len(self.tree) else 0.0

    def _x_of(self, correlation: float) -> float:
        area, low = self._tree_area(), self._lowest()
        return area.left() + (1.0 - correlation) / (1.0 - low) * area.width()

    def cut_line(self) -> float:
        """Where the cut stands, pixels from the left."""
        return self._x_of(self.cut)

    def cell(self, row: int, column: int) -> QRectF:
        """A cell by its place in the order."""
        area, n = self.area(), max(1, len(self.order))
        w, h = area.width() / n, area.height() / n
        return QRectF(area.left() + column * w, area.top() + row * h, w, h)

    def at(self, point: QPointF) -> tuple[int, int] | None:
        """Which cell lies under a point."""
        area, n = self.area(), len(self.order)
        if not area.contains(point) or not n:
            return None
        return (min(n - 1, int((point.y() - area.top()) / area.height() * n)),
                min(n - 1, int((point.x() - area.left()) / area.width() * n)))

    # Painting

    def paintEvent(self, event: object) -> None:
        painter = QPainter(self)
        if self._image is None:
            return
        painter.drawPixmap(0, 0, self._still.picture())
        area = self._tree_area()
        if len(self.order) > 1:
            painter.setPen(self._theme.pen("accent", 2.0 if self._dragging else 1.4, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(self.cut_line(), area.top()), QPointF(self.cut_line(), area.bottom()))
        if self.chosen is not None:
            painter.setPen(self._theme.pen("accent", 2.5 if self.hasFocus() else 2))
            cell = self.cell(*self.chosen)
            grown = max(0.0, (7 - cell.width()) / 2)
            painter.drawRect(cell.adjusted(-grown, -grown, grown, grown))

    def _paint_still(self, painter: QPainter) -> None:
        assert self._image is not None
        painter.setFont(font(SMALL))
        area = self.area()
        painter.drawImage(area, self._image)
        self._paint_numbers(painter)
        self._paint_clusters(painter)
        self._paint_names(painter, area, len(self.order))
        self._paint_tree(painter)

    def _paint_numbers(self, painter: QPainter) -> None:
        n = len(self.order)
        cell = self.cell(0, 0)
        if cell.width() < 9 or cell.height() < 9:
            return
        roomy = cell.width() > 64 and cell.height() > 44 and self.describe is not None
        for r in range(n):
            for c in range(n):
                value = float(self.matrix[self.order[r], self.order[c]])
                if math.isnan(value) or r == c:
                    continue
                size = abs(value) if self.apart else value
                mark = "\u2021" if size >= self.marks[1] else "\u2020" if size >= self.marks[0] else ""
                text = number(value, 2) if cell.width() > 30 and cell.height() > 12 else ""
                text = f"{text}{mark}" if cell.width() > 40 or not text else text
                if roomy and self.describe is not None:
                    text += self.describe(int(self.order[r]), int(self.order[c])).replace(", ", "\n")
                if text:
                    painter.setPen(self._theme.color("surface" if abs(value) > 0.55 else "ink"))
                    painter.drawText(self.cell(r, c), Qt.AlignmentFlag.AlignCenter, text)

    def _paint_clusters(self, painter: QPainter) -> None:
        """A line around what hangs together where the tree is cut."""
        painter.setPen(self._theme.pen("ink", 1.4))
        kinds = self.clusters[self.order]
        edges = [0, *(np.flatnonzero(np.diff(kinds)) + 1).tolist(), len(kinds)]
        area, n = self.area(), max(1, len(kinds))
        wide, high = area.width() / n, area.height() / n
        painter.drawRects([QRectF(area.left() + a * wide, area.top() + a * high, (b - a) * wide, (b - a) * high)
                           for a, b in pairwise(edges) if b - a > 1])

    def _paint_names(self, painter: QPainter, area: QRectF, n: int) -> None:
        painter.setPen(self._theme.color("muted"))
        metrics = painter.fontMetrics()
        every = max(1, math.ceil(n * ROW / area.height()))
        for r in range(0, n, every):
            text = metrics.elidedText(self.names[self.order[r]], Qt.TextElideMode.ElideRight, self._names_width() - 8)
            painter.drawText(QRectF(0, area.top() + (r + 0.5) * area.height() / n - 8, self._names_width() - 6, 16),
                             Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)
        tree = self._tree_area()
        painter.drawText(QRectF(tree.left() - 60, area.bottom() + 3, TREE + 56, 16), Qt.AlignmentFlag.AlignRight,
                         f"cut at {number(self.cut, 2)}: {int(self.clusters.max(initial=0))} clusters")

    def _paint_tree(self, painter: QPainter) -> None:
        n = len(self.order)
        if n < 2:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, n <= SMOOTH)
        cells, tree, low = self.area(), self._tree_area(), self._lowest()
        place = np.empty(n)
        place[self.order] = cells.top() + (np.arange(n) + 0.5) * cells.height() / n
        ys, xs = place.tolist(), [tree.left()] * n
        along = (tree.left() + self.tree[:, 2] / (1.0 - low) * tree.width()).tolist()
        lines: tuple[list[QLineF], list[QLineF]] = ([], [])
        for a, b, x, far in zip(self.tree[:, 0].astype(int).tolist(), self.tree[:, 1].astype(int).tolist(), along,
                                self.tree[:, 2].tolist()):
            lines[1.0 - far >= self.cut].extend((QLineF(xs[a], ys[a], x, ys[a]), QLineF(x, ys[a], x, ys[b]),
                                                 QLineF(xs[b], ys[b], x, ys[b])))
            ys.append((ys[a] + ys[b]) / 2)
            xs.append(x)
        for inside, some in enumerate(lines):
            painter.setPen(self._theme.pen("ink" if inside else "muted", 1.2 if inside else 0.8))
            painter.drawLines(some)

    # Hands and keys

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self._tree_area().adjusted(-2, 0, 6, 0).contains(event.position()):
            self._dragging = True
            self._drag(event.position())
            return
        found = self.at(event.position())
        if found is not None:
            self.pick(*found)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._dragging = False
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._dragging:
            self._drag(event.position())
            return
        near = abs(event.position().x() - self.cut_line()) <= NEAR and len(self.tree) > 0
        self.setCursor(Qt.CursorShape.SplitHCursor if near else Qt.CursorShape.ArrowCursor)
        found = self.at(event.position())
        if found is not None:
            QToolTip.showText(event.globalPosition().toPoint(), self.words_of(*found), self)

    def words_of(self, row: int, column: int) -> str:
        """What a cell says."""
        i, j = int(self.order[row]), int(self.order[column])
        more = self.describe(i, j) if self.describe is not None else ""
        return f"{self.names[i]} \u00b7 {self.names[j]}: {number(float(self.matrix[i, j]), 2)}{more}"

    def _drag(self, point: QPointF) -> None:
        area, low = self._tree_area(), self._lowest()
        self.cut_to(1.0 - (point.x() - area.left()) / area.width() * (1.0 - low))

    def cut_to(self, correlation: float) -> None:
        """Cut the tree at a correlation."""
        self.cut = round(min(0.99, max(self._lowest(), correlation)), 2)
        self.cut_at.emit(self.cut)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = Qt.Key(event.key())
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus, Qt.Key.Key_Equal):
            self.cut_to(self.cut + (-0.05 if key is Qt.Key.Key_Minus else 0.05))
            return
        step = {Qt.Key.Key_Left: (0, -1), Qt.Key.Key_Right: (0, 1), Qt.Key.Key_Up: (-1, 0),
                Qt.Key.Key_Down: (1, 0)}.get(key)
        if step is None or not len(self.order):
            super().keyPressEvent(event)
            return
        row, column = self.chosen or (0, 0)
        top = len(self.order) - 1
        self.pick(int(np.clip(row + step[0], 0, top)), int(np.clip(column + step[1], 0, top)))

    def pick(self, row: int, column: int) -> None:
        """Choose a cell by its place in the order."""
        self.chosen = (row, column)
        self.update()
        self.picked.emit(row, column)
