"""Rehearsal: bars after the training span played one by one, position and P/L live, compared with the batch run."""

from __future__ import annotations

import datetime as dt
import math

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QSlider, QSplitter, QStackedWidget, QWidget

from wolbrin.app.charts.lines import Curve, CurveChart
from wolbrin.app.charts.price import PriceChart, TradeMarks
from wolbrin.app.parts import Empty, button, column, label, row, set_role
from wolbrin.app.places.place import Place
from wolbrin.app.places.rehearsal.state import SPEEDS, RehearsalState
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.core.engine.run import record_of
from wolbrin.core.market.bars import day_of
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.wording import number
from wolbrin.core.rehearsal.session import Snapshot, latest_trade
from wolbrin.core.rules.dated import in_force_words


class RehearsalPlace(Place):
    key = "rehearsal"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        self.state = RehearsalState(s)
        self.chart = PriceChart(s.theme, "Rehearsal price chart")
        self.equity = CurveChart(s.theme, "Rehearsal equity")
        self.title = label("", "heading")
        self.speed = QSlider(Qt.Orientation.Horizontal)
        self.speed.setRange(0, len(SPEEDS) - 1)
        self.speed.setValue(4)
        self.speed.setFixedWidth(150)
        self.speed.setAccessibleName("Speed, bars a second")
        self.speed_words = label("", "muted")
        self.speed.valueChanged.connect(self._speed)
        self.go = button("Start (opens the holdout)", self.state.start, main=True, tip="Ctrl+Return")
        self.pause = button("Pause", self.state.toggle_pause)
        self.end = button("Stop", self.state.stop)
        self.figures = {name: label("\u2013", "lead") for name in ("time", "position", "entry", "open P/L", "closed P/L",
                                                                   "trades", "equity")}
        grid = QGridLayout()
        grid.setHorizontalSpacing(22)
        for i, (name, widget) in enumerate(self.figures.items()):
            grid.addWidget(label(name, "small"), 0, i)
            grid.addWidget(widget, 1, i)
            widget.setAccessibleName(name)
        grid.setColumnStretch(len(self.figures), 1)
        self.verdict = label("", "muted", wrap=True)
        self.dated = label("", "accent", wrap=True)
        self.dated.hide()
        upper = QWidget()
        upper.setLayout(column(grid, self.chart, spacing=6, margins=(0, 0, 8, 0)))
        lower = QWidget()
        lower.setLayout(column(row(label("Equity so far", "heading"), self.verdict, None), self.dated, self.equity, spacing=4,
                               margins=(0, 6, 8, 0)))
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(upper)
        split.addWidget(lower)
        split.setSizes([380, 220])
        self.empty = Empty("A rehearsal plays the bars after the training span through the strategy above, one at a time, as "
                           "a live feed would. It shows sealed data: starting one opens the holdout, which is counted and "
                           "judges the strategy for good.",
                           "Start (opens the holdout)", self.state.start)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(split)
        self.setLayout(column(row(self.title, None, label("speed", "muted"), self.speed, self.speed_words, 8, self.go,
                                  self.pause, self.end, margins=(0, 0, 8, 0)), self.stack, margins=(20, 10, 0, 6)))
        self.state.begun.connect(self._begun)
        self.state.played.connect(self._show)
        self.state.changed.connect(self._buttons)
        self.state.compared.connect(self._compared)
        self._speed(4)
        self._buttons()

    def actions_offered(self) -> list[Action]:
        return [Action("rehearsal.start", "Start a rehearsal (opens the holdout)", self.state.start, "Ctrl+Return",
                       "rehearsal"),
                Action("rehearsal.pause", "Pause or resume the rehearsal", self.state.toggle_pause, "Ctrl+P", "rehearsal",
                       lambda: self.running()),
                Action("rehearsal.stop", "Stop the rehearsal", self.state.stop, "", "rehearsal", lambda: self.running())]

    def activate(self) -> None:
        s = self.session
        if not self.running():
            self.title.setText(f"{s.strategy.name} on {s.market} {interval_words(s.interval)}")

    def running(self) -> bool:
        return self.state.running

    def _buttons(self) -> None:
        on = self.state.running
        self.go.setVisible(not on)
        self.pause.setVisible(on)
        self.end.setVisible(on)
        self.pause.setText("Resume" if self.state.paused else "Pause")
        rehearsal = self.state.rehearsal
        if rehearsal is not None and not on and not rehearsal.over:
            self.verdict.setText(f"Stopped after {number(rehearsal.shown)} of {number(rehearsal.total)} bars.")

    def _speed(self, index: int) -> None:
        self.state.pace = SPEEDS[index]
        self.speed_words.setText(f"{number(SPEEDS[index])} bars a second")

    def _begun(self) -> None:
        rehearsal = self.state.rehearsal
        assert rehearsal is not None
        bars = rehearsal.bars
        self.title.setText(f"{rehearsal.strategy.name} on {bars.terms.code} {interval_words(bars.interval)}")
        self.title.setToolTip(record_of(rehearsal.history, rehearsal.strategy, rehearsal.brief).words())
        # The chart knows only what has been played: later bars are added as they arrive.
        self.chart.show_bars(bars.take(rehearsal.first))
        self.stack.setCurrentIndex(1)
        set_role(self.verdict, "muted")
        self.verdict.setText("")

    def _compared(self, same: bool, trades: int) -> None:
        assert self.state.rehearsal is not None
        self.verdict.setText(f"All {number(self.state.rehearsal.total)} bars played. " + (
            f"The {number(trades)} trades equal the batch simulator's to the last bit." if same else
            "The trades differ from the batch simulator's: please report this with the strategy file."))
        set_role(self.verdict, "muted" if same else "error")

    def _show(self, snapshot: Snapshot) -> None:
        s = self.session
        run = snapshot.run
        bars = run.bars
        self.chart.show_bars(bars, keep_view=True)
        self.chart.look(len(bars) - 150, len(bars) + 8)
        seen = latest_trade(snapshot)
        if seen is not None:
            self.chart.set_trade(TradeMarks(seen.entry, seen.exit, seen.side, seen.stop, seen.target, seen.gains,
                                            seen.reason))
        moment = dt.datetime.fromtimestamp(snapshot.time / 1e9, tz=dt.UTC).astimezone(bars.terms.zone)
        position = {1: "long", -1: "short", 0: "flat"}[snapshot.position]
        texts = {"time": f"{moment:%d %b %Y %H:%M}", "position": position,
                 "entry": "\u2013" if math.isnan(snapshot.entry_price) else bars.terms.format_price(snapshot.entry_price),
                 "open P/L": number(snapshot.open_profit, 2, sign=True),
                 "closed P/L": number(snapshot.profit, 2, sign=True),
                 "trades": number(snapshot.closed), "equity": f"{number(snapshot.equity)} {s.settings.currency}"}
        for name, text in texts.items():
            self.figures[name].setText(text)
        dated = in_force_words(run.strategy, day_of(bars.trading_date[-1]))
        self.dated.setText(dated)
        self.dated.setVisible(bool(dated))
        if len(run.net):
            x = bars.end[run.first:run.last] / 1e9
            self.equity.show_curves([Curve(x, run.net - run.brief.capital, "ink", 1.8),
                                     Curve(x[[0, -1]], np.zeros(2), "hairline", 1.0)])

