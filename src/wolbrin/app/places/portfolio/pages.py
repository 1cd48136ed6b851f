"""What came of the portfolio: equity, measures, what one member less or more makes of it."""

from __future__ import annotations

from dataclasses import dataclass
from textwrap import shorten

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QComboBox, QSplitter, QWidget

from wolbrin.app.charts.lines import Curve, CurveChart, several
from wolbrin.app.parts import button, column, label, row
from wolbrin.app.places.portfolio.state import PortfolioState
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.figures.portfolios import PORTFOLIOS, SCHEMES
from wolbrin.core.measures.catalogue import BY_KEY, MEASURES
from wolbrin.core.measures.drawdown import depth_below_peak
from wolbrin.core.measures.wording import number, percent, worded
from wolbrin.core.portfolio.contributions import KEYS, Change
from wolbrin.core.portfolio.told import Told
from wolbrin.core.portfolio.weighing import Weighed

SHORT = {"net": "net", "max_drawdown": "drawdown", "return_drawdown": "ret/dd", "under_water": "under water",
         "sharpe": "Sharpe"}
MOST_CURVES = 24
DAY = 86_400.0
NONE = float("nan")


class EquityPage(QWidget):
    """Equity and drawdown of the whole, of every member and of buying and holding, on one axis of time and one capital."""

    def __init__(self, state: PortfolioState) -> None:
        super().__init__()
        self.state = state
        self.equity = CurveChart(state.session.theme, "Portfolio equity")
        self.below = CurveChart(state.session.theme, "Portfolio depth below peak")
        self.below.setXLink(self.equity)
        self.below.setMaximumHeight(90)
        self.below.few_ticks()
        self.equity.hideAxis("bottom")
        self.words = label("", "small", wrap=True)
        self.hold = QComboBox()
        self.hold.setAccessibleName("Buy and hold of")
        self.hold.setMinimumWidth(116)
        self.hold.activated.connect(lambda _: state.hold(tuple(self.hold.currentData() or ())))
        self._depth: list[Curve] = []
        self._then = QTimer(self, singleShot=True, interval=0)  # one chart after the other: the window answers in between
        self._then.timeout.connect(lambda: self.below.show_curves(self._depth))
        self.setLayout(column(self.words, row(label("buy and hold", "muted"), self.hold, None), self.equity,
                              label("depth below peak", "small"), self.below, spacing=2))

    def show_told(self, told: Told, member: int = -1) -> None:
        """member: place among those that trade, drawn strongly."""
        made = told.played
        x = made.instants / 1e9
        dates, table = made.table
        paths = np.cumsum(table, axis=0)
        parts = [several(dates.astype(np.float64) * DAY, [paths[:, i] for i in range(min(paths.shape[1], MOST_CURVES))
                                                          if i != member])]
        hold = Curve(x, told.holding, "loss", 1.0, "buy and hold", dashed=True)
        one = []
        if 0 <= member < len(made.parts):
            one = [Curve(x, made.each[:, member], "gain", 1.6, shorten(made.parts[member].name, 26, placeholder=" \u2026"))]
        self.equity.show_curves([*parts, hold, *one, Curve(x, made.equity - made.capital, "accent", 2.2, "portfolio")])
        self._depth = [Curve(x, depth_below_peak(made.equity, made.capital), "loss", 1.0, fill="depth")]
        self._then.start()
        self._markets(sorted({p.history.bars.terms.code for p in made.parts}))
        markets = self.state.markets or sorted({p.history.bars.terms.code for p in made.parts})
        self.words.setText(f"Net profit, {self.state.currency}, training. Plum: the portfolio; thin: its members as they "
                           f"trade in it; dashed: {', '.join(markets[:6])} held throughout for the same capital, without "
                           "borrowing.")


    def _markets(self, codes: list[str]) -> None:
        """What can be held instead: all markets of the members alike, or one of them."""
        wanted = [("all of them", ()), *((code, (code,)) for code in codes)]
        if [self.hold.itemText(i) for i in range(self.hold.count())] != [text for text, _ in wanted]:
            self.hold.clear()
            for text, data in wanted:
                self.hold.addItem(text, data)
        at = self.hold.findText(self.state.markets[0]) if self.state.markets else 0
        self.hold.setCurrentIndex(max(0, at))


@dataclass(frozen=True)
class Row:
    """One measure: the portfolio's value, then each member's."""

    key: str
    values: tuple[float, ...]


class MeasuresPage(QWidget):
    """All measures of the whole and its members side by side."""

    def __init__(self, state: PortfolioState) -> None:
        super().__init__()
        self.table = Table([Column("measure", lambda r: r.key)], state.session.theme, "Portfolio measures")
        self.setLayout(column(self.table))

    def show_told(self, told: Told) -> None:
        columns = [Column("measure", lambda r: BY_KEY[r.key].title + (
            " (%)" if BY_KEY[r.key].unit == "percent" and "drawdown" in r.key else ""), width=170,
            hover=lambda r: BY_KEY[r.key].tip)]
        names = ["portfolio", *told.names]
        for i, name in enumerate(names):
            columns.append(Column(name, lambda r, i=i: r.values[i], lambda r, i=i: worded(r.key, r.values[i]), "right",
                                  max(92, min(170, 8 * len(name))), lambda r, i=i: "accent" if i == 0 else None,
                                  figure=PORTFOLIOS["desk.measure"], hover=lambda r: BY_KEY[r.key].tip))
        self.table.set_columns(columns)
        every = [told.figures, *told.each]
        self.table.set_records([Row(m.key, tuple(f[m.key] for f in every)) for m in MEASURES])


class WeightsPage(QWidget):
    """Schemes of weights beside each other, walked forward inside training."""

    def __init__(self, state: PortfolioState) -> None:
        super().__init__()
        self.state = state
        self.words = label("Each scheme is fitted on past days and held through the next, so that none has seen what it is "
                           "judged on. Equal weights are recommended unless another is better beyond "
                           "noise.", "small", wrap=True)
        self.table = Table([Column("scheme", lambda r: r.title)], state.session.theme, "Weights")
        self.chart = CurveChart(state.session.theme, "Schemes walked forward")
        self.go = button("Weigh all schemes", state.weigh)
        self.use = button("Use the chosen weights", self._use, main=True)
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(self.table)
        split.addWidget(self.chart)
        split.setSizes([210, 200])
        self.setLayout(column(self.words, row(self.go, self.use, None), split, spacing=4))
        state.weighed.connect(self.show_table)
        state.planned.connect(self.show_table)

    def _use(self) -> None:
        one = self.table.current()
        if one is not None and one.key in {r.key for r in (self.state.table.rows if self.state.table else ())}:
            self.state.use_scheme(one.key) if one.key != "own" else self.state.change(weights="own")

    def show_table(self) -> None:
        """Show it, where it is there."""
        table = self.state.table
        self.use.setEnabled(table is not None)
        if table is None:
            self.table.set_records([])
            self.chart.show_curves([])
            return
        names = [m.name for m in self.state.plan.on]
        columns: list[Column] = [
            Column("scheme", lambda r: r.title, lambda r: f"\u2192 {r.title}" if r.key == table.recommended else r.title,
                   width=140, tint=lambda r: "accent" if r.key == table.recommended else None),
            Column("Sharpe", lambda r: r.sharpe, lambda r: number(r.sharpe, 2), "right", 60, figure=SCHEMES["scheme.sharpe"]),
            Column("ret/dd", lambda r: r.return_drawdown, lambda r: number(r.return_drawdown, 2), "right", 60,
                   figure=SCHEMES["scheme.return_drawdown"]),
            Column("p", lambda r: r.p, lambda r: number(r.p, 3), "right", 56, figure=SCHEMES["scheme.p"]),
            Column("change", lambda r: r.turnover, lambda r: percent(r.turnover), "right", 60,
                   figure=SCHEMES["scheme.turnover"])]
        for i, name in enumerate(names):
            columns.append(Column(str(i + 1), lambda r, i=i: _weight(r, i), lambda r, i=i: percent(_weight(r, i)), "right",
                                  46,
                                  tip=name, figure=SCHEMES["scheme.weight"]))
        self.table.set_columns(columns)
        self.table.set_records(list(table.rows))
        self.words.setText(table.why)
        days = self.state.told.played.table[0] if self.state.told else np.zeros(0, np.int32)
        size = len(table.rows[0].walked)
        x = (days[-size:] if len(days) >= size else np.arange(size)).astype(np.float64) * DAY
        base = table.rows[0].walked.std() or 1.0
        self.chart.show_curves([Curve(x, np.cumsum(r.walked) * (base / r.walked.std() if r.walked.std() > 0 else 1.0),
                                      "accent" if r.key == table.recommended else "ink" if r.key == "equal" else "muted",
                                      1.8 if r.key in ("equal", table.recommended) else 0.9,
                                      r.title if r.key in ("equal", table.recommended) else "", under=r.key == "equal")
                                for r in table.rows])


def _weight(r: Weighed, at: int) -> float:
    return float(r.weights[at]) if at < len(r.weights) else NONE


@dataclass(frozen=True)
class Kind:
    """A row of the table of changes. there: it was traded."""

    kind: str
    change: Change
    there: bool = True

    def figure(self, key: str) -> str:
        return worded(key, self.change.figures[key]) if self.there else "\u2026"


class ChangesPage(QWidget):
    """The portfolio really traded without each member, and with each that may join."""

    def __init__(self, state: PortfolioState) -> None:
        super().__init__()
        self.state = state
        self.words = label("", "small", wrap=True)
        self.table = Table([
            Column("", lambda r: r.kind, width=64, tint=lambda r: "accent" if r.kind == "as it is" else None),
            Column("member", lambda r: r.change.name, width=170),
            *(Column(SHORT[k], lambda r, k=k: r.change.figures[k], lambda r, k=k: r.figure(k),
                     "right",
                     84 if k == "under_water" else 72, lambda r, k=k: self._tint(r, k), figure=BY_KEY[k]) for k in KEYS),
            Column("", lambda r: r.change.fault, width=200, tint=lambda r: "caution")], state.session.theme, "One less, one "
                                                                                                             "more")
        self.go = button("Trade without each, and with others", state.take_apart)
        self.out = button("Leave the chosen one out", self._leave)
        self.setLayout(column(row(self.go, self.out, None), self.words, self.table, spacing=4))
        state.taken_apart.connect(self.show_one)
        state.taking_apart.connect(self.show_changes)
        state.planned.connect(self.show_changes)
        state.shown.connect(self.show_changes)

    def _tint(self, row_: Kind, key: str) -> str | None:
        """By whether the portfolio is better or worse than as it is."""
        told = self.state.told
        if told is None or row_.kind == "as it is":
            return None
        now, then = told.figures[key], row_.change.figures[key]
        if now != now or then != then or abs(now - then) < 1e-12:
            return None
        return "gain" if (then > now) == (BY_KEY[key].better >= 0) else "loss"

    def _leave(self) -> None:
        one = self.table.current()
        if one is None or one.kind != "without":
            self.state.session.note("Choose a row that leaves a member out first.", "caution")
            return
        self.state.leave_out(one.change.at)

    def show_changes(self) -> None:
        """Show those that are there."""
        state, told = self.state, self.state.told
        rows = [Kind("as it is", Change("the portfolio", -1, {k: told.figures[k] for k in KEYS}))] if told else []
        rows += [Kind("without", c) for c in state.without] + [Kind("with", c) for c in state.added]
        rows += [Kind(kind, Change(name, at, dict.fromkeys(KEYS, NONE)), False) for kind, at, name in state.waiting]
        self.table.set_records(rows)
        there = bool(state.without or state.added or state.waiting)
        self.words.setText("The others keep their sizes; each row is the portfolio really traded so. One more comes at its "
                           "own size, last in priority; petrol is better than as it is, rust is worse." if there else
                           "What would remain without each member, and what other proved candidates would add: each is "
                           "really traded.")

    def show_one(self) -> None:
        """Show the newest one in its row, which alone is painted: the window answers while more come."""
        state, told = self.state, self.state.told
        at = len(state.without) + len(state.added) - (told is None)
        kind, change = ("with", state.added[-1]) if state.added else ("without", state.without[-1])
        if at < len(self.table.model.records):
            self.table.model.set_record(at, Kind(kind, change))
