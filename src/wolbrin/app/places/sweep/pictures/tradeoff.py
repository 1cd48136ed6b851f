"""Two measures against each other, with the sets that no other beats in both."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtWidgets import QComboBox

from wolbrin.app.charts.axes import Plot, TextOnPlot
from wolbrin.app.parts import column, label, row
from wolbrin.app.places.sweep.pictures.base import LOOKED, Picture, title_of, values_of
from wolbrin.app.session import Session
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.search.objective import front, signed

MOST = 20_000  # points drawn


class TradeOff(Picture):
    """Every set as a point; the front as a line."""

    key, title = "tradeoff", "Trade-off"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.other = QComboBox()
        self.other.setAccessibleName("Trade-off against")
        self.other.currentIndexChanged.connect(lambda *_: self.draw(True))
        self.plot = Plot(session.theme, "Trade-off", zoom=False)
        self.plot.getAxis("bottom").setHeight(20)
        self.plot.clicked_at.connect(self._clicked)
        self.words = label("", "small")
        self.setLayout(column(row(label("across", "muted"), self.other, self.words, None), self.plot, spacing=2))
        self._rows = np.zeros(0, np.int64)
        session.theme.changed.connect(lambda: self.draw(True))

    def draw(self, fresh: bool) -> None:
        seen = self.seen
        self.plot.plotItem.clear()
        if seen is None or not len(seen.rows):
            return
        r = seen.reading
        keys = list(r.request.measures)
        if self.other.count() != len(keys):
            self.other.blockSignals(True)
            self.other.clear()
            for key in keys:
                self.other.addItem(BY_KEY[key].title, key)
            wanted = r.request.objective.second or "max_drawdown"
            self.other.setCurrentIndex(max(0, self.other.findData(wanted)))
            self.other.blockSignals(False)
        key = self.other.currentData()
        theme = self.session.theme
        x, y = r.columns[key], values_of(seen, self.measure)
        rows = seen.rows[np.isfinite(x[seen.rows]) & np.isfinite(y[seen.rows])]
        if not len(rows):
            return
        step = max(1, len(rows) // MOST)
        drawn = self._rows = rows[::step]
        passing = r.passes[drawn]
        for which, token, alpha in ((~passing, "muted", 70), (passing, "gain", 150)):
            if which.any():
                self.plot.addItem(pg.ScatterPlotItem(x[drawn[which]], y[drawn[which]], size=5, pen=pg.mkPen(None),
                                                     brush=theme.color(token, alpha)))
        own = r.score if self.measure == LOOKED else signed(self.measure, y) if self.measure in BY_KEY else y
        on = front(np.where(r.passes, own, np.nan)[rows], signed(key, x)[rows])
        best = rows[on]
        order = best[np.argsort(x[best], kind="stable")]
        self.plot.addItem(pg.PlotDataItem(x[order], y[order], pen=theme.pen("accent", 1.8), symbol="o", symbolSize=6,
                                          symbolBrush=theme.color("accent"), symbolPen=pg.mkPen(None)))
        self.words.setText(f"{len(order):,} sets that no other beats in both, of {int(r.passes[rows].sum()):,} that pass")
        if seen.chosen >= 0 and np.isfinite(x[seen.chosen]) and np.isfinite(y[seen.chosen]):
            self.plot.addItem(pg.ScatterPlotItem([x[seen.chosen]], [y[seen.chosen]], size=14, brush=None,
                                                 pen=theme.pen("accent", 2.2)))
        self.plot.plotItem.vb.enableAutoRange()
        self.plot.plotItem.vb.updateAutoRange()
        (left, _), (_, top) = self.plot.plotItem.vb.viewRange()
        text = TextOnPlot(f"up: {title_of(seen, self.measure)}; across: {BY_KEY[key].title}", theme, "muted", (0, 0))
        text.setPos(left, top)
        self.plot.addItem(text, ignoreBounds=True)

    def _clicked(self, x: float, y: float) -> None:
        seen = self.seen
        if seen is None or not len(self._rows):
            return
        (x0, x1), (y0, y1) = self.plot.plotItem.vb.viewRange()
        mine, its = seen.reading.columns[self.other.currentData()][self._rows], values_of(seen, self.measure)[self._rows]
        off = ((mine - x) / ((x1 - x0) or 1)) ** 2 + ((its - y) / ((y1 - y0) or 1)) ** 2
        self.picked.emit(int(self._rows[np.argmin(off)]))
