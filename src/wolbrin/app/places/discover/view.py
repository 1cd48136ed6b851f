"""Discover: what can the machine find by itself? Two pages: what is asked, and what comes of it."""

from __future__ import annotations

from PySide6.QtWidgets import QStackedWidget

from wolbrin.app.parts import Choice, Empty, column, row
from wolbrin.app.places.discover.result import ResultPage
from wolbrin.app.places.discover.setup import Setup
from wolbrin.app.places.discover.state import DiscoverState
from wolbrin.app.places.place import Place
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.view import Table
from wolbrin.core.search.ingredients import Chosen
from wolbrin.core.work.discover_request import DiscoverRequest

ASK, RESULT = "ask", "result"


class DiscoverPlace(Place):
    key = "discover"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.state = DiscoverState(session)
        self.setup = Setup(session)
        self.result = ResultPage(self.state)
        self.empty = Empty("The machine builds strategies from the ingredients you trust, tests each on the training span "
                           "and keeps those above your floors. Beside it the same search runs on shuffled histories, which "
                           "says how many luck would keep. The holdout stays sealed.", "Discover", self.start)
        self._results = QStackedWidget()
        self._results.addWidget(self.empty)
        self._results.addWidget(self.result)
        self.pages = QStackedWidget()
        self.pages.addWidget(self.setup)
        self.pages.addWidget(self._results)
        self.choice = Choice([("Set up", ASK), ("Result", RESULT)], ASK, "Discover page")
        self.choice.chosen.connect(lambda page: self.show_page(str(page)))
        self.setLayout(column(row(self.choice, None), self.pages, margins=(20, 8, 0, 6), spacing=6))
        self.setup.asked.connect(self._run)
        self.state.taken.connect(self._take)
        self.state.preparing.connect(lambda on: self.setup.go.setEnabled(not on))
        self._around = False
        self._ticked: tuple[str, ...] = ()
        self.state.restore()

    @property
    def table(self) -> Table:
        return self.result.table

    def actions_offered(self) -> list[Action]:
        r = self.result
        chosen = lambda: r.isVisible() and r.table.current() is not None  # noqa: E731
        return [Action("discover.run", "Start discovering", self.start, "Ctrl+Return", "discover"),
                Action("discover.open", "Open the chosen find in Rules", r.open_chosen, "", "discover", chosen),
                Action("discover.sweep", "Take the chosen find to Sweep", r.sweep, "S", "discover", chosen),
                Action("discover.exits", "Search around the chosen find: other exits", lambda: r.around("entry"), "E",
                       "discover", chosen),
                Action("discover.entry", "Search around the chosen find: another entry", lambda: r.around("exits"), "",
                       "discover", chosen),
                Action("discover.filter", "Search around the chosen find: a filter", lambda: r.around("both"), "F",
                       "discover", chosen),
                Action("discover.prove", "Run the line on the families that were found", r.prove, "R", "discover",
                       r.isVisible),
                Action("discover.variants", "Show the variants of families too, or only their representatives",
                       r.all.toggle, "V", "discover", r.isVisible),
                Action("discover.floors", "Ask the floors as they stand of what came near", r.rejections.apply.click, "",
                       "discover", r.rejections.apply.isEnabled)]

    def activate(self) -> None:
        laid = self.session.laid
        around, laid.around = laid.around, None
        if around is not None:
            self._around = True
            self.setup.structure.around(*around)
            self.show_page(ASK)
        if laid.seek:
            laid.seek = False
            self.setup.seek()
        if laid.ingredients != self._ticked:
            self._ticked = laid.ingredients
            self.setup.ingredients.model.show(tuple(Chosen(key, 1.0) for key in self._ticked))
            self.show_page(ASK)

    def show_page(self, page: str) -> None:
        """Show what is asked, or what comes of it."""
        self.choice.set(page)
        self.pages.setCurrentIndex(0 if page == ASK else 1)

    def start(self) -> None:
        """Search in the background; what is kept goes straight to the Shelf."""
        self.setup.run()

    def open_chosen(self) -> None:
        """Make the chosen find the current strategy."""
        self.result.open_chosen()

    def _run(self, request: DiscoverRequest) -> None:
        self.state.start(request)

    def _take(self) -> None:
        self._results.setCurrentIndex(1)
        if self.state.job is not None or not self._around:  # an older search that is read meanwhile stays behind
            self.show_page(RESULT)
