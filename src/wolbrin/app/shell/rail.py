"""The funnel rail: the places in working order, each with its live count; it is the navigation."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFont, QPainter, QPaintEvent
from PySide6.QtWidgets import QAbstractButton, QLabel, QSizePolicy, QVBoxLayout, QWidget

from wolbrin.app.parts import label, link
from wolbrin.app.places.registry import PLACES, Entry
from wolbrin.app.theme.theme import Theme, font
from wolbrin.app.theme.tokens import BODY, LEAD, SMALL
from wolbrin.core.measures.wording import number

WIDTH = 148


class RailItem(QAbstractButton):
    def __init__(self, place: Entry, theme: Theme) -> None:
        super().__init__()
        self.place = place
        self._theme = theme
        self.count = ""
        self.setText(place.title)
        self.setCheckable(True)
        self.setAutoExclusive(True)
        self.setAccessibleName(place.title)
        self.setToolTip(f"{place.title} (Alt+{place.shortcut})")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        self.setMinimumHeight(38)
        self.setMaximumHeight(52)

    def sizeHint(self) -> QSize:
        return QSize(WIDTH, 48)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        color = self._theme.color
        if self.isChecked():
            painter.fillRect(self.rect(), color("background"))
            painter.fillRect(0, 0, 3, self.height(), color("accent"))
        elif self.underMouse() or self.hasFocus():
            painter.fillRect(self.rect(), color("selected"))
        middle = self.height() / 2
        painter.setPen(color("ink"))
        painter.setFont(font(BODY + 1, QFont.Weight.DemiBold if self.isChecked() else QFont.Weight.Normal))
        painter.drawText(QRectF(18, middle - 19, 100, 20), Qt.AlignmentFlag.AlignVCenter, self.text())
        painter.setFont(font(SMALL))
        painter.setPen(color("muted"))
        painter.drawText(QRectF(18, middle, 116, 17), Qt.AlignmentFlag.AlignVCenter, self.count)
        painter.drawText(QRectF(self.width() - 22, middle - 19, 12, 20),
                         Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, self.place.shortcut)


class Attrition(QWidget):
    """Bars that shrink from tried to portfolio."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.steps: list[tuple[int, str]] = []
        self.setFixedHeight(126)
        self.setAccessibleName("Attrition")

    def show_steps(self, steps: list[tuple[int, str]]) -> None:
        self.steps = steps
        self.setAccessibleDescription(", ".join(f"{n} {word}" for n, word in steps))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setFont(font(SMALL, QFont.Weight.DemiBold))
        painter.setPen(self._theme.color("muted"))
        painter.drawText(QRectF(18, 0, 110, 14), "Attrition")
        painter.setFont(font(SMALL))
        most = max((n for n, _ in self.steps), default=0)
        for i, (count, word) in enumerate(self.steps):
            top = 17 + i * 21.5
            # The fourth root keeps a handful visible beside tens of thousands.
            share = (count / most) ** 0.25 if most else 0.0
            painter.fillRect(QRectF(18, top, max(2.0, 112 * share) if count else 2.0, 5),
                             self._theme.color("bar" if i == 0 else "accent"))
            painter.setPen(self._theme.color("muted"))
            painter.drawText(QRectF(18, top + 5, 124, 15), Qt.AlignmentFlag.AlignVCenter, f"{number(count)} {word}")


class Rail(QWidget):
    """`wanted` names the place that was asked for."""

    wanted = Signal(str)
    menu_wanted = Signal(object)

    def __init__(self, theme: Theme, desk: str) -> None:
        super().__init__()
        self.setObjectName("rail")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(WIDTH)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 14, 0, 10)
        box.setSpacing(0)
        self.title = link("Wolbrin", lambda: self.menu_wanted.emit(self.title), role="", tip="Menu (F10)")
        self.title.setFont(font(LEAD, QFont.Weight.DemiBold))
        self.title.setStyleSheet(f"font-size: {LEAD}px; font-weight: 600; margin-left: 13px;")
        box.addWidget(self.title)
        name: QLabel = label(desk, "small")
        name.setContentsMargins(18, 0, 0, 8)
        box.addWidget(name)
        self.items: dict[str, RailItem] = {}
        for place in PLACES:
            item = RailItem(place, theme)
            item.clicked.connect(lambda _=False, key=place.key: self.wanted.emit(key))
            self.items[place.key] = item
            box.addWidget(item)
        box.addStretch(1)
        self.attrition = Attrition(theme)
        box.addWidget(self.attrition)
        theme.changed.connect(self.update)

    def show_place(self, key: str) -> None:
        self.items[key].setChecked(True)
        for item in self.items.values():
            item.update()

    def show_counts(self, counts: dict[str, int]) -> None:
        for item in self.items.values():
            text = item.place.count(counts)
            if text != item.count:
                item.count = text
                item.setAccessibleDescription(text)
                item.update()
        self.attrition.show_steps([(counts["tried"], "tried"), (counts["kept"], "kept"),
                                    (counts["proved"], "proved"), (counts["distinct"], "distinct"),
                                    (counts["members"], "in portfolio")])
