"""Picking conditions of the library."""

from __future__ import annotations

from wolbrin.app.picker import Picker, TickPopup
from wolbrin.app.session import Session
from wolbrin.core.rules.conditions import NamedCondition, project_conditions, search, tags_of
from wolbrin.core.rules.formula import FormulaError
from wolbrin.core.rules.model import Condition


class ConditionPicker(Picker):
    """Conditions of the library, ours and the project's own."""

    def __init__(self, session: Session, title: str) -> None:
        self._session = session
        self._every: list[NamedCondition] = []
        super().__init__(title, lambda: [c.name for c in self._read()])

    def _read(self) -> list[NamedCondition]:
        if not self._every:
            self._every = list(project_conditions(self._session.project.get_value("conditions")))
        return self._every

    def popup(self) -> TickPopup:
        self._every = []
        every = self._read()
        return TickPopup(self, [c.name for c in every], self.ticked, self._title,
                         lambda text, tag: [c.name for c in search(every, text, tag)], tags_of(every))

    def picked(self) -> list[tuple[str, Condition]]:
        """Names and conditions; one that cannot be read any more is told and left out."""
        known = self._session.project.own.known()
        found = []
        for one in self._read():
            if one.name in self.ticked:
                try:
                    found.append((one.name, one.condition(known)))
                except FormulaError as err:
                    self._session.note(f'"{one.name}" is left out: {err.what}.', "caution")
        return found
