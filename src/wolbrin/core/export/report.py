"""The report of a run: one self-contained HTML file, or a PDF."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from wolbrin.core.engine.run import Run
from wolbrin.core.export.pages import Page, page_steps, paper_steps
from wolbrin.core.export.pictures import costs_picture, equity_picture, months_picture, results_picture
from wolbrin.core.export.steps import Steps
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.breakdown import drawdown_list, groups, side_facts
from wolbrin.core.measures.catalogue import MEASURES, measure
from wolbrin.core.measures.cautions import cautions
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.rules.words import describe


def _tables(run: Run) -> list[tuple[str, list[str], list[list[str]]]]:
    every = [measure(Facts.of(run)), measure(side_facts(run, 1)), measure(side_facts(run, -1))]
    found = [("Measures", ["measure", "all", "long", "short"],
              [[m.title + (" (%)" if m.key == "max_drawdown_percent" else ""), *(worded(m.key, v[m.key]) for v in every)]
               for m in MEASURES])]
    for way in ("year", "weekday", "hour", "exit reason"):
        rows = [[g.label, number(g.trades), number(g.net, sign=True), f"{number(g.win_rate, 1)}%",
                 number(g.average, 2, sign=True), number(g.profit_factor, 2)] for g in groups(run, way)]
        found.append((f"By {way}", [way, "trades", "net", "win rate", "average", "profit factor"], rows))
    falls = [[number(d.depth), f"{number(d.percent, 1)}%", f"{d.start:%d %b %Y}", f"{d.trough:%d %b %Y}",
              f"{d.recovery:%d %b %Y}" if d.recovery else "not yet", number(d.days)] for d in drawdown_list(run, 10)]
    found.append(("Deepest drawdowns", ["depth", "of peak", "from", "lowest", "recovered", "days under water"], falls))
    return found


def _title(run: Run) -> tuple[str, str]:
    terms = run.bars.terms
    return (f"{run.strategy.name} on {terms.code} {interval_words(run.bars.interval)}",
            f"{run.brief.span}, capital {number(run.brief.capital)}, fills at {run.strategy.fill}, "
            f"{'flat by session end' if run.strategy.flat_by_session_end else 'held overnight'}, "
            f"{'fine fills' if run.fine else 'no finer bars'}")


PICTURES: tuple[tuple[str, Callable[[Run, str], Any]], ...] = (
    ("Equity", equity_picture), ("Months", lambda run, currency: months_picture(run)), ("Gross to net", costs_picture),
    ("Results of trades", results_picture))


def _record_lines(run: Run, tried: int) -> list[tuple[str, object]]:
    return [*run.record(tried=tried).model_dump(mode="json").items(), ("fingerprint", run.fingerprint)]


def _page(run: Run, currency: str, tried: int) -> Page:
    title, brief = _title(run)
    return Page(title, brief, describe(run.strategy), tuple(c.text for c in cautions(run)),
                tuple((name, partial(make, run, currency)) for name, make in PICTURES), partial(_tables, run),
                tuple(_record_lines(run, tried)))


def html_steps(run: Run, path: Path, currency: str, tried: int = 1) -> Steps:
    """Write the report as one HTML file, pictures inline. tried: alternatives looked at on its market.

    Raises:
        EnvironmentTrouble: the file cannot be written.
    """
    yield from page_steps(_page(run, currency, tried), path)


def pdf_steps(run: Run, path: Path, currency: str, tried: int = 1) -> Steps:
    """Write the report as PDF, A4. Raises EnvironmentTrouble where the file cannot be written."""
    yield from paper_steps(_page(run, currency, tried), path)
