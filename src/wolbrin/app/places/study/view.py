"""Study: the mean move after the entry fires, with baseline and bootstrap band, and its distribution at one bar."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QSpinBox, QSplitter, QStackedWidget, QWidget

from wolbrin.app.charts.lines import Curve, CurveChart, Histogram
from wolbrin.app.parts import Choice, Empty, button, column, label, row
from wolbrin.app.places.place import Place
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.wording import number
from wolbrin.core.study.forward import Study
from wolbrin.core.work.studying import StudyRequest, study_job


class StudyPlace(Place):
    key = "study"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.side = Choice([("long entry", 1), ("short entry", -1)], 1, "Side")
        self.horizon = QSpinBox()
        self.horizon.setRange(2, 200)
        self.horizon.setValue(24)
        self.horizon.setSuffix(" bars after")
        self.horizon.setAccessibleName("Horizon")
        self.inside = QCheckBox("within the session only")
        self.inside.setChecked(True)
        self.run = button("Run study", self.start, main=True, tip="Ctrl+Return")
        self.title = label("", "heading")
        self.words = label("", "small", wrap=True)
        self.curve = CurveChart(session.theme, "Mean move after the entry", time=False, zoom=False)
        self.at = QSpinBox()
        self.at.setRange(1, 24)
        self.at.setValue(8)
        self.at.setPrefix("bar ")
        self.at.setAccessibleName("Bar of the distribution")
        self.at.valueChanged.connect(lambda *_: self._show())
        self.spread = Histogram(session.theme, "Distribution of moves")
        self.spread_words = label("", "small", wrap=True)
        upper = QWidget()
        upper.setLayout(column(self.title, self.words, self.curve, spacing=3, margins=(0, 0, 8, 0)))
        lower = QWidget()
        lower.setLayout(column(row(label("Distribution at", "heading"), self.at, self.spread_words), self.spread,
                               spacing=3, margins=(0, 6, 8, 0)))
        lower.layout().itemAt(0).layout().setStretch(2, 1)
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(upper)
        split.addWidget(lower)
        split.setSizes([360, 250])
        self.empty = Empty("A study asks what price does after the entry fires, before stops and targets blur the "
                           "picture. It uses the entry of the strategy above.", "Run study", self.start)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(split)
        self.setLayout(column(row(self.side, 10, self.horizon, self.inside, None, self.run, margins=(0, 0, 8, 0)),
                              self.stack, margins=(20, 10, 0, 6)))
        self._study: Study | None = None
        self._request: StudyRequest | None = None
        self.curve.clicked_at.connect(lambda x, _: self.at.setValue(round(x)))
        session.strategy_changed.connect(self._stale)
        session.brief_changed.connect(self._stale)

    def actions_offered(self) -> list[Action]:
        return [Action("study.run", "Run the study", self.start, "Ctrl+Return", "study")]

    def _stale(self) -> None:
        s = self.session
        r = self._request
        if r is not None and (r.strategy, r.market, r.interval) != (s.strategy, s.market, s.interval):
            self.title.setText(f"{r.strategy.name} on {r.market} {interval_words(r.interval)}, before the last change; "
                               "run it again")

    def start(self) -> None:
        """Study the entry of the current strategy on the training span."""
        s = self.session
        side = self.side.value
        request = StudyRequest(s.strategy, s.market, s.interval, int(side), self.horizon.value(),  # type: ignore[call-overload]
                               self.inside.isChecked())
        self.run.setEnabled(False)

        def over(_: Any) -> None:
            self.run.setEnabled(True)
            s.counts_changed.emit()

        def done(study: Study) -> None:
            self._study, self._request = study, request
            self.at.setMaximum(request.horizon)
            self.stack.setCurrentIndex(1)
            self._show()

        s.start(study_job(s.project, request, s.on_ui(done)), "threads", over)

    def _show(self) -> None:
        study, request = self._study, self._request
        if study is None or request is None:
            return
        at = self.at.value()
        bars = np.arange(1, len(study.mean) + 1, dtype=float)
        side = "long" if request.side > 0 else "short"
        self.title.setText(f"{request.strategy.name}, {side} entry on {request.market} {interval_words(request.interval)}: "
                           f"{number(study.firings)} firings in {number(study.bars)} bars")
        scope = "moves stay inside the session" if request.inside_session else "moves may cross sessions"
        self.words.setText("Mean move in points, bar by bar after the entry fires, from the next open in the trade's "
                           f"direction; {scope}. Band: "
                           f"{study.confidence:.0%} bootstrap over {number(study.resamples)} resamples of whole days. "
                           "Dashed: all bars. Click a bar to see its distribution.")
        self.curve.show_curves([Curve(bars, study.baseline, "muted", 1.2, "all bars", dashed=True),
                                Curve(bars, np.zeros(len(bars)), "hairline", 1.0),
                                Curve(bars, study.mean, "accent", 2.0, "mean"),
                                Curve(bars, study.median, "ink", 1.0, "median")],
                               band=(bars, study.low, study.high), marks=[(float(at), "")])
        moves = study.at(at)
        if len(moves) < 2:
            self.spread_words.setText("too few firings reach this bar")
            self.spread.show_values(np.zeros(0), [])
            return
        mean, sd = float(moves.mean()), float(moves.std(ddof=1))
        t = mean / (sd / math.sqrt(len(moves))) if sd > 0 else math.nan
        digits = self.session.entry.terms.digits + 1
        skew = float(((moves - mean) ** 3).mean() / moves.std() ** 3) if sd > 0 else math.nan
        self.spread_words.setText(
            f"{number(len(moves))} moves, mean {number(mean, digits, sign=True)}, "
            f"up {number(100 * float((moves > 0).mean()), 1)}%, skew {number(skew, 2)}, "
            f"t {number(t, 2)} "
            "(firings on one day are not independent: trust the band)")
        self.spread.show_values(moves, [(mean, "mean", "accent"), (float(np.median(moves)), "median", "ink")])
