"""The line of gates as narrowing bands: how many stand before and after each."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFont, QPainter, QPolygonF
from PySide6.QtWidgets import QWidget

from wolbrin.app.places.proving.state import Band
from wolbrin.app.theme.theme import Theme, font
from wolbrin.app.theme.tokens import BODY, SMALL
from wolbrin.core.measures.wording import number


class Funnel(QWidget):
    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._bands: list[Band] = []
        self._all = 0
        self.setFixedHeight(196)
        self.setAccessibleName("Line of gates")
        theme.changed.connect(self.update)

    def show_bands(self, bands: list[Band], everything: int) -> None:
        self._bands, self._all = bands, everything
        self.setAccessibleDescription("; ".join(f"{b.title}: {b.passed} pass, {b.fell} fall" for b in bands))
        self.update()

    def paintEvent(self, event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        theme = self._theme
        count = len(self._bands) + 1
        gap = 26.0
        width = (self.width() - gap * (count - 1) - 12) / count
        top, bottom = 42.0, 150.0
        first = Band("Shelf", "candidates ticked", self._all, self._all, 0, False)
        for i, band in enumerate([first, *self._bands]):
            x = i * (width + gap)
            painter.setFont(font(BODY, QFont.Weight.DemiBold))
            painter.setPen(theme.color("ink"))
            painter.drawText(QRectF(x, 0, width, 18), Qt.AlignmentFlag.AlignVCenter, band.title)
            painter.setFont(font(SMALL))
            painter.setPen(theme.color("muted"))
            text = painter.fontMetrics().elidedText(band.threshold, Qt.TextElideMode.ElideRight, int(width + gap - 4))
            painter.drawText(QRectF(x, 18, width + gap, 16), Qt.AlignmentFlag.AlignVCenter, text)
            whole = max(1, self._all)
            left = (bottom - top) * band.entered / whole
            right = (bottom - top) * band.passed / whole
            painter.setPen(Qt.PenStyle.NoPen)
            judged = band.passed + band.fell > 0 or i == 0
            if judged:
                painter.setBrush(theme.color("bar"))
                painter.drawPolygon(QPolygonF([QPointF(x, bottom - left), QPointF(x + width, bottom - right),
                                               QPointF(x + width, bottom), QPointF(x, bottom)]))
            else:
                box = QRectF(x, bottom - max(left, 8.0), width, max(left, 8.0))
                painter.setBrush(theme.color("holdout"))
                painter.drawRect(box)
                painter.setBrush(theme.hatch())
                painter.drawRect(box)
            painter.setFont(font(BODY, QFont.Weight.DemiBold))
            painter.setPen(theme.color("ink" if judged else "accent"))
            words = f"{number(band.passed)} pass" if judged and i else (
                number(self._all) if not i else "sealed" if band.sealed else f"{number(band.entered)} wait")
            painter.drawText(QRectF(x, bottom + 4, width, 18), Qt.AlignmentFlag.AlignVCenter, words)
            if band.fell:
                painter.setFont(font(SMALL))
                painter.setPen(theme.color("loss_text"))
                painter.drawText(QRectF(x, bottom + 22, width, 16), Qt.AlignmentFlag.AlignVCenter,
                                 f"{number(band.fell)} fall")
