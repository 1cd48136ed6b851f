"""The ingredients as a tree of families: found by words, ticked, weighted, with the number of rows that the choice spans."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from PySide6.QtCore import QAbstractItemModel, QModelIndex, QPersistentModelIndex, QSortFilterProxyModel, Qt, Signal
from PySide6.QtWidgets import QHeaderView, QLineEdit, QTreeView, QWidget

from wolbrin.app.parts import button, column, label, row
from wolbrin.core.errors import UserError
from wolbrin.core.measures.wording import number
from wolbrin.core.search.families import FAMILIES
from wolbrin.core.search.ingredients import PLACES_KEYS, Chosen, Family, Ingredient, Pantry, Sources

Index = QModelIndex | QPersistentModelIndex
NOWHERE = QModelIndex()
TITLES = ("ingredient", "weight", "rows")
PLACES = {"longer": "On longer intervals too", "markets": "On other markets too"}
SHARE = 100.0  # of a family's usual weight as it is shown


@dataclass
class _Node:
    """A family (parent None), one of its ingredients, or where they may be read (key in PLACES)."""

    key: str
    title: str
    rows: int
    weight: float
    on: bool
    parent: _Node | None = None
    children: list[_Node] = field(default_factory=list)


class IngredientModel(QAbstractItemModel):
    """Families and their ingredients. changed: something was ticked or weighted."""

    changed = Signal()

    def __init__(self, families: Sequence[Family] = FAMILIES) -> None:
        super().__init__()
        self.families = {f.key: f for f in families}
        self.tops: list[_Node] = []

    def fill(self, every: list[tuple[Family, tuple[Ingredient, ...]]]) -> None:
        """Show what there is; ticks and weights of what was there stay."""
        before = {n.key: (n.on, n.weight) for top in self.tops for n in (top, *top.children)}
        self.beginResetModel()
        self.tops = [_Node(key, title, 0, 1.0, True) for key, title in PLACES.items()]
        for family, items in every:
            top = _Node(family.key, family.title, sum(i.size for i in items), round(SHARE * family.weight, 1),
                        family.weight > 0)
            top.children = [_Node(i.key, i.title, i.size, 1.0, family.weight > 0, top) for i in items]
            if items:
                self.tops.append(top)
        for top in self.tops:
            for one in (top, *top.children):
                # What is new in a family that was there is ticked as the family is.
                new = one.on if top.key not in before else before[top.key][0], one.weight
                one.on, one.weight = before.get(one.key, new)
        self.endResetModel()

    def node(self, index: Index) -> _Node:
        return index.internalPointer()

    def index(self, row: int, column: int, parent: Index = NOWHERE) -> QModelIndex:
        if not self.hasIndex(row, column, parent):
            return QModelIndex()
        among = self.node(parent).children if parent.isValid() else self.tops
        return self.createIndex(row, column, among[row])

    def parent(self, index: Index = NOWHERE) -> Any:
        node = self.node(index) if index.isValid() else None
        if node is None or node.parent is None:
            return QModelIndex()
        return self.createIndex(self.tops.index(node.parent), 0, node.parent)

    def rowCount(self, parent: Index = NOWHERE) -> int:
        if not parent.isValid():
            return len(self.tops)
        return len(self.node(parent).children) if parent.column() == 0 else 0

    def columnCount(self, parent: Index = NOWHERE) -> int:
        return len(TITLES)

    def headerData(self, section: int, way: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if way == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return TITLES[section]
        if role == Qt.ItemDataRole.TextAlignmentRole and section:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        return None

    def flags(self, index: Index) -> Qt.ItemFlag:
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        if index.column() == 0:
            flags |= Qt.ItemFlag.ItemIsUserCheckable
        if index.column() == 1 and self.node(index).key not in PLACES:
            flags |= Qt.ItemFlag.ItemIsEditable
        return flags

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        node, at = self.node(index), index.column()
        if role == Qt.ItemDataRole.CheckStateRole and at == 0:
            if node.children and node.on and not all(c.on for c in node.children):
                return Qt.CheckState.PartiallyChecked
            return Qt.CheckState.Checked if node.on else Qt.CheckState.Unchecked
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            if at == 0:
                return node.title
            if node.key in PLACES:
                return ""
            if at == 1:
                return node.weight if role == Qt.ItemDataRole.EditRole else number(node.weight, 1)
            return number(node.rows)
        if role == Qt.ItemDataRole.TextAlignmentRole and at:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ToolTipRole:
            return f"{node.title}: {number(node.rows)} different rows. Its weight is how often it is asked beside the others."
        return None

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        node = self.node(index)
        if role == Qt.ItemDataRole.CheckStateRole and index.column() == 0:
            self.tick(node, Qt.CheckState(value) == Qt.CheckState.Checked)
            return True
        if role == Qt.ItemDataRole.EditRole and index.column() == 1:
            try:
                weight = float(value)
            except (TypeError, ValueError):
                return False
            if not 0 < weight <= 1000:
                return False
            node.weight = weight
            self.dataChanged.emit(index, index)
            self.changed.emit()
            return True
        return False

    def tick(self, node: _Node, on: bool) -> None:
        """Tick one and all in it; its family is on while one of them is."""
        node.on = on
        for child in node.children:
            child.on = on
        if node.parent is not None:
            node.parent.on = any(c.on for c in node.parent.children)
        self.dataChanged.emit(self.index(0, 0), self.index(len(self.tops) - 1, 0))
        self.layoutChanged.emit()
        self.changed.emit()

    def chosen(self) -> tuple[Chosen, ...]:
        """What is ticked: families whole where they are, else their ingredients."""
        out = []
        for top in self.tops:
            if top.key in PLACES:
                out += [Chosen(top.key, 1.0)] if top.on else []
                continue
            usual = self.families[top.key].weight or 0.05
            weight = max(1e-6, top.weight / SHARE / usual) if top.weight else 1.0
            some = [c for c in top.children if c.on]
            whole = len(some) == len(top.children) and all(c.weight == 1.0 for c in some)
            if whole:
                out.append(Chosen(top.key, round(weight, 6)))
            else:
                total = sum(c.weight for c in some)
                out += [Chosen(c.key.casefold(), max(1e-6, round(weight * c.weight / total, 6))) for c in some]
        return tuple(out)

    def show(self, chosen: tuple[Chosen, ...]) -> None:
        """Tick what a request has chosen; the usual where it chose nothing."""
        self.beginResetModel()
        keys = {c.key: c.weight for c in chosen}
        for top in self.tops:
            if top.key in PLACES:
                top.on = not chosen or top.key in keys
                continue
            usual = self.families[top.key].weight
            for child in top.children:
                child.on = child.key.casefold() in keys or top.key in keys or (not chosen and usual > 0)
            top.on = any(c.on for c in top.children)
            top.weight = round(SHARE * keys[top.key] * (usual or 0.05), 1) if top.key in keys else round(SHARE * usual, 1)
        self.endResetModel()
        self.changed.emit()


class _Found(QSortFilterProxyModel):
    """A family stays while it or something in it is found."""

    def __init__(self, source: IngredientModel) -> None:
        super().__init__()
        self.setSourceModel(source)
        self.setRecursiveFilteringEnabled(True)
        self.setAutoAcceptChildRows(True)
        self.setFilterCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)


class Ingredients(QWidget):
    """changed: another choice."""

    changed = Signal()

    def __init__(self, families: Sequence[Family] = FAMILIES) -> None:
        super().__init__()
        self.families = families
        self.model = IngredientModel(families)
        self._found = _Found(self.model)
        self.words_to_find = QLineEdit()
        self.words_to_find.setPlaceholderText("Find, such as RSI or weekday \u2026")
        self.words_to_find.setAccessibleName("find an ingredient")
        self.words_to_find.setClearButtonEnabled(True)
        self.tree = QTreeView()
        self.tree.setModel(self._found)
        self.tree.setAccessibleName("ingredients")
        self.tree.setUniformRowHeights(True)
        self.tree.setIndentation(14)
        header = self.tree.header()
        header.setStretchLastSection(False)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for at, width in ((1, 56), (2, 104)):
            header.resizeSection(at, width)
        self.words = label("", "small", wrap=True)
        self.setLayout(column(
            row(label("Ingredients", "heading"), None), self.words_to_find, self.tree,
            row(button("All", lambda: self._all(True), tip="Tick every family"),
                button("None", lambda: self._all(False), tip="Untick every family"),
                button("Usual", lambda: self.model.show(()), tip="Tick what is usual, with its weights"), None, spacing=5),
            self.words, spacing=5))
        self.words_to_find.textChanged.connect(self._filter)
        self.model.changed.connect(self._tell)

    def _filter(self, text: str) -> None:
        self._found.setFilterFixedString(text)
        if text:
            self.tree.expandAll()
        else:
            self.tree.collapseAll()

    def _all(self, on: bool) -> None:
        for top in self.model.tops:
            self.model.tick(top, on)

    def fill(self, sources: Sources) -> None:
        """Show what there is at an interval."""
        self._sources = sources
        self.model.fill(Pantry(self.families, sources).every)
        self._tell()

    def chosen(self) -> tuple[Chosen, ...]:
        return self.model.chosen()

    def tick_usual(self) -> None:
        """Tick the usual ingredients, whole."""
        self.model.tops = []  # what was ticked is forgotten
        self.fill(self._sources)

    @property
    def usual(self) -> bool:
        """Whether the usual ingredients are ticked, whole, at their usual weights."""
        for top in self.model.tops:
            weight = 1.0 if top.key in PLACES_KEYS else self.model.families[top.key].weight
            if top.on != (weight > 0) or any(c.on != top.on or c.weight != 1.0 for c in top.children):
                return False
            if top.on and top.key not in PLACES_KEYS and top.weight != round(SHARE * weight, 1):
                return False
        return True

    def _tell(self) -> None:
        rows = sum(c.rows for top in self.model.tops for c in top.children if c.on)
        read = {top.key: top.on for top in self.model.tops if top.key in PLACES_KEYS}
        if not all(read.values()):
            kept = tuple(c for c in self.chosen())
            try:
                rows = Pantry(self.families, self._sources, kept).size
            except UserError:
                rows = 0
        self.words.setText(f"{number(rows)} different rows." if rows else "Nothing is ticked that gives a condition.")
        self.changed.emit()
