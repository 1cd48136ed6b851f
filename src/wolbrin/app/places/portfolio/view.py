"""Portfolio: the ticked candidates on an account, against each of them and without each of them."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QLineEdit, QSplitter, QStackedWidget, QWidget

from wolbrin.app.parts import Choice, Empty, button, column, label, row, stretch, tips
from wolbrin.app.places.place import Place
from wolbrin.app.places.portfolio.find_page import FindPage, SavedPage
from wolbrin.app.places.portfolio.members import MembersView
from wolbrin.app.places.portfolio.more_pages import ChancesPage, LedgerPage, TimePage
from wolbrin.app.places.portfolio.pages import ChangesPage, EquityPage, MeasuresPage, WeightsPage
from wolbrin.app.places.portfolio.settings import SettingsRow
from wolbrin.app.places.portfolio.state import PortfolioState
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.core.figures.portfolios import PORTFOLIOS
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.work.spending import DIFFERENCE
from wolbrin.core.work.standing import READY, STANDS
from wolbrin.core.work.subject import Subject

PAGES = ("equity", "measures", "weights", "less, more", "time", "chances", "ledger", "find", "saved")


class PortfolioPlace(Place):
    key = "portfolio"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        self.state = state = PortfolioState(s)
        self.title = label("", "heading")
        self.words = label("", "small", wrap=True)
        self.cautions = label("", "caution", wrap=True)
        self.name = QLineEdit()
        self.name.setPlaceholderText("name of the portfolio")
        self.name.setMaximumWidth(170)
        self.name.setAccessibleName("Portfolio name")
        self.open = button("Open the holdout for the whole", self.open_holdout, tip=DIFFERENCE)
        self.settings = SettingsRow(state)
        self.members = MembersView(state)
        self.equity, self.measures = EquityPage(state), MeasuresPage(state)
        self.weights, self.changes = WeightsPage(state), ChangesPage(state)
        self.time, self.chances, self.ledger = TimePage(state), ChancesPage(state), LedgerPage(state)
        self.finding, self.saved = FindPage(state), SavedPage(state)
        self.pages = QStackedWidget()
        self.blank = QWidget()
        for page in (self.equity, self.measures, self.weights, self.changes, self.time, self.chances, self.ledger,
                     self.finding, self.saved, self.blank):
            self.pages.addWidget(page)
        self.page = Choice([(p, p) for p in PAGES], PAGES[0], "Page")
        self.page.chosen.connect(lambda value: self.show_page(str(value)))
        right, left = QWidget(), QWidget()
        right.setLayout(column(self.page, self.pages, spacing=4, margins=(10, 0, 0, 0)))
        left.setLayout(column(self.members, margins=(0, 0, 8, 0)))
        split = QSplitter(Qt.Orientation.Horizontal)
        split.addWidget(left)
        split.addWidget(right)
        split.setSizes([510, 570])
        whole = QWidget()
        whole.setLayout(column(row(self.title, None, self.name, button("Save portfolio", self.save, main=True), self.open),
                               self.settings, self.words, self.cautions, split, spacing=4))
        stretch(whole, 4, 1)
        self.empty = Empty("Tick the strategies you want to trade together. They trade on one account, and are compared with "
                           "each of them and without each of "
                           "them.", "Tick the distinct or proved candidates", state.tick_best)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(whole)
        self.setLayout(column(self.stack, margins=(20, 10, 8, 6)))
        self._later = QTimer(self, singleShot=True, interval=30)  # after the table, so that the window answers in between
        self._later.timeout.connect(self._fill)
        state.emptied.connect(lambda: self.stack.setCurrentIndex(0))
        state.shown.connect(self._show)
        state.failed.connect(self._failed)
        state.planned.connect(self._planned)
        self._slow = QTimer(self, singleShot=True, interval=400)  # a quick run changes what is shown at once
        self._slow.timeout.connect(self._trading)
        self.members.chosen.connect(self._member)
        for signal in (s.selection_changed, s.shelf_changed, s.brief_changed):
            signal.connect(self.refresh)

    def actions_offered(self) -> list[Action]:
        return [Action("portfolio.save", "Save the portfolio", self.save, "Ctrl+Return", "portfolio"),
                Action("portfolio.figures", "Show what the holdout showed of the portfolio that fell",
                       lambda: self.state.show_figures(self.name.text().strip()), "", "portfolio"),
                Action("portfolio.open", "Open the holdout for the portfolio as a whole", self.open_holdout, "", "portfolio"),
                Action("portfolio.tick", "Tick the distinct or proved candidates", self.state.tick_best, "", "portfolio"),
                Action("portfolio.apart", "Trade the portfolio without each member", self._apart, "", "portfolio"),
                Action("portfolio.weigh", "Weigh all schemes against equal weights", self._weigh, "", "portfolio")]

    def _apart(self) -> None:
        self.show_page("less, more")
        self.state.take_apart()

    def _weigh(self) -> None:
        self.show_page("weights")
        self.state.weigh()

    def activate(self) -> None:
        self.state.look()
        self.saved.show_saved()

    def refresh(self) -> None:
        if self.isVisible():
            self.state.look()

    def running(self) -> bool:
        return bool(self.state.jobs)

    def show_page(self, name: str) -> None:
        """One of PAGES."""
        self.page.set(name)
        self.pages.setCurrentIndex(PAGES.index(name))
        self._fill()

    def _fill(self) -> None:
        """Fill the page that is looked at; others when they are."""
        told, page = self.state.told, self.pages.currentWidget()
        if told is None:
            return
        if page is self.equity:
            self.equity.show_told(told, self._place())
        elif isinstance(page, MeasuresPage | TimePage | ChancesPage | LedgerPage):
            page.show_told(told)

    def _place(self) -> int:
        """Place of the chosen member among those that trade; -1 for none."""
        at, members = self.members.at, self.state.plan.members
        return sum(m.on for m in members[:at]) if 0 <= at < len(members) and members[at].on else -1

    def _member(self, at: int) -> None:
        if at < len(self.state.kept):
            self.session.show_subject(Subject.of(self.state.kept[at]))
        if self.pages.currentWidget() is self.equity:
            self._fill()

    def _planned(self) -> None:
        self.members.show_lines()
        if self.state.trading:
            if self.state.told is None:
                self.pages.setCurrentWidget(self.blank)  # nothing is there to be shown
                self._trading()
                self.stack.setCurrentIndex(1)
            self._slow.start()

    def _trading(self) -> None:
        """The portfolio is being traded; what is still shown is what it was before."""
        on = len(self.state.plan.on)
        self.title.setText(f"Trading {on} {'member' if on == 1 else 'members'} over training \u2026")

    def _failed(self, why: str) -> None:
        self._slow.stop()
        self.pages.setCurrentIndex(PAGES.index(str(self.page.value)))
        self.title.setText("This portfolio cannot be traded")
        self.cautions.setText(why)
        self.cautions.show()
        self.words.setText("")
        self.members.show_lines()
        self.stack.setCurrentIndex(1)

    def _show(self) -> None:
        state = self.state
        told = state.told
        assert told is not None
        self._slow.stop()
        made, figures = told.played, told.figures
        for part in (self.title, self.equity.equity):
            part.setToolTip("\n".join(r.words() for r in told.records))
        self.title.setToolTip(tips(BY_KEY["net"], BY_KEY["return_drawdown"]) + "\n" + self.title.toolTip())
        self.words.setToolTip(tips(PORTFOLIOS["desk.bets"], BY_KEY["max_drawdown"], BY_KEY["sharpe"]))
        self.title.setText(f"{len(made.parts)} members: net {worded('net', figures['net'], True)} {state.currency}, return "
                           f"over drawdown {worded('return_drawdown', figures['return_drawdown'])}")
        of_those = [x for x, m in zip(state.standing, state.plan.members) if m.on]
        stand, ready = sum(x == STANDS for x in of_those), sum(x == READY for x in of_those)
        lost = made.rounding.lost
        rounded = f" Rounding to whole contracts takes {lost:.0%} of what the shares ask for." if lost > 0.005 else ""
        self.words.setText(
            f"Worth {number(told.bets, 1)} bets; {number(stand)} stand, {number(ready)} are ready and sealed. Drawdown "
            f"{worded('max_drawdown', figures['max_drawdown'])}, Sharpe {worded('sharpe', figures['sharpe'])}, "
            f"{number(len(made.entries))} trades, training span.{rounded} {state.verdict}")
        seen = []
        if state.seen and not state.verdict:
            seen = [f"Chosen on seen data: the holdout of {len(state.seen)} of them was opened before, so that \"unseen\" "
                    "means nothing for this portfolio."]
        said = [*seen, *told.cautions]
        self.cautions.setText(" ".join(said[:3]) + (f" And {len(said) - 3} more." if len(said) > 3 else ""))
        self.cautions.setToolTip("\n".join(said))
        self.cautions.setVisible(bool(said))
        if not self.name.text():
            self.name.setText(f"Portfolio {len(state.saved_ones()) + 1}")
        self.members.show_lines()
        self.pages.setCurrentIndex(PAGES.index(str(self.page.value)))
        self._later.start()
        self.stack.setCurrentIndex(1)

    def open_holdout(self) -> None:
        """Once, as a whole."""
        self.state.open_holdout(self.name.text())

    def save(self) -> None:
        """Keep the portfolio under its name."""
        if self.state.save(self.name.text()):
            self.name.setText("")
