"""A report as pages: one self-contained HTML file, or a PDF. What it says comes from whoever asks."""

from __future__ import annotations

import base64
import io
import textwrap
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from wolbrin.core.export.pictures import words_as_they_are
from wolbrin.core.export.steps import Steps
from wolbrin.core.written import check_target, write_bytes, write_text

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

Table = tuple[str, list[str], list[list[str]]]


@dataclass(frozen=True)
class Page:
    """What a report says. brief: one line; words: of what it is about; cautions: a sentence each; pictures: a name and what
    draws it; tables: name, heads and rows of text each; record: what made it."""

    title: str
    brief: str
    words: str
    cautions: Sequence[str]
    pictures: Sequence[tuple[str, Callable[[], Any]]]
    tables: Callable[[], list[Table]]
    record: Sequence[tuple[str, object]]


def page_steps(page: Page, path: Path) -> Steps:
    """Write one HTML file, pictures inline. Raises EnvironmentTrouble where it cannot be written."""
    pictures = []
    for name, make in page.pictures:
        held = io.BytesIO()
        make().savefig(held, format="png", dpi=150)
        pictures.append((name, base64.b64encode(held.getvalue()).decode("ascii")))
        yield
    from jinja2 import Environment  # late

    text: str = Environment(autoescape=True).from_string(PAGE).render(
        title=page.title, brief=page.brief, words=page.words, cautions=page.cautions, pictures=pictures, tables=page.tables(),
        record=page.record)
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


def paper_steps(page: Page, path: Path) -> Steps:
    """Write a PDF, A4. Raises EnvironmentTrouble where it cannot be written."""
    from matplotlib.backends.backend_pdf import PdfPages  # late
    from matplotlib.figure import Figure  # late

    words_as_they_are()

    wrap = textwrap.fill
    figure = Figure(figsize=(8.27, 11.69))
    lines = [wrap(page.brief, 96), "", wrap(page.words, 96), "", *(wrap(f"Look closer: {c}", 96) for c in page.cautions), "",
             *(f"{key}: {value}" for key, value in page.record)]
    figure.text(0.07, 0.95, page.title, fontsize=16, va="top")
    figure.text(0.07, 0.91, "\n".join(wrap(line, 110) if len(line) > 110 else line for line in "\n".join(lines).split("\n")),
                fontsize=8.5, va="top", linespacing=1.5)
    check_target(path)
    held = io.BytesIO()  # a page that cannot be written must not leave its writer half way
    with PdfPages(held, metadata={"Title": page.title, "CreationDate": None}) as made:
        made.savefig(figure)
        yield
        for _, make in page.pictures:
            made.savefig(make())
            yield
        for name, head, rows in page.tables():
            for first in range(0, max(1, len(rows)), 42):
                made.savefig(_text_page(name, head, rows[first:first + 42]))
                yield
    write_bytes(path, held.getvalue())
