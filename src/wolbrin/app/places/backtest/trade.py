"""One trade: where, when and why. Price with entry, exit, stop and target; how it developed; what the conditions read."""

from __future__ import annotations

import datetime as dt
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QSplitter, QStackedWidget, QWidget

from wolbrin.app.charts.lines import Curve, CurveChart
from wolbrin.app.charts.price import PriceChart, TradeMarks
from wolbrin.app.parts import Choice, column, label, row, stretch
from wolbrin.app.places.backtest.columns import Trade, levels, signed
from wolbrin.app.session import Session
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.ledger import order_log
from wolbrin.core.engine.run import Run
from wolbrin.core.figures.runs import TRADES
from wolbrin.core.indicators.catalogue import BY_KEY
from wolbrin.core.measures.excursion import open_profit
from wolbrin.core.measures.wording import number
from wolbrin.core.rules.evaluate import operand_column, operands
from wolbrin.core.rules.explain import Reading, why
from wolbrin.core.rules.mirror import effective_long, effective_short
from wolbrin.core.rules.model import IndicatorOperand
from wolbrin.core.rules.times import clock_text, is_time
from wolbrin.core.rules.words import operand_words

LINE_TOKENS = ("accent", "gain", "caution", "muted")


def value_words(value: float, timed: bool = False) -> str:
    """A compared value: as many digits as tell it apart; a time of day as one."""
    if timed and is_time(value):
        return clock_text(value)
    text = f"{value:.7g}"
    digits = len(text.partition(".")[2]) if "e" not in text else 2
    return number(value, min(digits, 5))


class TradePanel(QWidget):
    """The selected trade of a run."""

    def __init__(self, session: Session, aside: QWidget) -> None:
        super().__init__()
        self.session = session
        self.title = label("", "heading")
        self.words = label("", "small")
        self.chart = PriceChart(session.theme, "Trade on the price chart")
        self.open_profit = CurveChart(session.theme, "Open profit of the trade", time=False, zoom=False)
        self.open_words = label("", "small")
        self.reasons = Table([
            Column("why did it trade here?", lambda r: r.words, lambda r: f"{r.condition}: {r.words}", width=180),
            Column("left", lambda r: r.left, lambda r: value_words(r.left, r.timed), "right", 76, figure=TRADES["row.left"]),
            Column("right", lambda r: r.right, lambda r: value_words(r.right, r.timed), "right", 76,
                   figure=TRADES["row.right"]),
            Column("held", lambda r: r.held, lambda r: "yes" if r.held else "no", width=44,
                   tint=lambda r: "gain" if r.held else "muted")], session.theme, "Conditions at the decision bar", stretch=0)
        self.story = label("", "small", wrap=True)
        self.asked = Choice([("why", 0), ("how it developed", 1)], 0, "Of the trade")
        self.views = QStackedWidget()
        reasons, path = QWidget(), QWidget()
        reasons.setLayout(column(self.reasons, self.story, spacing=2))
        path.setLayout(column(self.open_words, self.open_profit, spacing=2))
        for one in (reasons, path):
            one.setMinimumSize(200, 60)
            self.views.addWidget(one)
        self.asked.chosen.connect(self.views.setCurrentIndex)
        side = QWidget()
        side.setLayout(column(self.asked, self.views, spacing=2))
        stretch(side, 1, 1)
        split = QSplitter(Qt.Orientation.Horizontal)
        split.addWidget(self.chart)
        split.addWidget(side)
        split.setSizes([620, 430])
        split.setStretchFactor(0, 1)
        self.setLayout(column(row(self.title, self.words, None, aside), split, spacing=2, margins=(0, 4, 8, 0)))
        self._chart_key: object = None
        self._request = 0
        self.readings: list[Reading] = []

    def show_bars(self, run: Run, sealed: int) -> None:
        key = (run.bars.terms.code, run.bars.interval, run.bars.hash, sealed)
        if key != self._chart_key:
            self.chart.show_bars(run.bars, sealed)
            self._chart_key = key

    def show_trade(self, run: Run, trade: Trade) -> None:
        """Bring a trade into view and say why it was made."""
        t = run.trades_i[trade.index]
        stop, target = levels(run, trade.index)
        first, last = int(t[k.T_ENTRY_BAR]), int(t[k.T_EXIT_BAR])
        self.chart.set_trade(TradeMarks((first, trade.entry), (last, trade.exit), 1 if trade.side == "long" else -1,
                                        stop, target, trade.net > 0, trade.reason))
        width = max(48, int((last - first) * 1.6))
        middle = (first + last) / 2
        self.chart.look(middle - width / 2 - 4, middle + width / 2 + 8)
        self.title.setText(f"Trade {trade.index + 1} of {len(run)}")
        unsure = ", ambiguous: the worse is assumed" if trade.ambiguous else ""
        self.words.setText(f"{trade.side}, in {trade.entry_time:%d %b %Y %H:%M}, out {trade.exit_time:%H:%M} at "
                           f"{trade.reason}, net {signed(trade.net)}{unsure}")
        path = open_profit(run, trade.index)
        x = np.arange(len(path.close) + 1, dtype=float)
        zero = lambda v: np.append(0.0, v)  # noqa: E731
        self.open_profit.show_curves([Curve(x, zero(path.close), "ink", 1.6)], band=(x, zero(path.worst), zero(path.best)))
        self.open_words.setText(f"open profit bar by bar, band: worst {number(trade.worst)} to best {number(trade.best)}")
        self.story.setText(self._story(run, trade.index))
        out = int(t[k.T_EXIT_BAR]) if t[k.T_REASON] == k.CONDITION else None
        self._ask(run, trade.index, int(t[k.T_SIDE]), int(t[k.T_DECISION]), out)

    def _story(self, run: Run, index: int) -> str:
        """What its orders went through, in one line."""
        log = run.log[run.log[:, k.L_TRADE] == index]
        # Orders decided while the trade before was open carry that trade's number.
        own = run.log[run.log[:, k.L_NUMBER] == run.trades_i[index, k.T_ORDER]]
        named = {k.PLACED: "placed", k.MOVED: "moved", k.FILLED: "filled"}
        log = log[np.isin(log[:, k.L_EVENT], tuple(named)) & (log[:, k.L_ORDER] >= k.ENTRIES_END)]
        every = np.concatenate([own[np.isin(own[:, k.L_EVENT], tuple(named))], log])
        parts = []
        for e in every[:12]:
            price = float(run.bars.to_price(int(e[k.L_PRICE]))) if e[k.L_PRICE] != k.NO_LEVEL else None
            where = "" if price is None else f" {run.bars.terms.format_price(price)}"
            parts.append(f"{k.ORDERS[e[k.L_ORDER]]} {named[int(e[k.L_EVENT])]}{where}")
        more = f", {len(every) - 12} more in orders" if len(every) > 12 else ""
        return " \u2192 ".join(parts) + more

    def _ask(self, run: Run, trade: int, side: int, bar: int, out: int | None) -> None:
        """Read the conditions off the interface thread."""
        self._request += 1
        request, project = self._request, self.session.project
        bars, strategy = run.bars, run.decided_by(trade)

        def work() -> Any:
            columns = project.prepared(bars.terms.code, bars.interval).columns
            rules = effective_long(strategy) if side > 0 else effective_short(strategy)
            lines = {operand_words(o): operand_column(columns, o) for c in (rules.entry, rules.exit) for o in operands(c)
                     if isinstance(o, IndicatorOperand) and BY_KEY[o.indicator].on_price}
            # The exit was decided at the bar before its fill at an open.
            at = None if out is None else out - (1 if strategy.fill == "next open" else 0)
            return why(columns, strategy, side, bar, at), lines

        def done(found: Any) -> None:
            if request == self._request:
                self.readings, lines = found
                self.reasons.set_records(self.readings)
                self.chart.set_lines({name: (values, LINE_TOKENS[i % len(LINE_TOKENS)])
                                      for i, (name, values) in enumerate(lines.items())})

        self.session.compute("Conditions of a trade", work, done)


class OrdersPage(QWidget):
    """The order log of a run as a table."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.table = Table(self._columns(None), session.theme, "Order log", filters=True)
        self.setLayout(column(self.table))

    def _columns(self, run: Run | None) -> list[Column]:
        price = run.bars.terms.format_price if run else str
        return [Column("order", lambda e: e["number"], lambda e: number(e["number"]), "left", 64),
                Column("event", lambda e: e["event"], width=80), Column("kind", lambda e: e["order"], width=100),
                Column("side", lambda e: e["side"], width=50),
                Column("time", lambda e: e["time"], lambda e: f"{e['time']:%d %b %y %H:%M}", width=130),
                Column("price", lambda e: e["price"], lambda e: "" if np.isnan(e["price"]) else price(e["price"]), "right",
                       84, figure=TRADES["trade.price"]),
                Column("reason", lambda e: e["reason"], width=150),
                Column("trade", lambda e: e["trade"], lambda e: number(e["trade"]) if e["trade"] else "", "right", 60,
                       figure=TRADES["order.trade"])]

    def show_run(self, run: Run) -> None:
        columns = order_log(run)
        zone = run.bars.terms.zone
        names = list(columns)
        rows = [dict(zip(names, values)) for values in zip(*(columns[n].tolist() for n in names))]
        for one in rows:
            one["time"] = dt.datetime.fromtimestamp(one["time"] / 1e9, tz=dt.UTC).astimezone(zone)
        self.table.model.columns = self._columns(run)
        self.table.set_records(rows)
