"""Writes docs/measures.md: every figure that is shown anywhere, by place, with its definition."""

from __future__ import annotations

from pathlib import Path

from wolbrin.core.figures.figure import Figure
from wolbrin.core.work.figures import figures

PAGE = Path(__file__).parents[1] / "docs" / "measures.md"
BEGIN, END = "<!-- figures -->", "<!-- end -->"
GOOD = {1: "more", -1: "less", 0: ""}


def _row(one: Figure) -> str:
    about = one.definition + (f" ({one.source})" if one.source else "")
    return f"| `{one.key}` | {one.title} | {one.unit} | {GOOD[one.better]} | {about} |".replace("|gross", "&#124;gross").replace(
        "loss|", "loss&#124;").replace("|average", "&#124;average")


def page(before: str) -> str:
    """The page with its tables made anew."""
    parts = []
    for place, some in figures().items():
        parts.append(f"## {place[:1].upper()}{place[1:]}\n\n| key | name | unit | better | definition |\n|---|---|---|---|---|\n"
                     + "\n".join(map(_row, some)))
    head, _, rest = before.partition(BEGIN)
    return f"{head}{BEGIN}\n\n" + "\n\n".join(parts) + f"\n\n{END}{rest.partition(END)[2]}"


if __name__ == "__main__":
    PAGE.write_text(page(PAGE.read_text()))
