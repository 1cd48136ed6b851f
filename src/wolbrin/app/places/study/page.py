"""What price does after conditions fire: mean move with bands and baselines, distribution, excursions, groups."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QSpinBox, QSplitter, QStackedWidget, QWidget

from wolbrin.app.charts.lines import Curve, CurveChart, Histogram
from wolbrin.app.parts import Choice, Empty, button, column, label, row
from wolbrin.app.places.study.picking import ConditionPicker
from wolbrin.app.session import Session
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.engine.run import record_of
from wolbrin.core.figures.searches import STUDIES
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.wording import number
from wolbrin.core.rules.model import Strategy
from wolbrin.core.study.forward import Study
from wolbrin.core.study.groups import groups
from wolbrin.core.study.spread import Spread, ordeal
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.studying import StudyRequest, study_job

BESIDE = (("distribution", "distribution"), ("excursions", "excursions"), ("hour", "hour"), ("weekday", "weekday"),
          ("year", "year"), ("volatility", "volatility"))


@dataclass(frozen=True)
class Line:
    """One group of firings."""

    name: str
    spread: Spread


def _sign(value: float) -> str | None:
    return "gain" if value > 0 else "loss" if value < 0 else None


class StudyPage(QWidget):
    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.side = Choice([("long", 1), ("short", -1), ("both", 0)], 1, "Side")
        self.unit = Choice([("points", "points"), ("ATR", "ATR"), ("money", "money")], "points", "Unit of moves")
        self.horizon = QSpinBox()
        self.horizon.setRange(2, 200)
        self.horizon.setValue(24)
        self.horizon.setSuffix(" bars after")
        self.horizon.setAccessibleName("Horizon")
        self.inside = QCheckBox("within the session")
        self.inside.setChecked(True)
        self.apart = QCheckBox("firings apart")
        self.apart.setToolTip("Count only firings that lie a horizon apart, so that no two moves overlap")
        self.quarters = QCheckBox("quartiles")
        self.quarters.setToolTip("Draw the middle half of the moves, too; the scale grows with it")
        self.quarters.toggled.connect(lambda *_: self._show())
        self.run = button("Run study", self.start, main=True, tip="Ctrl+Return")
        self.more = ConditionPicker(session, "Also study")
        self.list = Table([
            Column("condition", lambda s: s.name, width=210), Column("side", lambda s: "long" if s.side > 0 else "short",
                                                                     width=52),
            Column("firings", lambda s: s.firings, lambda s: number(s.firings), "right", 70, figure=STUDIES["study.firings"]),
            Column("bar", lambda s: self._bar(s), lambda s: str(self._bar(s)), "right", 44, figure=STUDIES["study.bar"]),
            Column("mean", lambda s: s.mean[self._bar(s) - 1], lambda s: self._figure(s.mean[self._bar(s) - 1], s), "right",
                   84, figure=STUDIES["study.mean"]),
            Column("95% band", lambda s: s.low[self._bar(s) - 1], self._band, "right", 150, figure=STUDIES["study.band"]),
            Column("all bars", lambda s: s.baseline[self._bar(s) - 1],
                   lambda s: self._figure(s.baseline[self._bar(s) - 1], s), "right", 84, figure=STUDIES["study.all"]),
            Column("same times of day", lambda s: s.clock[self._bar(s) - 1],
                   lambda s: self._figure(s.clock[self._bar(s) - 1], s), "right", 120, figure=STUDIES["study.clock"]),
            Column("t", lambda s: s.spread(self._bar(s)).t, lambda s: number(s.spread(self._bar(s)).t, 2), "right", 56,
                   figure=STUDIES["study.t"])],
            session.theme, "Studies")
        self.list.chosen.connect(self._choose)
        self.title = label("", "heading")
        self.words = label("", "small", wrap=True)
        self.warning = label("", "caution", wrap=True)
        self.curve = CurveChart(session.theme, "Mean move after the entry", time=False, zoom=False)
        self.at = QSpinBox()
        self.at.setRange(1, 24)
        self.at.setValue(8)
        self.at.setPrefix("bar ")
        self.at.setAccessibleName("Bar of the distribution")
        self.at.valueChanged.connect(lambda *_: self._show())
        self.beside = Choice(list(BESIDE), "distribution", "Beside the mean")
        self.beside.chosen.connect(lambda *_: self.show_lower())
        self.spread = Histogram(session.theme, "Distribution of moves")
        self.heat = CurveChart(session.theme, "Excursions after the entry", time=False, zoom=False)
        self.lines = Table([Column("", lambda x: x.name, width=130),
                            Column("firings", lambda x: x.spread.count, lambda x: number(x.spread.count), "right", 80,
                                   figure=STUDIES["study.firings"]),
                            *(Column(t, lambda x, k=k: getattr(x.spread, k), lambda x, k=k: number(getattr(x.spread, k), 4),
                                     "right", 90, lambda x, k=k: _sign(getattr(x.spread, k)), figure=STUDIES[f"study.{k}"])
                              for t, k in (("mean", "mean"), ("median", "median"))),
                            Column("up %", lambda x: x.spread.up, lambda x: number(x.spread.up, 1), "right", 70,
                                   figure=STUDIES["study.up"]),
                            Column("t", lambda x: x.spread.t, lambda x: number(x.spread.t, 2), "right", 70,
                                   figure=STUDIES["study.t"])],
                           session.theme, "Moves by group")
        self.below_mean = QStackedWidget()
        for widget in (self.spread, self.heat, self.lines):
            self.below_mean.addWidget(widget)
        self.spread_words = label("", "small", wrap=True)
        upper = QWidget()
        upper.setLayout(column(self.title, self.words, self.warning, self.curve, spacing=2, margins=(0, 0, 8, 0)))
        below = QWidget()
        below.setLayout(column(row(label("At", "heading"), self.at, 8, self.beside), self.spread_words, self.below_mean,
                               spacing=3, margins=(0, 6, 8, 0)))
        split = QSplitter(Qt.Orientation.Vertical)
        parts: tuple[QWidget, ...] = (self.list, upper, below)
        for part in parts:
            split.addWidget(part)
        split.setSizes([136, 290, 250])
        self.list.setMaximumHeight(180)
        self.empty = Empty("A study asks what price does after a condition fires, before stops and targets blur the "
                           "picture. It uses the entry of the strategy above, and what you add from the library.",
                           "Run study", self.start)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(split)
        self.setLayout(column(
            row(self.side, 6, self.unit, 6, self.horizon, self.inside, self.apart, self.quarters, None, margins=(0, 0, 8, 0)),
            row(self.more, None, self.run, margins=(0, 0, 8, 0)), self.stack, spacing=5))
        self._studies: list[Study] = []
        self.shown_study: Study | None = None
        self._request: StudyRequest | None = None
        self._footing: Footing | None = None
        self._groups: list[Any] = []
        self.curve.clicked_at.connect(lambda x, _: self.at.setValue(round(x)))
        session.strategy_changed.connect(self._stale)
        session.brief_changed.connect(self._stale)

    def _bar(self, study: Study) -> int:
        return min(self.at.value(), len(study.mean))

    def _digits(self, study: Study) -> int:
        return {"points": self.session.entry.terms.digits + 1, "ATR": 3, "money": 1}[study.unit]

    def _figure(self, value: float, study: Study) -> str:
        return number(value, self._digits(study), sign=True)

    def _band(self, study: Study) -> str:
        at = self._bar(study) - 1
        return f"{self._figure(study.low[at], study)} to {self._figure(study.high[at], study)}"

    def _stale(self) -> None:
        s, r = self.session, self._request
        if r is not None and (r.strategy, r.market, r.interval) != (s.strategy, s.market, s.interval):
            self.title.setText(f"{r.strategy.name} on {r.market} {interval_words(r.interval)}, before the last change; "
                               "run it again")

    def start(self) -> None:
        """Study the entry of the current strategy, and the conditions picked, on the training span."""
        s = self.session
        self._begin(StudyRequest(
            s.strategy, s.market, s.interval, int(self.side.value), self.horizon.value(),  # type: ignore[call-overload]
            self.inside.isChecked(), self.unit.value, not self.apart.isChecked(),  # type: ignore[arg-type]
            tuple(self.more.picked()), s.own))

    def study(self, strategy: Strategy, market: str, interval: int, side: int, horizon: int) -> None:
        """Study the entry of a strategy that need not be the current one. horizon: the bar that is looked at first, 0 for the
        one that stands there."""
        self.side.set(side)
        if horizon > self.horizon.value():
            self.horizon.setValue(horizon)
        self._begin(StudyRequest(strategy, market, interval, side, self.horizon.value(), self.inside.isChecked(),
                                 self.unit.value, not self.apart.isChecked()),  # type: ignore[arg-type]
                    horizon)

    def _begin(self, request: StudyRequest, at: int = 0) -> None:
        s = self.session
        self.run.setEnabled(False)
        footing = Footing.of(s.project)

        def over(_: Any) -> None:
            self.run.setEnabled(True)
            s.counts_changed.emit()

        def done(studies: list[Study]) -> None:
            self._studies, self._request, self._footing = studies, request, footing
            self.at.setMaximum(request.horizon)
            if at:
                self.at.setValue(at)
            self.stack.setCurrentIndex(1)
            self.list.setVisible(len(studies) > 1)
            self.list.set_records(studies)
            self.list.choose(0)
            self._choose(studies[0])

        s.start(study_job(s.project, request, s.on_ui(done), footing), "now", over)

    def _choose(self, study: Study | None) -> None:
        if study is not None:
            self.shown_study = study
            self._show()

    def _show(self) -> None:
        study, request = self.shown_study, self._request
        if study is None or request is None:
            return
        at = self._bar(study)
        bars = np.arange(1, len(study.mean) + 1, dtype=float)
        side = "long" if study.side > 0 else "short"
        self.title.setText(f"{request.strategy.name if study.name == 'entry' else study.name}, {side} "
                           f"{'entry ' if study.name == 'entry' else ''}on {request.market} "
                           f"{interval_words(request.interval)}: {number(study.firings)} firings in "
                           f"{number(study.bars)} bars")
        scope = "moves stay inside the session" if request.inside_session else "moves may cross sessions"
        overlap = (f"{number(study.left_out)} firings inside the horizon of another are left out" if not request.overlapping
                   else f"{number(study.overlapping)} firings overlap; the band draws whole days, so it knows of that")
        self.words.setText(f"Mean move in {study.unit}, from the next open in the trade's direction; {scope}; {overlap}. "
                           f"Band: {study.confidence:.0%} bootstrap, {number(study.resamples)} resamples; thin: median; "
                           "dashed: all bars, and all bars at the same times of day. Click a bar.")
        best = study.best
        self.warning.setText(f"Best bar {best}, the best of {len(bars)} compared: part of its lead over all bars is luck."
                             if best else "")
        curves = [Curve(bars, study.lower, "muted", 1.0, "quartiles"), Curve(bars, study.upper, "muted", 1.0)]
        curves = curves if self.quarters.isChecked() else []
        curves += [Curve(bars, study.baseline, "muted", 1.2, "", dashed=True),
                  Curve(bars, study.clock, "caution", 1.2, "all bars, same times of day", dashed=True),
                  Curve(bars, np.zeros(len(bars)), "hairline", 1.0), Curve(bars, study.median, "ink", 1.0, "median"),
                  Curve(bars, study.mean, "accent", 2.0, "mean")]
        marks = [(float(at), "")] + ([(float(best), "best")] if best and best != at else [])
        self.curve.show_curves(curves, band=(bars, study.low, study.high), marks=marks)
        self.list.grid.viewport().update()
        assert self._footing is not None
        history = self._footing.histories.prepared(request.market, request.interval)
        self._groups = groups(history, study, at)
        record = record_of(history, request.strategy, self._footing.brief(history.bars.terms, request.own))
        self.title.setToolTip(record.words())
        self.show_lower()

    def show_lower(self) -> None:
        study = self.shown_study
        if study is None:
            return
        at, what = self._bar(study), str(self.beside.value)
        moves = study.at_bar(at)
        if len(moves) < 2:
            self.spread_words.setText("too few firings reach this bar")
            self.spread.show_values(np.zeros(0), [])
            self.below_mean.setCurrentIndex(0)
            return
        told = study.spread(at)
        if what == "distribution":
            self.below_mean.setCurrentIndex(0)
            self.spread_words.setText(
                f"{number(told.count)} moves, mean {self._figure(told.mean, study)}, up {number(told.up, 1)}%, skew "
                f"{number(told.skew, 2)}, t {number(told.t, 2)} (firings on one day are not independent: trust the band); "
                "dashed: the normal distribution of that mean and spread")
            self.spread.show_values(moves, [(told.mean, "mean", "accent"), (told.median, "median", "ink")], normal=True)
        elif what == "excursions":
            self.below_mean.setCurrentIndex(1)
            told_of = ordeal(*study.heat_before_best(at))
            bars = np.arange(1, len(study.mean) + 1, dtype=float)
            against, favour = study.typical_excursions
            self.spread_words.setText(
                f"Within {at} bars: median best {self._figure(told_of.best, study)}, median worst before it "
                f"{self._figure(told_of.worst, study)}; {number(told_of.first, 1)}% of firings went further against first. "
                "Lines: median best and worst so far")
            self.heat.show_curves([Curve(bars, favour, "gain", 1.8, "best so far"), Curve(bars, against, "loss", 1.8,
                                                                                         "worst so far"),
                                   Curve(bars, np.zeros(len(bars)), "hairline", 1.0)], marks=[(float(at), "")])
        else:
            self.below_mean.setCurrentIndex(2)
            found = next(g for g in self._groups if g.title == what)
            self.lines.set_records([Line(n, x) for n, x in zip(found.names, found.spreads)])
            self.spread_words.setText({
                "hour": "By the hour at which the firing bar closes, exchange time.",
                "weekday": "By the trading date's weekday.",
                "year": "By year: an edge that decays shows here.",
                "volatility": "By ATR(14) over the close at the firing, in quarters of the firings."}[what])
