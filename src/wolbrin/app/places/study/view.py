"""Study: does the idea have any edge? One study, a field of conditions and markets, or variants of a strategy."""

from __future__ import annotations

from PySide6.QtWidgets import QStackedWidget

from wolbrin.app.parts import Choice, column, row
from wolbrin.app.places.place import Place
from wolbrin.app.places.study.page import StudyPage
from wolbrin.app.places.study.trial_page import FieldTrialPage, VariantsTrialPage
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action

PAGES = (("Study", "study"), ("Field trial", "field"), ("Variants trial", "variants"))


class StudyPlace(Place):
    key = "study"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.which = Choice(list(PAGES), "study", "Study page")
        self.which.chosen.connect(lambda key: self.show_page(str(key)))
        self.study = StudyPage(session)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.study)
        self._made: dict[str, FieldTrialPage | VariantsTrialPage] = {}
        self.setLayout(column(row(self.which), self.stack, margins=(20, 8, 0, 6), spacing=6))

    def actions_offered(self) -> list[Action]:
        return [Action("study.run", "Run the study or trial", self.start, "Ctrl+Return", "study"),
                *(Action(f"study.{key}", f"Study: {text}", lambda key=key: self.show_page(key), f"Ctrl+{i}", "study")
                  for i, (text, key) in enumerate(PAGES, 1))]

    def page(self, key: str) -> FieldTrialPage | VariantsTrialPage:
        """A trial's page, made when first asked for."""
        if key not in self._made:
            self._made[key] = FieldTrialPage(self.session) if key == "field" else VariantsTrialPage(self.session)
            self.stack.addWidget(self._made[key])
        return self._made[key]

    def show_page(self, key: str) -> None:
        """Show the study or one of the trials."""
        self.which.set(key)
        if key == "study":
            self.stack.setCurrentWidget(self.study)
            return
        page = self.page(key)
        self.stack.setCurrentWidget(page)
        page.load_last()

    def start(self) -> None:
        """Run what is shown."""
        shown = self.stack.currentWidget()
        shown.start()  # type: ignore[attr-defined]
