"""Parallel coordinates: every number and the measure as an upright line, a set as a thread across them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPolygonF, QResizeEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from wolbrin.app.charts.painted import Painted
from wolbrin.app.parts import column, label
from wolbrin.app.places.sweep.pictures.base import Picture, digits_of, title_of, values_of
from wolbrin.app.places.sweep.state import Seen
from wolbrin.app.session import Session
from wolbrin.app.theme.theme import Theme, font
from wolbrin.app.theme.tokens import SMALL, blend
from wolbrin.core.measures.wording import number

Floats = NDArray[np.float64]
MOST = 1_500  # threads drawn: the best, and an even part of the others
TOP, BOTTOM, SIDE = 36, 22, 54


class Threads(QWidget):
    """places: float64[n, axes], 0 to 1 along each. picked: a thread; brushed: an axis, from, to (0 to 1)."""

    picked = Signal(int)
    brushed = Signal(int, float, float)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.places: Floats = np.zeros((0, 0))
        self.shade: Floats = np.zeros(0)
        self.titles: list[str] = []
        self.ends: list[tuple[str, str]] = []
        self.chosen = -1
        self._still = Painted(self, self._paint_threads)
        self._from: QPointF | None = None
        self._now: QPointF | None = None
        self.setAccessibleName("Parallel coordinates")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(220, 150)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        theme.changed.connect(self.anew)

    def anew(self) -> None:
        self._still.forget()
        self.update()

    def _x(self, axis: int) -> float:
        return SIDE + axis * (self.width() - 2 * SIDE) / max(1, len(self.titles) - 1)

    def _y(self, place: float) -> float:
        return self.height() - BOTTOM - place * (self.height() - TOP - BOTTOM)

    def _thread(self, row: int) -> QPolygonF:
        return QPolygonF([QPointF(self._x(i), self._y(float(p))) for i, p in enumerate(self.places[row]) if np.isfinite(p)])

    def _paint_threads(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, len(self.places) < 400)
        t = self._theme.tokens
        for row in np.argsort(self.shade, kind="stable").tolist():
            s = float(self.shade[row])
            tint = QColor(blend(t.surface, t.gain if s >= 0.5 else t.loss, 0.15 + 0.8 * abs(2 * s - 1)))
            tint.setAlpha(150)
            painter.setPen(tint)
            painter.drawPolyline(self._thread(row))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        if not len(self.titles):
            return
        painter.drawPixmap(0, 0, self._still.picture())
        painter.setFont(font(SMALL))
        metrics = painter.fontMetrics()
        wide = (self.width() - 2 * SIDE) / max(1, len(self.titles) - 1)
        for i, (title, (low, high)) in enumerate(zip(self.titles, self.ends)):
            x = self._x(i)
            painter.setPen(self._theme.pen("muted"))
            painter.drawLine(QPointF(x, TOP), QPointF(x, self.height() - BOTTOM))
            text = metrics.elidedText(title, Qt.TextElideMode.ElideRight, int(min(wide, 2 * SIDE) - 6))
            painter.drawText(QRectF(x - SIDE, 2, 2 * SIDE, 15), Qt.AlignmentFlag.AlignCenter, text)
            painter.drawText(QRectF(x - SIDE, 18, 2 * SIDE, 15), Qt.AlignmentFlag.AlignCenter, high)
            painter.drawText(QRectF(x - SIDE, self.height() - BOTTOM + 3, 2 * SIDE, 15), Qt.AlignmentFlag.AlignCenter, low)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if 0 <= self.chosen < len(self.places):
            painter.setPen(self._theme.pen("accent", 2.4))
            painter.drawPolyline(self._thread(self.chosen))
        if self._from is not None and self._now is not None:
            painter.setPen(self._theme.pen("accent", 1.5, Qt.PenStyle.DashLine))
            x = self._x(self._axis_at(self._from.x()))
            painter.drawRect(QRectF(QPointF(x - 7, self._from.y()), QPointF(x + 7, self._now.y())).normalized())

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._still.forget()
        super().resizeEvent(event)

    def _axis_at(self, x: float) -> int:
        return int(np.argmin([abs(self._x(i) - x) for i in range(len(self.titles))]))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._from, self._now = event.position(), None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._from is not None and abs(event.position().y() - self._from.y()) > 6:
            self._now = event.position()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        begun, now, self._from, self._now = self._from, self._now, None, None
        self.update()
        if begun is None or not len(self.titles):
            return
        room = self.height() - TOP - BOTTOM
        if now is not None:
            a, b = sorted((self.height() - BOTTOM - p.y()) / room for p in (begun, now))
            self.brushed.emit(self._axis_at(begun.x()), max(0.0, a), min(1.0, b))
            return
        if len(self.places):
            axis = self._axis_at(begun.x())
            off = np.abs(self.places[:, axis] - (self.height() - BOTTOM - begun.y()) / room)
            near = np.flatnonzero(off <= np.nanmin(off) + 1e-9)
            self.picked.emit(int(near[np.argmax(self.shade[near])]))


class Parallel(Picture):
    """For five numbers and more; dragging along a line filters the table."""

    key, title = "parallel", "Parallel"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.threads = Threads(session.theme)
        self.setLayout(column(label("A thread is a set; drag along a line to keep the sets that pass there, click to choose "
                                    "one.", "small"), self.threads, spacing=2))
        self._rows = np.zeros(0, np.int64)
        self._drawn: tuple[object, ...] = ()
        self.threads.picked.connect(lambda i: self.picked.emit(int(self._rows[i])))
        self.threads.brushed.connect(self._brushed)

    def offered(self, seen: Seen) -> bool:
        return len(seen.reading.request.axes) > 1

    def draw(self, fresh: bool) -> None:
        seen = self.seen
        if seen is None:
            return
        state = seen.reading, seen.rows, self.measure
        if self._drawn and all(a is b for a, b in zip(state, self._drawn)):
            here = np.flatnonzero(self._rows == seen.chosen)
            self.threads.chosen = int(here[0]) if len(here) else -1
            self.threads.update()
            return
        self._drawn = state
        r, values = seen.reading, values_of(seen, self.measure)
        rows = seen.rows[np.isfinite(values[seen.rows])]
        if len(rows) > MOST:
            order = rows[np.argsort(-r.score[rows], kind="stable")]
            rows = np.concatenate([order[:MOST // 2], order[MOST // 2:][::max(1, 2 * len(order) // MOST)]])
        self._rows = rows
        axes = r.request.axes
        parts, ends = [], []
        for i, axis in enumerate(axes):
            levels = np.unique(np.concatenate([np.array(axis.values), r.settings[:, i]])) if len(r) else np.array(axis.values)
            parts.append(np.searchsorted(levels, r.settings[rows, i]) / max(1, len(levels) - 1))
            ends.append((axis.shown(float(levels[0])), axis.shown(float(levels[-1]))))
        shown = values[rows]
        low, high = (float(shown.min()), float(shown.max())) if len(shown) else (0.0, 1.0)
        self._span = (low, high)
        parts.append((shown - low) / ((high - low) or 1.0))
        digits = digits_of(seen, self.measure)
        t = self.threads
        t.places = np.stack(parts, axis=1) if len(rows) else np.zeros((0, len(axes) + 1))
        score = r.score[rows]
        known = score[np.isfinite(score)]
        t.shade = np.nan_to_num((score - known.min()) / (np.ptp(known) or 1.0)) if len(known) else np.zeros(len(rows))
        t.titles = [*(a.short for a in axes), title_of(seen, self.measure)]
        t.ends = [*ends, (number(low, digits), number(high, digits))]
        here = np.flatnonzero(rows == seen.chosen)
        t.chosen = int(here[0]) if len(here) else -1
        t.anew()

    def _brushed(self, axis: int, low: float, high: float) -> None:
        seen = self.seen
        if seen is None:
            return
        axes = seen.reading.request.axes
        if axis < len(axes):
            levels = np.unique(np.concatenate([np.array(axes[axis].values), seen.reading.settings[:, axis]]))
            at = np.arange(len(levels)) / max(1, len(levels) - 1)
            inside = levels[(at >= low - 1e-9) & (at <= high + 1e-9)]
            if len(inside):
                self.wanted.emit(axis, f"{inside[0]:g} to {inside[-1]:g}")
        else:
            a, b = self._span
            self.wanted.emit(-1, f"{a + low * (b - a):.6g} to {a + high * (b - a):.6g}")
