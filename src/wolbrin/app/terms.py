"""Lines of a form that are added one by one, such as floors; shared by the places that search."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QDoubleSpinBox, QLabel, QLineEdit, QVBoxLayout, QWidget

from wolbrin.app.parts import label, link, row, spin
from wolbrin.core.measures.catalogue import BY_KEY, MEASURES
from wolbrin.core.search.objective import Floor

USUAL_FLOORS = {"trades": (">=", 100.0), "max_drawdown": ("<=", 9_000.0), "profit_factor": (">=", 1.2)}


def combo(items: list[tuple[str, str]], name: str, width: int = 0) -> QComboBox:
    """A box of keys and what they are called."""
    made = QComboBox()
    for text, key in items:
        made.addItem(text, key)
    made.setAccessibleName(name)
    made.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    made.setMinimumContentsLength(10)
    if width:
        made.setFixedWidth(width)
    return made


class Line(QWidget):
    """One line with what takes it away."""

    removed = Signal(object)
    changed = Signal()

    def set_up(self, name: str, *parts: QWidget) -> None:
        for part in parts:
            if isinstance(part, QComboBox):
                part.currentIndexChanged.connect(lambda *_: self.changed.emit())
            elif isinstance(part, QDoubleSpinBox):
                part.valueChanged.connect(lambda *_: self.changed.emit())
            elif isinstance(part, QLineEdit):
                part.textChanged.connect(lambda *_: self.changed.emit())
        self.setLayout(row(*parts, link("\u00d7", lambda: self.removed.emit(self), tip=f"Remove {name}"), None, spacing=5))


OF = [("whole run", ""), ("long side", "long"), ("short side", "short"), ("every year", "year")]


class FloorLine(Line):
    """A measure at least or at most so much; with parts, of one side or of every year too."""

    def __init__(self, number: int, parts: bool = False) -> None:
        super().__init__()
        self.of = combo(OF, f"floor {number} of", 84)
        keys = [*USUAL_FLOORS, *(m.key for m in MEASURES if m.key not in USUAL_FLOORS)]
        self.key = combo([(BY_KEY[k].title, k) for k in keys], f"floor {number} measure", 128 if parts else 150)
        signs = ("\u2265", "\u2264") if parts else ("at least", "at most")
        self.compare = combo(list(zip(signs, (">=", "<="))), f"floor {number} comparison", 44 if parts else 80)
        self.value = spin(0.0, -1e12, 1e12, 2)
        self.value.setAccessibleName(f"floor {number} value")
        self.value.setFixedWidth(66 if parts else 96)
        if parts:
            self.value.setButtonSymbols(self.value.ButtonSymbols.NoButtons)
        self.key.setCurrentIndex(min(number, len(USUAL_FLOORS) - 1))
        self.key.currentIndexChanged.connect(lambda *_: self._usual())
        self._usual()
        self.set_up("floor", self.key, *((self.of,) if parts else ()), self.compare, self.value)

    def _usual(self) -> None:
        key = self.key.currentData()
        compare, value = USUAL_FLOORS.get(key, ("<=" if BY_KEY[key].better < 0 else ">=", 0.0))
        self.compare.setCurrentIndex(0 if compare == ">=" else 1)
        self.value.setValue(value)

    def floor(self) -> Floor:
        return Floor(key=self.key.currentData(), compare=self.compare.currentData(), value=self.value.value(),
                     of=self.of.currentData())

    def show_floor(self, floor: Floor) -> None:
        self.key.setCurrentIndex(self.key.findData(floor.key))
        self.compare.setCurrentIndex(self.compare.findData(floor.compare))
        self.of.setCurrentIndex(self.of.findData(floor.of))
        self.value.setValue(floor.value)


class Lines(QWidget):
    """Lines of one kind, with what adds one."""

    changed = Signal()

    def __init__(self, title: str, make: Callable[[int], Line], one: str = "") -> None:
        super().__init__()
        self._make = make
        self.lines: list[Line] = []
        self.title: QLabel = label(title, "muted")
        self._box = QVBoxLayout()
        self._box.setContentsMargins(0, 0, 0, 0)
        self._box.setSpacing(3)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(3)
        whole.addLayout(row(self.title, link(f"Add {one or 'a ' + title.rstrip('s').lower()}", self.add), None))
        whole.addLayout(self._box)

    def add(self) -> Line:
        """One more line."""
        made = self._make(len(self.lines))
        made.removed.connect(self._remove)
        made.changed.connect(self.changed)
        self.lines.append(made)
        self._box.addWidget(made)
        self.changed.emit()
        return made

    def _remove(self, line: Line) -> None:
        self.lines.remove(line)
        line.hide()
        line.deleteLater()
        self.changed.emit()

    def clear(self) -> None:
        """No line any more."""
        for line in list(self.lines):
            self._remove(line)


class FloorLines(Lines):
    """Floors, each a line."""

    def __init__(self, title: str, parts: bool = False, one: str = "") -> None:
        super().__init__(title, lambda number: FloorLine(number, parts), one)

    def floors(self) -> tuple[Floor, ...]:
        """Those that stand here."""
        return tuple(line.floor() for line in self.lines if isinstance(line, FloorLine))

    def show_floors(self, floors: Iterable[Floor]) -> None:
        """A line for each of these."""
        self.clear()
        for floor in floors:
            line = self.add()
            assert isinstance(line, FloorLine)
            line.show_floor(floor)
