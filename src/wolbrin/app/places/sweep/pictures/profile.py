"""The profile of one number: the measure along it, its neighbors as a band, trades beneath."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt

from wolbrin.app.charts.axes import Plot, TextOnPlot
from wolbrin.app.parts import column, label, row
from wolbrin.app.places.sweep.pictures.base import PLATEAU, Picture, title_of, values_of
from wolbrin.app.places.sweep.pictures.maps import Chooser
from wolbrin.app.session import Session
from wolbrin.core.search.maps import line_through


class LevelAxis(pg.AxisItem):
    """Labels places with the values of a number."""

    def __init__(self) -> None:
        super().__init__("bottom")
        self.names: list[str] = []

    def tickValues(self, low: float, high: float, size: float) -> list[tuple[float, list[float]]]:
        step = max(1, int(np.ceil((high - low) * 46 / max(1.0, size))))
        return [(step, [float(i) for i in range(0, len(self.names), step)])]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        return [self.names[int(v)] if 0 <= v < len(self.names) else "" for v in values]


class Profile(Picture):
    """Along one number, all others as in the chosen set."""

    key, title = "profile", "Profile"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.along = Chooser("Profile along")
        self.along.currentIndexChanged.connect(lambda *_: self.draw(True))
        self.words = label("", "small")
        self._axis, self._below = LevelAxis(), LevelAxis()
        self.curve = Plot(session.theme, "Profile", self._axis, zoom=False)
        self.curve.hideAxis("bottom")
        self.trades = Plot(session.theme, "Trades along the profile", self._below, zoom=False)
        self.trades.setFixedHeight(74)
        self.setLayout(column(row(label("along", "muted"), self.along, self.words, None), self.curve, self.trades, spacing=2))
        self._rows = np.zeros(0, np.int64)
        for plot in (self.curve, self.trades):
            plot.clicked_at.connect(self._clicked)
        session.theme.changed.connect(lambda: self.draw(True))

    def draw(self, fresh: bool) -> None:
        seen = self.seen
        for plot in (self.curve, self.trades):
            plot.plotItem.clear()
        if seen is None or not len(seen.reading):
            return
        r, axes = seen.reading, seen.reading.request.axes
        self.along.fill(list(axes), int(np.nanargmax(np.nan_to_num(np.array(r.importance.total)))))
        at = seen.chosen if seen.chosen >= 0 else max(r.best, 0)
        i = self.along.currentIndex()
        rows = self._rows = line_through(r.settings, at, i)
        places = np.arange(len(rows), dtype=np.float64)
        self._axis.names = self._below.names = [axes[i].shown(v) for v in r.settings[rows, i].tolist()]
        others = ", ".join(f"{a.short} {a.shown(v)}" for k, (a, v) in enumerate(zip(axes, r.values(at))) if k != i)
        values = values_of(seen, self.measure)[rows]
        theme = self.session.theme
        flip = -1.0 if values_of(seen, PLATEAU) is not r.median else 1.0
        low, middle = flip * r.worst[rows], flip * r.median[rows]
        if self.measure != PLATEAU and np.isfinite(low).any() and title_of(seen, self.measure) in title_of(seen, PLATEAU):
            known = np.isfinite(low)
            edges = [pg.PlotDataItem(places[known], e[known], pen=pg.mkPen(None)) for e in (low, middle)]
            for e in edges:
                self.curve.addItem(e)
            self.curve.addItem(pg.FillBetweenItem(*edges, brush=theme.color("bar", 150)))
            others += "; band: the sets around, from the worst to half of them"
        self.curve.addItem(pg.PlotDataItem(places, values, pen=theme.pen("ink", 1.6), connect="finite", symbol="o",
                                           symbolSize=5, symbolBrush=theme.color("ink"), symbolPen=pg.mkPen(None)))
        self.words.setText(f"with {others}" if others else "")
        here = np.flatnonzero(rows == at)
        if len(here) and np.isfinite(values[here[0]]):
            self.curve.addItem(pg.ScatterPlotItem([float(here[0])], [float(values[here[0]])], size=13, brush=None,
                                                  pen=theme.pen("accent", 2)))
        self.curve.addItem(pg.InfiniteLine(0.0, angle=0, pen=theme.pen("hairline")))
        name = TextOnPlot(title_of(seen, self.measure), theme, "muted", (0, 0))
        self.curve.addItem(name, ignoreBounds=True)
        trades = r.columns["trades"][rows] if "trades" in r.columns else np.zeros(len(rows))
        self.trades.addItem(pg.BarGraphItem(x=places, height=np.nan_to_num(trades), width=0.6,
                                            brush=theme.color("muted", 130), pen=pg.mkPen(None)))
        below = TextOnPlot(f"trades; along: {axes[i].title}", theme, "muted", (0, 0))
        self.trades.addItem(below, ignoreBounds=True)
        for plot in (self.curve, self.trades):
            plot.plotItem.vb.setXRange(-0.6, len(rows) - 0.4, padding=0)
            plot.plotItem.vb.enableAutoRange(axis=pg.ViewBox.YAxis)
            plot.plotItem.vb.updateAutoRange()
        self.trades.setYRange(0, float(np.nan_to_num(trades).max() or 1.0) * 1.45, padding=0)
        for plot, text in ((self.curve, name), (self.trades, below)):
            text.setPos(-0.55, plot.plotItem.vb.viewRange()[1][1])

    def _clicked(self, x: float, y: float) -> None:
        at = round(x)
        if 0 <= at < len(self._rows):
            self.picked.emit(int(self._rows[at]))

    def keyPressEvent(self, event: object) -> None:
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(event.key())  # type: ignore[attr-defined]
        seen = self.seen
        if step is not None and seen is not None and len(self._rows):
            here = np.flatnonzero(self._rows == seen.chosen)
            at = int(np.clip((int(here[0]) if len(here) else 0) + step, 0, len(self._rows) - 1))
            self.picked.emit(int(self._rows[at]))
            return
        super().keyPressEvent(event)  # type: ignore[arg-type]
