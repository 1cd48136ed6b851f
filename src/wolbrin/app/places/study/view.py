"""Study: where is anything at all, and does the idea have any edge? A scan, one study, a field of conditions and markets, or
variants of a strategy."""

from __future__ import annotations

from PySide6.QtWidgets import QStackedWidget

from wolbrin.app.parts import Choice, column, row
from wolbrin.app.places.place import Place
from wolbrin.app.places.study.page import StudyPage
from wolbrin.app.places.study.scan_page import ScanPage
from wolbrin.app.places.study.trial_page import FieldTrialPage, VariantsTrialPage
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.core.rules.model import Strategy
from wolbrin.core.work.scan_results import Line

PAGES = (("Scan", "scan"), ("Study", "study"), ("Field trial", "field"), ("Variants trial", "variants"))


class StudyPlace(Place):
    key = "study"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.which = Choice(list(PAGES), "scan", "Study page")
        self.which.chosen.connect(lambda key: self.show_page(str(key)))
        self.scan = ScanPage(session)
        self.scan.study_wanted.connect(self._study)
        self.study = StudyPage(session)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.scan)
        self.stack.addWidget(self.study)
        self._made: dict[str, FieldTrialPage | VariantsTrialPage] = {}
        self.setLayout(column(row(self.which), self.stack, margins=(20, 8, 0, 6), spacing=6))
        self.scan.load_last()

    def actions_offered(self) -> list[Action]:
        scan = self.scan

        def chosen() -> bool:
            return scan.isVisible() and scan.table.current() is not None

        return [Action("study.run", "Run the scan, study or trial", self.start, "Ctrl+Return", "study"),
                *(Action(f"study.{key}", f"Study: {text}", lambda key=key: self.show_page(key), f"Ctrl+{i}", "study")
                  for i, (text, key) in enumerate(PAGES, 1)),
                Action("study.begin", "Begin a strategy with the chosen row of the scan", scan.begin_strategy, "B", "study",
                       chosen),
                Action("study.row", "Study the chosen row of the scan", scan.study_chosen, "Y", "study", chosen),
                Action("study.discover", "Discover on the scanned market, beginning with what is seen", scan.discover, "G",
                       "study", scan.isVisible),
                Action("study.tick", "Tick the ingredient of the chosen row for Discover", scan.tick_for_discover, "D",
                       "study", chosen)]

    def page(self, key: str) -> FieldTrialPage | VariantsTrialPage:
        """A trial's page, made when first asked for."""
        if key not in self._made:
            self._made[key] = FieldTrialPage(self.session) if key == "field" else VariantsTrialPage(self.session)
            self.stack.addWidget(self._made[key])
        return self._made[key]

    def show_page(self, key: str) -> None:
        """Show the scan, the study or one of the trials."""
        self.which.set(key)
        if key in ("scan", "study"):
            self.stack.setCurrentWidget(self.scan if key == "scan" else self.study)
            return
        page = self.page(key)
        self.stack.setCurrentWidget(page)
        page.load_last()

    def _study(self, asked: tuple[Strategy, str, int, Line]) -> None:
        """Study a row of the scan."""
        strategy, market, interval, line = asked
        self.show_page("study")
        self.study.study(strategy, market, interval, line.side, line.horizon)

    def start(self) -> None:
        """Run what is shown."""
        shown = self.stack.currentWidget()
        shown.start()  # type: ignore[attr-defined]
