"""Markets: the list with terms, span and bar counts, and a price chart over all of it."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QSplitter, QVBoxLayout, QWidget

from wolbrin.app.charts.price import PriceChart
from wolbrin.app.parts import Choice, clear, column, label, row
from wolbrin.app.places.place import Place
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.engine.run import Prepared
from wolbrin.core.market.terms import Terms
from wolbrin.core.measures.wording import number
from wolbrin.core.store.project import MarketEntry


def session_words(terms: Terms) -> str:
    """The weekly schedule in words."""
    if not terms.sessions:
        return "no schedule"
    parts = []
    for rule in terms.sessions:
        days = f"{rule.days[0]}\u2013{rule.days[-1]}" if len(rule.days) > 1 else rule.days[0]
        parts.append(f"{days} {rule.open}\u2013{rule.close}")
    return ", ".join(parts) + f" {terms.time_zone}"


def term_rows(entry: MarketEntry, currency: str) -> list[tuple[str, str, str]]:
    """Name, value and hint of each contract term."""
    t = entry.terms
    tick = t.tick_value * t.conversion_rate
    margin = (f"{number(t.margin.per_contract)} {currency} a contract" if t.margin.per_contract else
              f"1 : {t.margin.leverage:g}" if t.margin.leverage else "none")
    swap = (f"{number(t.financing.long, 1)} / {number(t.financing.short, 1)} ticks at {t.financing.time}, "
            f"three on {t.financing.triple}" if t.financing.active else "none")
    return [
        ("tick", f"{t.tick_size:.10f}".rstrip("0").rstrip("."), "smallest price step"),
        ("point value", f"{number(t.point_value)} {t.quote_currency}", "a move of 1.00 on one contract"),
        ("one tick is worth", f"{number(tick, 2)} {currency}", "on one contract"),
        ("3 ticks on 2 contracts", f"{number(6 * tick, 2)} {currency}", "a worked line against mistakes"),
        ("smallest lot, step", f"{t.minimum_lot:g}, {t.lot_step:g}", ""),
        ("spread, slippage", f"{t.spread_ticks:g}, {t.slippage_ticks:g} ticks", "half the spread at each fill"),
        ("commission per side", f"{number(t.commission.per_contract, 2)} {currency}"
         + (f" + {t.commission.percent:g}%" if t.commission.percent else ""), ""),
        ("financing long / short", swap, "per night, negative is paid"),
        ("margin", margin, ""),
        ("sessions", session_words(t), ""),
        ("left out, off the tick grid", f"{number(entry.left_out)} bars, {number(entry.off_grid)} prices",
         "bars outside sessions; prices moved to the nearest tick"),
    ]


class MarketsPlace(Place):
    key = "markets"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.table = Table([
            Column("market", lambda m: m.code, width=80, bold=True),
            Column("name", lambda m: m.terms.name, width=180),
            Column("kind", lambda m: m.terms.kind, width=104),
            Column("from", lambda m: m.first[:10], width=96),
            Column("until", lambda m: m.last[:10], width=96),
            Column("bars", lambda m: m.bars, lambda m: number(m.bars), "right", 76),
            Column("interval", lambda m: m.minutes, lambda m: f"{m.minutes} min", "right", 66),
        ], session.theme, "Markets", stretch=1)
        self.chart = PriceChart(session.theme, "Market price chart")
        self.title = label("", "heading")
        self.about = label("", "small")
        self.span = Choice([("day", 1), ("month", 22), ("year", 260), ("all", 0)], 22, "Show")
        self.span.chosen.connect(self._zoom)
        self._terms = QGridLayout()
        self._terms.setVerticalSpacing(3)
        self._terms.setHorizontalSpacing(14)
        self._terms.setColumnStretch(1, 1)
        terms = QWidget()
        box = QVBoxLayout(terms)
        box.setContentsMargins(16, 0, 8, 0)
        box.addWidget(label("Contract terms", "heading"))
        box.addLayout(self._terms)
        box.addStretch(1)
        top = QSplitter(Qt.Orientation.Horizontal)
        top.addWidget(self.table)
        top.addWidget(terms)
        top.setSizes([690, 400])
        bottom = QWidget()
        bottom.setLayout(column(row(self.title, self.about, None, self.span, margins=(0, 6, 8, 0)), self.chart, spacing=4))
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(top)
        split.addWidget(bottom)
        split.setSizes([310, 340])
        self.setLayout(column(split, margins=(20, 10, 8, 6)))
        self.table.chosen.connect(self._chosen)
        self.table.opened.connect(lambda _: session.place_wanted.emit("rules"))
        session.brief_changed.connect(self.refresh)
        self._shown: tuple[str, int, object] | None = None
        self.table.set_records(session.markets)

    def actions_offered(self) -> list[Action]:
        return [Action("markets.all", "Show the whole history on the chart", self.chart.look_all, "Ctrl+0", "markets")]

    def activate(self) -> None:
        self.refresh()

    def _chosen(self, entry: MarketEntry) -> None:
        self.session.set_market(entry.code)

    def _zoom(self, days: Any) -> None:
        bars = self.chart.bars
        if bars is None:
            return
        if not days:
            self.chart.look_all()
            return
        (_, right), _ = self.chart.plotItem.vb.viewRange()
        last = max(30, min(len(bars), int(right)))
        perday = max(1.0, len(bars) / max(1, len(bars.day_ends)))
        self.chart.look(last - days * perday, last)

    def refresh(self) -> None:
        s = self.session
        if not s.market:
            self.title.setText("This project holds no market yet.")
            self.about.setText("The demo project does: start `wolbrin --demo`.")
            return
        if not self.isVisible():
            return
        self.table.choose([m.code for m in s.markets].index(s.market))
        clear(self._terms)
        for r, (name, value, hint) in enumerate(term_rows(s.entry, s.settings.currency)):
            title = label(name, "muted")
            title.setToolTip(hint)
            self._terms.addWidget(title, r, 0, Qt.AlignmentFlag.AlignTop)
            self._terms.addWidget(label(value, wrap=True), r, 1)
        wanted = (s.market, s.interval, s.settings.holdout_first)
        if wanted == self._shown:
            return
        self._shown = wanted
        market, interval, settings, project = s.market, s.interval, s.settings, s.project

        def done(history: Prepared) -> None:
            if self._shown != wanted:
                return
            bars = history.bars
            self.chart.show_bars(bars, bars.range_of(settings.holdout)[0])
            self.title.setText(f"{market} {interval} min")
            self.about.setText(f"{number(len(bars))} bars, {number(len(bars.day_ends))} trading dates. Drag to pan, "
                               "wheel to zoom.")
            self._zoom(self.span.value)

        s.compute(f"Reading {market}", lambda: project.prepared(market, interval), done)
