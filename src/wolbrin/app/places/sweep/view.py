"""Sweep: which parameter region works, and is it a plateau or a peak? Two pages: what is asked, and what came of it."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QLabel, QStackedWidget, QWidget

from wolbrin.app.parts import Choice, Empty, column, row
from wolbrin.app.places.place import Place
from wolbrin.app.places.sweep.result import ResultPage
from wolbrin.app.places.sweep.state import SweepState
from wolbrin.app.session import Session
from wolbrin.app.sets.numbers import AxisLine
from wolbrin.app.sets.setup import Setup
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.view import Table
from wolbrin.core.work.sweep_request import SweepRequest

ASK, RESULT = "ask", "result"


class SweepPlace(Place):
    key = "sweep"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.state = SweepState(session)
        self.setup = Setup(session)
        self.result = ResultPage(self.state)
        self.empty = Empty("No sweep yet. Tick the numbers to vary and run one; it is tested on the training span, and "
                           "nothing here sees the holdout.", "Set it up", lambda: self.show_page(ASK))
        whole = QWidget()
        self._results = QStackedWidget()
        self._results.addWidget(self.empty)
        self._results.addWidget(self.result)
        whole.setLayout(column(self._results))
        self.pages = QStackedWidget()
        self.pages.addWidget(self.setup)
        self.pages.addWidget(whole)
        self.choice = Choice([("Set up", ASK), ("Result", RESULT)], ASK, "Sweep page")
        self.choice.chosen.connect(lambda page: self.show_page(str(page)))
        self._top = QWidget()
        self._top.setLayout(self.result.top)
        self._top.hide()
        self.setLayout(column(row(self.choice, 12, self._top), self.pages, margins=(20, 8, 0, 6), spacing=6))
        self.setup.asked.connect(self._run)
        self.state.taken.connect(self._take)
        self._opened = False
        self.state.restore()

    def actions_offered(self) -> list[Action]:
        chosen = lambda: self.state.values is not None  # noqa: E731
        shown = lambda: self.state.reading is not None  # noqa: E731
        edges = lambda: self.state.reading is not None and bool(self.state.reading.edges)  # noqa: E731
        r = self.result
        return [Action("sweep.run", "Run the sweep", self.start, "Ctrl+Return", "sweep"),
                Action("sweep.apply", "Apply the chosen set to the strategy", self.apply_chosen, "Ctrl+Shift+A", "sweep",
                       chosen),
                Action("sweep.keep", "Keep the chosen set on the Shelf", self.keep_chosen, "Ctrl+K", "sweep", chosen),
                Action("sweep.pin", "Pin the chosen sets", r.pin, "P", "sweep", chosen),
                Action("sweep.zoom", "Zoom into the marked region", self.zoom, "Ctrl+Shift+Z", "sweep", shown),
                Action("sweep.extend", "Extend the range at whose end the best lies", self.state.extend, "Ctrl+Shift+E",
                       "sweep", edges),
                Action("sweep.copy", "Copy the picture", r.copy_picture, "", "sweep", shown),
                Action("sweep.picture", "Save the picture", r.save_picture, "", "sweep", shown),
                Action("sweep.luck", "Compare with 20 more shuffled histories", self.state.more_luck, "", "sweep", shown),
                Action("sweep.kept", "List the sweeps of the project", r.open_kept, "Ctrl+Shift+L", "sweep"),
                Action("sweep.export", "Export all sets", r.export, "", "sweep", shown),
                Action("sweep.save", "Save the chosen numbers to a file", r.save_set, "", "sweep", chosen),
                Action("sweep.load", "Load numbers from a file", r.load_set, "", "sweep")]

    # What tests and the shell reach for

    @property
    def lines(self) -> list[AxisLine]:
        return self.setup.numbers.lines

    @property
    def count_words(self) -> QLabel:
        return self.setup.count_words

    @property
    def problem(self) -> QLabel:
        return self.setup.problem

    @property
    def table(self) -> Table:
        return self.result.table

    def show_page(self, page: str) -> None:
        """Show what is asked, or what came of it."""
        self.choice.set(page)
        self.pages.setCurrentIndex(0 if page == ASK else 1)
        self._top.setVisible(page == RESULT and self.state.result is not None)

    def start(self) -> None:
        """Run what stands on the first page."""
        self.setup.run()

    def _run(self, request: SweepRequest) -> None:
        if self.state.start(request):
            self.show_page(RESULT)

    def _take(self) -> None:
        self._results.setCurrentIndex(1)
        self._top.show()
        result: Any = self.state.result
        self.setup.show_request(result.request)
        self.show_page(RESULT)

    def zoom(self) -> None:
        """Sweep the region that is marked on the map of two."""
        picture: Any = self.result.by_key["map"]
        picture.zoom.click()

    def apply_chosen(self) -> None:
        """Give the strategy the numbers of the chosen set."""
        self.state.apply()

    def keep_chosen(self) -> None:
        """Put the chosen sets on the Shelf."""
        self.result.keep()
