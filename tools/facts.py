"""Writes the tables of docs/market-file.md from the declared costs and contract facts."""

from __future__ import annotations

from pathlib import Path

from wolbrin.core.market.costs import cost_facts
from wolbrin.core.market.declared import Declared
from wolbrin.core.market.terms import term_facts

PAGE = Path(__file__).parents[1] / "docs" / "market-file.md"
TERMS, COSTS, END = "<!-- terms -->", "<!-- costs -->", "<!-- end -->"


def _row(d: Declared) -> str:
    about = ", ".join(part for part in (d.fact.unit, d.fact.help) if part)
    usual = "" if d.default is None else "none" if d.default in ("", ()) else str(d.default)
    option = f"`{d.fact.option}`" if d.fact.option else ""
    return f"| `{d.key}` | {d.fact.title} | {about} | {usual} | {option} |"


def _table(facts: tuple[Declared, ...]) -> str:
    return "\n".join(("| field | | meaning | default | `wolbrin set` |", "|---|---|---|---|---|", *map(_row, facts)))


def page(before: str) -> str:
    """The page with its tables made anew."""
    for mark, facts in ((TERMS, term_facts()), (COSTS, cost_facts())):
        head, _, rest = before.partition(mark)
        before = f"{head}{mark}\n{_table(facts)}\n{END}{rest.partition(END)[2]}"
    return before


if __name__ == "__main__":
    PAGE.write_text(page(PAGE.read_text()))
