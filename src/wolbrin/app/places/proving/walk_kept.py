"""The walks of a project: listed, opened, named."""

from __future__ import annotations

from PySide6.QtWidgets import QLineEdit, QWidget

from wolbrin.app.parts import Popup, button, label, row
from wolbrin.app.places.proving.walk_state import WalkState
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.figures.searches import SWEEPS
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.wording import number
from wolbrin.core.store.searches import Searches, StoredSearch
from wolbrin.core.work.walk_results import KIND


def _lengths(s: StoredSearch) -> str:
    return " \u00d7 ".join(", ".join(map(str, s.request.get(key) or ())) for key in ("trainings", "tests"))


class KeptWalks(Popup):
    """The newest first."""

    def __init__(self, parent: QWidget, state: WalkState) -> None:
        super().__init__(parent)
        self.state = state
        columns = [Column("number", lambda s: s.id, lambda s: str(s.id), "right", 66, figure=SWEEPS["search.number"]),
                   Column("name", lambda s: s.title, width=210),
                   Column("market", lambda s: f"{s.market} {interval_words(s.interval)}", width=96),
                   Column("lengths", _lengths, width=150),
                   Column("made", lambda s: s.created, lambda s: s.created[:16].replace("T", " "), width=130),
                   Column("tried", lambda s: s.tried, lambda s: number(s.tried), "right", 66, figure=SWEEPS["search.tried"]),
                   Column("state", lambda s: s.state, width=80)]
        self.table = Table(columns, state.session.theme, "Walks", filters=True)
        self.table.setFixedSize(810, 280)
        self.table.opened.connect(lambda _: self.open())
        self.words = label("", "", wrap=True)
        self.words.setFixedWidth(810)
        self.name = QLineEdit()
        self.name.setMaxLength(80)
        self.name.setAccessibleName("name of the walk in the list")
        self.name.returnPressed.connect(self.rename)
        self.table.chosen.connect(lambda s: self.name.setText(s.title))
        self.body.addWidget(self.table)
        self.body.addLayout(row(button("Open", self.open, main=True), self.name, button("Rename", self.rename), None))
        self.body.addWidget(self.words)
        self.fill()

    def fill(self) -> None:
        """Read the list."""
        found = list(reversed(Searches(self.state.session.project).all((KIND,))))
        self.table.set_records(found)
        self.words.setText("" if found else "No walk yet. Set lengths and numbers, and walk.")

    def _chosen(self) -> StoredSearch | None:
        found: StoredSearch | None = self.table.current()
        if found is None:
            self.words.setText("Choose a walk in the list.")
        return found

    def open(self) -> None:
        """Show the chosen walk."""
        found = self._chosen()
        if found is not None:
            self.state.open(found.id)
            self.close()

    def rename(self) -> None:
        """Give the chosen walk another name."""
        found, text = self._chosen(), self.name.text().strip()
        if found is None:
            return
        if not text:
            self.words.setText("Write a name first.")
            return
        Searches(self.state.session.project).rename(found.id, text)
        self.fill()
