"""Rehearsal: bars after the training span played one by one, position and P/L live, compared with the batch run."""

from __future__ import annotations

import datetime as dt
import math
import time
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QSlider, QSplitter, QStackedWidget, QWidget

from wolbrin.app.charts.lines import Curve, CurveChart
from wolbrin.app.charts.price import PriceChart, TradeMarks
from wolbrin.app.parts import Empty, button, column, label, row, set_role
from wolbrin.app.places.place import Place
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.run import record_of
from wolbrin.core.errors import WolbrinError
from wolbrin.core.jobs import Job, State, Until
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.wording import number
from wolbrin.core.proving.gate import Outcome
from wolbrin.core.rehearsal.session import Rehearsal, Snapshot, same_ledger
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.opening import open_for

SPEEDS = (1, 2, 5, 10, 20, 50, 100, 200, 500, 1000)


class RehearsalPlace(Place):
    key = "rehearsal"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
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
        self.go = button("Start (opens the holdout)", self.start, main=True, tip="Ctrl+Return")
        self.pause = button("Pause", self.toggle_pause)
        self.end = button("Stop", self.stop)
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
        upper = QWidget()
        upper.setLayout(column(grid, self.chart, spacing=6, margins=(0, 0, 8, 0)))
        lower = QWidget()
        lower.setLayout(column(row(label("Equity so far", "heading"), self.verdict, None), self.equity, spacing=4,
                               margins=(0, 6, 8, 0)))
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(upper)
        split.addWidget(lower)
        split.setSizes([380, 220])
        self.empty = Empty("A rehearsal plays the bars after the training span through the strategy above, one at a time, as "
                           "a live feed would. It shows sealed data: starting one opens the holdout, which is counted and "
                           "judges the strategy for good.",
                           "Start (opens the holdout)", self.start)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(split)
        self.setLayout(column(row(self.title, None, label("speed", "muted"), self.speed, self.speed_words, 8, self.go,
                                  self.pause, self.end, margins=(0, 0, 8, 0)), self.stack, margins=(20, 10, 0, 6)))
        self._job: Job | None = None
        self._pace = SPEEDS[4]
        self._latest: Snapshot | None = None
        self._speed(4)
        self._buttons()

    def actions_offered(self) -> list[Action]:
        return [Action("rehearsal.start", "Start a rehearsal (opens the holdout)", self.start, "Ctrl+Return", "rehearsal"),
                Action("rehearsal.pause", "Pause or resume the rehearsal", self.toggle_pause, "Ctrl+P", "rehearsal",
                       lambda: self.running()),
                Action("rehearsal.stop", "Stop the rehearsal", self.stop, "", "rehearsal", lambda: self.running())]

    def activate(self) -> None:
        s = self.session
        if not self.running():
            self.title.setText(f"{s.strategy.name} on {s.market} {interval_words(s.interval)}")

    def running(self) -> bool:
        return self._job is not None and not self._job.state.over

    def _buttons(self) -> None:
        on = self.running()
        self.go.setVisible(not on)
        self.pause.setVisible(on)
        self.end.setVisible(on)
        self.pause.setText("Resume" if self._job is not None and self._job.state is State.PAUSED else "Pause")

    def _speed(self, index: int) -> None:
        self._pace = SPEEDS[index]
        self.speed_words.setText(f"{number(self._pace)} bars a second")

    def toggle_pause(self) -> None:
        if self._job is not None:
            self._job.resume() if self._job.state is State.PAUSED else self._job.pause()
            self._buttons()

    def stop(self) -> None:
        if self._job is not None:
            self._job.stop()

    def start(self) -> None:
        """Begin playing the holdout; counted as an opening."""
        s = self.session
        if self.running():
            s.note("A rehearsal is running; stop it first.", "caution")
            return
        strategy, market, interval, own, project = s.strategy, s.market, s.interval, s.own, s.project
        footing = Footing.of(project)

        def begin() -> tuple[Rehearsal, Outcome] | WolbrinError:
            try:
                brief = footing.brief(footing.ground.history(market).terms, own)
                span = footing.settings.holdout
                opened = open_for(project, footing, strategy, market, interval, brief, span, "rehearsal")
                return Rehearsal(opened.history, strategy, brief, span), opened.verdict
            except WolbrinError as err:
                return err

        def ready(made: tuple[Rehearsal, Outcome] | WolbrinError) -> None:
            if isinstance(made, WolbrinError):
                s.note(made.sentence(), "error")
                return
            rehearsal, _ = made
            s.note("Holdout opened and judged; see the dossier.", "caution")
            s.evidence_changed.emit()
            self.title.setText(f"{strategy.name} on {market} {interval_words(interval)}")
            self.title.setToolTip(record_of(rehearsal.history, strategy, rehearsal.brief).words())
            self._play(rehearsal)

        s.compute("Rehearsal", begin, ready)

    def _play(self, rehearsal: Rehearsal) -> None:
        s = self.session
        # The chart knows only what has been played: later bars are added as they arrive.
        self.chart.show_bars(rehearsal.bars.take(rehearsal.first))
        self.stack.setCurrentIndex(1)
        self.verdict.setText("")
        # One snapshot at a time is on its way to the screen, and the screen rests between two: a fast simulator must not
        # flood the window with more than it can draw.
        pending, drawn = [False], [0.0]

        def draw(snapshot: Snapshot) -> None:
            try:
                self._show(snapshot)
            finally:
                pending[0], drawn[0] = False, time.monotonic()

        show = s.on_ui(draw)

        def play(_: None) -> tuple[Snapshot, int, float]:
            began = time.monotonic()
            before = rehearsal.shown
            snapshot = rehearsal.step(max(1, self._pace // 25))
            return snapshot, rehearsal.shown - before, began

        def commit(played: tuple[Snapshot, int, float]) -> None:
            snapshot, count, began = played
            self._latest = snapshot
            if rehearsal.over or (not pending[0] and time.monotonic() - drawn[0] > 0.12):
                pending[0] = True
                show(snapshot)
            job.nap(max(0.0, count / self._pace - (time.monotonic() - began)))

        def finish(state: State) -> None:
            if self._latest is not None:
                show(self._latest)

        bars = Until(rehearsal.total, lambda: rehearsal.over, lambda played: played[1])
        job = Job(f"Rehearsal {rehearsal.strategy.name}", "bars", bars, play, commit, finish, width=1)
        self._job = s.start(job, "threads", lambda j: self._over(j, rehearsal))
        self._buttons()
        s.counts_changed.emit()

    def _over(self, job: Job, rehearsal: Rehearsal) -> None:
        s = self.session
        self._buttons()
        s.counts_changed.emit()
        if not rehearsal.over or self._latest is None:
            self.verdict.setText(f"Stopped after {number(rehearsal.shown)} of {number(rehearsal.total)} bars.")
            return
        last = self._latest.run

        def done(batch: Any) -> None:
            same = same_ledger(last, batch)
            self.verdict.setText(f"All {number(rehearsal.total)} bars played. " + (
                f"The {number(len(batch))} trades equal the batch simulator's to the last bit." if same else
                "The trades differ from the batch simulator's: please report this with the strategy file."))
            set_role(self.verdict, "muted" if same else "error")

        s.compute("Compare", rehearsal.batch, done)

    def _show(self, snapshot: Snapshot) -> None:
        s = self.session
        run = snapshot.run
        bars = run.bars
        self.chart.show_bars(bars, keep_view=True)
        self.chart.look(len(bars) - 150, len(bars) + 8)
        if len(run):
            t = run.trades_i[-1]
            levels = [float(bars.to_price(int(t[c]))) if t[c] != k.NO_LEVEL else math.nan for c in (k.T_STOP, k.T_TARGET)]
            still_open = snapshot.position != 0
            entry = (int(t[k.T_ENTRY_BAR]), float(bars.to_price(int(t[k.T_ENTRY]))))
            out = (int(t[k.T_EXIT_BAR]), float(bars.to_price(int(t[k.T_EXIT]))))
            self.chart.set_trade(TradeMarks(entry, out, int(t[k.T_SIDE]), *levels, bool(run.trades_f[-1, k.F_GROSS] > 0),
                                            "now" if still_open else k.REASONS[int(t[k.T_REASON])]))
        moment = dt.datetime.fromtimestamp(snapshot.time / 1e9, tz=dt.UTC).astimezone(bars.terms.zone)
        position = {1: "long", -1: "short", 0: "flat"}[snapshot.position]
        closed = float(run.profits.sum()) - (float(run.trades_f[-1, k.F_NET]) if snapshot.position else 0.0)
        texts = {"time": f"{moment:%d %b %Y %H:%M}", "position": position,
                 "entry": "\u2013" if math.isnan(snapshot.entry_price) else bars.terms.format_price(snapshot.entry_price),
                 "open P/L": number(snapshot.open_profit, 2, sign=True), "closed P/L": number(closed, 2, sign=True),
                 "trades": number(snapshot.closed), "equity": f"{number(snapshot.equity)} {s.settings.currency}"}
        for name, text in texts.items():
            self.figures[name].setText(text)
        if len(run.net):
            x = bars.end[run.first:run.last] / 1e9
            self.equity.show_curves([Curve(x, run.net - run.brief.capital, "ink", 1.8),
                                     Curve(x[[0, -1]], np.zeros(2), "hairline", 1.0)])

