"""`wolbrin set`: spans, border, capital, currency and costs of a project."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from pathlib import Path
from typing import Any

import typer
from pydantic import ValidationError

from wolbrin.cli.common import JSON, PROJECT, console, emit, finite, open_project, read_day, told
from wolbrin.cli.new import share_or_day
from wolbrin.core.errors import UserError
from wolbrin.core.faults import explain
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import Settings

COSTS = ("spread_ticks", "slippage_ticks", "per_contract", "percent", "minimum")


def _border(project: Project, wanted: float | dt.date) -> dt.date:
    """A border as a day; a share is of the days from the first bar of any market to the last."""
    if isinstance(wanted, dt.date):
        return wanted
    markets = project.markets()
    if not markets:
        raise UserError("there is no history to divide", "--holdout", "Import some first, or name a day.")
    first = min(dt.date.fromisoformat(m.first[:10]) for m in markets)
    last = max(dt.date.fromisoformat(m.last[:10]) for m in markets)
    return first + dt.timedelta(days=round((last - first).days * (1 - wanted)))


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("set")
    def set_(project: Path | None = PROJECT,
             first: str | None = typer.Option(None, "--training-first", help="First day of training."),
             until: str | None = typer.Option(None, "--training-last", help="Last day of training; none: up to the border."),
             holdout: str | None = typer.Option(None, "--holdout", help="The border: its first sealed day, or a share: 35%."),
             spend: str = typer.Option("", "--spend", help="Why the border moves although work was done."),
             last: str | None = typer.Option(None, "--last", help="Last day of data."),
             capital: float | None = typer.Option(None, "--capital", callback=finite, help="Starting capital."),
             currency: str | None = typer.Option(None, "--currency", help="Of the account, ISO 4217."),
             market: str | None = typer.Option(None, "--market", "-m", help="Whose costs are set."),
             spread: float | None = typer.Option(None, "--spread", callback=finite, help="Ticks, half at each fill."),
             slippage: float | None = typer.Option(None, "--slippage", callback=finite, help="Ticks a market or stop fill."),
             commission: float | None = typer.Option(None, "--commission", callback=finite, help="A contract and side."),
             percent: float | None = typer.Option(None, "--percent", callback=finite,
                                                  help="Commission, percent of notional a side."),
             minimum: float | None = typer.Option(None, "--minimum", callback=finite, help="Least commission a side."),
             json: bool = JSON) -> None:
        """Change spans, the border, capital, currency or a market's costs; without options, show them."""
        with told():
            opened = open_project(project, demo)
            settings = opened.settings
            changes: dict[str, Any] = {}
            if first is not None:
                changes["training_first"] = read_day(first, "training-first")
            if until is not None:
                changes["training_last"] = None if until == "none" else read_day(until, "training-last")
            if holdout is not None:
                changes["holdout_first"] = _border(opened, share_or_day(holdout) or 0.5)
            if last is not None:
                changes["last"] = read_day(last, "last")
            changes |= {k: v for k, v in (("capital", capital), ("currency", currency and currency.upper())) if v is not None}
            costs = {k: v for k, v in zip(COSTS, (spread, slippage, commission, percent, minimum)) if v is not None}
            if costs and market is None:
                raise UserError("costs belong to a market", "--market", "Name one with -m.")
            try:
                after = Settings.model_validate(settings.model_dump() | changes)
                if costs:
                    after = after.with_own_costs(opened.market(str(market)).terms, **costs)
            except ValidationError as err:
                raise explain(err, "set") from None
            if after != settings:
                opened.update_settings(after, spend)
            entries = [m for m in opened.markets() if market is None or m.code == market]
            result = {"training_first": after.training_first, "training_last": after.training.last,
                      "holdout_first": after.holdout_first, "last": after.last, "capital": after.capital,
                      "currency": after.currency, "assumed_costs": after.assumed_costs,
                      "costs": {m.code: after.costs_of(m.terms) for m in entries}}
        if json:
            emit(result)
            return
        console.print(f"Training {after.training}, holdout {after.holdout}, capital {after.capital:,.2f} {after.currency}.",
                      markup=False)
        for m in entries:
            c = after.costs_of(m.terms)
            assumed = " (assumed)" if m.code in after.assumed_costs else ""
            console.print(f"  {m.code}{assumed}: spread {c.spread_ticks:g} ticks, slippage {c.slippage_ticks:g}, commission "
                          f"{c.per_contract:g} a contract and side, {c.percent:g}%, at least {c.minimum:g}", markup=False)
