"""`wolbrin study` and `wolbrin trial`: is there an edge before exits, and do many rules pass more often than by luck."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, get_args

import typer
from rich.table import Table

from wolbrin.cli.common import (
    INTERVAL,
    JSON,
    PROJECT,
    SHARE,
    code_of,
    console,
    emit,
    error_console,
    finite,
    open_project,
    run,
    told,
)
from wolbrin.core.engine.run import record_of
from wolbrin.core.errors import UserError
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.rules.axes import Axis, named_variants
from wolbrin.core.rules.conditions import NamedCondition, project_conditions, search
from wolbrin.core.rules.formula import parse_condition
from wolbrin.core.rules.language import Names
from wolbrin.core.rules.model import Condition, Strategy
from wolbrin.core.rules.numbers import tunables
from wolbrin.core.search.space import key_of
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.study.answers import StudyAnswer, StudyRow, TrialAnswer, TrialCell, TrialLuck, value
from wolbrin.core.study.forward import Study, Unit
from wolbrin.core.study.trial import FIGURES, MOST_VARIANTS, CommonExit, Sides, TrialRow, field_rows
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.studying import StudyRequest, study_job
from wolbrin.core.work.trialing import TrialRequest, TrialResult, candidate_from_trial, resume_trial, trial_job

SIDES = {"long": 1, "short": -1, "both": 0}


def library(opened: Project) -> tuple[NamedCondition, ...]:
    """Conditions of the project and those that ship with the program."""
    return project_conditions(opened.get_value("conditions"))


def condition_named(opened: Project, text: str) -> Condition:
    """A condition of the library by its name, else one written as a formula. Raises UserError."""
    for one in library(opened):
        if one.name.casefold() == text.strip().casefold():
            return one.condition()
    return parse_condition(text, Names(own=opened.own.known()))


def choice(text: str, allowed: tuple[str, ...], option: str) -> str:
    """One of several words. Raises UserError for another."""
    if text not in allowed:
        raise UserError(f'"{text}" is no choice', option, f"There are {', '.join(allowed)}.")
    return text


def places_of(opened: Project, markets: str, intervals: str, otherwise: tuple[str, int]) -> tuple[tuple[str, int], ...]:
    """Markets and intervals, each with each."""
    codes = [m.strip() for m in markets.split(",") if m.strip()] or [otherwise[0]]
    minutes = [code_of(i) for i in intervals.split(",") if i.strip()] or [otherwise[1]]
    for code in codes:
        opened.market(code)
    return tuple(dict.fromkeys((c, i) for c in codes for i in minutes))


def variants_of(strategy: Strategy, vary: list[str], values: int) -> list[TrialRow]:
    """Variants of a strategy: so many values of each number, or those asked for."""
    known = {t.key: t for t in tunables(strategy)}
    axes = [Axis.over(known[key_of(name, {k: t.title for k, t in known.items()}, "--vary")], values) for name in vary]
    return [TrialRow(name=name, strategy=one) for name, one in named_variants(strategy, axes, MOST_VARIANTS)]


def trial_answer(opened: Project, result: TrialResult, state: str, threshold: float, least: int) -> TrialAnswer:
    """All that is known of a trial."""
    request, passed = result.request, result.passed(threshold, least)
    cells = [TrialCell(row=r, rule=row.name, market=market, interval=interval, passes=bool(passed[r, c]),
                       measures={k: value(x) for k, x in zip(FIGURES, result.figures[r, c].tolist())})
             for r, row in enumerate(request.rows) for c, (market, interval) in enumerate(request.columns)]
    luck = result.luck(threshold, least)
    tried = Searches(opened).tried()
    return TrialAnswer(
        search=result.search, title=request.title, kind=request.kind, state=state, tried=result.tried,
        tried_on_market={m: tried.get(m, 0) for m, _ in request.columns}, threshold=threshold, least_trades=least,
        luck=TrialLuck(passed=luck.actual, tests=luck.tests, shuffles=luck.shuffles, expected=value(luck.expected),
                       least=luck.least, most=luck.most, p=value(luck.p)) if luck else None,
        faults=tuple(result.faults),
        records={f"{m} {interval_words(i)}": result.records[at] for at, (m, i) in enumerate(request.columns)
                 if at in result.records}, cells=tuple(cells))


def show_trial(found: TrialAnswer, top: int) -> None:
    """The best cells, and what luck brings."""
    table = Table(box=None, header_style="bold")
    for head in ("", "rule", "market", "trades", "net profit", "profit factor", "return over drawdown"):
        table.add_column(head, justify="left" if head in ("", "rule", "market") else "right")
    order = sorted(found.cells, key=lambda c: (not c.passes, -(c.measures["return_drawdown"] or -1e300)))
    for c in order[:top]:
        known = {k: float("nan") if v is None else v for k, v in c.measures.items()}
        table.add_row("passes" if c.passes else "", c.rule, f"{c.market} {interval_words(c.interval)}",
                      *(worded(k, known[k]) for k in ("trades", "net", "profit_factor", "return_drawdown")))
    console.print(table)
    if found.luck is not None:
        ours = found.luck
        console.print(f"{number(ours.passed)} of {number(ours.tests)} pass; on {ours.shuffles} shuffled histories "
                      f"{number(ours.least)} to {number(ours.most)} do (p {ours.p:.3f}).", markup=False)
    for fault in found.faults[:5]:
        error_console.print(fault, markup=False)


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    @app.command("study")
    def study(
            strategy: str = typer.Option(..., "--strategy", "-s", help="Name or id of a strategy of the project."),
            conditions: list[str] = typer.Option([], "--condition", "-c", help="A library condition's name, or a formula."),
            project: Path | None = PROJECT,
            market: str | None = typer.Option(None, "--market", "-m", help="Market; the strategy's own when left out."),
            interval: str | None = typer.Option(None, "--interval", "-i", help=INTERVAL),
            side: str = typer.Option("long", "--side", help="long, short or both."),
            horizon: int = typer.Option(40, "--horizon", help="Bars looked at after a firing."),
            unit: str = typer.Option("points", "--unit", help="points, ATR or money."),
            overlapping: bool = typer.Option(True, "--overlapping/--apart", help="Every firing, or those a horizon apart."),
            over_sessions: bool = typer.Option(False, "--over-sessions", help="Look beyond the session's end."),
            json: bool = JSON) -> None:
        """What price does after a strategy's entry, or a condition, fires."""
        with told():
            opened = open_project(project, demo)
            entry = opened.strategy(strategy)
            choice(unit, get_args(Unit), "--unit")
            request = StudyRequest(entry.strategy, market or entry.market, code_of(interval) if interval else entry.interval,
                                   SIDES[choice(side, tuple(SIDES), "--side")], horizon, not over_sessions,
                                   unit, overlapping,  # type: ignore[arg-type]
                                   tuple((c, condition_named(opened, c)) for c in conditions), entry.own)
            found: list[Study] = []
            footing = Footing.of(opened)
            history = footing.prepared(request.market, request.interval)
            record = record_of(history, entry.strategy, footing.brief(history.bars.terms, entry.own))
            run(study_job(opened, request, found.extend, footing), "threads")
        if json:
            emit(StudyAnswer(record=record, studies=tuple(StudyRow.of(s) for s in found)))
            return
        for s in found:
            direction = "long" if s.side > 0 else "short"
            console.print(f"{s.name}, {direction}: {number(s.firings)} firings on {number(s.bars)} bars.", markup=False)
            for after in sorted({1, 5, 10, 20, s.best, horizon} & set(range(1, horizon + 1))):
                h = after - 1
                console.print(f"  {after} bars after: mean {s.mean[h]:.4g} ({s.low[h]:.4g} to {s.high[h]:.4g}), all bars "
                              f"{s.baseline[h]:.4g}, same times of day {s.clock[h]:.4g} {s.unit}", markup=False)

    @app.command("trial")
    def trial(
            conditions: list[str] = typer.Option([], "--condition", "-c", help="Library conditions by name, or formulas."),
            tag: str = typer.Option("", "--tag", help="All library conditions with this tag."),
            strategy: str | None = typer.Option(None, "--strategy", "-s", help="Try variants of this strategy instead."),
            vary: list[str] = typer.Option([], "--vary", help="Numbers of the strategy to vary, by key or title."),
            values: int = typer.Option(3, "--values", min=2, max=15, help="Values of each number."),
            project: Path | None = PROJECT,
            markets: str = typer.Option("", "--markets", help="Markets, with commas; if left out one."),
            intervals: str = typer.Option("", "--intervals", help="Intervals, with commas."),
            sides: str = typer.Option("long,short", "--sides", help="long, short, both; with commas."),
            exit_: str = typer.Option("atr", "--exit", help="The common exit: atr, money or bars."),
            stop: float = typer.Option(2.0, "--stop", callback=finite, help="Its stop, in ATR or money."),
            target: float = typer.Option(3.0, "--target", callback=finite, help="Its target, in ATR or money."),
            bars: int = typer.Option(12, "--bars", help="Bars until it is out."),
            overnight: bool = typer.Option(False, "--overnight", help="Hold overnight."),
            shuffles: int = typer.Option(2, "--shuffles", min=0, max=100, help="Shuffled histories to compare luck with."),
            mirrored: bool = typer.Option(False, "--mirrored", help="Turn shuffled bars over, so that drift goes."),
            seed: int = typer.Option(1, "--seed", min=0, help="Same seed, same shuffles."),
            threshold: float = typer.Option(2.0, "--threshold", callback=finite,
                                            help="Return over drawdown above which a test passes."),
            trades: int = typer.Option(100, "--trades", min=1, help="Least number of trades."),
            resume: int | None = typer.Option(None, "--resume", help="Go on with this trial."),
            top: int = typer.Option(20, "--top", min=0, help="How many of the best to print."),
            shelf: bool = typer.Option(False, "--shelf", help="Put every cell that passes on the Shelf."),
            share: float = SHARE, json: bool = JSON) -> None:
        """Try many rules, or variants of a strategy, on many markets, beside shuffled histories."""
        with told():
            opened = open_project(project, demo)
            if resume is not None:
                job, result = resume_trial(opened, resume)
            else:
                job, result = trial_job(opened, _trial_request(
                    opened, conditions, tag, strategy, vary, values, markets, intervals, sides,
                    CommonExit(unit=choice(exit_, ("atr", "money", "bars"), "--exit"), stop=stop, target=target,
                               bars=bars, flat_by_session_end=not overnight), shuffles, mirrored, seed))
            state = run(job, "threads", share)
            found = trial_answer(opened, result, state.value, threshold, trades)
            if shelf:
                kept = sum(Dossiers(opened).keep(candidate_from_trial(opened, result, c.row, result.request.columns.index(
                    (c.market, c.interval))), own=result.request.own) is not None for c in found.cells if c.passes)
                error_console.print(f"{number(kept)} added to the Shelf.", markup=False)
        if json:
            emit(found)
        else:
            show_trial(found, top)


def _trial_request(opened: Project, conditions: list[str], tag: str, strategy: str | None, vary: list[str], values: int,
                   markets: str, intervals: str, sides: str, exit_: CommonExit, shuffles: int, mirrored: bool,
                   seed: int) -> TrialRequest:
    common: dict[str, Any] = {"shuffles": shuffles, "mirrored": mirrored, "seed": seed}
    if strategy is not None:
        entry = opened.strategy(strategy)
        places = places_of(opened, markets, intervals, (entry.market, entry.interval))
        return TrialRequest(kind="variants", title=f"Variants of {entry.strategy.name}"[:80],
                            rows=tuple(variants_of(entry.strategy, vary, values)), columns=places, own=entry.own, **common)
    entries = opened.markets()
    if not entries:
        raise UserError("this project holds no market yet", str(opened.folder), "Import history first.")
    asked = [(c, condition_named(opened, c)) for c in conditions]
    if tag:
        asked += [(c.name, c.condition()) for c in search(library(opened), tag=tag)]
    if not asked:
        asked = [(c.name, c.condition()) for c in library(opened)[:60]]
    wanted: list[Sides] = [choice(s.strip(), ("long", "short", "both"), "--sides") for s in sides.split(",")]  # type: ignore[misc]
    places = places_of(opened, markets, intervals, (entries[0].code, max(entries[0].minutes, 15)))
    return TrialRequest(rows=tuple(field_rows(asked, wanted, exit_)), columns=places, **common)
