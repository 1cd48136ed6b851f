"""Maps of a scan: families of rows by how long they are held, and the clock of a week. Beyond luck is deep, the rest is
pale."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter

from wolbrin.app.charts.cells import BOTTOM, CellChart, Cells
from wolbrin.app.theme.theme import Theme, font
from wolbrin.app.theme.tokens import SMALL, blend
from wolbrin.core.measures.wording import number

Floats = NDArray[np.float64]
PALE, DEEP = 0.16, 0.92  # of the ramp: up to luck, and from there on
FULL = 2.0  # times what luck reaches, from which a color is at its deepest


class LuckMap(CellChart):
    """Cells of t with sign: petrol rises, rust falls. What luck reaches as well is pale; from there on color is the deeper
    the further beyond, and a line is drawn around it. names_wide: pixels for the names at the left."""

    def __init__(self, theme: Theme, name: str, names_wide: int) -> None:
        super().__init__(theme, name)
        self.names_wide = names_wide
        self.hurdles: Floats = np.zeros(0)

    def show_t(self, t: Floats, hurdles: Floats, names: list[str], columns: list[str], rows: list[str], x_title: str,
               y_title: str) -> None:
        """t: float64[rows, columns] with sign, NaN for none; hurdles: the same, what luck reaches there, NaN while unknown;
        names: of each cell, row by row."""
        down, across = t.shape
        boxes = np.array([[c / across, (c + 1) / across, (down - r - 1) / down, (down - r) / down]
                          for r in range(down) for c in range(across)]).reshape(-1, 4)
        self.hurdles = hurdles.reshape(-1)
        values = t.reshape(-1)
        with np.errstate(invalid="ignore"):
            outlined = np.abs(values) > self.hurdles
        self.show_cells(Cells(boxes, values, names, [((c + 0.5) / across, text) for c, text in enumerate(columns)],
                              [((down - r - 0.5) / down, text) for r, text in enumerate(rows)], x_title=x_title,
                              y_title=y_title, outlined=outlined, digits=1), self.chosen)

    def _area(self) -> QRectF:
        return QRectF(self.names_wide, 20, max(10, self.width() - self.names_wide - 10),
                      max(10, self.height() - 20 - BOTTOM))

    def tints(self) -> list[QColor]:
        t = self._theme.tokens
        out = []
        for value, hurdle in zip(self.cells.values.tolist(), self.hurdles.tolist()):
            if not math.isfinite(value):
                out.append(self._theme.color("hairline", 60))
                continue
            reach = abs(value) / hurdle if hurdle == hurdle and hurdle > 0 else abs(value) / 5.0
            share = PALE * min(1.0, reach)
            if reach > 1.0 and hurdle == hurdle:
                share = 0.45 + (DEEP - 0.45) * min(1.0, (reach - 1.0) / (FULL - 1.0))
            out.append(QColor(blend(t.surface, t.gain if value >= 0 else t.loss, share)))
        return out

    def _paint_names(self, painter: QPainter) -> None:
        super()._paint_names(painter)
        if not np.isfinite(self.hurdles).any():
            return
        known = self.hurdles[np.isfinite(self.hurdles)]
        low, high = float(known.min()), float(known.max())
        told = number(low, 1) if high - low < 0.05 else f"{number(low, 1)} to {number(high, 1)}"
        painter.setFont(font(SMALL))
        painter.setPen(self._theme.color("muted"))
        text = f"outlined: beyond luck (|t| above {told})"
        painter.drawText(QRectF(4, 2, self.width() - 14, 16), Qt.AlignmentFlag.AlignRight, text)
