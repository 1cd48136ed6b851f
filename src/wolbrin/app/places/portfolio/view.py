"""Portfolio: the ticked candidates combined at equal weight, against each part."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLineEdit, QSplitter, QStackedWidget, QWidget

from wolbrin.app.charts.lines import Curve, CurveChart
from wolbrin.app.parts import Empty, button, column, label, row
from wolbrin.app.places.place import Place
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.engine.run import Run
from wolbrin.core.measures.catalogue import BY_KEY, measure
from wolbrin.core.measures.drawdown import depth_below_peak
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.inference import effective_bets
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.portfolio.combine import Combination, correlation, daily_matrix, equal_weight
from wolbrin.core.store.dossier import Kept
from wolbrin.core.work.combining import runs_job
from wolbrin.core.work.funnel import proved_ids
from wolbrin.core.work.standing import STANDS, Standings

SHOWN = ("net", "trades", "profit_factor", "win_rate", "t_daily", "max_drawdown", "max_drawdown_percent", "average_drawdown",
         "under_water", "return_drawdown", "cagr", "sharpe", "sortino", "exposure", "best_year")
MOST = 24


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
        self.title = label("", "heading")
        self.words = label("", "small", wrap=True)
        self.equity = CurveChart(s.theme, "Portfolio equity")
        self.depth = CurveChart(s.theme, "Portfolio depth below peak")
        self.depth.setXLink(self.equity)
        self.depth.setMaximumHeight(100)
        self.depth.few_ticks()
        self.equity.hideAxis("bottom")
        self.name = QLineEdit()
        self.name.setPlaceholderText("name of the portfolio")
        self.name.setMaximumWidth(200)
        self.name.setAccessibleName("Portfolio name")
        self.table = Table([Column("measure", lambda r: r.key)], s.theme, "Portfolio measures")
        upper = QWidget()
        upper.setLayout(column(row(self.title, None, self.name, button("Save portfolio", self.save, main=True)),
                               self.words, self.equity, label("depth below peak", "small"), self.depth, spacing=3,
                               margins=(0, 0, 8, 0)))
        lower = QWidget()
        lower.setLayout(column(label("The whole against its parts", "heading"), self.table, spacing=4,
                               margins=(0, 6, 0, 0)))
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(upper)
        split.addWidget(lower)
        split.setSizes([350, 290])
        self.empty = Empty("Tick the strategies you want to trade together. They are combined at equal weight and compared "
                           "with each of them alone.", "Tick the distinct or proved candidates", self._tick_best)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(split)
        self.setLayout(column(self.stack, margins=(20, 10, 0, 6)))
        self._combination: Combination | None = None
        self._kept: list[Kept] = []
        self._shown: object = None
        for signal in (s.selection_changed, s.shelf_changed, s.brief_changed):
            signal.connect(self.refresh)

    def actions_offered(self) -> list[Action]:
        return [Action("portfolio.save", "Save the portfolio", self.save, "Ctrl+Return", "portfolio"),
                Action("portfolio.tick", "Tick the distinct or proved candidates", self._tick_best, "", "portfolio")]

    def activate(self) -> None:
        self.refresh()

    def _tick_best(self) -> None:
        s = self.session
        ids = s.project.get_value("distinct", []) or proved_ids(s.project)
        if not ids:
            s.note("Nothing is proved yet; run the line in Proving, or tick candidates on the Shelf.", "caution")
            s.place_wanted.emit("proving")
            return
        s.select(ids)

    def refresh(self) -> None:
        if not self.isVisible():
            return
        s = self.session
        kept = s.selected()
        if not kept:
            self.stack.setCurrentIndex(0)
            self._shown = None
            return
        if len(kept) > MOST:
            s.note(f"A portfolio of more than {MOST} strategies is not shown; untick some.", "caution")
            kept = kept[:MOST]
        wanted = (tuple(k.id for k in kept), s.settings.model_dump_json())
        if wanted == self._shown:
            return
        self._shown = wanted

        def combined(runs: list[Run]) -> None:
            def work() -> Any:
                whole = equal_weight(runs)
                return whole, [measure(f, SHOWN) for f in (whole.facts, *(Facts.of(r) for r in runs))]

            s.compute("Combine", work, lambda result: self._show(kept, *result) if self._shown == wanted else None)

        s.start(runs_job(s.project, kept, s.on_ui(combined)), "threads", quiet=len(kept) < 8)

    def _show(self, kept: list[Kept], whole: Combination, figures: list[dict[str, float]]) -> None:
        s = self.session
        self._kept, self._combination = kept, whole
        made_by = "\n".join(r.record(tried=k.candidate.tried).words() for k, r in zip(kept, whole.runs))
        for part in (self.title, self.equity):
            part.setToolTip(made_by)
        capital = s.settings.capital
        x = whole.times / 1e9
        parts = [Curve(x, whole.parts[:, i] - capital, "muted", 0.8) for i in range(len(kept))]
        self.equity.show_curves([*parts, Curve(x, whole.equity - capital, "accent", 2.2)])
        self.depth.show_curves([Curve(x, depth_below_peak(whole.equity, capital), "loss", 1.0, fill="depth")])
        self.title.setText(f"Equal weight of {len(kept)}: net {worded('net', figures[0]['net'], True)} "
                           f"{s.settings.currency}, return over drawdown "
                           f"{worded('return_drawdown', figures[0]['return_drawdown'])}")
        bets = effective_bets(correlation(daily_matrix(list(whole.runs))[1])) if len(kept) > 1 else 1.0
        standings = Standings(s.project)
        standing = sum(standings.of(k).stands == STANDS for k in kept)
        self.words.setText(f"{len(kept)} members, worth {number(bets, 1)} bets; {number(standing)} of them stand. Every "
                           f"part is traded at {whole.weight:.0%} of its size on the same capital, training span. "
                           "Plum: the portfolio; thin: each part alone at full size.")
        columns = [Column("measure", lambda r: BY_KEY[r.key].title + (
            " (%)" if BY_KEY[r.key].unit == "percent" and "drawdown" in r.key else ""), width=190)]
        names = ["portfolio", *(f"{k.candidate.name} {k.candidate.market}" for k in kept)]
        for i, name in enumerate(names):
            columns.append(Column(name, lambda r, i=i: r.values[i], lambda r, i=i: worded(r.key, r.values[i]), "right",
                                  max(92, 8 * len(name)), lambda r, i=i: "accent" if i == 0 else None))
        model = self.table.model
        model.beginResetModel()
        model.columns = columns
        model.records, model.shown = [], []
        model.endResetModel()
        header = self.table.grid.horizontalHeader()
        for i, c in enumerate(columns):
            header.resizeSection(i, c.width)
        self.table.set_records([Line(key, tuple(f[key] for f in figures)) for key in SHOWN])
        if not self.name.text():
            self.name.setText(f"Portfolio {len(s.dossiers.portfolios()) + 1}")
        self.stack.setCurrentIndex(1)

    def save(self) -> None:
        """Keep the combination under its name."""
        s = self.session
        if self._combination is None or not self._kept or self.stack.currentIndex() == 0:
            s.note("There is no portfolio to save yet.", "caution")
            return
        name = self.name.text().strip() or "Portfolio"
        s.dossiers.keep_portfolio(name, [k.id for k in self._kept], measure(self._combination.facts, SHOWN),
                                   [r.record(tried=k.candidate.tried) for k, r in zip(self._kept, self._combination.runs)])
        s.note(f"{name} saved with {len(self._kept)} strategies.")
        self.name.setText("")
        s.counts_changed.emit()


