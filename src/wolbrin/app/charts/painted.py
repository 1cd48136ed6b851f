"""What a widget paints once and copies until it changes, so that what moves over it costs little."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter, QPixmap
from PySide6.QtWidgets import QWidget


class Painted:
    """A picture of a widget's size. paint: draws it, with a painter in the widget's coordinates."""

    def __init__(self, widget: QWidget, paint: Callable[[QPainter], None]) -> None:
        self._widget, self._paint = widget, paint
        self._picture: QPixmap | None = None

    def forget(self) -> None:
        """It is painted anew when it is next wanted."""
        self._picture = None

    def picture(self) -> QPixmap:
        """As it is now, at the screen's resolution."""
        ratio, size = self._widget.devicePixelRatioF(), self._widget.size()
        if self._picture is None or self._picture.size() != size * ratio:
            self._picture = QPixmap(size * ratio)
            self._picture.setDevicePixelRatio(ratio)
            self._picture.fill(Qt.GlobalColor.transparent)
            painter = QPainter(self._picture)
            self._paint(painter)
            painter.end()
        return self._picture
