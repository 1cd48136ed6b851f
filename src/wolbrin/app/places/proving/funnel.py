"""The line of gates as narrowing bands: how many stand before and after each. A click or the arrow keys choose a band."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QFont, QKeyEvent, QMouseEvent, QPainter, QPolygonF
from PySide6.QtWidgets import QWidget

from wolbrin.app.places.proving.state import Band
from wolbrin.app.theme.theme import Theme, font
from wolbrin.app.theme.tokens import BODY, SMALL
from wolbrin.core.measures.wording import number

GAP = 12.0
TOP, BOTTOM = 62.0, 146.0


class Funnel(QWidget):
    """picked: the key of a gate."""

    picked = Signal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._bands: list[Band] = []
        self._all = 0
        self.chosen = ""
        self.setFixedHeight(196)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Line of gates")
        self.setToolTip("Click a gate, or walk with the arrow keys, to see its figure over all candidates")
        theme.changed.connect(self.update)

    def show_bands(self, bands: list[Band], everything: int) -> None:
        self._bands, self._all = bands, everything
        self.setAccessibleDescription("; ".join(f"{b.title}: {b.passed} pass, {b.fell} fall" for b in bands))
        self.update()

    def choose(self, key: str) -> None:
        """Mark a gate."""
        self.chosen = key
        self.update()

    @property
    def _width(self) -> float:
        return (self.width() - GAP * len(self._bands) - 4) / (len(self._bands) + 1)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = int(event.position().x() // (self._width + GAP)) - 1
        if 0 <= at < len(self._bands):
            self.picked.emit(self._bands[at].key)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if step is None or not self._bands:
            super().keyPressEvent(event)
            return
        keys = [b.key for b in self._bands]
        at = keys.index(self.chosen) + step if self.chosen in keys else 0
        self.picked.emit(keys[max(0, min(len(keys) - 1, at))])

    def paintEvent(self, event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        first = Band("", "Shelf", "candidates ticked", self._all, self._all, 0, 0, False)
        for i, band in enumerate([first, *self._bands]):
            self._paint(painter, i * (self._width + GAP), band, i == 0)
        if self.hasFocus():
            painter.setPen(self._theme.pen("accent", 1.0))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(0.5, 0.5, self.width() - 1, self.height() - 1))

    def _paint(self, painter: QPainter, x: float, band: Band, shelf: bool) -> None:
        theme, width, wide = self._theme, self._width, self._width + GAP - 4
        painter.setFont(font(BODY, QFont.Weight.DemiBold))
        painter.setPen(theme.color("accent" if band.key and band.key == self.chosen else "ink"))
        if painter.fontMetrics().horizontalAdvance(band.title) > wide:
            painter.setFont(font(SMALL, QFont.Weight.DemiBold))
        title = painter.fontMetrics().elidedText(band.title, Qt.TextElideMode.ElideRight, int(wide))
        painter.drawText(QRectF(x, 2, wide, 18), Qt.AlignmentFlag.AlignVCenter, title)
        painter.setFont(font(SMALL))
        painter.setPen(theme.color("muted"))
        painter.drawText(QRectF(x, 20, wide, 40), Qt.TextFlag.TextWordWrap | Qt.AlignmentFlag.AlignTop, band.threshold)
        whole = max(1, self._all)
        left = (BOTTOM - TOP) * band.entered / whole
        right = (BOTTOM - TOP) * band.passed / whole
        painter.setPen(Qt.PenStyle.NoPen)
        judged = band.passed + band.fell + band.unsure > 0 or shelf
        if judged:
            painter.setBrush(theme.color("bar"))
            painter.drawPolygon(QPolygonF([QPointF(x, BOTTOM - left), QPointF(x + width, BOTTOM - right),
                                           QPointF(x + width, BOTTOM), QPointF(x, BOTTOM)]))
        else:
            box = QRectF(x, BOTTOM - max(left, 8.0), width, max(left, 8.0))
            painter.setBrush(theme.color("holdout"))
            painter.drawRect(box)
            painter.setBrush(theme.hatch())
            painter.drawRect(box)
        if band.key and band.key == self.chosen:
            painter.setBrush(theme.color("accent"))
            painter.drawRect(QRectF(x, BOTTOM + 1, width, 2))
        painter.setFont(font(BODY, QFont.Weight.DemiBold))
        painter.setPen(theme.color("ink" if judged else "accent"))
        words = number(self._all) if shelf else f"{number(band.passed)} pass" if judged else (
            "sealed" if band.sealed else f"{number(band.entered)} wait")
        painter.drawText(QRectF(x, BOTTOM + 5, wide, 18), Qt.AlignmentFlag.AlignVCenter, words)
        lost = [f"{number(n)} {word}" for n, word in ((band.fell, "fall"), (band.unsure, "unsure")) if n]
        if lost:
            painter.setFont(font(SMALL))
            painter.setPen(theme.color("loss_text" if band.fell else "caution_text"))
            painter.drawText(QRectF(x, BOTTOM + 23, wide, 16), Qt.AlignmentFlag.AlignVCenter, ", ".join(lost))
