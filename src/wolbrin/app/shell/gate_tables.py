"""All that a gate saw of a candidate, however long ago: its tables, each with its picture."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QStackedWidget, QWidget

from wolbrin.app.charts.axes import Plot
from wolbrin.app.charts.lines import Curve, CurveChart, Histogram
from wolbrin.app.parts import column, label, row
from wolbrin.app.session import Session
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.app.terms import combo
from wolbrin.app.theme.theme import Theme
from wolbrin.core.errors import WolbrinError
from wolbrin.core.figures.figure import Figure
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.wording import number
from wolbrin.core.proving.gate import Gate, GateTable
from wolbrin.core.store.dossier import Evidence
from wolbrin.core.store.tables import Columns

Floats = NDArray[np.float64]
A_DAY = 86_400.0
FEW = 60  # rows that are drawn as bars, one each
SIZE = 900, 640


class Bars(Plot):
    """One bar a row, by sign."""

    def __init__(self, theme: Theme, name: str) -> None:
        self._values: Floats = np.zeros(0)
        super().__init__(theme, name, zoom=False)
        self.hideAxis("bottom")

    def show_values(self, values: Floats) -> None:
        self._values = values
        self.draw()

    def draw(self) -> None:
        self.plotItem.clear()
        at = np.arange(len(self._values))
        for won, token in ((True, "gain"), (False, "loss")):
            pick = (self._values > 0) == won
            if pick.any():
                self.addItem(pg.BarGraphItem(x=at[pick], height=np.nan_to_num(self._values[pick]), width=0.8,
                                             brush=self.theme.color(token, 150), pen=pg.mkPen(None)))
        self.plotItem.vb.enableAutoRange()


@dataclass(frozen=True)
class Row:
    """A row of a table, by column."""

    table: Columns
    at: int

    def value(self, name: str) -> float | str:
        found = self.table[name][self.at]
        return str(found) if self.table[name].dtype.kind in "UO" else float(found)


class GateTables(QDialog):
    """found: the verdict, name: of the candidate."""

    def __init__(self, session: Session, gate: Gate, found: Evidence, name: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowTitle(f"{gate.title}: {name}")
        self._session, self._found = session, found
        theme = session.theme
        known = session.dossiers.tables(found.id)
        self._gate = gate
        self.which = combo([(self._about(t).title, t) for t in known], "Table", 190)
        self.what = combo([], "Column", 190)
        self.lines = CurveChart(theme, "What the gate saw", time=False, zoom=False)
        self.days = CurveChart(theme, "Training and holdout", zoom=False)
        self.bars = Bars(theme, "Row by row")
        self.spread = Histogram(theme, "Distribution")
        self.pictures = QStackedWidget()
        for one in (self.lines, self.days, self.bars, self.spread):
            self.pictures.addWidget(one)
        self.axes = label("", "small")
        self._theme = theme
        self._place = column(spacing=0)
        self.table: Table | None = None
        self.setLayout(column(label(f"{gate.title}: {name}", "title"), label(found.reason, wrap=True),
                              row(self.which, self.what, None, self.axes), self.pictures, self._place,
                              margins=(20, 14, 20, 14)))
        self.which.activated.connect(lambda _: self.show_table(self.which.currentData()))
        self.what.activated.connect(lambda _: self._draw())
        self.resize(*SIZE)
        if known:
            self.which.setCurrentIndex(known.index("fan") if "fan" in known else 0)
            self.show_table(self.which.currentData())

    def show_table(self, name: str) -> None:
        """One of the verdict's tables and its picture."""
        try:
            self._columns = self._session.dossiers.table(self._found.id, name)
        except WolbrinError as err:
            self.axes.setText(err.sentence())
            return
        self._name = name
        about = self._about(name)
        numbers = [c for c, v in self._columns.items() if v.dtype.kind not in "UO" and c not in ("percent", "trade", "risk")]
        self.what.clear()
        for c in numbers:
            self.what.addItem(self._figure(c).title, c)
        self.what.setVisible(about.picture in ("rows", "distribution"))
        if self.table is not None:
            self.table.setParent(None)
            self.table.deleteLater()
        self.table = Table([self._column(c) for c in self._columns], self._theme, about.title)
        rows = len(next(iter(self._columns.values()), ()))
        self.table.set_records([Row(self._columns, i) for i in range(rows)])
        self._place.addWidget(self.table)
        self._draw()

    def _column(self, name: str) -> Column:
        values = self._columns[name]
        if values.dtype.kind in "UO":
            say = (lambda r: BY_KEY[r.value(name)].title) if name == "measure" else (lambda r: r.value(name))
            return Column(self._figure(name).title, say, width=190, figure=self._figure(name))
        if name == "day":
            return Column("date", lambda r: str(np.datetime64(int(r.value(name)), "D")), width=96, figure=self._figure(name))
        finite = np.abs(values[np.isfinite(values)].astype(np.float64))
        digits = 0 if len(finite) and float(np.median(finite)) >= 100 else 2
        figure = self._figure(name)
        return Column(figure.title, lambda r: r.value(name), lambda r: number(r.value(name), digits), "right",
                      max(108, 7 * len(figure.title) + 18),
                      figure=figure)

    def _about(self, name: str) -> GateTable:
        """What the gate says of a table; one that it does not know (an older verdict's) by its name alone."""
        return self._gate.table_of(name) or GateTable(name, name.replace("_", " ").capitalize(), ())

    def _figure(self, name: str) -> Figure:
        """What a column of the table that is shown holds."""
        known = {f.key: f for f in self._about(self._name).columns}
        return known.get(name) or BY_KEY.get(name) or Figure(name, name.replace("_", " "), "", "as an older verdict kept it")

    def _draw(self) -> None:
        make = {"fan": self._fan, "capital": self._capital, "equity": self._equity, "distribution": self._distribution}
        make.get(self._about(self._name).picture, self._values)()

    def _fan(self) -> None:
        c = {k: v.astype(np.float64) for k, v in self._columns.items()}
        several = (("p25", "muted", 1.0), ("p75", "muted", 1.0), ("p50", "ink", 1.5), ("actual", "accent", 2.0))
        self.lines.show_curves([Curve(c["trade"], c[key], token, width, self._figure(key).title if key == "actual" else "")
                                for key, token, width in several],
                               band=(c["trade"], c["p5"], c["p95"]))
        self._picture(self.lines, "Across: trades. Up: net. The band holds 90% of the paths, the thin lines half of them.")

    def _capital(self) -> None:
        risk, capital = (self._columns[k].astype(np.float64) for k in ("risk", "capital"))
        self.lines.show_curves([Curve(100.0 * risk, capital, "ink", 2.0)])
        self._picture(self.lines, "Across: risk of ruin, %. Up: capital that it takes.")

    def _equity(self) -> None:
        c = {k: v.astype(np.float64) for k, v in self._columns.items()}
        seconds, sealed = c["day"] * A_DAY, c["sealed"] > 0
        border = (float(seconds[sealed][0]), float(seconds[-1]), "holdout") if sealed.any() else None
        self.days.show_curves([Curve(seconds, c["net"], "ink", 2.0)], sealed=border)
        self._picture(self.days, "Across: dates. Up: net, through training and on through the holdout.")

    def _distribution(self) -> None:
        name = self.what.currentData()
        values, percent = self._columns[name].astype(np.float64), self._columns["percent"].astype(np.float64)
        self.lines.show_curves([Curve(values, percent, "ink", 2.0)])
        self._picture(self.lines, f"Across: {self._figure(name).title}. Up: % of the paths that stay below it.")

    def _values(self) -> None:
        name = "decline" if self._about(self._name).picture == "compare" else self.what.currentData()
        if name is None:
            return
        values = self._columns[name].astype(np.float64)
        if len(values) <= FEW:
            self.bars.show_values(values)
            self._picture(self.bars, f"Up: {self._figure(name).title}, row by row as in the table below.")
        else:
            kept = values[np.isfinite(values)]
            self.spread.show_values(kept, [(float(np.median(kept)), f"median {number(float(np.median(kept)), 1)}", "ink")]
                                    if len(kept) else [])
            self._picture(self.spread, f"Across: {self._figure(name).title}. Up: how many.")

    def _picture(self, chart: QWidget, words: str) -> None:
        self.pictures.setCurrentWidget(chart)
        self.axes.setText(words)
