"""Pages of the report below the equity: what each shows of a run."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QHBoxLayout, QSplitter, QVBoxLayout, QWidget

from wolbrin.app.charts.axes import Plot
from wolbrin.app.charts.grids import Grid
from wolbrin.app.charts.lines import Curve, CurveChart, Histogram
from wolbrin.app.parts import Choice, button, clear, column, label, link, row, tips
from wolbrin.app.places.backtest.columns import signed, tint
from wolbrin.app.session import Session
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.app.theme.theme import Theme
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.run import Run
from wolbrin.core.figures.runs import GROUPS
from wolbrin.core.measures.breakdown import MONTHS, WAYS, drawdown_list, groups, month_grid
from wolbrin.core.measures.cautions import cautions
from wolbrin.core.measures.costs import waterfall
from wolbrin.core.measures.excursion import what_if
from wolbrin.core.measures.fine import FineEffect, fine_effect
from wolbrin.core.measures.wording import number


class Page(QWidget):
    """One page of the report; `show_run` is called when it is on top and the run has changed."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session

    def show_run(self, run: Run) -> None:
        raise NotImplementedError


class BreakdownPage(Page):
    """By year, month, weekday, hour, holding time, exit reason, side; months as a grid; results as a histogram."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.way = Choice([(w, w) for w in WAYS], "year", "Break down by")
        self.way.chosen.connect(lambda _: self.show_run(self._run) if self._run is not None else None)
        money = session.settings.currency
        self.table = Table([
            Column("group", lambda g: g.label, width=96),
            Column("trades", lambda g: g.trades, lambda g: number(g.trades), "right", 56, figure=GROUPS["group.trades"]),
            Column(f"net {money}", lambda g: g.net, lambda g: signed(g.net), "right", 92, lambda g: tint(g.net),
                   figure=GROUPS["group.net"]),
            Column("win %", lambda g: g.win_rate, lambda g: number(g.win_rate, 1), "right", 52,
                   figure=GROUPS["group.win_rate"]),
            Column("average", lambda g: g.average, lambda g: signed(g.average), "right", 72, lambda g: tint(g.average),
                   figure=GROUPS["group.average"]),
            Column("factor", lambda g: g.profit_factor, lambda g: number(g.profit_factor, 2), "right", 54,
                   figure=GROUPS["group.profit_factor"]),
            Column("share %", lambda g: g.share, lambda g: number(g.share, 1), "right", 62, figure=GROUPS["group.share"])],
            session.theme, "Breakdown")
        self.months = Grid(session.theme, "Net profit by month")
        self.results = Histogram(session.theme, "Results of trades")
        self.results.setMinimumHeight(90)
        right = QWidget()
        right.setLayout(column(label(f"net {money} by month of exit", "small"), self.months,
                               label(f"results of trades, {money}", "small"), self.results, spacing=2))
        split = QSplitter(Qt.Orientation.Horizontal)
        left = QWidget()
        left.setLayout(column(self.way, self.table, spacing=2))
        split.addWidget(left)
        split.addWidget(right)
        split.setSizes([540, 460])
        self.setLayout(column(split))
        self._run: Run | None = None

    def show_run(self, run: Run) -> None:
        self._run = run
        self.table.set_records(groups(run, str(self.way.value)))
        years, grid = month_grid(run)
        self.months.show_grid(grid, [str(y) for y in years], list(MONTHS), digits=0, numbers=len(years) <= 12, left=44)
        self.results.show_values(run.profits, [(float(run.profits.mean()), "mean", "ink")])


class DrawdownPage(Page):
    """Drawdown episodes, deepest first."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        money = session.settings.currency
        self.table = Table([
            Column(f"depth {money}", lambda d: d.depth, lambda d: number(d.depth), "right", 100, lambda d: "loss",
                   figure=GROUPS["fall.depth"]),
            Column("% of peak", lambda d: d.percent, lambda d: number(d.percent, 1), "right", 80,
                   figure=GROUPS["fall.percent"]),
            Column("from", lambda d: d.start, lambda d: f"{d.start:%d %b %Y %H:%M}", width=140),
            Column("lowest", lambda d: d.trough, lambda d: f"{d.trough:%d %b %Y %H:%M}", width=140),
            Column("recovered", lambda d: d.recovery or d.trough.replace(year=9999),
                   lambda d: f"{d.recovery:%d %b %Y %H:%M}" if d.recovery else "not yet", width=140),
            Column("days under water", lambda d: d.days, lambda d: number(d.days, 1), "right", 120,
                   figure=GROUPS["fall.days"])],
            session.theme, "Drawdowns", stretch=4)
        self.words = label("", "small")
        self.setLayout(column(self.words, self.table, spacing=2))

    def show_run(self, run: Run) -> None:
        found = drawdown_list(run)
        self.table.set_records(found)
        self.words.setText(f"the {number(len(found))} deepest, from the last bar at the peak to the first at or above it")


class Scatter(Plot):
    """Worst against best excursion of every trade, by result."""

    picked = Signal(int)

    def __init__(self, theme: Theme) -> None:
        self._run: Run | None = None
        super().__init__(theme, "Excursions of trades", zoom=False)

    def show_run(self, run: Run) -> None:
        self._run = run
        self.draw()

    def draw(self) -> None:
        self.plotItem.clear()
        run = self._run
        if run is None:
            return
        worst, best = -run.trades_i[:, k.T_WORST] * run.unit, run.trades_i[:, k.T_BEST] * run.unit
        for won, token, symbol in ((False, "loss", "x"), (True, "gain", "o")):
            pick = np.flatnonzero((run.profits > 0) == won)
            item = pg.ScatterPlotItem(worst[pick], best[pick], data=pick, size=6, symbol=symbol,
                                      pen=self.theme.pen(token, 1.0), brush=None)
            item.sigClicked.connect(lambda _, points, __=None: self._clicked(points))
            self.addItem(item)
        self.plotItem.vb.autoRange()

    def _clicked(self, points: Any) -> None:
        if len(points):
            self.picked.emit(int(points[0].data()))


class ExcursionPage(Page):
    """What trades went through, and what another stop or target would have made of them."""

    trade_wanted = Signal(int)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        money = session.settings.currency
        self.scatter = Scatter(session.theme)
        self.scatter.picked.connect(self.trade_wanted)
        self.curves = CurveChart(session.theme, "Net by stop or target distance", time=False, zoom=False)
        self.words = label("", "small", wrap=True)
        left, right = QWidget(), QWidget()
        key = label(f"best ({money}, up) against worst ({money}, right) of each trade; o won, x lost; click one", "small")
        left.setLayout(column(key, self.scatter, spacing=2))
        lines = row(label("other stop", "loss"), label("other target", "gain"), label("dashed: as it was", "small"), None)
        right.setLayout(column(self.words, lines, self.curves, spacing=2, margins=(10, 0, 0, 0)))
        split = QSplitter(Qt.Orientation.Horizontal)
        split.addWidget(left)
        split.addWidget(right)
        split.setSizes([430, 570])
        self.setLayout(column(split))

    def show_run(self, run: Run) -> None:
        self.scatter.show_run(run)
        w = what_if(run)
        own = np.full(len(w.ticks), w.net)
        self.curves.show_curves([Curve(w.ticks, own, "muted", 1.0, dashed=True),
                                 Curve(w.ticks, w.stop, "loss", 1.6),
                                 Curve(w.ticks, w.target, "gain", 1.6)])
        best_stop, best_target = int(np.argmax(w.stop)), int(np.argmax(w.target))
        self.words.setText(
            f"net profit had every trade had a stop, or a target, so many ticks away, all else as it was: best stop "
            f"{number(w.ticks[best_stop])} ticks ({signed(float(w.stop[best_stop]))}), best target "
            f"{number(w.ticks[best_target])} ({signed(float(w.target[best_target]))}), of {len(w.ticks)} distances compared "
            f"each, on these very trades: a hint for Sweep, not a result")


class Falls(QWidget):
    """Gross to net as a waterfall."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.steps: list[tuple[str, float]] = []
        self.setAccessibleName("Gross to net")
        self.setMinimumSize(300, 120)
        theme.changed.connect(self.update)

    def show_steps(self, steps: list[tuple[str, float]]) -> None:
        self.steps = steps
        self.update()

    def paintEvent(self, event: object) -> None:
        if not self.steps:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        spans, at = [], 0.0
        for name, amount in self.steps:
            base = 0.0 if name in ("gross", "net") else at
            spans.append((base, base + amount))
            at = base + amount
        low, high = min(0.0, *(min(s) for s in spans)), max(0.0, *(max(s) for s in spans))
        room, top = self.height() - 52, 22
        scale = room / ((high - low) or 1.0)
        width = self.width() / len(self.steps)
        y = lambda v: top + (high - v) * scale  # noqa: E731
        painter.setPen(self._theme.pen("hairline", 1.0))
        painter.drawLine(0, int(y(0)), self.width(), int(y(0)))
        for i, ((name, amount), (a, b)) in enumerate(zip(self.steps, spans)):
            x = i * width
            box = (int(x + width * 0.18), int(min(y(a), y(b))), int(width * 0.64), max(1, int(abs(y(a) - y(b)))))
            painter.fillRect(*box, self._theme.color("gain" if amount >= 0 else "loss", 190))
            painter.setPen(self._theme.color("ink"))
            flags = Qt.AlignmentFlag.AlignHCenter
            painter.drawText(int(x), box[1] - 18, int(width), 16, flags, number(amount, sign=True))
            painter.setPen(self._theme.color("muted"))
            painter.drawText(int(x), self.height() - 20, int(width), 18, flags, name)


class CostPage(Page):
    """Costs laid open, and how much more of them the strategy could bear."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.falls = Falls(session.theme)
        self.words = [label("", "lead", wrap=True), label("", wrap=True), label("", wrap=True)]
        side = QWidget()
        side.setMaximumWidth(330)
        side.setLayout(column(*self.words, None, spacing=8, margins=(12, 8, 8, 0)))
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.addWidget(self.falls, 1)
        line.addWidget(side)

    def show_run(self, run: Run) -> None:
        w = waterfall(run)
        money = self.session.settings.currency
        self.falls.show_steps(w.steps())
        paid = w.gross - w.net
        for words, key in zip(self.words, ("level", "paid", "ticks")):
            words.setToolTip(tips(GROUPS[f"costs.{key}"]))
        self.words[0].setText("no cost level breaks even" if math.isnan(w.level)
                              else f"breaks even at {number(w.level, 2)} times these costs")
        self.words[1].setText(f"{number(paid)} {money} of costs" + (
            f", {number(100 * paid / w.gross, 1)}% of the gross" if w.gross > 0 else "")
            + f"; {number(paid / max(1, len(run)), 2)} a trade")
        self.words[2].setText(f"average trade after costs: {number(w.ticks, 2)} ticks on one contract")


class CautionPage(Page):
    """Plain warnings, each with the way to look closer; what finer bars would change."""

    look_wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.box = QVBoxLayout()
        self.box.setSpacing(6)
        self.fine = label("", "small", wrap=True)
        self.fine.setMinimumWidth(420)
        self.check = button("Compare with finer bars", self.compare)
        self.setLayout(column(self.box, row(self.check, self.fine, None), None, spacing=10, margins=(0, 6, 8, 0)))
        self._run: Run | None = None

    def show_run(self, run: Run) -> None:
        if run is not self._run:
            self.fine.setText("")
        self._run = run
        clear(self.box)
        found = cautions(run)
        for one in found:
            words = label(one.text, wrap=True)
            words.setMinimumWidth(520)
            self.box.addLayout(row(label("\u26a0", "caution"), words,
                                   link("look closer", lambda key=one.look: self.look_wanted.emit(key)), None))
        if not found:
            self.box.addWidget(label("Nothing here calls for a warning. That is no verdict: Proving asks harder.", "muted"))

    def compare(self) -> None:
        """Run once with and once without finer bars."""
        run, s = self._run, self.session
        if run is None:
            return
        project, market, interval = s.project, run.bars.terms.code, run.bars.interval

        def work() -> FineEffect | None:
            return fine_effect(project.prepared(market, interval), run.strategy, run.brief)

        def done(effect: FineEffect | None) -> None:
            if effect is None:
                self.fine.setText("this market has no bars finer than those traded on")
                return
            self.fine.setText(f"ambiguous trades {number(effect.before)} without finer bars, {number(effect.after)} with; "
                              f"net changes by {signed(effect.difference)}; {number(effect.whole)} bars did not add up and "
                              "were walked whole")

        s.compute("Finer bars", work, done)

