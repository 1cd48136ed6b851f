"""`wolbrin portfolio`: candidates combined on an account."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import typer
from typer.core import TyperGroup

from wolbrin.cli.common import JSON, PROJECT, console, emit, error_console, finite, open_project, run, told, write_out
from wolbrin.cli.meant import NAMES, WHERE, Meant, meant
from wolbrin.cli.portfolio_answer import answer, changes_answer, show, show_changes, show_weights, weights_answer
from wolbrin.cli.portfolio_reading import (
    costs_of,
    limits_of,
    loss_of,
    number_of,
    settle,
    start,
    weighed,
    with_members,
)
from wolbrin.core.export.portfolio_report import account_columns, ledger_columns, report_steps
from wolbrin.core.export.tables import table_steps
from wolbrin.core.portfolio.contributions import Change
from wolbrin.core.portfolio.plan import Plan
from wolbrin.core.portfolio.weighing import Table
from wolbrin.core.portfolio.weights import OWN
from wolbrin.core.store.portfolios import Portfolios
from wolbrin.core.store.project import Project
from wolbrin.core.work.portfolio_pieces import Others, changes_job, others_of, told_of, weigh_job
from wolbrin.core.work.portfolios import desk_of, kept_of
from wolbrin.core.work.whole import open_portfolio, seen_members, verdict_on

MAKE = "make"


class Usual(TyperGroup):
    """A group that takes whatever is no command of its own as candidates to combine."""

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        if not args or (args[0] not in self.commands and args[0] not in ("--help", "-h")):
            args = [MAKE, *args]
        return super().parse_args(ctx, args)


def add(app: typer.Typer, demo: Callable[[], Path]) -> typer.Typer:
    """Put the commands on an app. Returns the group, for those that read and write saved ones."""
    group = typer.Typer(cls=Usual, help="Combine candidates on an account, weigh, find, save and open portfolios.")
    app.add_typer(group, name="portfolio")

    @group.command(MAKE)
    def make(names: list[str] = NAMES, project: Path | None = PROJECT, where: list[str] = WHERE,
             weights: str | None = typer.Option(None, "--weights", help="equal, volatility, variance, erc, hrp, drawdown."),
             share: list[str] = typer.Option([], "--share", help="Own share of a member, such as 3=0.4."),
             contracts: list[str] = typer.Option([], "--contracts", help="Contracts of a member, such as 3=2."),
             priority: list[str] = typer.Option([], "--priority", help="Who takes capital first, such as 3=1."),
             off: list[str] = typer.Option([], "--off", help="A member that does not trade, by id or name."),
             costs: list[str] = typer.Option([], "--costs", help="Own costs, such as 3=per_contract:2.4,slippage_ticks:1."),
             member_loss: list[str] = typer.Option([], "--member-loss", help="Daily loss limit of a member, such as 3=300."),
             capital: float | None = typer.Option(None, "--capital", callback=finite, help="Of the account."),
             one: bool | None = typer.Option(None, "--one-account/--separate", help="One purse for all, or an account each."),
             size: float | None = typer.Option(None, "--size", callback=finite,
                                               help="How much in all, in members at their own size; as many as there are."),
             loss: str | None = typer.Option(None, "--daily-loss", help="Of the account: money, or percent such as 2%."),
             rebalance: str | None = typer.Option(None, "--rebalance", help="none, monthly, or a step such as 10%."),
             zone: str | None = typer.Option(None, "--zone", help="Time zone of the account, such as Europe/Berlin."),
             most_member: float | None = typer.Option(None, "--most-member", callback=finite, help="Largest share of one."),
             most_market: float | None = typer.Option(None, "--most-market", callback=finite, help="Of one market."),
             most_family: float | None = typer.Option(None, "--most-family", callback=finite, help="Of one family of rules."),
             most_side: float | None = typer.Option(None, "--most-side", callback=finite, help="Of one side."),
             saved: str | None = typer.Option(None, "--from", help="Begin with this saved portfolio."),
             other: list[str] = typer.Option([], "--with", help="A saved portfolio whose members join."),
             without: bool = typer.Option(False, "--leave-one-out", help="What would remain without each."),
             added: bool = typer.Option(False, "--add-one", help="What others that are proved would add."),
             table: bool = typer.Option(False, "--weights-table", help="All schemes, walked forward."),
             hold: list[str] = typer.Option([], "--buy-and-hold", help="Markets to hold instead; the members' own."),
             ledger: bool = typer.Option(False, "--ledger", help="The ledger and the account by time, with --json."),
             write_ledger: Path | None = typer.Option(None, "--write-ledger", help="The ledger as .csv, .xlsx or .parquet."),
             report: Path | None = typer.Option(None, "--report", help="Write a report: .html, .pdf or .xlsx."),
             save: str | None = typer.Option(None, "--save", help="Keep the portfolio under this name."),
             open_holdout: bool = typer.Option(False, "--open-holdout", help="Open the holdout once for the whole; its "
                                               "members must be ready. Counted, and final."),
             json: bool = JSON) -> None:
        """Combine candidates on an account and compare the whole with its members."""
        with told():
            opened = open_project(project, demo)
            which = Meant([], f"saved as {saved}") if saved and not names and not where else meant(opened, names, where)
            plan = start(opened, which.ids, saved, other)
            plan = with_members(plan, [f"{who}=off" for who in off], "--off", lambda m, v: {"on": False})
            plan = with_members(plan, share, "--share", lambda m, v: {"share": number_of(v, "--share")})
            plan = with_members(plan, contracts, "--contracts", lambda m, v: {"contracts": number_of(v, "--contracts")})
            plan = with_members(plan, priority, "--priority", lambda m, v: {"priority": int(number_of(v, "--priority"))})
            plan = with_members(plan, costs, "--costs", lambda m, v: {"costs": costs_of(v, "--costs").model_dump()})
            plan = with_members(plan, member_loss, "--member-loss", lambda m, v: {
                "limit": loss_of(v, "--member-loss").model_dump()})
            plan = settle(plan, capital=capital, one_account=one, size=size, zone=zone, name=save,
                          limit=loss_of(loss, "--daily-loss").model_dump() if loss else None,
                          limits=limits_of(most_member, most_market, most_family, most_side),
                          weights=OWN if share else None, **_rebalance(rebalance))
            plan = weighed(opened, plan, weights)
            _tell(opened, plan, which.words, json, without, added, table, hold,
                  report, save, open_holdout, ledger, write_ledger)

    return group


def _rebalance(text: str | None) -> dict[str, Any]:
    if text is None or text in ("none", "monthly"):
        return {"resize": text}
    return {"resize": "steps", "step": number_of(text.rstrip("%"), "--rebalance")}


def _tell(opened: Project, plan: Plan, chosen: str, json: bool, without: bool, added: bool, table: bool, hold: list[str],
          report: Path | None, save: str | None, open_holdout: bool, ledger: bool, write_ledger: Path | None) -> None:
    desk = desk_of(opened, plan)
    kept = kept_of(opened, plan)
    made = told_of(desk, hold)
    changes: list[tuple[str, Change]] = []
    weights: list[Table] = []
    if without or added:
        others = others_of(opened, desk) if added else Others(desk, ())
        run(changes_job(others, lambda unit, change: changes.append((unit[0], change)), without), "threads")
    if table:
        run(weigh_job(desk, weights.append), "threads")
    gone = [c for kind, c in changes if kind == "without"]
    more = [c for kind, c in changes if kind == "with"]
    if report is not None:
        write_out(report, report_steps(made, report, opened.settings.currency, gone, more, weights[0] if weights else None))
    if write_ledger is not None:
        write_out(write_ledger, table_steps(lambda: ledger_columns(made), write_ledger))
    if save:
        name = Portfolios(opened).keep(plan, made.figures, made.records)
        plan = plan.model_copy(update={"name": name})
        error_console.print(f"Portfolio {name} saved.", markup=False)
    seen = seen_members(opened, kept)
    verdict = open_portfolio(opened, plan) if open_holdout else None
    if json:
        data = answer(opened, made, kept, chosen) | {"seen_members": seen, "verdict_before": verdict_on(
            opened, [k.id for k in kept]) if verdict is None else ""}
        if ledger:
            data |= {"ledger": ledger_columns(made), "account": account_columns(made)}
        if without:
            data["leave_one_out"] = changes_answer(gone)
        if added:
            data["add_one"] = changes_answer(more)
        if weights:
            data["weights"] = weights_answer(weights[0], [k.candidate.name for k in kept])
        data["holdout"] = None if verdict is None else {"verdict": verdict.verdict, "reason": verdict.reason,
                                                        "figures": verdict.figures}
        emit(data)
        return
    show(made, kept, chosen)
    if gone:
        show_changes("Without each, the others as they are:", made, gone)
    if added:
        show_changes("With one more, at its own size:", made, more)
    if weights:
        show_weights(weights[0], [k.candidate.name for k in kept])
    if seen:
        console.print(f"Chosen on seen data: the holdout of {', '.join(seen)} was opened before; \"unseen\" means nothing "
                      "for this portfolio.", markup=False)
    if verdict is not None:
        console.print(f"Holdout of the whole: {verdict_on(opened, [k.id for k in kept])}", markup=False)
