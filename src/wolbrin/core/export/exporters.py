"""The one list of what a run can be written as. To add one: what writes it, and an entry here; the window's menu and the
command line take it from this list."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from wolbrin.core.engine.run import Run
from wolbrin.core.errors import UserError
from wolbrin.core.export.report import html_steps, pdf_steps
from wolbrin.core.export.steps import Steps
from wolbrin.core.export.tables import KINDS, ledger_steps, measure_steps, order_steps


@dataclass(frozen=True)
class Exporter:
    """key: its name on the command line. title: in menus. endings: of files it writes, the usual one first, each with what it
    is called. steps(run, path, currency, tried): writes it, step by step."""

    key: str
    title: str
    endings: dict[str, str]
    steps: Callable[[Run, Path, str, int], Steps]


EXPORTERS: list[Exporter] = [
    Exporter("ledger", "Ledger", KINDS, lambda run, path, currency, tried: ledger_steps(run, path)),
    Exporter("orders", "Order log", KINDS, lambda run, path, currency, tried: order_steps(run, path)),
    Exporter("measures", "Measures", {".json": "JSON"}, lambda run, path, currency, tried: measure_steps(run, path, tried)),
    Exporter("html", "Report as a web page", {".html": "HTML"}, html_steps),
    Exporter("pdf", "Report as PDF", {".pdf": "PDF"}, pdf_steps),
]


def exporter(key: str) -> Exporter:
    """An exporter by its key. Raises UserError where there is none."""
    for one in EXPORTERS:
        if one.key == key:
            return one
    known = ", ".join(e.key for e in EXPORTERS)
    raise UserError(f'"{key}" is nothing a run can be written as', "export", f"Known are {known}.")
