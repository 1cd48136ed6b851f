"""Columns of the ledger and the rows of the measures table."""

from __future__ import annotations

import datetime as dt
import math
from dataclasses import dataclass
from typing import Any

from wolbrin.app.tables.model import Column
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.ledger import LEDGER, ledger
from wolbrin.core.engine.run import Run
from wolbrin.core.figures.runs import COUNTS, TRADES
from wolbrin.core.market.terms import Terms
from wolbrin.core.measures.catalogue import MEASURES, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.wording import number, worded


@dataclass(frozen=True)
class Trade:
    """One ledger row, ready for the table."""

    index: int
    side: str
    quantity: float
    entry_time: dt.datetime
    entry: float
    exit_time: dt.datetime
    exit: float
    reason: str
    held: int
    gross: float
    costs: float
    net: float
    r: float
    worst: float
    best: float
    ambiguous: bool
    more: tuple[Any, ...] = ()


def trades_of(run: Run) -> list[Trade]:
    """Ledger rows with times in the market's own zone."""
    rows = ledger(run)
    zone = run.bars.terms.zone

    def local(ns: int) -> dt.datetime:
        return dt.datetime.fromtimestamp(ns / 1e9, tz=dt.UTC).astimezone(zone)

    entries, exits = run.entry_time.tolist(), run.exit_time.tolist()
    costs = rows["gross"] - rows["net"]  # type: ignore[operator]
    columns = [rows[name].tolist() for name in ("side", "quantity", "entry_price", "exit_price", "exit_reason",
                                                "bars_held", "gross", "net", "r_multiple", "mae", "mfe", "ambiguous")]
    more = list(zip(*(rows[c.name].tolist() for c in LEDGER if c.shown))) or [()] * len(run)
    return [Trade(i, side, quantity, local(entries[i]), entry, local(exits[i]), out, reason, held, gross,
                  float(costs[i]), net, r, mae, mfe, ambiguous, more[i])
            for i, (side, quantity, entry, out, reason, held, gross, net, r, mae, mfe, ambiguous)
            in enumerate(zip(*columns))]


def signed(value: float) -> str:
    return number(value, 2, sign=True)


def tint(value: float) -> str | None:
    return "gain" if value > 0 else "loss" if value < 0 else None


def ledger_columns(terms: Terms | None, currency: str) -> list[Column]:
    price = terms.format_price if terms else str
    return [
        Column("No.", lambda t: t.index + 1, lambda t: number(t.index + 1), "left", 58),
        Column("side", lambda t: t.side, width=54),
        Column("in", lambda t: t.entry_time, lambda t: f"{t.entry_time:%d %b %y %H:%M}", width=126),
        Column("at", lambda t: t.entry, lambda t: price(t.entry), "right", 76, figure=TRADES["trade.price"]),
        Column("out", lambda t: t.exit_time, lambda t: f"{t.exit_time:%H:%M}" if t.exit_time.date()
               == t.entry_time.date() else f"{t.exit_time:%d %b %H:%M}", width=66),
        Column("at", lambda t: t.exit, lambda t: price(t.exit), "right", 76, figure=TRADES["trade.price"]),
        Column("why", lambda t: t.reason, width=72),
        Column(f"gross {currency}", lambda t: t.gross, lambda t: signed(t.gross), "right", 82, figure=TRADES["trade.gross"]),
        Column("costs", lambda t: t.costs, lambda t: number(t.costs, 2), "right", 60, figure=TRADES["trade.costs"]),
        Column(f"net {currency}", lambda t: t.net, lambda t: signed(t.net), "right", 84, lambda t: tint(t.net),
               figure=TRADES["trade.net"]),
        Column("bars", lambda t: t.held, lambda t: number(t.held), "right", 50, figure=TRADES["trade.held"]),
        Column("R", lambda t: t.r, lambda t: number(t.r, 2, sign=True), "right", 62, figure=TRADES["trade.r"]),
        Column("worst", lambda t: t.worst, lambda t: number(t.worst), "right", 70, figure=TRADES["trade.worst"]),
        Column("best", lambda t: t.best, lambda t: number(t.best), "right", 70, figure=TRADES["trade.best"]),
        Column("unsure", lambda t: t.ambiguous, lambda t: "ambiguous" if t.ambiguous else "", width=76,
               tip="which came first inside the bar is not known; the worse is assumed"),
        *(Column(c.title, lambda t, i=i: t.more[i],
                 lambda t, i=i: number(t.more[i], 2) if isinstance(t.more[i], float) else str(t.more[i]),
                 "right", 80, figure=c) for i, c in enumerate(c for c in LEDGER if c.shown)),
    ]


@dataclass(frozen=True)
class MeasureRow:
    title: str
    value: str
    definition: str
    number: float


def measure_rows(run: Run) -> list[MeasureRow]:
    """Every measure of the catalogue, worded, then the run's counts."""
    values = measure(Facts.of(run))
    rows = [MeasureRow(m.title + (" (% of peak)" if m.key == "max_drawdown_percent" else ""),
                       worded(m.key, values[m.key]), m.definition, values[m.key]) for m in MEASURES]
    rows += [MeasureRow(one.title, number(run.counts[one.title]), one.definition, float(run.counts[one.title]))
             for one in COUNTS.values() if one.title not in ("ruined", "exposed")]
    if run.counts["ruined"]:
        rows.insert(0, MeasureRow("ruined", "yes", COUNTS["count.ruined"].definition, math.nan))
    return rows


def levels(run: Run, index: int) -> tuple[float, float]:
    """Initial stop and target price of a trade, NaN where there is none."""
    t = run.trades_i[index]
    stop, target = (float(run.bars.to_price(int(t[c]))) if t[c] != k.NO_LEVEL else math.nan
                    for c in (k.T_STOP, k.T_TARGET))
    return stop, target
