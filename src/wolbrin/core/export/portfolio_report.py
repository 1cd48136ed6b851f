"""The report of a portfolio: HTML, PDF or a workbook."""

from __future__ import annotations

import datetime as dt
import io
from collections.abc import Sequence
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from wolbrin.core.cells import MOST_ROWS, plain
from wolbrin.core.engine.ledger import ledger
from wolbrin.core.errors import UserError
from wolbrin.core.export.pages import Page, Table, page_steps, paper_steps
from wolbrin.core.export.portfolio_pictures import chances_picture, equity_picture, months_picture, use_picture
from wolbrin.core.export.steps import Steps, portions
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.catalogue import MEASURES
from wolbrin.core.measures.wording import number, percent, worded
from wolbrin.core.portfolio.chances import LOSSES, RISKS
from wolbrin.core.portfolio.contributions import Change
from wolbrin.core.portfolio.told import Told
from wolbrin.core.portfolio.weighing import Table as Weights
from wolbrin.core.written import write_bytes

PICTURES = (("Equity", equity_picture), ("Months", months_picture), ("How else it could have gone", chances_picture),
            ("Margin and positions", use_picture))
KINDS = {".html": "HTML", ".pdf": "PDF", ".xlsx": "XLSX"}
MOST_REFUSED = 40


def moment(ns: int) -> str:
    """An instant in words, UTC."""
    return f"{dt.datetime.fromtimestamp(ns / 1e9, tz=dt.UTC):%d %b %Y %H:%M}"


def member_rows(told: Told) -> Table:
    """What each member is and adds."""
    made, parts, sizes = told.played, told.parts, told.played.rounding
    rows = []
    for i, (member, part) in enumerate(zip(made.plan.on, made.parts)):
        rows.append([f"{part.name} {part.history.bars.terms.code} {interval_words(part.history.bars.interval)}",
                     percent(float(made.plan.shares[i]), 1), number(float(sizes.asked[i]), 2), number(float(sizes.whole[i]),
                                                                                                      2),
                     str(member.priority), number(float(parts.net[i]), sign=True), percent(float(parts.share[i]), 1),
                     percent(float(parts.risk[i]), 1), number(float(parts.average[i]), 2), number(len(made.runs[i]))])
    return ("Members", ["member", "share", "contracts asked", "whole", "priority", "net", "of profit", "of risk",
                        "correlation", "trades"], rows)


def change_rows(told: Told, changes: Sequence[Change], title: str) -> Table:
    """What remains without each, or comes with each, beside the whole as it is."""
    def row(name: str, figures: dict[str, float], fault: str = "") -> list[str]:
        return [name, *(worded(key, figures.get(key, float("nan"))) for key in
                        ("net", "max_drawdown", "return_drawdown", "under_water", "sharpe")), fault]

    return (title, ["portfolio", "net", "drawdown", "return over drawdown", "days under water", "Sharpe", ""],
            [row("as it is", told.figures), *(row(c.name, c.figures, c.fault) for c in changes)])


def weight_rows(told: Told, table: Weights) -> Table:
    """Schemes of weights, walked forward."""
    rows = [[r.title, number(r.sharpe, 2), number(r.return_drawdown, 2), percent(r.turnover, 1), number(r.p, 3),
             ", ".join(percent(w, 0) for w in r.weights.tolist())] for r in table.rows]
    return (f"Weights, walked forward. {table.why}", ["scheme", "Sharpe", "return over drawdown", "change at a fit", "p",
                                                      "shares"], rows)


def tables_of(told: Told, without: Sequence[Change], added: Sequence[Change], weights: Weights | None) -> list[Table]:
    """All tables of the report."""
    made = told.played
    names = told.names
    found: list[Table] = [("Measures", ["measure", "portfolio", *names[:6]],
                           [[m.title + (" (%)" if m.key == "max_drawdown_percent" else ""),
                             worded(m.key, told.figures[m.key]),
                             *(worded(m.key, e[m.key]) for e in told.each[:6])] for m in MEASURES]), member_rows(told)]
    if without:
        found.append(change_rows(told, without, "Without each"))
    if added:
        found.append(change_rows(told, added, "With one more"))
    if weights is not None:
        found.append(weight_rows(told, weights))
    found.append(("Deepest drawdowns, and what each member made in them", ["from", "lowest", "depth", *names[:6]],
                  [[moment(f.begin), moment(f.trough), number(f.depth), *(number(v, sign=True) for v in f.each[:6].tolist())]
                   for f in told.parts.falls]))
    found.append(("Tightest hours", ["when", "margin", "of equity", "positions"],
                  [[moment(t.at), number(t.margin), percent(t.share, 1), str(t.held)] for t in told.use.tightest]))
    c = told.chances
    found.append(("Risk of losing", ["share of the capital", "chance"],
                  [[percent(loss, 0), percent(float(p), 2)] for loss, p in zip(LOSSES, c.ruin.tolist())]))
    found.append(("Capital that keeps the loss of half of it below", ["chance", "capital"],
                  [[percent(r, 0), number(float(v))] for r, v in zip(RISKS, c.capital.tolist())]))
    refused = made.refused
    found.append((f"Refused entries ({number(len(refused))})", ["when", "member", "side", "reason"],
                  [[moment(r.at), names[r.member], "long" if r.side > 0 else "short", r.reason]
                   for r in refused[:MOST_REFUSED]]))
    return found


def _page(told: Told, currency: str, tables: list[Table]) -> Page:
    made = told.played
    record = [(f"{name}, {key}", value) for name, one in zip(told.names, told.records)
              for key, value in (("record", one.words()), ("key", one.key))]
    record.append(("portfolio", made.plan.words()))
    record.append(("combinations tried", number(made.plan.tried)))
    return Page(made.plan.name, f"{len(made.parts)} members, worth {number(told.bets, 1)} bets; capital "
                f"{number(made.capital)} {currency}; {made.plan.words()}", "", told.cautions,
                tuple((name, partial(make, told, currency)) for name, make in PICTURES), lambda: tables, tuple(record))


def report_steps(told: Told, path: Path, currency: str, without: Sequence[Change] = (), added: Sequence[Change] = (),
                 weights: Weights | None = None) -> Steps:
    """Write the report; the file's ending says the kind.

    Raises:
        UserError: an ending that is none of KINDS. EnvironmentTrouble: the file cannot be written.
    """
    kind = path.suffix.lower()
    if kind not in KINDS:
        raise UserError(f'a report ending in "{path.suffix}" is not written', str(path), f"Choose one of {', '.join(KINDS)}.")
    tables = tables_of(told, without, added, weights)
    yield
    if kind == ".xlsx":
        yield from _workbook(told, tables, path)
    else:
        yield from (page_steps if kind == ".html" else paper_steps)(_page(told, currency, tables), path)


def ledger_columns(told: Told) -> dict[str, Any]:
    """The account's ledger in the order in which trades became known: the member of each and the number it has there, the
    columns of every ledger, and what the purse held after it. Times are UTC."""
    made, names = told.played, told.names
    member, row = (np.array([getattr(e, key) for e in made.entries], np.int64) for key in ("member", "row"))
    places = np.cumsum([0, *(len(run) for run in made.runs)])[member] + row
    each = [ledger(run) for run in made.runs]
    columns = {c: np.concatenate([one[c] for one in each])[places] for c in each[0] if c != "number"}
    return {"number": np.arange(1, len(member) + 1), "member": np.array([names[m] for m in member], object),
            "member_trade": row + 1, **columns, "account": np.array([e.purse for e in made.entries], np.float64)}


def account_columns(told: Told) -> dict[str, Any]:
    """The account at the end of every bar of any member: marked equity, margin in use, positions open. Times are UTC."""
    made = told.played
    return {"time": made.instants.astype("datetime64[ns]"), "equity": made.equity, "margin": made.margin,
            "positions": made.held.astype(np.int64)}


def _workbook(told: Told, tables: list[Table], path: Path) -> Steps:
    from openpyxl import Workbook  # type: ignore[import-untyped]  # late

    made = told.played
    dates, each = made.table
    columns = ledger_columns(told)
    if len(made.entries) > MOST_ROWS:
        raise UserError(f"{len(made.entries):,} trades do not fit into a sheet, which holds {MOST_ROWS:,}", str(path),
                        "Write a .html or .pdf file instead.")
    book = Workbook(write_only=True)

    def sheet(name: str, head: Sequence[str], rows: Sequence[Sequence[Any]]) -> Steps:
        page = book.create_sheet(name[:31])
        page.append([plain(h) for h in head])
        for low, high in portions(len(rows)):
            for row in rows[low:high]:
                page.append([plain(v) if isinstance(v, str) else None if isinstance(v, float) and v != v else v for v in row])
            yield

    days = [[(dt.date(1970, 1, 1) + dt.timedelta(days=int(d))), float(row.sum()), *row.tolist()]
            for d, row in zip(dates, each)]
    try:
        for name, head, rows in tables:
            yield from sheet(name.split(",")[0].split(" (")[0].split(".")[0], head, rows)
        trades = [list(x) for x in zip(*(c.astype("datetime64[us]").tolist() if c.dtype.kind == "M" else c.tolist()
                                         for c in columns.values()))]
        yield from sheet("Ledger", [f"{c} (UTC)" if c.endswith("_time") else c for c in columns], trades)
        yield from sheet("Daily results", ["date", "portfolio", *told.names], days)
        yield from sheet("What made this", ["what", "value"], [[str(a), str(b)] for a, b in _page(told, "", tables).record])
        held = io.BytesIO()
        book.save(held)
        write_bytes(path, held.getvalue())
    finally:
        for page in book.worksheets:  # a page that was not saved leaves a file of its own behind
            with suppress(Exception):
                page.close()
        book.close()
    yield
