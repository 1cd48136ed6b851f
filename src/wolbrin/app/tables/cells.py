"""How cells are painted: directly, since the style's own way takes several times as long and tables are painted often."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSizeF, Qt
from PySide6.QtGui import QColor, QPainter, QPixmap, QPolygonF, QStaticText, QTransform
from PySide6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from wolbrin.app.tables.model import SPARK, Index, TableModel
from wolbrin.app.theme.theme import Theme
from wolbrin.app.theme.tokens import text_token

MARGIN = 9  # between a cell's edge and its text
CHOSEN = QStyle.StateFlag.State_Selected
TEXTS = 4_000  # that are kept laid out
PICTURES = 600  # of equity curves that are kept drawn


class CellDelegate(QStyledItemDelegate):
    """Text on the table's ground, a hairline below; what is chosen on the color of that. Ticks are the style's. Texts are
    laid out once: that is most of the work."""

    def __init__(self, theme: Theme, parent: QWidget) -> None:
        super().__init__(parent)
        self._theme = theme
        self._grid = parent
        self._texts: dict[tuple[str, int], QStaticText] = {}
        self._colors: dict[str, QColor] = {}
        self._hairline = theme.pen("hairline")
        theme.changed.connect(self._forget)

    def _forget(self) -> None:
        self._texts.clear()
        self._colors.clear()
        self._hairline = self._theme.pen("hairline")

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        model: Any = index.model()
        column = model.columns[index.column()] if isinstance(model, TableModel) else None
        if column is None or column.kind == "tick":
            super().paint(painter, option, index)
            return
        rect = option.rect  # type: ignore[attr-defined]
        if option.state & CHOSEN:  # type: ignore[attr-defined]
            painter.fillRect(rect, self._color("selected"))
        painter.setPen(self._hairline)
        painter.drawLine(rect.bottomLeft(), rect.bottomRight())
        row = index.row()
        record = model.record(row) if row < len(model.shown) else None
        if record is None or column.kind != "text":
            return
        text = model.text(column, record)
        if text:
            token = column.tint(record) if column.tint else None
            room = rect.width() - 2 * MARGIN
            laid = self._laid(text, room, option)
            size = laid.size()
            left = rect.left() + MARGIN if column.align == "left" else rect.right() + 1 - MARGIN - size.width()
            painter.setPen(self._color(text_token(token) if token else "ink"))
            painter.setFont(option.font)  # type: ignore[attr-defined]
            painter.drawStaticText(QPointF(left, rect.top() + (rect.height() - size.height()) / 2), laid)

    def _laid(self, text: str, room: int, option: QStyleOptionViewItem) -> QStaticText:
        laid = self._texts.get((text, room))
        if laid is None:
            while len(self._texts) >= TEXTS:
                del self._texts[next(iter(self._texts))]
            shown = option.fontMetrics.elidedText(text, Qt.TextElideMode.ElideRight, room)  # type: ignore[attr-defined]
            laid = self._texts[text, room] = QStaticText(shown)
            laid.setTextFormat(Qt.TextFormat.PlainText)
            laid.prepare(QTransform(), option.font)  # type: ignore[attr-defined]
        return laid

    def _color(self, token: str) -> QColor:
        if token not in self._colors:
            self._colors[token] = self._theme.color(token)
        return self._colors[token]


class SparkDelegate(CellDelegate):
    """Draws a small line of numbers; the zero line is a hairline."""

    def __init__(self, theme: Theme, parent: QWidget) -> None:
        super().__init__(theme, parent)
        self._pictures: dict[Any, QPixmap] = {}

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        super().paint(painter, option, index)
        values = index.data(SPARK)
        if values is None or len(values) < 2:
            return
        area = QRectF(option.rect).adjusted(6, 5, -6, -5)  # type: ignore[attr-defined]
        ratio = self._grid.devicePixelRatioF()
        key = np.asarray(values).tobytes(), area.width(), area.height(), self._theme.tokens.name, ratio
        picture = self._pictures.get(key)
        if picture is None:
            while len(self._pictures) >= PICTURES:
                del self._pictures[next(iter(self._pictures))]
            picture = self._pictures[key] = self._drawn(values, area.size(), ratio)
        painter.drawPixmap(area.topLeft(), picture)

    def _drawn(self, values: Any, size: QSizeF, ratio: float) -> QPixmap:
        """The curve on nothing: drawing its edges smoothly takes far longer than copying it."""
        picture = QPixmap(round(size.width() * ratio), round(size.height() * ratio))
        picture.setDevicePixelRatio(ratio)
        picture.fill(Qt.GlobalColor.transparent)
        painter, area = QPainter(picture), QRectF(QPointF(0, 0), size)
        low, high = min(0.0, float(np.min(values))), max(0.0, float(np.max(values)))
        span = (high - low) or 1.0
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        zero = area.bottom() - (0.0 - low) / span * area.height()
        painter.setPen(self._theme.pen("hairline"))
        painter.drawLine(QPointF(area.left(), zero), QPointF(area.right(), zero))
        painter.setPen(self._theme.pen("ink", 1.2))
        step = area.width() / (len(values) - 1)
        painter.drawPolyline(QPolygonF([QPointF(area.left() + i * step, area.bottom() - (float(v) - low) / span
                                                * area.height()) for i, v in enumerate(values)]))
        painter.end()
        return picture
