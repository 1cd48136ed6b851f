"""Backtest: equity and drawdown, the selected trade on the price chart, the ledger and all measures."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QSplitter, QStackedWidget, QWidget

from wolbrin.app.charts.lines import Curve, CurveChart
from wolbrin.app.charts.price import PriceChart, TradeMarks
from wolbrin.app.parts import Choice, Empty, button, column, label, row, set_role
from wolbrin.app.places.backtest.columns import Trade, ledger_columns, levels, measure_rows, trades_of
from wolbrin.app.places.place import Place
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.run import Run
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.drawdown import depth_below_peak
from wolbrin.core.measures.wording import number
from wolbrin.core.search.candidate import candidate_of


class BacktestPlace(Place):
    key = "backtest"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        self.total = label("", "heading")
        self.equity = CurveChart(s.theme, "Equity")
        self.depth = CurveChart(s.theme, "Depth below peak")
        self.depth.setXLink(self.equity)
        self.depth.setMaximumHeight(84)
        self.depth.few_ticks()
        self.equity.hideAxis("bottom")
        self.chart = PriceChart(s.theme, "Trade on the price chart")
        self.trade_title = label("", "heading")
        self.trade_words = label("", "small")
        self.ledger = Table(ledger_columns(None, s.settings.currency), s.theme, "Ledger", filters=True)
        self.measures = Table([
            Column("measure", lambda m: m.title, width=220), Column("value", lambda m: m.number, lambda m: m.value,
                                                                   "right", 110),
            Column("definition", lambda m: m.definition, width=420)], s.theme, "Measures", stretch=2)
        self.tables = QStackedWidget()
        self.tables.addWidget(self.ledger)
        self.tables.addWidget(self.measures)
        self.which = Choice([("ledger", 0), ("all measures", 1)], 0, "Table")
        self.which.chosen.connect(self.tables.setCurrentIndex)
        self.shown = label("", "small")
        self.keep = button("Keep on Shelf", self.keep_on_shelf, tip="Ctrl+K")
        self.record = button("Keep run", self.keep_run, tip="Keep a named record of this run")
        top = QWidget()
        top.setLayout(column(row(label("Equity", "heading"), label("net solid, before costs thin", "small"), None,
                                 self.record, self.keep, self.total, spacing=12),
                             self.equity, label("depth below peak", "small"), self.depth, spacing=2,
                             margins=(0, 6, 8, 0)))
        middle = QWidget()
        middle.setLayout(column(row(self.trade_title, self.trade_words, None), self.chart, spacing=2,
                                margins=(0, 4, 8, 0)))
        bottom = QWidget()
        bottom.setLayout(column(row(self.which, None, self.shown, margins=(0, 2, 8, 0)), self.tables, spacing=2))
        self.split = QSplitter(Qt.Orientation.Vertical)
        for part in (top, middle, bottom):
            self.split.addWidget(part)
        self.split.setSizes([232, 180, 240])
        self.empty = Empty("This strategy has made no trade on the training span yet. Give it an entry in Rules, or choose "
                           "another market in the line above.", "Go to Rules", lambda: s.place_wanted.emit("rules"))
        self.stack = QStackedWidget()
        self.stack.addWidget(self.split)
        self.stack.addWidget(self.empty)
        self.setLayout(column(self.stack, margins=(20, 2, 0, 0)))
        self.ledger.chosen.connect(self._choose)
        self.ledger.model.modelReset.connect(self._totals)
        s.run_changed.connect(self.refresh)
        self._run: Run | None = None
        self._chart_key: object = None

    def actions_offered(self) -> list[Action]:
        s = self.session
        has = lambda: s.run is not None and len(s.run) > 0  # noqa: E731
        return [Action("backtest.keep", "Keep the strategy on the Shelf", self.keep_on_shelf, "Ctrl+K", "backtest", has),
                Action("backtest.record", "Keep a record of this run", self.keep_run, "Ctrl+R", "backtest", has),
                Action("backtest.next", "Next trade", lambda: self._step(1), "Ctrl+Down", "backtest", has),
                Action("backtest.previous", "Previous trade", lambda: self._step(-1), "Ctrl+Up", "backtest", has)]

    def activate(self) -> None:
        self.session.show_subject(None)
        self.refresh()

    def _step(self, step: int) -> None:
        self.ledger.choose(max(0, self.ledger.grid.currentIndex().row() + step))

    def refresh(self) -> None:
        s = self.session
        if not self.isVisible():
            return
        run = s.run
        if run is None or not len(run):
            if s.run_error:
                self.empty.say(s.run_error)
            elif run is not None:
                self.empty.say("This strategy makes no trade on the training span. Loosen its conditions in Rules, or "
                               "choose another market in the line above.")
            self.stack.setCurrentWidget(self.empty)
            return
        self.stack.setCurrentWidget(self.split)
        if run is self._run:
            return
        self._run = run
        self._show_curves(run)
        bars = run.bars
        sealed = bars.range_of(s.settings.holdout)[0]
        key = (bars.terms.code, bars.interval, sealed)
        if key != self._chart_key:
            self.chart.show_bars(bars, sealed)
            self._chart_key = key
        self.ledger.model.columns = ledger_columns(bars.terms, s.settings.currency)
        self.ledger.set_records(trades_of(run))
        self.measures.set_records(measure_rows(run))
        row_now = self.ledger.grid.currentIndex().row()
        self.ledger.choose(row_now if 0 <= row_now < len(run) else len(run) - 1)
        current = self.ledger.current()
        if current is not None:
            self._choose(current)

    def _show_curves(self, run: Run) -> None:
        s = self.session
        x = run.bars.end[run.first:run.last] / 1e9
        sealed = run.bars.range_of(s.settings.holdout)
        mark = None
        if sealed[1] > sealed[0]:
            mark = (run.bars.time[sealed[0]] / 1e9, run.bars.end[sealed[1] - 1] / 1e9, "sealed until you open it")
        net = run.net - run.brief.capital
        self.equity.show_curves([Curve(x, run.gross - run.brief.capital, "muted", 0.9), Curve(x, net, "ink", 1.8)], mark)
        self.depth.show_curves([Curve(x, depth_below_peak(run.net, run.brief.capital), "loss", 1.0, fill="depth")],
                               (mark[0], mark[1], "") if mark else None)
        total = float(run.profits.sum())
        self.total.setText(f"{number(total, sign=True)} {s.settings.currency}")
        set_role(self.total, "gain" if total >= 0 else "loss")

    def _choose(self, trade: Trade) -> None:
        run = self._run
        if run is None or trade.index >= len(run):
            return
        t = run.trades_i[trade.index]
        stop, target = levels(run, trade.index)
        first, last = int(t[k.T_ENTRY_BAR]), int(t[k.T_EXIT_BAR])
        self.chart.set_trade(TradeMarks((first, trade.entry), (last, trade.exit), 1 if trade.side == "long" else -1,
                                        stop, target, trade.net > 0, trade.reason))
        width = max(48, int((last - first) * 1.6))
        middle = (first + last) / 2
        self.chart.look(middle - width / 2 - 4, middle + width / 2 + 8)
        self.trade_title.setText(f"Trade {trade.index + 1} of {len(run)}")
        unsure = ", ambiguous: the stop is assumed" if trade.ambiguous else ""
        self.trade_words.setText(f"{trade.side}, in {trade.entry_time:%d %b %Y %H:%M}, out {trade.exit_time:%H:%M} at "
                                 f"{trade.reason}, net {number(trade.net, 2, sign=True)}{unsure}")

    def _totals(self) -> None:
        model = self.ledger.model
        shown: list[Any] = [model.records[i] for i in model.shown]
        net = float(np.sum([t.net for t in shown])) if shown else 0.0
        self.shown.setText(f"{number(len(shown))} of {number(len(model.records))} trades shown, net "
                           f"{number(net, 2, sign=True)}")

    def keep_on_shelf(self) -> None:
        """Put the current strategy on the Shelf as a candidate."""
        s = self.session
        if s.run is None or not len(s.run):
            s.note("There is no run with trades to keep.", "caution")
            return
        tried = max(1, s.dossiers.tried_for(s.market, s.interval))
        id = s.dossiers.keep(candidate_of(s.run, s.strategy.name, "rules", tried))
        s.note(f"{s.strategy.name} is on the Shelf." if id else f"{s.strategy.name} was on the Shelf already.")
        s.shelf_changed.emit()
        s.counts_changed.emit()

    def keep_run(self) -> None:
        """Keep a record of what made this run."""
        s = self.session
        if s.run is None:
            s.note("There is no run to keep.", "caution")
            return
        number_ = s.dossiers.keep_run(s.run, f"{s.strategy.name} on {s.market} {interval_words(s.interval)}")
        s.note(f"Run {number_} kept; the same record gives the same bits ({s.run.fingerprint}).")
        s.counts_changed.emit()
