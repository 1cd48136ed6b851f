"""Lines of the form: constraints, and numbers that move along."""

from __future__ import annotations

from collections.abc import Mapping

from wolbrin.app.parts import label, spin
from wolbrin.app.terms import Line, combo
from wolbrin.core.rules.axes import Link
from wolbrin.core.search.space import Constraint


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

    def show_constraint(self, one: Constraint) -> None:
        """Stand as a constraint does; one with a factor and an offset shows its factor."""
        for box, value in ((self.left, one.left), (self.compare, one.compare), (self.right, one.right)):
            box.setCurrentIndex(max(0, box.findData(value)))
        self.factor.setValue(one.factor if one.right else one.offset)


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

    def show_link(self, of: str, one: Link) -> None:
        """Stand as a link does."""
        self.of.setCurrentIndex(max(0, self.of.findData(of)))
        self.moves.setCurrentIndex(max(0, self.moves.findData(one.key)))
        self.factor.setValue(one.factor)
