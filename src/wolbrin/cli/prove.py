"""`wolbrin prove` and `wolbrin line`: what survives, and the gates by which that is told."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import typer

from wolbrin.cli.common import JSON, PROJECT, console, emit, error_console, finite, open_project, pick, run, told
from wolbrin.cli.fitting import fit_again
from wolbrin.core.errors import UserError
from wolbrin.core.faults import validated
from wolbrin.core.market.bars import Span
from wolbrin.core.measures.wording import number
from wolbrin.core.models import read_json
from wolbrin.core.proving.line import GATES, Line
from wolbrin.core.proving.monte_carlo import MonteCarloGate, MonteCarloSettings
from wolbrin.core.proving.opening_plan import Plan
from wolbrin.core.store.holdout import t_for
from wolbrin.core.store.project import Project
from wolbrin.core.store.shelf import Kept, Shelf
from wolbrin.core.work.controls import more_controls_job, wanted
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.lines import find_line, line_of, save_line, saved_lines, use_line
from wolbrin.core.work.proving import Proved, case_of, prove_job
from wolbrin.core.work.rates import RatesRequest, rates_job, read_rates
from wolbrin.core.work.spending import DIFFERENCE, check_opening, spend_on, spent_on
from wolbrin.core.work.spending import WORDS as SPENT
from wolbrin.core.work.standing import READY, Standings
from wolbrin.core.work.subject import Subject
from wolbrin.core.work.together import Pending, as_json, before_words

NONE = np.zeros(0)
NAMES = typer.Argument(None, help="Ids or names of candidates on the Shelf; all when left out.")


def _rows(project: Project, kept: list[Kept], faults: dict[int, str], renewed: list[int]) -> list[dict[str, Any]]:
    standings = Standings(project)
    out = []
    for k in kept:
        place, c = standings.of(k), k.candidate
        out.append({"id": k.id, "name": c.name, "market": c.market, "interval": c.interval, "stands": place.stands,
                    "leads": k.marks.leads, "behind": k.marks.behind,
                    "tried": c.tried, "record": c.record, "renewed": k.id in renewed, "fault": faults.get(k.id, ""),
                    "openings": project.book.count(c.market, k.hash), "seen": place.seen,
                    "words": place.words(standings.gates),
                    "gates": {g: {"verdict": e.verdict, "reason": e.reason, "figures": e.outcome, "settings": e.settings,
                                  "record": e.record} for g, e in place.evidence.items()}})
    return out


def _print(rows: list[dict[str, Any]], every: bool) -> None:
    for r in rows:
        console.print(f"{r['id']}  {r['name']} on {r['market']} {r['interval']}: {r['stands']}; {r['tried']:,} tried",
                      markup=False)
        console.print(f"    {r['words']}", markup=False)
        if every:
            for g in r["gates"].values():
                console.print(f"        {g['verdict']}: {g['reason']}", markup=False)
        if r["fault"]:
            console.print(f"    not judged: {r['fault']}", markup=False)
        if r["renewed"]:
            console.print("    run anew first: its record could not be asked again", markup=False)


def _plan_json(project: Project, plan: Plan, waiting: list[Pending], opening: str | None) -> dict[str, Any]:
    chosen = plan.proposed if opening is None else plan.choice(opening)
    return as_json(plan, chosen) | {"before": before_words(project, waiting)}


def _print_plan(p: dict[str, Any]) -> None:
    """Families and ways to open, as they were before anything was."""
    console.print(p["words"], markup=False)
    if p["before"]:
        console.print(p["before"], markup=False)
    for at, f in enumerate(p["families"], 1):
        others = f" and {len(f['members']) - 1} like it" if len(f["members"]) > 1 else ""
        console.print(f"    family {at}: {f['representative']} on {f['market']}{others}; training t {f['t']:.2f}, without "
                      f"selection {f['t_without_selection']:.2f}", markup=False)
    for c in p["choices"]:
        mark = " (proposed)" if c["key"] == p["proposed"] else ""
        console.print(f"    {c['key']:<12} anything stands {100 * c['chance']:.0f}%, a family "
                      f"{100 * c['chance_of_a_family']:.0f}%{mark}", markup=False)
    for one in p["longer"]:
        console.print(f"    with {one['days']:,} sealed days: {100 * one['chance']:.0f}%", markup=False)


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("prove")
    def prove(
            names: list[str] = NAMES, project: Path | None = PROJECT,
            line: str | None = typer.Option(None, "--line", help="Use this saved line from now on."),
            until_ready: bool = typer.Option(False, "--until-ready", help="Leave the holdout sealed, as is usual."),
            open_holdout: bool = typer.Option(False, "--open-holdout", help="Let those that are ready open the holdout; "
                                              "counted, and final."),
            all_gates: bool = typer.Option(False, "--all-gates", help="Go on after a fall, and see every verdict."),
            plan: bool = typer.Option(False, "--plan", help="Show what opening those that are ready would open: families, "
                                      "ways, and with what chance anything stands. Opens nothing."),
            opening: str | None = typer.Option(None, "--opening", help="Which way to open, as --plan names them; the one "
                                               "with most power when left out."),
            anyway: bool = typer.Option(False, "--anyway", help="Open although hardly anything has a chance to stand."),
            many: bool = typer.Option(False, "--many", help="Open the holdout even for very many at once."),
            keep_for: str | None = typer.Option(None, "--keep-holdout-for", help="candidates or portfolio, from now on."),
            add_controls: bool = typer.Option(False, "--add-controls", help="Where Luck could not judge for want of controls "
                                              "let as many run as it needs, and judge again."),
            variants: bool = typer.Option(False, "--variants", help="Where none is named, walk those too that another one of "
                                          "their family represents."),
            show: bool = typer.Option(False, "--list", help="Only list the Shelf and where each stands."),
            json: bool = JSON) -> None:
        """Walk candidates through the line of gates and keep every verdict."""
        with told():
            if until_ready and open_holdout:
                raise UserError("--until-ready and --open-holdout exclude each other", "prove", "Give one of them.")
            opened = open_project(project, demo)
            if keep_for is not None:
                if keep_for not in SPENT:
                    raise UserError(f'the holdout cannot be kept for "{keep_for}"', "--keep-holdout-for",
                                    f"Say {' or '.join(SPENT)}. {DIFFERENCE}")
                spend_on(opened, keep_for)
            if line is not None:
                use_line(opened, find_line(opened, line))
            kept = pick(opened, names or [], variants=variants or show)
            faults: dict[int, str] = {}
            renewed: list[int] = []

            def note(proved: Proved) -> None:
                if proved.subject.kept is not None and proved.fault:
                    faults[proved.subject.kept] = proved.fault
                if proved.subject.kept is not None and proved.renewed is not None:
                    renewed.append(proved.subject.kept)

            if not show:
                run(prove_job(opened, [Subject.of(k) for k in kept], open_holdout=False, all_gates=all_gates, notify=note),
                    "threads")
                kept = Shelf(opened).bodies([k.id for k in kept])
            if add_controls and not show:
                for search, (needed, ids) in wanted(opened, [k.id for k in kept]).items():
                    error_console.print(f"{needed} controls in all beside search {search}, for {len(ids)} candidates.",
                                        markup=False)
                    run(more_controls_job(opened, search, needed), "threads")
                    run(prove_job(opened, [Subject.of(k) for k in Shelf(opened).bodies(ids)], open_holdout=False,
                                  all_gates=all_gates, notify=note), "threads")
            lacking = wanted(opened, [k.id for k in kept])
            plans: list[dict[str, Any]] = []
            if (open_holdout or plan) and not show:
                # Only those that are ready share the opening, so that the others do not raise what it asks of them.
                ready = [Subject.of(k) for k, s in zip(kept, map(Standings(opened).of, kept)) if s.stands == READY]
                if ready:
                    check_opening(opened, len(ready), many)
                    fit_again(opened, ready)
                    run(prove_job(opened, ready, open_holdout=True, notify=note, choice=opening, anyway=anyway,
                                  plan_only=plan, planned_as=lambda p, waiting: plans.append(
                                      _plan_json(opened, p, waiting, opening))), "threads")
                    kept = Shelf(opened).bodies([k.id for k in kept])
            rows = _rows(opened, kept, faults, renewed)
            batch, used = opened.book.next_batch(), line_of(opened)
        if json:
            emit({"line": used.name, "openings": opened.openings(), "holdout_for": spent_on(opened),
                  "next_opening": {"number": batch, "t_needed": t_for(batch, 1)},
                  "plan": plans[-1] if plans else None,
                  "controls_wanted": {str(s): n for s, (n, _) in lacking.items()},
                  "funnel": _funnel(opened, rows), "candidates": rows})
            return
        _print(rows, all_gates)
        for p in plans:
            _print_plan(p)
        for search, (needed, ids) in lacking.items():
            console.print(f"{len(ids)} found by search {search} need {needed} controls in all to be judged: "
                          "`wolbrin prove --add-controls`.", markup=False)

    @app.command("monte-carlo")
    def monte_carlo(names: list[str] = NAMES, project: Path | None = PROJECT,
                    paths: int = typer.Option(10_000, "--paths", min=10, max=1_000_000),
                    drawn: str = typer.Option("blocks", "--drawn", help="blocks of neighbors, or singly."),
                    left_out: float = typer.Option(0.0, "--left-out", callback=finite, min=0, max=0.9,
                                                   help="Share of the trades."),
                    slippage: float = typer.Option(0.0, "--slippage", callback=finite, min=0,
                                                   help="More of it, mean ticks a fill, drawn anew "
                                                   "for each trade."),
                    seed: int = typer.Option(20260101, "--seed", min=0), json: bool = JSON) -> None:
        """Play the training trades of candidates in other orders: drawdowns, capital for a risk. No verdict is kept."""
        with told():
            opened = open_project(project, demo)
            options = validated(MonteCarloSettings, {"paths": paths, "drawn": drawn, "left_out": left_out,
                                                    "slippage": slippage}, "monte-carlo")
            gate, footing = MonteCarloGate(options), Footing.of(opened)
            rows = []
            for kept in pick(opened, names or []):
                case = case_of(footing, Subject.of(kept), Span())
                made = gate.judge(replace(case, seed=seed))
                rows.append({"id": kept.id, "name": kept.candidate.name, "market": kept.candidate.market,
                             "record": case.run.record(tried=kept.candidate.tried, seeds=(seed,)), "settings": made.settings,
                             "figures": made.figures,
                             "capital": {f"{r:g}": c for r, c in zip(*(v.tolist() for v in made.tables.get(
                                 "capital", {"risk": NONE, "capital": NONE}).values()))},
                             "fan": {k: v.tolist() for k, v in made.tables.get("fan", {}).items()},
                             "distributions": {k: v.tolist() for k, v in made.tables.get("distributions", {}).items()},
                             "reason": made.reason})
        if json:
            emit(rows)
            return
        for r in rows:
            console.print(f"{r['id']}  {r['name']} on {r['market']}: {r['reason']}", markup=False)

    lines = typer.Typer(help="Lines of gates: list, show, use, save, and how often one is fooled.", no_args_is_help=True)
    app.add_typer(lines, name="line")

    @lines.command("list")
    def list_lines(project: Path | None = PROJECT, json: bool = JSON) -> None:
        """Lines under their names; the one in use is marked."""
        with told():
            opened = open_project(project, demo)
            known, used = saved_lines(opened), line_of(opened)
        if json:
            emit({"in_use": used.name, "lines": list(known)})
            return
        for name in dict.fromkeys([*known, used.name]):
            console.print(f"{'in use  ' if name == used.name else '        '}{name}", markup=False)

    @lines.command("show")
    def show_line(name: str | None = typer.Argument(None, help="A saved line; the one in use when left out."),
                  project: Path | None = PROJECT, json: bool = JSON) -> None:
        """The gates of a line with their settings; as JSON it is a file that `line save` takes."""
        with told():
            opened = open_project(project, demo)
            line = find_line(opened, name) if name else line_of(opened)
            gates = line.gates()
        if json:
            emit(line.model_copy(update={"steps": tuple(
                s.model_copy(update={"settings": next((g.settings for g in (*gates, *GATES) if g.key == s.gate), {})})
                for s in line.steps)}).model_dump(mode="json"))
            return
        console.print(f"Line: {line.name}", markup=False)
        for g in gates:
            console.print(f"    {g.title}: {g.describe()}", markup=False)

    @lines.command("use")
    def use(name: str = typer.Argument(help="A saved line."), project: Path | None = PROJECT) -> None:
        """Judge by a saved line from now on."""
        with told():
            opened = open_project(project, demo)
            use_line(opened, find_line(opened, name))
        console.print(f"Line in use: {name}", markup=False)

    @lines.command("save")
    def save(name: str = typer.Argument(help="Its name."),
             file: Path | None = typer.Argument(None, help="As `line show --json` gives; the line in use when left out."),
             project: Path | None = PROJECT) -> None:
        """Keep a line under a name."""
        with told():
            opened = open_project(project, demo)
            line = validated(Line, read_json(file, "line"), str(file)) if file is not None else line_of(opened)
            save_line(opened, line.model_copy(update={"name": name}))
        console.print(f"Saved: {name}", markup=False)

    @lines.command("rates")
    def rates(market: str = typer.Option(..., "--market", "-m", help="On whose shuffled histories."),
              interval: int = typer.Option(15, "--interval", "-i"),
              searches: int = typer.Option(50, "--searches", min=1, help="By luck."),
              planted: int = typer.Option(4, "--planted", min=0, help="For each size of a planted drift."),
              controls: int = typer.Option(5, "--control", min=1), count: int = typer.Option(1_024, "--count", min=1),
              seed: int = typer.Option(1, "--seed", min=0),
              known: bool = typer.Option(False, "--known", help="Only show what was measured before."),
              project: Path | None = PROJECT, json: bool = JSON) -> None:
        """How often luck becomes ready on the line in use, and how often what is real does."""
        with told():
            opened = open_project(project, demo)
            if not known:
                asked = RatesRequest(market=market, interval=interval, searches=searches, planted=planted, controls=controls,
                                     count=count, seed=seed)
                run(rates_job(opened, asked), "threads")
            found = read_rates(opened, market, interval)
            if found is None:
                raise UserError(f"the line was not measured on {market} yet", "line rates", "Run it without --known.")
            now = found.under(line_of(opened))
        if json:
            emit(found.as_json() | {"line_in_use": None if now is None else now[0].as_json() | {"exact": now[1]}})
            return
        console.print(found.words(), markup=False)
        if now is not None and now[0].line != found.line:
            console.print(f"With the thresholds in use{'' if now[1] else ', at most'}: {now[0].words()}", markup=False)
        for s in found.request.sharpes:
            n, passed = found.true(s)
            console.print(f"    a drift of Sharpe ratio {number(s, 1)}: {passed} of {n} true ones become ready", markup=False)
        error_console.print(f"Line: {found.line.name}; {found.searches} searches.", markup=False)


def _funnel(project: Project, rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Gate by gate: entered, passed, fell, could not be judged."""
    out, alive = [], rows
    for gate in line_of(project).gates():
        judged = [r["gates"][gate.key]["verdict"] for r in alive if gate.key in r["gates"]]
        alive = [r for r in alive if r["gates"].get(gate.key, {}).get("verdict") == "passes"]
        out.append({"gate": gate.key, "title": gate.title, "entered": len(judged), "passed": len(alive),
                    "fell": judged.count("falls"), "not_enough": judged.count("not enough")})
    return out
