"""Equity of the chosen, the marked and the pinned sets beside each other."""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from wolbrin.app.parts import column, label
from wolbrin.app.places.sweep.pictures.base import Picture
from wolbrin.app.session import Session
from wolbrin.app.theme.theme import Theme, font
from wolbrin.app.theme.tokens import SMALL
from wolbrin.core.errors import WolbrinError
from wolbrin.core.measures.wording import worded
from wolbrin.core.search.candidate import Candidate
from wolbrin.core.work.sweep_results import SweepResult
from wolbrin.core.work.sweep_sets import candidate_from_sweep

MOST = 12
KEPT = 200
FIGURES = ("net", "max_drawdown", "profit_factor", "trades")


@dataclass(frozen=True)
class Thumbnail:
    """A set's equity: its name, curve (account money above the capital), figures, and its row."""

    row: int
    name: str
    curve: NDArray[np.float32]
    words: str


class Thumbnails(QWidget):
    """Small curves on one scale. picked: which."""

    picked = Signal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.items: list[Thumbnail] = []
        self.chosen = -1
        self.setAccessibleName("Equity of chosen sets")
        self.setMinimumSize(220, 150)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        theme.changed.connect(self.update)

    def _boxes(self) -> list[QRectF]:
        n = max(1, len(self.items))
        columns = min(n, max(1, self.width() // 260))
        rows = -(-n // columns)
        w, h = self.width() / columns, self.height() / rows
        return [QRectF(i % columns * w, i // columns * h, w, h).adjusted(3, 3, -3, -3) for i in range(n)]

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(SMALL))
        if not self.items:
            return
        low = min(0.0, *(float(i.curve.min()) for i in self.items))
        high = max(0.0, *(float(i.curve.max()) for i in self.items))
        span = (high - low) or 1.0
        metrics = painter.fontMetrics()
        for item, box in zip(self.items, self._boxes()):
            painter.setPen(self._theme.pen("accent", 2) if item.row == self.chosen else self._theme.pen("hairline"))
            painter.drawRect(box)
            area = box.adjusted(6, 18, -6, -18)
            zero = area.bottom() - (0.0 - low) / span * area.height()
            painter.setPen(self._theme.pen("hairline"))
            painter.drawLine(QPointF(area.left(), zero), QPointF(area.right(), zero))
            step = area.width() / max(1, len(item.curve) - 1)
            painter.setPen(self._theme.pen("ink", 1.4))
            painter.drawPolyline(QPolygonF([QPointF(area.left() + i * step, area.bottom() - (float(v) - low) / span
                                                    * area.height()) for i, v in enumerate(item.curve)]))
            painter.setPen(self._theme.color("ink"))
            for text, y in ((item.name, box.top() + 2), (item.words, box.bottom() - 16)):
                painter.drawText(QRectF(box.left() + 6, y, box.width() - 12, 15), Qt.AlignmentFlag.AlignLeft,
                                 metrics.elidedText(text, Qt.TextElideMode.ElideRight, int(box.width() - 12)))
                painter.setPen(self._theme.color("muted"))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for item, box in zip(self.items, self._boxes()):
            if box.contains(event.position()):
                self.picked.emit(item.row)
                return


class Equity(Picture):
    """Runs the sets anew, beside the window."""

    key, title = "equity", "Equity"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.grid = Thumbnails(session.theme)
        self.grid.picked.connect(self.picked)
        self.hint = label("", "small")
        self.setLayout(column(self.hint, self.grid, spacing=2))
        self.result: SweepResult | None = None
        self._known: OrderedDict[tuple[int, tuple[float, ...]], Candidate] = OrderedDict()

    def draw(self, fresh: bool) -> None:
        seen, result = self.seen, self.result
        if seen is None or result is None or not self.isVisible():
            return
        chosen = (seen.chosen,) if seen.chosen >= 0 else ()
        rows = list(dict.fromkeys([*chosen, *seen.pinned, *seen.marked]))[:MOST]
        alone = "Pin sets (P), or mark several in the table, to see them beside each other."
        self.hint.setText(alone if len(rows) < 2 else "")
        sets = [seen.reading.values(r) for r in rows]
        missing = [v for v in sets if (result.search, v) not in self._known]

        def done(found: Any) -> None:
            if isinstance(found, WolbrinError):
                self.hint.setText(found.sentence())
                return
            for values, candidate in found:
                self._known[result.search, values] = candidate
                while len(self._known) > KEPT:
                    self._known.popitem(last=False)
            self._show(rows, sets, result)

        if missing:
            project = self.session.project

            def work() -> Any:
                try:
                    return [(v, candidate_from_sweep(project, result, v)) for v in missing]
                except WolbrinError as err:
                    return err

            self.session.compute("Equity of sets", work, done, "sweep equity")
        else:
            self._show(rows, sets, result)

    def _show(self, rows: list[int], sets: list[tuple[float, ...]], result: SweepResult) -> None:
        items = []
        for r, values in zip(rows, sets):
            c = self._known.get((result.search, values))
            if c is not None:
                figures = ", ".join(f"{k.replace('_', ' ')} {worded(k, c.summary[k])}" for k in FIGURES)
                items.append(Thumbnail(r, result.request.space.words(values), c.spark, figures))
        self.grid.items, self.grid.chosen = items, self.seen.chosen if self.seen else -1
        self.grid.update()

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        self.draw(True)
