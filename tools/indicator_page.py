"""Writes docs/indicators.md from the catalogue."""

from __future__ import annotations

from pathlib import Path

from wolbrin.core.indicators.catalogue import CATALOGUE

PAGE = Path(__file__).parent.parent / "docs" / "indicators.md"


def page() -> str:
    lines = ["# Indicators", "", f"{len(CATALOGUE)} of them, written by `tools/indicator_page.py` from the catalogue. "
             "Warm-up is the number of bars without a value at the default settings; where it says *varies*, the first "
             "value depends on the data. A value at a bar depends on that bar and earlier ones only; a test cuts the data "
             "to prove it.", ""]
    groups = list(dict.fromkeys(i.group for i in CATALOGUE))
    for group in groups:
        lines += [f"## {group[0].upper()}{group[1:]}", "",
                  "| key | name | outputs | settings (default) | price field | warm-up | formula | source |",
                  "|---|---|---|---|---|---:|---|---|"]
        for i in (i for i in CATALOGUE if i.group == group):
            outputs = ", ".join(f"`{o.key}`" for o in i.outputs)
            settings = ", ".join(f"`{p.key}` ({p.default:g})" for p in i.params) or "-"
            warm = "varies" if i.warm_up is None else str(i.warm_up(i.defaults()))
            formula = i.formula.replace("|", "\\|")
            lines.append(f"| `{i.key}` | {i.title} | {outputs} | {settings} | {f'`{i.field}`' if i.takes_field else '-'} | "
                         f"{warm} | {formula} | {i.reference} |")
        lines.append("")
    return "\n".join(lines)


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
