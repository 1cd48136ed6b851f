"""The family of a strategy: variants of variants as a tree, and how two of them differ in words."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QListWidget, QListWidgetItem, QWidget

from wolbrin.app.parts import button, column, label, row
from wolbrin.app.session import Session
from wolbrin.core.rules.difference import differences
from wolbrin.core.store.family import tree
from wolbrin.core.store.project import StrategyEntry


class FamilyPage(QWidget):
    """The tree, a strategy to compare with, and the differences."""

    variant_wanted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.members = QListWidget()
        self.members.setAccessibleName("Family of the strategy")
        self.members.setFixedHeight(150)
        self.members.itemActivated.connect(self._open)
        self.members.itemClicked.connect(self._compare_with)
        self.other = QComboBox()
        self.other.setAccessibleName("compare with")
        self.other.currentIndexChanged.connect(lambda *_: self._tell())
        self.words = label("", "", wrap=True)
        self._entries: list[StrategyEntry] = []
        self._shown = 0
        self.setLayout(column(
            label("Variants", "heading"), self.members,
            row(button("Duplicate as variant", self.variant_wanted.emit), label("Return opens the chosen one", "small"),
                None),
            row(label("Difference from", "heading"), self.other, None), self.words, None, spacing=6))

    def refresh(self) -> None:
        """Read the strategies again."""
        s = self._session
        self._entries = s.project.strategies()
        self.members.clear()
        for depth, entry in tree(self._entries, s.strategy_id):
            here = entry.id == s.strategy_id
            text = "    " * depth + ("\u2514 " if depth else "") + entry.strategy.name
            text += "   \u00b7 this one" if here else ""
            item = QListWidgetItem(text)
            item.setData(256, entry.id)
            self.members.addItem(item)
        parent = next((e.parent for e in self._entries if e.id == s.strategy_id), None)
        others = [e for e in self._entries if e.id != s.strategy_id]
        kept = self.other.currentData() if self._shown == s.strategy_id else None
        self._shown = s.strategy_id
        wanted = kept if kept in [e.id for e in others] else parent
        self.other.blockSignals(True)
        self.other.clear()
        for entry in others:
            self.other.addItem(entry.strategy.name, entry.id)
        self.other.setCurrentIndex(max(0, self.other.findData(wanted)))
        self.other.blockSignals(False)
        self._tell()

    def _open(self, item: QListWidgetItem) -> None:
        self._session.open_strategy(item.data(256))

    def _compare_with(self, item: QListWidgetItem) -> None:
        at = self.other.findData(item.data(256))
        if at >= 0:
            self.other.setCurrentIndex(at)

    def _tell(self) -> None:
        other = next((e for e in self._entries if e.id == self.other.currentData()), None)
        if other is None:
            self.words.setText("There is no other strategy yet.")
            return
        told = differences(other.strategy, self._session.strategy)
        self.words.setText("\n".join(f"\u2022 {t}" for t in told) or "They say the same.")
