"""`wolbrin set`: spans, border, capital and currency of a project, terms and costs of its markets."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from pathlib import Path
from typing import Any

import typer
from pydantic import ValidationError

from wolbrin.cli.common import JSON, PROJECT, console, emit, error_console, finite, open_project, read_day, told
from wolbrin.cli.facts import name_of, with_facts
from wolbrin.cli.new import share_or_day
from wolbrin.core.engine.record import assumed_words
from wolbrin.core.errors import UserError
from wolbrin.core.faults import explain
from wolbrin.core.market.costs import cost_facts
from wolbrin.core.market.declared import Declared, Fact
from wolbrin.core.market.exchanges import exchange_zone
from wolbrin.core.market.likely.terms_of import spoken_sessions
from wolbrin.core.market.terms import ASSUMABLE, COST_TERMS, Terms, term_facts
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import Settings
from wolbrin.core.work.terms_change import check_change, downstream

# Said in words of their own, below; sessions and holidays too.
MARGIN = Declared(("margin",), Fact("margin", "", "money a contract, 1:30 on notional, or none", "--margin", term="margin"),
                  str, None, True)
QUOTE = "quote_currency"


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


def _margin(text: str) -> dict[str, float | None]:
    """Margin as written: money a contract, 1:30 on notional, or none."""
    if text == "none":
        return {"per_contract": None, "leverage": None}
    key, number = ("leverage", text[2:]) if text.startswith("1:") else ("per_contract", text)
    try:
        return {"per_contract": None, "leverage": None, key: float(number)}
    except ValueError:
        raise UserError(f'"{text}" is no margin', "--margin",
                        "Write money a contract such as 1200, or 1:30, or none.") from None


def _options() -> list[Declared]:
    """Costs first, then contract terms; what the costs name already is not asked twice."""
    costs = list(cost_facts())
    known = {d.fact.option for d in costs}
    return [*costs, *(d for d in term_facts() if d.fact.option and d.fact.option not in known), MARGIN]


def _terms(before: Terms, said: dict[str, Any]) -> Terms:
    """Terms of a market with what was said, by field. Raises UserError naming what cannot be."""
    values: dict[str, Any] = before.model_dump()
    facts = {d.key: d for d in term_facts()}
    for key, value in said.items():
        if key == "sessions":
            rules, zone = spoken_sessions(value)
            values |= {"sessions": [r.model_dump() for r in rules], "calendar": said.get("calendar") or ""}
            values |= {"time_zone": zone} if zone else {}
        elif key == "closed":
            values["closed"] = () if value == "none" else tuple(d.strip() for d in value.split(",") if d.strip())
        elif key == "margin":
            values["margin"] = _margin(value)
        elif key == QUOTE:
            values[QUOTE] = value.upper()
        elif key == "calendar":
            values["calendar"] = value
            if value:
                values["time_zone"] = exchange_zone(value)
        else:
            facts[key].put(values, value)
    if said.get("time_zone"):
        values["time_zone"] = said["time_zone"]
    try:
        return Terms.model_validate(values)
    except ValidationError as err:
        raise explain(err, f"terms of {before.code}") from None


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    options = _options()

    @app.command("set")
    @with_facts(options, before="confirm")
    def set_(project: Path | None = PROJECT,
             first: str | None = typer.Option(None, "--training-first", help="First day of training."),
             until: str | None = typer.Option(None, "--training-last", help="Last day of training; none: up to the border."),
             holdout: str | None = typer.Option(None, "--holdout", help="The border: its first sealed day, or a share: 35%."),
             spend: str = typer.Option("", "--spend", help="Why the border or terms change although work rests on them."),
             last: str | None = typer.Option(None, "--last", help="Last day of data."),
             capital: float | None = typer.Option(None, "--capital", callback=finite, help="Starting capital."),
             currency: str | None = typer.Option(None, "--currency", help="Of the account; with -m of the market's prices."),
             market: str | None = typer.Option(None, "--market", "-m", help="Whose terms and costs are set."),
             confirm: bool = typer.Option(False, "--confirm", help="The market's assumed terms are right as they stand."),
             json: bool = JSON, **said_of: Any) -> None:
        """Change spans, the border, capital, currency, or a market's terms and costs; without options, show them."""
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
            account = currency.upper() if currency and market is None else None
            changes |= {k: v for k, v in (("capital", capital), ("currency", account)) if v is not None}
            spoken = {d.key: said_of[name_of(d)] for d in options if said_of[name_of(d)] is not None}
            costs = {d.key: spoken.pop(d.key) for d in cost_facts() if d.key in spoken}
            own = spoken | ({QUOTE: currency} if currency and market else {})
            contract = bool(own)
            if (costs or contract or confirm) and market is None:
                raise UserError("terms and costs belong to a market", "--market", "Name one with -m.")
            said: tuple[str, ...] = ()
            wanted: Terms | None = None
            try:
                after = Settings.model_validate(settings.model_dump() | changes)
                if costs:
                    after = after.with_own_costs(opened.market(str(market)).terms, **costs)
            except ValidationError as err:
                raise explain(err, "set") from None
            if contract:
                before = opened.market(str(market)).terms
                wanted = _terms(before, own)
                found = downstream(opened, wanted)
                for words in found.changes:  # said before anything changes
                    error_console.print(f"{market}, {words}.", markup=False)
                check_change(wanted.code, found, spend)
                said = found.changes
                terms = {d.key: d.fact.term for d in (*term_facts(), MARGIN) if d.fact.term}
                after = after.told(str(market), *(terms[key] for key in own if key in terms))
            if confirm:
                after = after.told(str(market), *ASSUMABLE)
            if after != settings:
                opened.update_settings(after, spend)
            if wanted is not None and found.changes:
                opened.sources.change_terms(wanted)
            entries = [m for m in opened.markets() if market is None or m.code == market]
            result = {"training_first": after.training_first, "training_last": after.training.last,
                      "holdout_first": after.holdout_first, "last": after.last, "capital": after.capital,
                      "currency": after.currency,
                      "assumed_costs": [m.code for m in entries if set(after.assumed_of(m.code)) & set(COST_TERMS)],
                      "assumed": {m.code: after.assumed_of(m.code) for m in entries},
                      "changes": list(said), "terms": {m.code: m.terms for m in entries},
                      "costs": {m.code: after.costs_of(m.terms) for m in entries}}
        if json:
            emit(result)
            return
        console.print(f"Training {after.training}, holdout {after.holdout}, capital {after.capital:,.2f} {after.currency}.",
                      markup=False)
        for m in entries:
            c = after.costs_of(m.terms)
            assumed = f" ({assumed_words(after.assumed_of(m.code))})" if after.assumed_of(m.code) else ""
            console.print(f"  {m.code}{assumed}: costs {c.words()}; tick {m.terms.tick_size:g}, point value "
                          f"{m.terms.point_value:g} {m.terms.quote_currency}", markup=False)
