"""The sweeps of a project: listed, opened, named, run again, compared."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from PySide6.QtWidgets import QLineEdit, QWidget

from wolbrin.app.parts import Popup, button, label, row
from wolbrin.app.places.sweep.state import SweepState
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.errors import WolbrinError
from wolbrin.core.figures.searches import SWEEPS
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.wording import number
from wolbrin.core.store.searches import Searches, StoredSearch
from wolbrin.core.work.sweep_compare import Comparison, compare_sweeps
from wolbrin.core.work.sweep_results import KIND


@dataclass(frozen=True)
class Kept:
    """A sweep in the list."""

    search: StoredSearch

    @property
    def sets(self) -> int:
        """Sets that it holds or is to hold, those of a sweep that it refines included."""
        return int((self.search.cursor or {}).get("total", self.search.tried))

    @property
    def where(self) -> str:
        if not self.search.market:
            return "several"
        return f"{self.search.market} {interval_words(self.search.interval)}"


class KeptSweeps(Popup):
    """The newest first."""

    def __init__(self, parent: QWidget, state: SweepState) -> None:
        super().__init__(parent)
        self.state = state
        columns = [Column("number", lambda k: k.search.id, lambda k: str(k.search.id), "right", 66,
                          figure=SWEEPS["search.number"]),
                   Column("name", lambda k: k.search.title, width=250), Column("market", lambda k: k.where, width=110),
                   Column("made", lambda k: k.search.created, lambda k: k.search.created[:16].replace("T", " "), width=146),
                   Column("sets", lambda k: k.sets, lambda k: number(k.sets), "right", 76, figure=SWEEPS["search.sets"]),
                   Column("state", lambda k: k.search.state, width=86)]
        self.table = Table(columns, state.session.theme, "Sweeps", filters=True, multi=True)
        self.table.setFixedSize(760, 300)
        self.table.opened.connect(lambda _: self.open())
        self.words = label("", "", wrap=True)
        self.words.setFixedWidth(760)
        self.body.addWidget(self.table)
        self.name = QLineEdit()
        self.name.setMaxLength(80)
        self.name.setAccessibleName("name of the sweep in the list")
        self.name.returnPressed.connect(self.rename)
        self.table.chosen.connect(lambda k: self.name.setText(k.search.title))
        self.body.addLayout(row(button("Open", self.open, main=True), self.name, button("Rename", self.rename),
                                button("Run again", self.again, tip="On the history as it is now"),
                                button("Compare two", self.compare), None))
        self.body.addWidget(self.words)
        self.fill()

    def fill(self) -> None:
        """Read the list."""
        found = [Kept(s) for s in reversed(Searches(self.state.session.project).all((KIND,)))]
        self.table.set_records(found)
        self.words.setText("" if found else "No sweep yet. Tick numbers and run one.")

    def _chosen(self, count: int) -> list[Kept] | None:
        found = self.table.marked() or ([self.table.current()] if self.table.current() is not None else [])
        if len(found) != count:
            self.words.setText("Choose a sweep in the list." if count == 1 else "Choose two sweeps in the list, with Ctrl.")
            return None
        return found

    def open(self) -> None:
        """Show the chosen sweep."""
        found = self._chosen(1)
        if found is not None:
            self.state.open(found[0].search.id)
            self.close()

    def again(self) -> None:
        """Run the chosen sweep again."""
        found = self._chosen(1)
        if found is not None:
            self.state.again(found[0].search.id)
            self.close()

    def rename(self) -> None:
        """Give the chosen sweep another name."""
        found = self._chosen(1)
        if found is None:
            return
        text = self.name.text().strip()
        if not text:
            self.words.setText("Write a name first.")
            return
        Searches(self.state.session.project).rename(found[0].search.id, text)
        self.fill()

    def compare(self) -> None:
        """Say how the chosen two agree."""
        found = self._chosen(2)
        if found is None:
            return
        a, b = sorted(k.search.id for k in found)
        project = self.state.session.project

        def work() -> Any:
            try:
                return compare_sweeps(project, a, b)
            except WolbrinError as err:
                return err

        def done(made: Any) -> None:
            self.words.setText("\n".join(made.lines()) if isinstance(made, Comparison) else made.sentence())
            self.adjustSize()

        self.state.session.compute("Compare sweeps", work, done, "compare sweeps")
