"""What a gate saw, as a small chart under its sentence: bars where it saw a few results, else their distribution."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QWidget

from wolbrin.app.session import Session
from wolbrin.app.theme.theme import Theme, font
from wolbrin.app.theme.tokens import SMALL
from wolbrin.core.measures.wording import number
from wolbrin.core.proving.gate import Gate
from wolbrin.core.store.dossier import Evidence

Floats = NDArray[np.float64]
FEW, BINS = 30, 32
HEIGHT = 58


class GatePicture(QWidget):
    """values: in their order. mark: a value that is marked in their distribution, NaN for none."""

    def __init__(self, theme: Theme, name: str, values: Floats, mark: float) -> None:
        super().__init__()
        self._theme, self._mark = theme, mark
        self._values = values[np.isfinite(values)]
        self._few = len(self._values) <= FEW
        self.setFixedHeight(HEIGHT)
        self.setAccessibleName(f"{name}: {number(len(self._values))} results")
        if len(self._values):
            low, high = float(self._values.min()), float(self._values.max())
            self.setToolTip(f"{number(len(self._values))} results from {number(low)} to {number(high)}")

    def paintEvent(self, event: object) -> None:
        if not len(self._values):
            return
        painter = QPainter(self)
        theme, wide, floor = self._theme, float(self.width()), HEIGHT - 16.0
        if self._few:
            self._bars(painter, wide, floor)
        else:
            ends = [float(self._values.min()), float(self._values.max())]
            if np.isfinite(self._mark):
                ends = [min(ends[0], self._mark), max(ends[1], self._mark)]
            low, high = ends if ends[1] > ends[0] else (ends[0] - 1, ends[0] + 1)
            counts, edges = np.histogram(self._values, BINS, (low, high))
            painter.setPen(Qt.PenStyle.NoPen)
            step = wide / BINS
            for i, count in enumerate(counts.tolist()):
                painter.setBrush(theme.color("gain" if edges[i] >= 0 else "loss", 150))
                tall = floor * count / max(1, counts.max())
                painter.drawRect(QRectF(i * step, floor - tall, step * 0.86, tall))
            if np.isfinite(self._mark):
                x = (self._mark - low) / (high - low) * (wide - 2) + 1
                painter.setPen(theme.pen("accent", 2.0))
                painter.drawLine(QPointF(x, 0), QPointF(x, floor))
            self._ends(painter, wide, number(low), number(high))

    def _bars(self, painter: QPainter, wide: float, floor: float) -> None:
        theme, values = self._theme, self._values
        top, bottom = max(0.0, float(values.max())), min(0.0, float(values.min()))
        span = top - bottom or 1.0
        zero = floor * top / span
        step = wide / len(values)
        painter.setPen(Qt.PenStyle.NoPen)
        for i, value in enumerate(values.tolist()):
            painter.setBrush(theme.color("gain" if value > 0 else "loss", 170))
            tall = floor * abs(value) / span
            painter.drawRect(QRectF(i * step, zero - tall if value > 0 else zero, max(1.0, step - 2), tall))
        painter.setPen(theme.pen("hairline"))
        painter.drawLine(QPointF(0, zero), QPointF(wide, zero))
        self._ends(painter, wide, number(float(values[0])), number(float(values[-1])))

    def _ends(self, painter: QPainter, wide: float, first: str, last: str) -> None:
        painter.setFont(font(SMALL))
        painter.setPen(self._theme.color("muted"))
        box = QRectF(0, HEIGHT - 15, wide, 15)
        painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, first)
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, last)


def picture_of(session: Session, gate: Gate, found: Evidence) -> GatePicture | None:
    """The picture of a verdict; None where its gate keeps none."""
    if gate.picture is None or not found.id:
        return None
    table, name, mark = gate.picture
    values = session.dossiers.table(found.id, table).get(name)
    if values is None or not len(values):
        return None
    marked = found.outcome.get(mark, np.nan) if mark else np.nan
    return GatePicture(session.theme, gate.title, values.astype(np.float64), marked)
