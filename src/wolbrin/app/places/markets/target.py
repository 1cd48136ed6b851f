"""The row under the import page: into which market and source the files go, and the buttons that read, keep or drop them."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QCheckBox, QWidget

from wolbrin.app.parts import button, label, row
from wolbrin.app.places.markets.page import combo, short

NEW = "\0new"


class TargetRow(QWidget):
    """Widgets and their visibility; the page says what they do."""

    def __init__(self, which: Callable[[], object], market: Callable[[], object], read: Callable[[], object],
                 take: Callable[[], object], discard: Callable[[], object]) -> None:
        super().__init__()
        self.which = combo([], "Market shown", 90, which)
        self.market = combo([], "Market", 104, market)
        self.code = short("", 76, "Code of the new market")
        self.code.setPlaceholderText("code")
        self.source = short("file", 112, "Source")
        self.months = QCheckBox("each file is a contract month")
        self.keep = combo([("keep what is there", "old"), ("take the file's", "new")], "Where they disagree", 130)
        self.keep_label = label("where they disagree", "muted")
        self.read = button("Read", read, main=True)
        self.take = button("Take in", take, main=True)
        self.discard = button("Discard", discard)
        self.into = label("into", "muted")
        self.setLayout(row(self.which, self.into, self.market, self.code, label("source", "muted"), self.source, self.months,
                           self.keep_label, self.keep, None, self.read, self.discard, self.take, spacing=6))

    @property
    def is_new(self) -> bool:
        """Whether the files go into a market that is not there yet."""
        return bool(self.market.currentData() == NEW)

    def show_state(self, files: int, markets: int, ready: bool, differ: bool, sources: int = 1) -> None:
        """files, markets, sources: how many are looked at. ready: everything is read and judged. differ: rows disagree."""
        several = markets > 1
        self.setVisible(files > 0)
        self.code.setVisible(self.is_new and not several)
        self.market.setVisible(not several)
        self.into.setVisible(not several)
        self.which.setVisible(several or sources > markets)
        self.months.setVisible(files > 1 and not several and sources <= 1)
        self.source.setEnabled(not self.months.isChecked())
        self.read.setVisible(not ready)
        self.take.setText(f"Take in {markets} markets" if several else "Take in")
        for widget in (self.take, self.discard):
            widget.setVisible(ready)
            widget.setEnabled(True)
        self.keep.setVisible(ready and differ)
        self.keep_label.setVisible(ready and differ)
