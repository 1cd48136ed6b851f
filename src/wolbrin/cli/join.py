"""`wolbrin join`: contract months of a market made into one continuous future, and its rolls listed."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import typer

from wolbrin.cli.common import JSON, PROJECT, console, emit, open_project, told
from wolbrin.cli.rolls import ADJUST, ROLL, rule_of
from wolbrin.cli.taking import rolls_json
from wolbrin.core.errors import UserError
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.store.project import Project
from wolbrin.core.store.sources import CONTINUOUS, Source
from wolbrin.core.work.markets import join_contracts, months_of


def _shown(project: Project, market: str, made: Source | None, notes: tuple[str, ...]) -> dict[str, Any]:
    """Months and rolls of a market as plain data."""
    joined = [made] if made else [s for s in project.sources.of(market) if s.kind == CONTINUOUS]
    return {"market": market, "tested_on": project.market(market).source,
            "months": [{"name": m.name, "interval": interval_words(m.interval), "bars": m.rows, "first": m.first,
                        "last": m.last}
                       for m in months_of(project, market)],
            "joined": [{"source": s.name, "bars": s.rows, "first": s.first, "last": s.last, "made_of": s.origin,
                        "adjust": s.adjust, "rolls": rolls_json(s)} for s in joined],
            "notes": list(notes)}


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("join")
    def join(market: str = typer.Option(..., "--market", "-m", help="Market code."), project: Path | None = PROJECT,
             roll: str = typer.Option("volume", "--roll", help=ROLL),
             adjust: str = typer.Option("difference", "--adjust", help=ADJUST),
             expiries: Path | None = typer.Option(None, "--expiries", help="CSV of months and their last days, for days:N."),
             months: str = typer.Option("", "--months", help="Which months: names, parted by commas; all if absent."),
             name: str = typer.Option(CONTINUOUS, "--name", help="Of the source that is made."),
             list_: bool = typer.Option(False, "--list", help="Only list months and rolls."), json: bool = JSON) -> None:
        """Join contract months into one continuous future, or list months and rolls."""
        with told():
            opened = open_project(project, demo)
            known = [m.name for m in months_of(opened, market)]
            made, notes = None, tuple[str, ...]()
            if not list_:
                rule = rule_of(roll, adjust, expiries)
                wanted = [m.strip() for m in months.split(",") if m.strip()] or known
                strange = [m for m in wanted if m not in known]
                if strange or not known:
                    raise UserError(f"{market} has no contract month {', '.join(strange)}" if known else
                                    f"{market} has no contract months", "--months",
                                    f"Known are {', '.join(known)}." if known else
                                    "Import them with `wolbrin import --months`.")
                made, notes = join_contracts(opened, market, wanted, rule, name)
            result = _shown(opened, market, made, notes)
        if json:
            emit(result)
            return
        for m in result["months"]:
            console.print(f"  {m['name']}: {m['bars']:,} bars of {m['interval']}, {m['first']} to {m['last']} UTC",
                          markup=False)
        for j in result["joined"]:
            console.print(f"{market}, {j['source']}: {j['made_of']}; {j['bars']:,} bars, {len(j['rolls'])} rolls",
                          markup=False)
            for r in j["rolls"]:
                console.print(f"  {r['time'][:10]}: {r['left']} to {r['entered']}, difference {r['difference']:+.6g}, ratio "
                              f"{r['ratio']:.6f}", markup=False)
        for words in notes:
            console.print(f"{words[0].upper()}{words[1:]}.", markup=False)
        if not result["joined"]:
            console.print(f"They are not joined, so {market} cannot be tested. Join them with `wolbrin join -m {market}`."
                          if len(known) > 1 else f"{market} has no joined months.", markup=False)
