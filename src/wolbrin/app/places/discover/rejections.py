"""How many each floor rejected, as bars, with the value beside it that can be moved."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QDoubleSpinBox, QLabel, QVBoxLayout, QWidget

from wolbrin.app.parts import button, clear, label, row, spin
from wolbrin.app.theme.theme import Theme
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.wording import number
from wolbrin.core.search.objective import Floor

BAR = 70  # pixels of the longest bar
OF = {"": "", "long": "long ", "short": "short ", "year": "each year's "}


class _Bar(QWidget):
    """A share as a bar; kept ones in petrol, rejected in the muted tone."""

    def __init__(self, theme: Theme, kept: bool = False) -> None:
        super().__init__()
        self._theme, self._kept, self.share = theme, kept, 0.0
        self.setFixedSize(BAR, 12)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setPen(Qt.PenStyle.NoPen)
        width = max(1.0, BAR * self.share) if self.share > 0 else 0.0
        painter.fillRect(QRectF(0, 2, width, 8), self._theme.color("gain" if self._kept else "muted"))


class Rejections(QWidget):
    """moved: other floors are wanted."""

    moved = Signal(object)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._floors: tuple[Floor, ...] = ()
        self._bars: list[_Bar] = []
        self._counts: list[QLabel] = []
        self.boxes: list[QDoubleSpinBox] = []
        self._lines = QVBoxLayout()
        self._lines.setSpacing(3)
        self._lines.setContentsMargins(0, 0, 0, 0)
        self.apply = button("Ask these floors", self._apply, tip="What came near before is asked too")
        self.apply.setEnabled(False)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(4)
        whole.addLayout(self._lines)
        whole.addLayout(row(self.apply, None))

    def show_floors(self, floors: tuple[Floor, ...]) -> None:
        """Lines for these floors."""
        if floors == self._floors and self._bars:
            return
        self._floors = floors
        clear(self._lines)
        self._bars, self._counts, self.boxes = [], [], []
        self._line("too few entry signals", None)
        for floor in floors:
            box = spin(floor.value, -1e12, 1e12, 2, 0.1)
            box.setButtonSymbols(box.ButtonSymbols.NoButtons)
            box.setFixedSize(58, 24)
            box.setAccessibleName(f"floor on {OF[floor.of]}{BY_KEY[floor.key].title}")
            box.valueChanged.connect(lambda _: self._changed())
            self.boxes.append(box)
            sign = "\u2265" if floor.compare == ">=" else "\u2264"
            self._line(f"{OF[floor.of]}{BY_KEY[floor.key].title} {sign}", box)
        self._line("passed, each set of trades once", None, kept=True)
        self._changed()

    def _line(self, text: str, box: QDoubleSpinBox | None, kept: bool = False) -> None:
        bar, count = _Bar(self._theme, kept), label("", "small")
        count.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        count.setFixedWidth(54)
        self._bars.append(bar)
        self._counts.append(count)
        self._lines.addLayout(row(label(text, "small"), *([box] if box is not None else []), None, bar, count, spacing=5))

    def show_counts(self, few: int, rejected: tuple[int, ...], kept: int, tried: int) -> None:
        """few: without enough signals; rejected: by floor, the first each failed."""
        for bar, shown, count in zip(self._bars, self._counts, (few, *rejected, kept)):
            bar.share = count / tried if tried else 0.0
            bar.update()
            shown.setText(number(count))

    def floors(self) -> tuple[Floor, ...]:
        """As the boxes stand."""
        return tuple(f if round(f.value, 2) == box.value() else f.model_copy(update={"value": box.value()})
                     for f, box in zip(self._floors, self.boxes))

    def _changed(self) -> None:
        self.apply.setEnabled(self.floors() != self._floors)

    def _apply(self) -> None:
        self.moved.emit(self.floors())
        self.apply.setEnabled(False)
