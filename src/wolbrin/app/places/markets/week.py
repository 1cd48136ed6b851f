"""The week by time of day: where a market has bars, and over it the schedule, whose edges can be dragged."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter
from PySide6.QtWidgets import QWidget

from wolbrin.app.theme.theme import Theme, font
from wolbrin.app.theme.tokens import SMALL
from wolbrin.core.market.terms import MINUTES_A_DAY, WEEKDAYS, SessionRule
from wolbrin.core.market.words import write_sessions

LEFT, TOP, BOTTOM, ROW = 34, 4, 16, 15
NEAR = 6.0
STEP = 5


def clock_text(minute: int) -> str:
    """A time of day; the end of a day is 24:00."""
    return "24:00" if minute == MINUTES_A_DAY else f"{minute // 60 % 24:02d}:{minute % 60:02d}"


class WeekPicture(QWidget):
    """Rows are weekdays, from Monday. Drag an edge of a session, or Tab here, choose an edge with Up and Down and move it
    with Left and Right by five minutes. `changed` tells the schedule as it then is."""

    changed = Signal(object)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._share: np.ndarray | None = None
        self._rules: tuple[SessionRule, ...] = ()
        self._edge = 0
        self._dragged: int | None = None
        self.setFixedHeight(TOP + 7 * ROW + BOTTOM)
        self.setMinimumWidth(240)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Week by time of day")
        theme.changed.connect(self.update)

    def show_week(self, share: np.ndarray | None, rules: tuple[SessionRule, ...]) -> None:
        """share: float[7, slots], how many weeks have a bar in each slot of each weekday, None where it is not known."""
        self._share, self._rules = share, rules
        self._edge = min(self._edge, max(0, 2 * len(rules) - 1))
        said = write_sessions(rules).replace("\n", ", ") or "no schedule"
        self.setAccessibleDescription(said)
        self.setToolTip(f"{said}. Shaded is where bars stand; drag an edge, or move it with the arrow keys.")
        self.update()

    def x_of(self, minute: float) -> float:
        return LEFT + minute / MINUTES_A_DAY * (self.width() - LEFT - 8)

    def _pieces(self, rule: SessionRule) -> list[tuple[int, int, int]]:
        """(weekday, begin, end) of a rule's sessions, cut at midnight."""
        out = []
        for name in rule.days:
            day = WEEKDAYS.index(name)
            begin, end = rule.open_minute, rule.close_minute
            while begin < end:
                stop = min(end, (begin // MINUTES_A_DAY + 1) * MINUTES_A_DAY)
                base = begin // MINUTES_A_DAY
                out.append(((day + base) % 7, begin - base * MINUTES_A_DAY, stop - base * MINUTES_A_DAY))
                begin = stop
        return out

    def paintEvent(self, event: object) -> None:
        painter, theme = QPainter(self), self._theme
        painter.setFont(font(SMALL))
        for day, name in enumerate(WEEKDAYS):
            y = TOP + day * ROW
            painter.setPen(theme.color("muted"))
            painter.drawText(QRectF(0, y, LEFT - 6, ROW), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, name)
            painter.fillRect(QRectF(self.x_of(0), y + 1, self.x_of(MINUTES_A_DAY) - LEFT, ROW - 2), theme.color("surface"))
            if self._share is not None:
                row = self._share[day]
                wide = (self.x_of(MINUTES_A_DAY) - LEFT) / len(row)
                top = float(np.quantile(self._share[self._share > 0], 0.8)) if (self._share > 0).any() else 1.0
                for k in np.flatnonzero(row > 0):
                    tint = theme.color("muted")
                    tint.setAlphaF(min(0.55, 0.08 + 0.47 * float(row[k]) / max(top, 1e-6)))
                    left, right = round(LEFT + k * wide), round(LEFT + (k + 1) * wide)
                    painter.fillRect(left, int(y) + 3, max(1, right - left), ROW - 6, tint)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for number, rule in enumerate(self._rules):
            chosen = self.hasFocus() and self._edge // 2 == number
            painter.setPen(theme.pen("accent", 2.2 if chosen else 1.4))
            for day, begin, end in self._pieces(rule):
                y = TOP + day * ROW
                painter.drawRect(QRectF(self.x_of(begin), y + 1, self.x_of(end) - self.x_of(begin), ROW - 2))
        if self.hasFocus() and self._rules:
            rule = self._rules[self._edge // 2]
            minute = rule.open_minute if self._edge % 2 == 0 else rule.close_minute
            x = self.x_of(minute % MINUTES_A_DAY or (MINUTES_A_DAY if minute else 0))
            painter.setPen(theme.pen("accent", 3))
            painter.drawLine(QPointF(x, TOP), QPointF(x, TOP + 7 * ROW))
        painter.setPen(theme.color("muted"))
        for hour in range(0, 25, 3):
            x = self.x_of(hour * 60)
            painter.drawText(QRectF(x - 20, TOP + 7 * ROW + 1, 40, BOTTOM), Qt.AlignmentFlag.AlignHCenter, f"{hour:02d}")

    # Moving edges

    def _edge_at(self, x: float, y: float) -> int | None:
        day = int((y - TOP) // ROW)
        best: tuple[float, int] | None = None
        for number, rule in enumerate(self._rules):
            for which, minute in ((0, rule.open_minute), (1, rule.close_minute)):
                days = {(WEEKDAYS.index(d) + (minute - (which == 1)) // MINUTES_A_DAY) % 7 for d in rule.days}
                at = minute % MINUTES_A_DAY or (MINUTES_A_DAY if which and minute else 0)
                far = abs(self.x_of(at) - x)
                if day in days and far <= NEAR and (best is None or far < best[0]):
                    best = far, 2 * number + which
        return best[1] if best else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._dragged = self._edge_at(event.position().x(), event.position().y())
        if self._dragged is not None:
            self._edge = self._dragged
            self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        x, y = event.position().x(), event.position().y()
        over = self._dragged is not None or self._edge_at(x, y) is not None
        self.setCursor(Qt.CursorShape.SplitHCursor if over else Qt.CursorShape.ArrowCursor)
        if self._dragged is not None:
            minute = round((x - LEFT) / (self.width() - LEFT - 8) * MINUTES_A_DAY / STEP) * STEP
            self._move(self._dragged, max(0, min(MINUTES_A_DAY, minute)))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._dragged is not None:
            self._dragged = None
            self.changed.emit(self._rules)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        if not self._rules:
            super().keyPressEvent(event)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._edge = (self._edge + (1 if key == Qt.Key.Key_Down else -1)) % (2 * len(self._rules))
            self.update()
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            rule = self._rules[self._edge // 2]
            now = rule.open_minute if self._edge % 2 == 0 else (rule.close_minute - 1) % MINUTES_A_DAY + 1
            self._move(self._edge, (now + (STEP if key == Qt.Key.Key_Right else -STEP)) % (MINUTES_A_DAY + 1))
            self.changed.emit(self._rules)
        else:
            super().keyPressEvent(event)

    def _move(self, edge: int, minute: int) -> None:
        rule = self._rules[edge // 2]
        after = {"open": clock_text(minute % MINUTES_A_DAY)} if edge % 2 == 0 else {"close": clock_text(minute)}
        moved = SessionRule.model_validate(rule.model_dump() | after)
        rules = (*self._rules[:edge // 2], moved, *self._rules[edge // 2 + 1:])
        self.show_week(self._share, rules)
