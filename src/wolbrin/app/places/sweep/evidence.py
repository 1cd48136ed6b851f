"""What is recommended and why, and beside it what speaks against the winner: tried, luck, deflated Sharpe ratio,
overfitting."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QScrollArea, QSizePolicy, QWidget

from wolbrin.app.parts import column, hairline, label, link, set_role
from wolbrin.app.places.sweep.state import SweepState
from wolbrin.app.theme.theme import Theme, font
from wolbrin.app.theme.tokens import SMALL
from wolbrin.core.engine.record import NOT_RECORDED
from wolbrin.core.measures.wording import MINUS, number
from wolbrin.core.search.overfitting import FLAT
from wolbrin.core.work.controls import percent_note
from wolbrin.core.work.sweep_luck import Luck
from wolbrin.core.work.sweep_statistics import Statistics

RARE = 0.05  # a p above which luck is said aloud


class LuckStrip(QWidget):
    """Best values on shuffled histories as dots, the real one as a staff."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.luck: Luck | None = None
        self.setFixedHeight(26)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Best of the sweep beside the best on shuffled histories")
        theme.changed.connect(self.update)

    def show_luck(self, luck: Luck | None) -> None:
        self.luck = luck
        self.setVisible(luck is not None and luck.shuffles > 0)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        luck = self.luck
        if luck is None:
            return
        known = luck.best[np.isfinite(luck.best)]
        every = np.append(known, luck.actual) if math.isfinite(luck.actual) else known
        if not len(every):
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(SMALL))
        low, high = float(every.min()), float(every.max())
        left, right, y = 6.0, self.width() - 70.0, 17.0

        def x(v: float) -> float:
            return left + (v - low) / ((high - low) or 1.0) * (right - left)

        painter.setPen(self._theme.pen("hairline"))
        painter.drawLine(QPointF(left, y), QPointF(right, y))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self._theme.color("muted", 150))
        for v in known.tolist():
            painter.drawEllipse(QPointF(x(v), y), 3, 3)
        if math.isfinite(luck.actual):
            painter.setPen(self._theme.pen("accent", 2))
            painter.drawLine(QPointF(x(luck.actual), 3), QPointF(x(luck.actual), y + 6))
            painter.drawText(QRectF(x(luck.actual) + 4, -1, 66, 14), Qt.AlignmentFlag.AlignLeft, "this sweep")
        if len(known):
            painter.setPen(self._theme.color("muted"))
            painter.drawText(QRectF(right + 6, y - 8, 60, 14), Qt.AlignmentFlag.AlignLeft, "luck")


def sharpe_words(s: Statistics) -> str:
    """The Sharpe ratios beside luck's best, in a line."""
    parts = []
    for name, one in (("the center", s.center), ("the best set", s.best)):
        if one is not None and math.isfinite(one.chance):
            parts.append(f"{100 * one.chance:.1f}% for {name}")
    if not parts:
        return ""
    one = s.center or s.best
    assert one is not None
    need = f" {one.needed:,.0f} trading days would make it 95%; there are {one.days:,}." if math.isfinite(
        one.needed) and one.needed > one.days else ""
    return (f"Sharpe ratio: {', '.join(parts)}, the probability that the true ratio is above {one.hurdle.words()}.{need}")


def fitting_words(s: Statistics) -> str:
    """Overfitting in a line."""
    o = s.overfitting
    if o is None:
        return "Overfitting is not judged: there are too few sets or days."
    parts = []
    for name, rule in (("The center", o.plateau), ("the largest value", o.largest)):
        if math.isfinite(rule.overfitting):
            cuts, loses = 100 * rule.overfitting, 100 * rule.loss
            parts.append(f"{name} falls below the median on other days in {cuts:.0f} of 100 cuts and loses in {loses:.0f} "
                         f"(Sharpe ratio of a day {rule.inside:.3f} \u2192 {rule.outside:.3f})")
    return ("Overfitting: " + "; ".join(parts) + f". {FLAT} {o.words()}").replace("-", MINUS) if parts else ""


class Evidence(QWidget):
    """The recommendation, and beneath it what speaks against it."""

    applied = Signal()

    def __init__(self, state: SweepState) -> None:
        super().__init__()
        self.state = state
        self.standing = label("Recommended", "small")
        self.best = label("", "lead", wrap=True)
        self.reason = label("", "", wrap=True)
        self.edge = label("", "caution", wrap=True)
        self.extend = link("Extend the range", state.extend, tip="Carry the range on; what is known is kept (Ctrl+Shift+E)")
        self.weights = label("", "small", wrap=True)
        self.tried = label("", "heading", wrap=True)
        self.luck = label("", "", wrap=True)
        self.strip = LuckStrip(state.session.theme)
        self.more = link("20 more shuffles", lambda: state.more_luck(), tip="Compare with 20 further shuffled histories")
        self.sharpe = label("", "small", wrap=True)
        self.fit = label("", "small", wrap=True)
        inside = QWidget()
        inside.setLayout(column(
            self.standing, self.best, self.reason, self.edge, self.extend, self.weights, hairline(),
            label("What speaks against it", "small"), self.tried, self.luck, self.strip, self.more, self.sharpe, self.fit,
            None, spacing=5, margins=(12, 0, 8, 0)))
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setWidget(inside)
        self.setLayout(column(area))
        state.was_read.connect(self.show_reading)
        state.judged.connect(self.show_judged)
        state.grown.connect(self.show_judged)

    def show_reading(self) -> None:
        """What is recommended."""
        r = self.state.reading
        if r is None:
            return
        basket = r.basket
        if basket is not None and len(basket.sets) and len(r.request.markets) > 1:
            space = r.request.space
            values = space.values(basket.sets[:1])[0, space.places:].tolist()
            words = ", ".join(f"{a.short} {a.shown(v)}" for a, v in zip(space.numbers, values))
            self.best.setText(f"For all {len(r.request.markets)} markets: {words}")
            say = r.request.objective.value_words
            alone = [f"{space.words(r.values(row))} ({say(r.score[row])})" for row in basket.best.tolist() if row >= 0]
            self.reason.setText(f"By {basket.rule}: {basket.words()}.\nBest of each by itself: {'; '.join(alone)}.")
        else:
            at = r.center if r.center >= 0 else r.best
            self.best.setText(r.request.space.words(r.values(at)) if at >= 0 else "No set to recommend")
            self.reason.setText(r.reason(named=False))
        self.edge.setText(" ".join(e.words(r.request.axes[e.axis]) for e in r.edges))
        self.edge.setVisible(bool(r.edges))
        self.extend.setVisible(bool(r.edges) and not self.state.running)
        words = r.importance.words([a.short for a in r.request.axes], r.request.space.places) if len(r) > 1 else ""
        self.weights.setText(words)
        shares = r.importance if len(r) > 1 else None
        if shares is not None:
            self.weights.setToolTip("\n".join(
                f"{a.short}: {100 * m:.0f}% by itself, {100 * t:.0f}% with the others"
                for a, m, t in zip(r.request.axes, shares.main, shares.total) if math.isfinite(t)))
        self.show_judged()

    def _stand(self) -> None:
        """Whether the best region is one to take."""
        st = self.state
        r = st.reading
        if r is None:
            return
        luck = st.luck.of(st.market) if st.luck is not None else None
        loses = r.center >= 0 and not float(r.columns["net"][r.center]) > 0
        lucky = luck is not None and luck.shuffles >= 19 and luck.p > RARE
        self.standing.setText("The best region loses: take nothing from here" if loses else
                              "The best region is no better than luck" if lucky else "Recommended")
        set_role(self.standing, "caution" if loses or lucky else "small")

    def show_judged(self) -> None:
        """What speaks against it."""
        self._stand()
        st = self.state
        result = st.result
        if result is None:
            return
        stats = st.statistics
        market = st.market if len(result.request.markets) > 1 else ""
        on = f", {number(stats.tried_on)} alternatives on {stats.market} altogether" if stats is not None else ""
        left = f" of {number(result.total)}" if result.unfinished or st.running else ""
        refused = f", {number(result.refused)} the model refuses" if result.refused else ""
        self.tried.setText(f"{number(result.count)}{left} sets tried here{refused}{on}.")
        self.tried.setToolTip(result.record.words() if result.record is not None else NOT_RECORDED)
        luck = st.luck.of(market) if st.luck is not None else None
        r = st.reading
        running = st.luck_running is not None and not st.luck_running.state.over
        if luck is not None and luck.shuffles and r is not None:
            more = " More shuffles are under way." if running else ""
            rules = r.request.strategy
            percent = percent_note(st.session.project, luck.market, rules, rules.flat_by_session_end, result.record)
            self.luck.setText(luck.words(r.request.objective.value_words) + (f" {percent}." if percent else "") + more)
            set_role(self.luck, "caution" if luck.p > RARE and luck.shuffles >= 19 else "")
        else:
            waits = result.unfinished or st.running
            self.luck.setText("The same sweep on shuffled histories is under way." if running else
                              "What luck alone brings is compared once the sweep is finished." if waits else
                              "Not compared with luck yet.")
            set_role(self.luck, "muted")
        self.strip.show_luck(luck)
        self.more.setVisible(not running and not result.unfinished and not st.running)
        self.more.setText("20 more shuffles" if luck is not None and luck.shuffles else "Compare with luck")
        self.sharpe.setText(sharpe_words(stats) if stats is not None else "")
        self.fit.setText(fitting_words(stats) if stats is not None else st.not_judged)
