"""Backtest: equity and drawdown, the selected trade with its reasons, and the report page by page."""

from __future__ import annotations

import datetime as dt
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QMenu, QSplitter, QStackedWidget, QWidget

from wolbrin.app.charts.lines import Curve, CurveChart
from wolbrin.app.parts import Choice, Empty, button, column, label, link, row, set_role, tips
from wolbrin.app.places.backtest.columns import Trade, ledger_columns, trades_of
from wolbrin.app.places.backtest.measures_page import MeasuresPage
from wolbrin.app.places.backtest.pages import BreakdownPage, CautionPage, CostPage, DrawdownPage, ExcursionPage
from wolbrin.app.places.backtest.runs import RunsPage
from wolbrin.app.places.backtest.trade import OrdersPage, TradePanel
from wolbrin.app.places.place import Place
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.view import Table
from wolbrin.core.engine.run import Run
from wolbrin.core.export.exporters import EXPORTERS, Exporter, exporter
from wolbrin.core.export.steps import export_job
from wolbrin.core.figures.runs import TRADES
from wolbrin.core.market.bars import day_number
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.market.terms import MONEY_TERMS
from wolbrin.core.measures.cautions import cautions
from wolbrin.core.measures.drawdown import depth_below_peak
from wolbrin.core.measures.wording import number
from wolbrin.core.search.candidate import candidate_of

# The pages in order, and the attribute each is.
PAGES = {"ledger": "ledger", "orders": "orders", "measures": "measures", "breakdown": "breakdown", "drawdowns": "drawdowns",
         "excursions": "excursions", "costs": "costs", "look closer": "cautions", "kept runs": "runs"}


class BacktestPlace(Place):
    key = "backtest"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        self.total = label("", "heading")
        self.banner = label("", "caution", wrap=True)
        self.back = link("back to the current strategy", self.show_current)
        self.equity = CurveChart(s.theme, "Equity")
        self.below_peak = CurveChart(s.theme, "Depth below peak")
        self.position = CurveChart(s.theme, "Position")
        self.price = CurveChart(s.theme, "Price")
        for strip, height in ((self.below_peak, 42), (self.position, 20), (self.price, 58)):
            strip.setXLink(self.equity)
            strip.setFixedHeight(height)
        self.below_peak.few_ticks()
        for upper in (self.equity, self.below_peak, self.position):
            upper.hideAxis("bottom")
        self.shown = label("", "small")
        self.trade = TradePanel(s, self.shown)
        self.chart = self.trade.chart
        self.ledger = Table(ledger_columns(None, s.settings.currency), s.theme, "Ledger", filters=True)
        self.tables = QStackedWidget()
        self._page("ledger")
        self.which = Choice([(name, name) for name in PAGES], "ledger", "Page")
        self.which.chosen.connect(lambda name: self.look(str(name)))
        self.keep = button("Keep on Shelf", self.keep_on_shelf, tip="Ctrl+K")
        self.record = button("Keep run", self.keep_run, tip="Keep a named record of this run")
        self.save = button("Export \u2026", self.export_menu, tip="Ledger, orders, measures, report")
        top = QWidget()
        self.warned = link("", lambda: self.look("look closer"), tip="Warnings about this run")
        self.told = QWidget()
        self.told.setLayout(row(self.banner, None, self.back))
        top.setLayout(column(row(label("Equity", "heading"), label("net solid, before costs thin", "small"), self.warned,
                                 None, self.save, self.record, self.keep, self.total, spacing=10),
                             self.told, self.equity, self.below_peak, self.position, self.price, spacing=0,
                             margins=(0, 4, 8, 0)))
        bottom = QWidget()
        bottom.setLayout(column(row(self.which, None, margins=(0, 2, 8, 0)), self.tables, spacing=2))
        self.split = QSplitter(Qt.Orientation.Vertical)
        for part in (top, self.trade, bottom):
            self.split.addWidget(part)
        top.setMinimumHeight(200)
        self.trade.setMinimumSize(300, 120)
        self.split.setSizes([270, 200, 190])
        self.empty = Empty("This strategy has made no trade on the training span yet. Give it an entry in Rules, or choose "
                           "another market in the line above.", "Go to Rules", lambda: s.place_wanted.emit("rules"))
        self.stack = QStackedWidget()
        self.stack.addWidget(self.split)
        self.stack.addWidget(self.empty)
        self.setLayout(column(self.stack, margins=(20, 2, 0, 0)))
        self.ledger.chosen.connect(self._choose)
        self.ledger.model.modelReset.connect(self._totals)
        s.run_changed.connect(self._current_moved)
        self._run: Run | None = None
        self._kept: tuple[Run, str] | None = None
        self._filled: dict[str, Run | None] = {}
        self.back.hide()

    def actions_offered(self) -> list[Action]:
        s = self.session
        has = lambda: self.run is not None and len(self.run) > 0  # noqa: E731
        pages = [Action(f"backtest.page.{i}", f"Show {name}", lambda name=name: self.look(name), f"Ctrl+{i}", "backtest", has)
                 for i, name in enumerate(PAGES, 1)]
        return [Action("backtest.keep", "Keep the strategy on the Shelf", self.keep_on_shelf, "Ctrl+K", "backtest",
                       lambda: s.run is not None and len(s.run) > 0),
                Action("backtest.record", "Keep a record of this run", self.keep_run, "Ctrl+R", "backtest", has),
                Action("backtest.export", "Export this run", self.export_menu, "Ctrl+Shift+E", "backtest", has),
                Action("backtest.next", "Next trade", lambda: self._step(1), "Ctrl+Down", "backtest", has),
                Action("backtest.previous", "Previous trade", lambda: self._step(-1), "Ctrl+Up", "backtest", has), *pages]

    # Pages are made when they are first looked at, so that the window opens quickly.

    @cached_property
    def orders(self) -> OrdersPage:
        made = OrdersPage(self.session)
        made.table.chosen.connect(self._of_order)
        return made

    @cached_property
    def measures(self) -> MeasuresPage:
        return MeasuresPage(self.session)

    @cached_property
    def breakdown(self) -> BreakdownPage:
        return BreakdownPage(self.session)

    @cached_property
    def drawdowns(self) -> DrawdownPage:
        return DrawdownPage(self.session)

    @cached_property
    def excursions(self) -> ExcursionPage:
        made = ExcursionPage(self.session)
        made.trade_wanted.connect(self._choose_number)
        return made

    @cached_property
    def costs(self) -> CostPage:
        return CostPage(self.session)

    @cached_property
    def cautions(self) -> CautionPage:
        made = CautionPage(self.session)
        made.look_wanted.connect(self.look)
        return made

    @cached_property
    def runs(self) -> RunsPage:
        made = RunsPage(self.session)
        made.reopened.connect(self._reopen)
        return made

    def _page(self, name: str) -> Any:
        """A page of the report, on the stack from its first use on."""
        page = getattr(self, PAGES[name])
        if self.tables.indexOf(page) < 0:
            page.setMinimumSize(300, 110)  # a page scrolls or shrinks; the window keeps its size
            self.tables.addWidget(page)
        return page

    @property
    def run(self) -> Run | None:
        """The run on show: the current strategy's, or a kept one that was reopened."""
        return self._kept[0] if self._kept else self.session.run

    def activate(self) -> None:
        self.session.show_subject(None)
        self.refresh()

    def look(self, name: str) -> None:
        """Show a page of the report. Pages about the run as a whole take the room of the single trade."""
        self.which.set(name)
        self.tables.setCurrentWidget(self._page(name))
        self.trade.setVisible(name in ("ledger", "orders"))
        self._fill()

    def _step(self, step: int) -> None:
        self.ledger.choose(max(0, self.ledger.grid.currentIndex().row() + step))

    def _current_moved(self) -> None:
        self._kept = None  # an edit of the strategy or the brief asks for its own run
        self.refresh()

    def show_current(self) -> None:
        """Leave a reopened run."""
        self._current_moved()

    def _reopen(self, run: Run, words: str) -> None:
        self._kept = run, words
        self.refresh()

    def refresh(self) -> None:
        s = self.session
        if not self.isVisible():
            return
        run = self.run
        if run is None or not len(run):
            if s.run_error:
                door = s.run_door
                if door is not None:
                    self.empty.say(s.run_error, door.words, lambda: s.door_wanted.emit(door.at))
                else:
                    self.empty.say(s.run_error)
            elif run is None and s.current.waiting:
                self.empty.say("The run is being made.")
            elif run is not None:
                why = run.fault or self._refused(run)
                self.empty.say(why or "This strategy makes no trade on the training span. Loosen its conditions in Rules, or "
                               "choose another market in the line above.")
            self.stack.setCurrentWidget(self.empty)
            return
        self.stack.setCurrentWidget(self.split)
        if run is self._run:
            return
        self._run = run
        self._filled = {}
        self.banner.setText(self._kept[1] if self._kept else run.fault)
        self.back.setVisible(self._kept is not None)
        self.told.setVisible(bool(self.banner.text()))
        self._show_curves(run)
        self.trade.show_bars(run, run.bars.range_of(s.settings.holdout)[0])
        self.ledger.model.columns = ledger_columns(run.bars.terms, s.settings.currency)
        self.ledger.set_records(trades_of(run))
        found = cautions(run)
        self.warned.setText(f"{len(found)} to look at" if found else "")
        self._totals()
        self._fill()
        row_now = self.ledger.grid.currentIndex().row()
        self.ledger.choose(row_now if 0 <= row_now < len(run) else len(run) - 1)
        current = self.ledger.current()
        if current is not None:
            self._choose(current)

    @staticmethod
    def _refused(run: Run) -> str:
        """Why no trade was made, where the run can tell."""
        if run.last <= run.first:
            return (f"There are no bars to decide on in {run.brief.span} on {run.bars.terms.code}: the span holds none, or "
                    "the indicators need all of them as warm-up. Widen the span above, or shorten the indicators.")
        skipped, rejected, expired = (run.counts[c] for c in ("skipped", "rejected", "expired"))
        if not skipped + rejected + expired:
            return ""
        return (f"No trade was made: {number(skipped)} entries were skipped (a missing value, too small a size or a level on "
                f"the wrong side), {number(rejected)} were above the margin, {number(expired)} resting orders expired.")

    def _fill(self) -> None:
        """Fill the page on top if the run has changed since it was last filled."""
        name, run = str(self.which.value), self._run
        if run is None or name == "ledger" or (self._filled.get(name) is run and name != "kept runs"):
            return
        self._filled[name] = run
        self._page(name).show_run(run)

    def _show_curves(self, run: Run) -> None:
        s = self.session
        x = run.bars.end[run.first:run.last] / 1e9
        sealed = s.settings.holdout_first
        last = min(s.settings.last, dt.date.fromisoformat(s.entry.last[:10]))
        mark = None
        if last >= sealed:
            a, b = (day_number(d) * 86_400.0 for d in (sealed, last))
            mark = (a, b, "sealed until you open it")
        quiet = (mark[0], mark[1], "") if mark else None
        net = run.net - run.brief.capital
        self.equity.show_curves([Curve(x, run.gross - run.brief.capital, "muted", 0.9), Curve(x, net, "ink", 1.8)], mark)
        self.below_peak.show_curves([Curve(x, depth_below_peak(run.net, run.brief.capital), "loss", 1.0, fill="depth")],
                                    quiet)
        self.position.show_curves([Curve(x, run.position.astype(np.float64), "accent", 0.8)], quiet)
        self.position.getAxis("right").setTicks([[(0.0, "held")]])
        low, high = float(run.bars.close[run.first:run.last].min()), float(run.bars.close[run.first:run.last].max())
        price = run.bars.terms.format_price
        self.price.getAxis("right").setTicks([[(low, price(low)), (high, price(high))]])
        self.price.show_curves([Curve(x, run.bars.close[run.first:run.last], "muted", 1.0)], quiet)
        total = float(run.profits.sum())
        guessed = [n for n in MONEY_TERMS if n in run.brief.assumed]
        self.total.setText(f"{number(total, sign=True)} {s.settings.currency}"
                           + (" (assumed)" if guessed else ""))
        self.total.setToolTip(run.record(tried=max(1, s.dossiers.searches.tried_on(run.bars.terms.code))).words())
        set_role(self.total, "gain" if total >= 0 else "loss")

    def _choose(self, trade: Trade) -> None:
        run = self._run
        if run is not None and trade.index < len(run):
            self.trade.show_trade(run, trade)

    def _choose_number(self, index: int) -> None:
        """Show a trade by its place in the ledger, filters or not."""
        self.look("ledger")
        shown = list(self.ledger.model.shown)
        if index in shown:
            self.ledger.choose(shown.index(index))
        else:
            self._choose(self.ledger.model.records[index])

    def _of_order(self, event: dict[str, Any]) -> None:
        """Show the trade an order belongs to."""
        if event["trade"]:
            self._choose(self.ledger.model.records[event["trade"] - 1])

    def _totals(self) -> None:
        model = self.ledger.model
        shown: list[Any] = [model.records[i] for i in model.shown]
        net = float(np.sum([t.net for t in shown])) if shown else 0.0
        self.shown.setToolTip(tips(TRADES["trade.net"]))
        self.shown.setText(f"{number(len(shown))} of {number(len(model.records))} trades shown, net "
                           f"{number(net, 2, sign=True)}")

    # Keeping and exporting

    def keep_on_shelf(self) -> None:
        """Put the current strategy on the Shelf as a candidate."""
        s = self.session
        if s.run is None or not len(s.run):
            s.note("There is no run with trades to keep.", "caution")
            return
        tried = max(1, s.dossiers.searches.tried_on(s.market))
        id = s.dossiers.keep(candidate_of(s.run, s.strategy.name, "rules", tried), own=s.own)
        s.note(f"{s.strategy.name} is on the Shelf." if id else f"{s.strategy.name} was on the Shelf already.")
        s.shelf_changed.emit()
        s.counts_changed.emit()

    def keep_run(self) -> None:
        """Keep a record of what made this run."""
        s, run = self.session, self.run
        if run is None:
            s.note("There is no run to keep.", "caution")
            return
        code, name = run.bars.terms.code, run.strategy.name
        number_ = s.dossiers.keep_run(run, f"{name} on {code} {interval_words(run.bars.interval)}")
        s.note(f"Run {number_} kept; the same record gives the same bits ({run.fingerprint}).")
        s.evidence_changed.emit()
        if self.which.value == "kept runs":
            self.runs.show_run()

    def export_menu(self) -> None:
        """What of this run to write to a file."""
        menu = QMenu(self)
        for one in EXPORTERS:
            menu.addAction(f"{one.title} \u2026", lambda one=one: self._ask_file(one))
        menu.popup(self.save.mapToGlobal(self.save.rect().bottomLeft()))

    def _ask_file(self, one: Exporter) -> None:
        run = self.run
        if run is None:
            return
        kinds = ";;".join(f"{title} (*{ending})" for ending, title in one.endings.items())
        usual = next(iter(one.endings))
        name, chosen = QFileDialog.getSaveFileName(self, "Export", f"{run.strategy.name} {one.key}{usual}", kinds)
        if name:
            path = Path(name)
            if not path.suffix:
                path = path.with_suffix(chosen.split("*")[1].split(")")[0])
            self.export(one.key, path)

    def export(self, what: str, path: Path) -> None:
        """Write one kind of file in the background and say where it is."""
        run, s = self.run, self.session
        if run is None:
            return
        money, tried = s.settings.currency, max(1, s.dossiers.searches.tried_on(run.bars.terms.code))

        s.start(export_job(path, exporter(what).steps(run, path, money, tried)), "threads")
