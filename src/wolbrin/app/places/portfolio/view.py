"""Portfolio: the ticked candidates combined at equal weight, against each part."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLineEdit, QSplitter, QStackedWidget, QWidget

from wolbrin.app.charts.lines import Curve, CurveChart
from wolbrin.app.parts import Empty, button, column, label, row
from wolbrin.app.places.place import Place
from wolbrin.app.places.portfolio.state import SHOWN, PortfolioState
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.drawdown import depth_below_peak
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.work.spending import DIFFERENCE


@dataclass(frozen=True)
class Line:
    """One measure: the portfolio's value, then each part's."""

    key: str
    values: tuple[float, ...]


class PortfolioPlace(Place):
    key = "portfolio"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        self.state = PortfolioState(s)
        self.title = label("", "heading")
        self.words = label("", "small", wrap=True)
        self.equity = CurveChart(s.theme, "Portfolio equity")
        self.below_peak = CurveChart(s.theme, "Portfolio depth below peak")
        self.below_peak.setXLink(self.equity)
        self.below_peak.setMaximumHeight(100)
        self.below_peak.few_ticks()
        self.equity.hideAxis("bottom")
        self.name = QLineEdit()
        self.name.setPlaceholderText("name of the portfolio")
        self.name.setMaximumWidth(200)
        self.name.setAccessibleName("Portfolio name")
        self.table = Table([Column("measure", lambda r: r.key)], s.theme, "Portfolio measures")
        upper = QWidget()
        self.open = button("Open the holdout for the whole", self.open_holdout, tip=DIFFERENCE)
        upper.setLayout(column(row(self.title, None, self.name, button("Save portfolio", self.save, main=True), self.open),
                               self.words, self.equity, label("depth below peak", "small"), self.below_peak, spacing=3,
                               margins=(0, 0, 8, 0)))
        lower = QWidget()
        lower.setLayout(column(label("The whole against its parts", "heading"), self.table, spacing=4,
                               margins=(0, 6, 0, 0)))
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(upper)
        split.addWidget(lower)
        split.setSizes([350, 290])
        self.empty = Empty("Tick the strategies you want to trade together. They are combined at equal weight and compared "
                           "with each of them alone.", "Tick the distinct or proved candidates", self.state.tick_best)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(split)
        self.setLayout(column(self.stack, margins=(20, 10, 0, 6)))
        self.state.emptied.connect(lambda: self.stack.setCurrentIndex(0))
        self.state.shown.connect(self._show)
        for signal in (s.selection_changed, s.shelf_changed, s.brief_changed):
            signal.connect(self.refresh)

    def actions_offered(self) -> list[Action]:
        return [Action("portfolio.save", "Save the portfolio", self.save, "Ctrl+Return", "portfolio"),
                Action("portfolio.open", "Open the holdout for the portfolio as a whole", self.open_holdout, "", "portfolio"),
                Action("portfolio.tick", "Tick the distinct or proved candidates", self.state.tick_best, "", "portfolio")]

    def activate(self) -> None:
        self.state.look()

    def refresh(self) -> None:
        if self.isVisible():
            self.state.look()

    def _show(self) -> None:
        s, made = self.session, self.state.together
        assert made is not None
        kept, whole, figures = made.kept, made.whole, made.figures
        made_by = "\n".join(r.record(tried=k.candidate.tried).words() for k, r in zip(kept, whole.runs))
        for part in (self.title, self.equity):
            part.setToolTip(made_by)
        capital = s.settings.capital
        x = whole.times / 1e9
        parts = [Curve(x, whole.parts[:, i] - capital, "muted", 0.8) for i in range(len(kept))]
        self.equity.show_curves([*parts, Curve(x, whole.equity - capital, "accent", 2.2)])
        self.below_peak.show_curves([Curve(x, depth_below_peak(whole.equity, capital), "loss", 1.0, fill="depth")])
        self.title.setText(f"Equal weight of {len(kept)}: net {worded('net', figures[0]['net'], True)} "
                           f"{s.settings.currency}, return over drawdown "
                           f"{worded('return_drawdown', figures[0]['return_drawdown'])}")
        self.words.setText(f"{len(kept)} members, worth {number(made.bets, 1)} bets; {number(made.standing)} of them stand. "
                           f"Every part is traded at {whole.weight:.0%} of its size on the same capital, training span. "
                           "Plum: the portfolio; thin: each part alone at full size."
                           + (f" Chosen on seen data: the holdout of {len(made.seen)} of them was opened before."
                              if made.seen and not made.verdict else "") + (f" {made.verdict}" if made.verdict else ""))
        columns = [Column("measure", lambda r: BY_KEY[r.key].title + (
            " (%)" if BY_KEY[r.key].unit == "percent" and "drawdown" in r.key else ""), width=190)]
        names = ["portfolio", *(f"{k.candidate.name} {k.candidate.market}" for k in kept)]
        for i, name in enumerate(names):
            columns.append(Column(name, lambda r, i=i: r.values[i], lambda r, i=i: worded(r.key, r.values[i]), "right",
                                  max(92, min(200, 8 * len(name))), lambda r, i=i: "accent" if i == 0 else None))
        self.table.set_columns(columns)
        self.table.set_records([Line(key, tuple(f[key] for f in figures)) for key in SHOWN])
        if not self.name.text():
            self.name.setText(f"Portfolio {len(s.dossiers.portfolios()) + 1}")
        self.stack.setCurrentIndex(1)

    def open_holdout(self) -> None:
        """Once, as a whole."""
        self.state.open_holdout(self.name.text())

    def save(self) -> None:
        """Keep the combination under its name."""
        if self.state.save(self.name.text()):
            self.name.setText("")
