"""What else is to be known of the portfolio: over time, how else it could have gone, its ledger."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QSplitter, QWidget

from wolbrin.app.charts.grids import Grid
from wolbrin.app.charts.lines import Curve, CurveChart
from wolbrin.app.parts import column, label, row, spin
from wolbrin.app.places.portfolio.state import PortfolioState
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.engine import codes as k
from wolbrin.core.export.portfolio_report import moment
from wolbrin.core.figures.portfolios import PORTFOLIOS
from wolbrin.core.measures.breakdown import MONTHS
from wolbrin.core.measures.wording import number, percent
from wolbrin.core.portfolio.chances import LOSSES
from wolbrin.core.portfolio.contributions import Fall
from wolbrin.core.portfolio.over_time import month_grid
from wolbrin.core.portfolio.played import Entry
from wolbrin.core.portfolio.told import Told

DAY = 86_400.0


class TimePage(QWidget):
    """Results by month; margin and positions by the hour; how alike members are lately; the worst drawdowns taken apart."""

    def __init__(self, state: PortfolioState) -> None:
        super().__init__()
        theme = state.session.theme
        self.months = Grid(theme, "Portfolio by month")
        self.inside = CurveChart(theme, "Correlation inside")
        self.margin = CurveChart(theme, "Margin over equity")
        self.tight = label("", "small", wrap=True)
        self.falls = Table([Column("from", lambda f: f.begin)], theme, "Deepest drawdowns")
        upper, lower = QWidget(), QWidget()
        upper.setLayout(column(label("net by year and month", "small"), self.months, spacing=2))
        left, right = QWidget(), QWidget()
        left.setLayout(column(label("mean correlation of members, last 120 dates", "small"), self.inside, spacing=2))
        right.setLayout(column(label("margin in use, % of equity", "small"), self.margin, spacing=2))
        lower.setLayout(column(row(left, right), self.tight, label("deepest drawdowns, and what each made in them", "small"),
                               self.falls, spacing=2))
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(upper)
        split.addWidget(lower)
        split.setSizes([180, 320])
        self.setLayout(column(split))

    def show_told(self, told: Told) -> None:
        made = told.played
        years, grid = month_grid(*made.daily)
        whole = np.nansum(grid, axis=1).tolist()
        self.months.show_grid(grid, [f"{y}   {number(v, sign=True)}" for y, v in zip(years, whole)], list(MONTHS), digits=0,
                              numbers=len(years) <= 12, left=104)
        dates, values = told.inside
        self.inside.show_curves([Curve(dates.astype(np.float64) * DAY, values, "ink", 1.4)] if len(dates) else [])
        share = np.divide(made.margin, made.equity, out=np.zeros(len(made.equity)), where=made.equity > 0)
        self.margin.show_curves([Curve(made.instants / 1e9, 100 * share, "gain", 0.9)])
        tight = told.use.tightest
        hours = [h for h in np.argsort(-np.nan_to_num(told.use.margin))[:3].tolist() if told.use.margin[h] > 0]
        self.tight.setText(
            f"Tightest: {moment(tight[0].at)}, {percent(tight[0].share, 1)} of equity in {tight[0].held} positions; hours "
            f"{', '.join(f'{h:02d}:00' for h in hours)} ({made.plan.zone})." if tight else
            "No margin is known for these markets: give them one in Markets to see when it is tight.")
        columns = [Column("from", lambda f: f.begin, lambda f: moment(f.begin), width=140),
                   Column("depth", lambda f: f.depth, lambda f: number(f.depth), "right", 62, tint=lambda f: "loss",
                          figure=PORTFOLIOS["desk.depth"])]
        for i, name in enumerate(told.names):
            columns.append(Column(str(i + 1), lambda f, i=i: float(f.each[i]), lambda f, i=i: _signed(f, i), "right", 66,
                                  tip=name, figure=PORTFOLIOS["desk.each"]))
        self.falls.set_columns(columns)
        self.falls.set_records(list(told.parts.falls))


def _signed(fall: Fall, at: int) -> str:
    return number(float(fall.each[at]), sign=True)


class ChancesPage(QWidget):
    """Whole days drawn anew: the fan, the risk of losing so much, the capital needed, the size for a chosen drawdown."""

    def __init__(self, state: PortfolioState) -> None:
        super().__init__()
        self.state = state
        theme = state.session.theme
        self.fan = CurveChart(theme, "Fan of the portfolio", time=False)
        self.ruin = CurveChart(theme, "Risk of losing", time=False)
        self.words = label("", wrap=True)
        self.most = spin(5_000, 1, 1e12, 0, 500)
        self.most.setAccessibleName("Drawdown to stay within")
        self.most.setMaximumWidth(100)
        self.allowed = label("", wrap=True)
        left, right = QWidget(), QWidget()
        left.setLayout(column(label("net by trading day: 5 to 95 of 100 paths, their middle, and what came", "small"),
                              self.fan,
                              spacing=2))
        right.setLayout(column(label("chance (%) to lose so much of the capital (%) at some time", "small"), self.ruin,
                               spacing=2))
        self.setLayout(column(self.words, row(left, right), row(label("a drawdown of at most", "muted"), self.most,
                                                                self.allowed,
                                                               None), spacing=6))
        self.most.valueChanged.connect(self._size)

    def show_told(self, told: Told) -> None:
        c, fan = told.chances, told.chances.fan
        if not fan:
            self.words.setText("There are too few days to draw anew.")
            return
        self.fan.show_curves([Curve(fan["trade"], fan["p5"], "muted", 0.9, "5"), Curve(fan["trade"], fan["p95"], "muted",
                                                                                       0.9, "95"),
                              Curve(fan["trade"], fan["p50"], "gain", 1.2), Curve(fan["trade"], fan["actual"], "accent",
                                                                                  1.8)],
                             band=(fan["trade"], fan["p5"], fan["p95"]))
        self.ruin.show_curves([Curve(100 * np.array(LOSSES), 100 * c.ruin, "loss", 1.6)])
        self.words.setText(
            f"Days are drawn with all members together, in blocks of {number(c.block, 1)} on average. Drawdown "
            f"{number(c.drawdown[0])} in the middle, {number(c.drawdown[1])} in 5 of 100. Capital of which half is lost in "
            f"10, 5, 1 of 100: {', '.join(number(float(v)) for v in c.capital[::-1])}. The account grew fastest at "
            f"{number(c.optimal, 1)} times this size: a ceiling of the past, not an aim; half of it is much.")
        self.most.setValue(round(c.drawdown[1]) if c.drawdown[1] > 0 else 1.0)
        self._size()

    def _size(self) -> None:
        told = self.state.told
        if told is None:
            return
        factor = told.chances.size_for(self.most.value())
        contracts = told.played.rounding.whole * factor if factor == factor else np.zeros(0)
        each = ", ".join(number(float(v), 1) for v in contracts[:8])
        self.allowed.setText(f"in 95 of 100 paths allows {number(factor, 2)} times this size: {each} contracts."
                          if factor == factor else "")


@dataclass(frozen=True)
class Trade:
    """A row of the ledger."""

    number: int
    entry: Entry


class LedgerPage(QWidget):
    """The account's ledger with the member of each trade, and what was refused."""

    def __init__(self, state: PortfolioState) -> None:
        super().__init__()
        self.told: Told | None = None
        theme = state.session.theme
        self.words = label("", "small", wrap=True)
        self.table = Table([
            Column("no.", lambda r: r.number, align="right", width=52, figure=PORTFOLIOS["desk.number"]),
            Column("member", lambda r: self._name(r.entry.member), width=120),
            Column("side", lambda r: self._int(r, k.T_SIDE), lambda r: "long" if self._int(r, k.T_SIDE) > 0 else "short",
                   width=54),
            Column("quantity", lambda r: self._quantity(r), lambda r: number(self._quantity(r), 2), "right", 66,
                   figure=PORTFOLIOS["desk.quantity"]),
            Column("closed (UTC)", lambda r: r.entry.at, lambda r: moment(r.entry.at), width=140),
            Column("reason", lambda r: k.REASONS[self._int(r, k.T_REASON)], width=70),
            Column("net", lambda r: r.entry.net, lambda r: number(r.entry.net, 2, sign=True), "right", 84,
                   tint=lambda r: "gain" if r.entry.net > 0 else "loss" if r.entry.net < 0 else None,
                   figure=PORTFOLIOS["desk.net"]),
            Column("account", lambda r: r.entry.purse, lambda r: number(r.entry.purse), "right", 84,
                   figure=PORTFOLIOS["desk.account"])], theme,
            "Account ledger")
        self.refused = Table([
            Column("refused at (UTC)", lambda r: r.at, lambda r: moment(r.at), width=140),
            Column("member", lambda r: self._name(r.member), width=220),
            Column("side", lambda r: r.side, lambda r: "long" if r.side > 0 else "short", width=46),
            Column("reason", lambda r: r.reason, width=160,
                   tip="margin: above the purse itself; account: what others had in use left too little")], theme,
                   "Refused entries")
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(self.table)
        split.addWidget(self.refused)
        split.setSizes([320, 130])
        self.setLayout(column(self.words, split, spacing=3))

    def _name(self, at: int) -> str:
        return self.told.names[at] if self.told is not None else ""

    def _int(self, r: Trade, column_: int) -> int:
        assert self.told is not None
        return int(self.told.played.runs[r.entry.member].trades_i[r.entry.row, column_])

    def _quantity(self, r: Trade) -> float:
        assert self.told is not None
        return float(self.told.played.runs[r.entry.member].trades_f[r.entry.row, k.F_QUANTITY])

    def show_told(self, told: Told) -> None:
        self.told = told
        made = told.played
        self.table.set_records([Trade(i + 1, e) for i, e in enumerate(made.entries)])
        self.refused.set_records(made.refused)
        account = "the account" if made.plan.one_account else "all accounts together"
        self.words.setText(f"{number(len(made.entries))} trades in the order in which they became known, with {account} "
                           f"after each; {number(len(made.refused))} entries refused.")
