"""Two candidates side by side: both equities, their rolling correlation, and when they lose together."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QWidget

from wolbrin.app.charts.lines import Curve, CurveChart
from wolbrin.app.parts import column, label
from wolbrin.app.places.overlap.state import OverlapState
from wolbrin.app.theme.theme import Theme
from wolbrin.core.measures.wording import number

DAY = 86_400.0
HINT = "Choose a cell of the matrix to see both equities and how their correlation changed."


class PairView(QWidget):
    """The chosen pair."""

    def __init__(self, theme: Theme, state: OverlapState) -> None:
        super().__init__()
        self.state = state
        self.words = label(HINT, "small", wrap=True)
        self.equity = CurveChart(theme, "Equity of the pair")
        self.rolling = CurveChart(theme, "Rolling correlation of the pair")
        self.rolling.setMaximumHeight(90)
        self.rolling.setXLink(self.equity)
        self.equity.hideAxis("bottom")
        self.below = label("rolling correlation", "small")
        self.setLayout(column(self.words, self.equity, self.below, self.rolling, spacing=2))
        state.paired.connect(self.show_pair)
        # After the matrix and the list, so that the window answers in between.
        self._later = QTimer(self, singleShot=True, interval=40)
        self._later.timeout.connect(self.show_pair)
        self._then = QTimer(self, singleShot=True, interval=0)  # one chart after the other, for the same reason
        self._then.timeout.connect(self._show_rolling)
        state.shown.connect(self._later.start)

    def show_pair(self) -> None:
        """Draw it, or say how one is chosen."""
        pair, o = self.state.pair, self.state.overlap
        there = pair is not None and o is not None and max(pair.a, pair.b) < len(self.state.lines)
        for part in (self.equity, self.rolling, self.below):
            part.setVisible(there)
        if not there:
            self.words.setText(HINT)
            return
        assert pair is not None
        assert o is not None
        a, b = pair.a, pair.b
        one, two = self.state.lines[a], self.state.lines[b]
        self.words.setText(
            f"1 {one.name} {one.market}; 2 {two.name} {two.market}: correlation {number(float(o.matrix[a, b]), 2)}, p "
            f"{number(float(o.p[a, b]), 3)}, {number(int(o.periods[a, b]))} {o.how.by}s. In the market together on "
            f"{number(100 * float(o.together[a, b]))}% of the days that either is; "
            f"{number(100 * float(o.joint_losses[a, b]))}% of their worst days are the same (5% by chance); deep "
            f"in drawdown together on "
            f"{number(100 * float(o.deep_together[a, b]))}%.")
        x = o.table.days.astype(np.float64) * DAY
        self.equity.show_curves([Curve(x, o.equity(a), "ink", 1.4, "1"), Curve(x, o.equity(b), "accent", 1.4, "2")])
        self._then.start()

    def _show_rolling(self) -> None:
        pair, o = self.state.pair, self.state.overlap
        if pair is None or o is None or max(pair.a, pair.b) >= len(self.state.lines):
            return
        x = o.table.days.astype(np.float64) * DAY
        at, values = o.rolling(pair.a, pair.b)
        t = at.astype(np.float64) * DAY
        self.rolling.show_curves([Curve(x[[0, -1]], np.zeros(2), "hairline", 1.0), Curve(t, values, "gain", 1.2)])
