"""The report of a run: one self-contained HTML file, or a PDF."""

from __future__ import annotations

import base64
import io
import textwrap
from collections.abc import Callable
from pathlib import Path
from typing import Any

from wolbrin.core.engine.run import Run
from wolbrin.core.export.pictures import costs_picture, equity_picture, months_picture, results_picture, words_as_they_are
from wolbrin.core.export.steps import Steps
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.breakdown import drawdown_list, groups, side_facts
from wolbrin.core.measures.catalogue import MEASURES, measure
from wolbrin.core.measures.cautions import cautions
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.rules.words import describe
from wolbrin.core.written import replacing, write_text

PAGE = """<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>{{ title }}</title><style>
 body { font: 13px/1.45 "IBM Plex Sans", "Segoe UI", sans-serif; color: #23282D; background: #FBF9F4; max-width: 62em;
        margin: 2em auto; padding: 0 1.5em; }
 h1 { font-size: 22px; font-weight: 600; margin-bottom: 0; } h2 { font-size: 16px; margin: 1.6em 0 .4em; }
 p.lead { color: #6B6A63; margin-top: .2em; } img { width: 100%; }
 table { border-collapse: collapse; width: 100%; font-variant-numeric: tabular-nums; }
 th, td { text-align: right; padding: .22em .6em; border-bottom: 1px solid #D9D2C3; }
 th:first-child, td:first-child, td.words, th.words { text-align: left; } th { font-weight: 600; }
 ul.cautions li { color: #7A5B0D; } code { font: 12px "IBM Plex Mono", monospace; }
 @media print { body { background: #fff; margin: 0; max-width: none; } h2 { break-after: avoid; }
               table, img { break-inside: avoid; } }
</style></head><body>
<h1>{{ title }}</h1><p class="lead">{{ brief }}</p><p>{{ words }}</p>
{% if cautions %}<h2>Look closer</h2><ul class="cautions">{% for c in cautions %}<li>{{ c }}</li>{% endfor %}</ul>{% endif %}
{% for name, picture in pictures %}<h2>{{ name }}</h2>
<img alt="{{ name }}" src="data:image/png;base64,{{ picture }}">{% endfor %}
{% for name, head, rows in tables %}<h2>{{ name }}</h2><table><tr>{% for h in head %}<th>{{ h }}</th>{% endfor %}</tr>
{% for row in rows %}<tr>{% for cell in row %}<td>{{ cell }}</td>{% endfor %}</tr>{% endfor %}</table>{% endfor %}
<h2>What made this</h2><table>{% for key, value in record %}<tr><td>{{ key }}</td>
<td class="words"><code>{{ value }}</code></td></tr>{% endfor %}</table></body></html>
"""


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


def html_steps(run: Run, path: Path, currency: str, tried: int = 1) -> Steps:
    """Write the report as one HTML file, pictures inline. tried: alternatives looked at on its market.

    Raises:
        EnvironmentTrouble: the file cannot be written.
    """
    pictures = []
    for name, make in PICTURES:
        figure = make(run, currency)
        held = io.BytesIO()
        figure.savefig(held, format="png", dpi=150)
        pictures.append((name, base64.b64encode(held.getvalue()).decode("ascii")))
        yield
    title, brief = _title(run)
    record = [*_record_lines(run, tried)]
    from jinja2 import Environment  # late

    environment = Environment(autoescape=True)
    text: str = environment.from_string(PAGE).render(
        title=title, brief=brief, words=describe(run.strategy), cautions=[c.text for c in cautions(run)], pictures=pictures,
        tables=_tables(run), record=record)
    yield
    write_text(path, text)


def _text_page(title: str, head: list[str], rows: list[list[str]]) -> Any:
    from matplotlib.figure import Figure  # late

    figure = Figure(figsize=(8.27, 11.69))
    axis = figure.add_axes((0.07, 0.04, 0.86, 0.9))
    axis.axis("off")
    axis.set_title(title, loc="left", fontsize=12)
    if rows:
        table = axis.table(cellText=rows, colLabels=head, loc="upper left", cellLoc="right", edges="horizontal")
        table.auto_set_font_size(False)
        table.set_fontsize(8)
        table.auto_set_column_width(list(range(len(head))))
    return figure


def pdf_steps(run: Run, path: Path, currency: str, tried: int = 1) -> Steps:
    """Write the report as PDF, A4. Raises EnvironmentTrouble where the file cannot be written."""
    from matplotlib.backends.backend_pdf import PdfPages  # late
    from matplotlib.figure import Figure  # late

    words_as_they_are()

    wrap = textwrap.fill
    title, brief = _title(run)
    figure = Figure(figsize=(8.27, 11.69))
    lines = [wrap(brief, 96), "", wrap(describe(run.strategy), 96), "", *(wrap(f"Look closer: {c.text}", 96)
                                                                        for c in cautions(run)), "",
             *(f"{key}: {value}" for key, value in _record_lines(run, tried))]
    figure.text(0.07, 0.95, title, fontsize=16, va="top")
    figure.text(0.07, 0.91, "\n".join(wrap(line, 110) if len(line) > 110 else line for line in "\n".join(lines).split("\n")),
                fontsize=8.5, va="top", linespacing=1.5)
    with replacing(path) as partial, PdfPages(partial, metadata={"Title": title, "CreationDate": None}) as made:
        made.savefig(figure)
        yield
        for _, make in PICTURES:
            made.savefig(make(run, currency))
            yield
        for name, head, rows in _tables(run):
            for first in range(0, max(1, len(rows)), 42):
                made.savefig(_text_page(name, head, rows[first:first + 42]))
                yield
