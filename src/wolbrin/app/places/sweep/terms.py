"""Lines that are added one by one: floors, constraints, numbers that move along."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QDoubleSpinBox, QLabel, QVBoxLayout, QWidget

from wolbrin.app.parts import label, link, row, spin
from wolbrin.core.measures.catalogue import BY_KEY, MEASURES
from wolbrin.core.rules.axes import Link
from wolbrin.core.search.objective import Floor
from wolbrin.core.search.space import Constraint

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
        self.setLayout(row(*parts, link("\u00d7", lambda: self.removed.emit(self), tip=f"Remove {name}"), None, spacing=5))


class FloorLine(Line):
    """A measure at least or at most so much."""

    def __init__(self, number: int) -> None:
        super().__init__()
        keys = [*USUAL_FLOORS, *(m.key for m in MEASURES if m.key not in USUAL_FLOORS)]
        self.key = combo([(BY_KEY[k].title, k) for k in keys], f"floor {number} measure", 150)
        self.compare = combo([("at least", ">="), ("at most", "<=")], f"floor {number} comparison", 80)
        self.value = spin(0.0, -1e12, 1e12, 2)
        self.value.setAccessibleName(f"floor {number} value")
        self.value.setFixedWidth(96)
        self.key.setCurrentIndex(min(number, len(USUAL_FLOORS) - 1))
        self.key.currentIndexChanged.connect(lambda *_: self._usual())
        self._usual()
        self.set_up("floor", self.key, self.compare, self.value)

    def _usual(self) -> None:
        key = self.key.currentData()
        compare, value = USUAL_FLOORS.get(key, ("<=" if BY_KEY[key].better < 0 else ">=", 0.0))
        self.compare.setCurrentIndex(0 if compare == ">=" else 1)
        self.value.setValue(value)

    def floor(self) -> Floor:
        return Floor(key=self.key.currentData(), compare=self.compare.currentData(), value=self.value.value())

    def show_floor(self, floor: Floor) -> None:
        self.key.setCurrentIndex(self.key.findData(floor.key))
        self.compare.setCurrentIndex(self.compare.findData(floor.compare))
        self.value.setValue(floor.value)


class ConstraintLine(Line):
    """A number compared with a multiple of another, or with a plain number."""

    PLAIN = ""

    def __init__(self, titles: Mapping[str, str]) -> None:
        super().__init__()
        items = [(t, k) for k, t in titles.items()]
        self.left = combo(items, "constraint left", 128)
        self.compare = combo([(c, c) for c in ("<", "<=", ">=", ">", "=", "!=")], "constraint comparison", 52)
        self.factor = spin(1.0, -1000, 1000, 2, 0.1)
        self.factor.setAccessibleName("constraint factor")
        self.factor.setFixedWidth(64)
        self.right = combo([("the number", self.PLAIN), *items], "constraint right", 128)
        self.right.setCurrentIndex(min(2, self.right.count() - 1))
        self.set_up("constraint", self.left, self.compare, self.factor, label("\u00d7", "muted"), self.right)

    def constraint(self) -> Constraint:
        right = self.right.currentData()
        if right == self.PLAIN:
            return Constraint(self.left.currentData(), self.compare.currentData(), offset=self.factor.value())
        return Constraint(self.left.currentData(), self.compare.currentData(), right, self.factor.value())


class LinkLine(Line):
    """A number that is a multiple of another one, which is varied."""

    def __init__(self, titles: Mapping[str, str]) -> None:
        super().__init__()
        items = [(t, k) for k, t in titles.items()]
        self.moves = combo(items, "linked number", 128)
        self.factor = spin(1.0, -1000, 1000, 2, 0.1)
        self.factor.setAccessibleName("link factor")
        self.factor.setFixedWidth(64)
        self.of = combo(items, "link to", 128)
        self.moves.setCurrentIndex(self.moves.count() - 1)
        self.set_up("link", self.moves, label("=", "muted"), self.factor, label("\u00d7", "muted"), self.of)

    def link(self) -> tuple[str, Link]:
        """Key of the number that is varied, and what moves with it."""
        return self.of.currentData(), Link(self.moves.currentData(), self.factor.value())


class Lines(QWidget):
    """Lines of one kind, with what adds one."""

    changed = Signal()

    def __init__(self, title: str, make: Callable[[int], Line]) -> None:
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
        whole.addLayout(row(self.title, link(f"Add a {title.rstrip('s').lower()}", self.add), None))
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
