"""`wolbrin figure`: what a number that is shown anywhere means."""

from __future__ import annotations

import typer

from wolbrin.cli.common import JSON, console, emit, told
from wolbrin.core.figures.figure import Figure
from wolbrin.core.work.figures import figure_named, figures


def _record(place: str, one: Figure) -> dict[str, object]:
    return {"place": place, "key": one.key, "title": one.title, "unit": one.unit, "definition": one.definition,
            "better": {1: "more", -1: "less", 0: None}[one.better], "source": one.source}


def add(app: typer.Typer) -> None:
    @app.command("figure")
    def figure(name: str | None = typer.Argument(None, help="Key or title of a figure; all where it is left out."),
               json: bool = JSON) -> None:
        """Say what a figure means: its definition with the formula, unit, which way is good, and source."""
        with told():
            every = [(place, one) for place, some in figures().items() for one in some]
            found = figure_named(name) if name else every
        if json:
            emit([_record(place, one) for place, one in found])
            return
        for place, one in found:
            good = {1: "; more is better", -1: "; less is better", 0: ""}[one.better]
            unit = f", {one.unit}" if one.unit else ""
            console.print(f"{one.title} ({one.key}{unit}{good}), {place}: {one.tip}", markup=False)
