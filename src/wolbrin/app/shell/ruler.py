"""The span ruler: the whole history as a silhouette, the training span, the sealed holdout, handles to move."""

from __future__ import annotations

import datetime as dt
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFont, QKeyEvent, QMouseEvent, QPainter, QPolygonF
from PySide6.QtWidgets import QWidget

from wolbrin.app.session import Session
from wolbrin.app.theme.theme import font
from wolbrin.app.theme.tokens import SMALL

LEFT, RIGHT = 20, 20
HANDLES = ("training_first", "holdout_first")


def shift_month(date: dt.date, months: int) -> dt.date:
    """The first day of the month `months` away."""
    index = date.year * 12 + date.month - 1 + months
    return dt.date(index // 12, index % 12 + 1, 1)


class Ruler(QWidget):
    """Drag a handle, or Tab to the ruler, choose a handle with Up or Down and nudge it with Left or Right."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._dragged: str | None = None
        self._moving: dt.date | None = None
        self._handle = "holdout_first"
        self.words = ""
        self.setFixedHeight(66)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Span ruler")
        session.brief_changed.connect(self._told)
        session.evidence_changed.connect(self._told)
        session.markets_changed.connect(self._told)
        session.theme.changed.connect(self.update)
        session.laid.folds_changed.connect(self.update)
        self._told()

    def _told(self) -> None:
        s, book = self._session.settings, self._session.project.book
        moves, market = book.moves(), self._session.market
        times = book.count()
        # Read here, not at every painting.
        self.words = (f"holdout seen since {dt.date.fromisoformat(moves[0].created[:10]):%d %b %Y}" if moves else
                       "holdout opened once" if times == 1 else f"holdout opened for {times}" if times else
                       "holdout sealed")
        own = ", the strategy's own" if self._session.own_span else ""
        if not self._session.markets:
            self.setAccessibleDescription("no history yet")
            self.setToolTip("")
            self.update()
            return
        self.setAccessibleDescription(f"training from {s.training_first} to {s.training.last}{own}, holdout from "
                                      f"{s.holdout_first}, opened for {times} candidates, {book.count(market)} on {market}, "
                                      f"{len(self._session.fault_days())} days with faults marked")
        unseen = book.unseen_first(s.holdout_first)
        late = f"; only days from {unseen:%d %b %Y} on are unseen" if unseen > s.holdout_first else ""
        self.setToolTip(f"Opened for {times} candidates in this project, {book.count(market)} on {market}{late}. Drag a "
                        "border, or use the arrow keys: Up/Down choose, Left/Right move by a month")
        self.update()

    def _ends(self) -> tuple[dt.date, dt.date]:
        s = self._session
        first = min(dt.date.fromisoformat(m.first[:10]) for m in s.markets) if s.markets else dt.date(2016, 1, 1)
        last = max(dt.date.fromisoformat(m.last[:10]) for m in s.markets) if s.markets else dt.date(2025, 12, 31)
        return first, max(last, first + dt.timedelta(days=30))

    def x_of(self, date: dt.date) -> float:
        first, last = self._ends()
        return LEFT + (date - first).days / (last - first).days * (self.width() - LEFT - RIGHT)

    def date_at(self, x: float) -> dt.date:
        first, last = self._ends()
        share = (x - LEFT) / max(1, self.width() - LEFT - RIGHT)
        return first + dt.timedelta(days=round(max(0.0, min(1.0, share)) * (last - first).days))

    def _value(self, handle: str) -> dt.date:
        if handle == self._dragged and self._moving is not None:
            return self._moving
        value: dt.date = getattr(self._session.settings, handle)
        return value

    def paintEvent(self, event: object) -> None:
        s, theme = self._session, self._session.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not s.markets:
            self._paint_nothing(painter)
            return
        first, last = self._ends()
        top, bottom = 3.0, 46.0
        begin, border = self.x_of(self._value("training_first")), self.x_of(self._value("holdout_first"))
        end = self.x_of(min(s.settings.last, last))
        stop = self.x_of(min(s.settings.training_last_day + dt.timedelta(days=1), self._value("holdout_first")))
        painter.fillRect(QRectF(begin, top, stop - begin, bottom - top), theme.color("surface"))
        painter.fillRect(QRectF(border, top, end - border, bottom - top), theme.color("holdout"))
        painter.fillRect(QRectF(border, top, end - border, bottom - top), theme.hatch())
        if s.market:
            line = s.entry.silhouette
            low, high = float(line.min()), float(line.max())
            a = self.x_of(dt.date.fromisoformat(s.entry.first[:10]))
            b = self.x_of(dt.date.fromisoformat(s.entry.last[:10]))
            xs = np.linspace(a, b, len(line))
            ys = bottom - 5 - (line - low) / ((high - low) or 1.0) * (bottom - top - 10)
            painter.setPen(theme.pen("muted", 0.8))
            painter.drawPolyline(QPolygonF([QPointF(float(x), float(y)) for x, y in zip(xs, ys)]))
            # Marks of the quality report: a small fence at the foot of the silhouette wherever a fault was found.
            painter.setPen(theme.pen("caution", 1.4))
            for day in s.fault_days():
                x = self.x_of(dt.date(1970, 1, 1) + dt.timedelta(days=day))
                painter.drawLine(QPointF(x, bottom - 6), QPointF(x, bottom))
        self._paint_folds(painter, top, bottom)
        painter.setPen(theme.pen("hairline"))
        painter.drawLine(QPointF(LEFT, bottom), QPointF(self.width() - RIGHT, bottom))
        painter.setFont(font(SMALL))
        for year in range(first.year, last.year + 1):
            x = self.x_of(max(first, dt.date(year, 1, 1)))
            painter.setPen(theme.pen("muted"))
            painter.drawLine(QPointF(x, bottom), QPointF(x, bottom + 4))
            after = self.x_of(min(last, dt.date(year + 1, 1, 1)))
            if x < self.width() - RIGHT - 30 and (after - x > 32 or year == last.year):
                painter.drawText(QPointF(x + 3, bottom + 14), str(year))
        painter.setFont(font(SMALL, QFont.Weight.Medium))
        painter.setPen(theme.color("muted"))
        self._label(painter, begin, border, "training", "surface")
        words = self.words
        painter.setPen(theme.color("accent"))
        self._label(painter, border, end, words, "holdout")
        for handle, x in (("training_first", begin), ("holdout_first", border)):
            chosen = self.hasFocus() and handle == self._handle
            painter.setPen(theme.pen("accent", 3 if chosen else 2))
            painter.drawLine(QPointF(x, top - 3), QPointF(x, bottom + 5))
        if self._moving is not None:
            painter.setPen(theme.color("ink"))
            painter.drawText(QPointF(min(self.x_of(self._moving) + 6, self.width() - 90), bottom - 4),
                             f"{self._moving:%d %b %Y}")

    def _paint_folds(self, painter: QPainter, top: float, bottom: float) -> None:
        """The folds of a walk: a thin line over each training span, a bar under it for its test, step by step downward."""
        theme, folds = self._session.theme, self._session.laid.folds
        if not folds:
            return
        step = min(7.0, (bottom - top - 20) / len(folds))
        for i, fold in enumerate(folds):
            y = top + 17 + i * step
            painter.setPen(theme.pen("accent", 0.8 if step >= 2 else 0.4))
            painter.drawLine(QPointF(self.x_of(fold.training_first), y), QPointF(self.x_of(fold.training_last), y))
            a, b = self.x_of(fold.test_first), self.x_of(fold.test_last)
            high = max(2.5, step * 0.8)
            painter.fillRect(QRectF(a, y - high / 2, max(1.0, b - a - 0.5), high), theme.color("accent"))

    def _paint_nothing(self, painter: QPainter) -> None:
        """The empty ruler: what will stand here, without years or spans that nobody has chosen."""
        theme, bottom = self._session.theme, 46.0
        painter.setPen(theme.pen("hairline"))
        painter.drawLine(QPointF(LEFT, bottom), QPointF(self.width() - RIGHT, bottom))
        painter.setFont(font(SMALL))
        painter.setPen(theme.color("muted"))
        painter.drawText(QRectF(LEFT, 20, self.width() - LEFT - RIGHT, 20), Qt.AlignmentFlag.AlignLeft,
                         "The history, what is trained on and what is sealed: proposed from the first files.")

    def _label(self, painter: QPainter, left: float, right: float, text: str, ground: str) -> None:
        """A word at the top left of a stretch, on a ground that keeps the silhouette from crossing it."""
        room = QRectF(left + 6, 4, max(0.0, right - left - 10), 15)
        wide = min(room.width(), painter.fontMetrics().horizontalAdvance(text) + 4.0)
        painter.fillRect(QRectF(room.left(), room.top(), wide, room.height()), self._session.theme.color(ground, 215))
        painter.drawText(room.adjusted(2, 0, 0, 0), 0, text)

    def near(self, x: float) -> str | None:
        if not self._session.markets:
            return None
        found = min(HANDLES, key=lambda h: abs(self.x_of(self._value(h)) - x))
        return found if abs(self.x_of(self._value(found)) - x) < 7 else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._dragged = self.near(event.position().x())
        if self._dragged:
            self._handle = self._dragged
            self._moving = self._value(self._dragged)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        x = event.position().x()
        self.setCursor(Qt.CursorShape.SplitHCursor if self._dragged or self.near(x) else Qt.CursorShape.ArrowCursor)
        if self._dragged:
            self._moving = self.date_at(x)
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._dragged and self._moving is not None:
            handle, date = self._dragged, self._moving
            self._dragged = self._moving = None
            self.move_handle(handle, date)
        self._dragged = self._moving = None
        self.update()

    def move_handle(self, handle: str, date: dt.date) -> None:
        if date != getattr(self._session.settings, handle):
            changes: dict[str, Any] = {handle: date}
            self._session.change_settings(**changes)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        if not self._session.markets:
            super().keyPressEvent(event)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._handle = HANDLES[(HANDLES.index(self._handle) + 1) % 2]
            self.update()
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            step = 1 if key == Qt.Key.Key_Right else -1
            self.move_handle(self._handle, shift_month(self._value(self._handle), step))
        else:
            super().keyPressEvent(event)
