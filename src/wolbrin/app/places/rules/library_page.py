"""The condition library: ours and the project's own, found by words and tags, added to a side with one key."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtWidgets import QComboBox, QFileDialog, QInputDialog, QLineEdit, QWidget

from wolbrin.app.parts import button, column, label, row
from wolbrin.app.session import Session
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.models import read_json
from wolbrin.core.rules.conditions import (
    ConditionFile,
    NamedCondition,
    read_conditions,
    search,
    shipped,
    tags_of,
    write_conditions,
)
from wolbrin.core.rules.formula import FormulaError
from wolbrin.core.rules.model import Condition
from wolbrin.core.rules.printing import condition_text
from wolbrin.core.written import write_text

PARTS = ("long entry", "long exit", "short entry", "short exit")
EVERY = "every tag"


@dataclass(frozen=True)
class Entry:
    """A condition and whether it is the project's own."""

    one: NamedCondition
    own: bool


class LibraryPage(QWidget):
    """Search, add, keep, bring in and give out. add(part, name, condition) puts a condition into a strategy;
    current(part) is what a part holds now."""

    def __init__(self, session: Session, add: Callable[[str, str, Condition], None],
                 current: Callable[[str], Condition]) -> None:
        super().__init__()
        self._session, self._add, self._current = session, add, current
        self.words = QLineEdit()
        self.words.setPlaceholderText("Find: cross, rsi, gap \u2026")
        self.words.setAccessibleName("find a condition")
        self.tag = QComboBox()
        self.tag.setAccessibleName("tag")
        self.part = QComboBox()
        self.part.addItems(list(PARTS))
        self.part.setAccessibleName("part of the strategy")
        self.table = Table([
            Column("condition", lambda e: e.one.name, width=196),
            Column("tags", lambda e: ", ".join(e.one.tags), width=110),
            Column("", lambda e: "own" if e.own else "", width=34),
            Column("formula", lambda e: e.one.formula, width=330)], session.theme, "Conditions", stretch=3)
        self.about = label("", "small", wrap=True)
        self.about.setMinimumHeight(32)
        self.table.chosen.connect(lambda e: self.about.setText(f"{e.one.formula}  {e.one.notes}" if e else ""))
        self.table.opened.connect(lambda *_: self.add())
        self.count = label("", "small")
        self.remove = button("Remove", self.remove_own, tip="Remove a condition of your own")
        self.setLayout(column(
            row(self.words, self.tag), self.table, self.about,
            row(button("Add to", self.add, main=True, tip="Return"), self.part, None, self.count),
            row(button("Keep this part \u2026", self.keep, tip="Keep what this part of the strategy holds, with a name"),
                self.remove, button("Import \u2026", self.open_file), button("Export \u2026", self.save_file), None,
                spacing=5), spacing=5))
        self.words.textChanged.connect(self.fill)
        self.tag.currentTextChanged.connect(self.fill)
        self.refresh()

    def own(self) -> tuple[NamedCondition, ...]:
        """The project's own conditions."""
        kept = self._session.project.get_value("conditions")
        return ConditionFile.model_validate_json(kept).conditions if kept else ()

    def _keep_own(self, conditions: tuple[NamedCondition, ...]) -> None:
        self._session.project.set_value("conditions", write_conditions(conditions))
        self.refresh()

    def refresh(self) -> None:
        """Read the project's conditions again."""
        self._every = [Entry(c, True) for c in self.own()] + [Entry(c, False) for c in shipped()]
        now = self.tag.currentText()
        self.tag.blockSignals(True)
        self.tag.clear()
        self.tag.addItems([EVERY, *tags_of(e.one for e in self._every)])
        self.tag.setCurrentText(now if self.tag.findText(now) >= 0 else EVERY)
        self.tag.blockSignals(False)
        self.fill()

    def fill(self, *_: object) -> None:
        """Show what the words and the tag leave."""
        tag = "" if self.tag.currentText() == EVERY else self.tag.currentText()
        found = {id(c) for c in search([e.one for e in self._every], self.words.text(), tag)}
        shown = [e for e in self._every if id(e.one) in found]
        self.table.set_records(shown)
        self.count.setText(f"{len(shown)} of {len(self._every)}")
        if shown:
            self.table.choose(0)
        self.about.setText(f"{shown[0].one.formula}  {shown[0].one.notes}" if shown else "no condition has these words")

    def add(self) -> None:
        """Add the chosen condition to the chosen part; on a short part its mirror image."""
        chosen = self.table.current()
        if chosen is None:
            self._session.note("No condition is chosen.", "caution")
            return
        try:
            self._add(self.part.currentText(), chosen.one.name, chosen.one.condition(self._session.project.own.known()))
        except FormulaError as err:
            self._session.note(err.sentence(), "error")

    def keep(self) -> None:
        """Ask for a name and tags, and keep the chosen part of the strategy under them."""
        part = self.part.currentText()
        if not self._current(part).rows:
            self._session.note(f"The {part} has no row to keep.", "caution")
            return
        text, good = QInputDialog.getText(self, "Keep a condition", f"Name of the {part}; tags after a comma")
        if good and text.strip():
            name, *tags = (t.strip() for t in text.split(","))
            self.keep_as(name, tuple(t for t in tags if t))

    def keep_as(self, name: str, tags: tuple[str, ...]) -> None:
        """Keep the chosen part under a name; an older one of that name is replaced."""
        made = NamedCondition(name=name[:80], formula=condition_text(self._current(self.part.currentText())), tags=tags)
        try:
            made.condition(self._session.project.own.known())
        except FormulaError as err:
            self._session.note(f"This part cannot be kept alone: {err.what}. Take the names off its numbers first.", "error")
            return
        self._keep_own((made, *(c for c in self.own() if c.name != made.name)))
        self._session.note(f'"{made.name}" is kept in the library.')

    def remove_own(self) -> None:
        chosen = self.table.current()
        if chosen is None or not chosen.own:
            self._session.note("Only conditions of your own can be removed.", "caution")
            return
        before = self.own()
        self._session.do(f"remove {chosen.one.name}",
                         lambda: self._keep_own(tuple(c for c in before if c.name != chosen.one.name)),
                         lambda: self._keep_own(before))

    def open_file(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Import conditions", "", "Conditions (*.json)")
        if name:
            self.load(Path(name))

    def load(self, path: Path) -> None:
        """Take conditions from a file; one of a name that is there already replaces it."""
        try:
            made = read_conditions(read_json(path, "file of conditions"), str(path))
        except (UserError, EnvironmentTrouble) as err:
            self._session.note(err.sentence(), "error")
            return
        names = {c.name for c in made}
        self._keep_own((*made, *(c for c in self.own() if c.name not in names)))
        self._session.note(f"{len(made)} conditions added from {path.name}.")

    def save_file(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Export conditions", "conditions.json", "Conditions (*.json)")
        if name:
            self.write(Path(name))

    def write(self, path: Path) -> None:
        """Write what is shown to a file."""
        shown = [self.table.model.record(i).one for i in range(self.table.model.rowCount())]
        def act() -> None:
            write_text(path, write_conditions(shown))
            self._session.note(f"{len(shown)} conditions written to {path}.")

        self._session.attempt(act)
