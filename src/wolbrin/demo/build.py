"""Building the demo project: markets, a few strategies of the desk, settings."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from functools import partial
from pathlib import Path

from wolbrin.core.market.costs import Costs
from wolbrin.core.market.raw import Raw
from wolbrin.core.rules.model import (
    Condition,
    Distance,
    FieldOperand,
    IndicatorOperand,
    NumberOperand,
    Row,
    Side,
    Strategy,
)
from wolbrin.core.store.book_journal import EXEMPT
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import Settings
from wolbrin.demo.markets import MARKETS, DemoMarket, generate

DESK = "Skerry Lane"
SOURCE = "skx"
SECOND_SOURCE = "tide feed"
OTHER_BROKER, STRESSED = "other broker", "stressed"

CLOSE = FieldOperand()


def _indicator(key: str, output: str = "value", **params: float) -> IndicatorOperand:
    return IndicatorOperand(indicator=key, output=output, params=params)


def _rows(*rows: Row) -> Condition:
    return Condition(rows=rows)


TERN = Strategy(
    name="Tern breakout",
    notes="The first hour sets the range; a close beyond it before early afternoon is followed for the day.",
    long=Side(entry=_rows(
        Row(left=CLOSE, compare="crosses above", right=_indicator("opening_range", "high", minutes=60)),
        Row(left=_indicator("time_of_day"), compare="at or below", right=NumberOperand(value=1300)))),
    stop=Distance(unit="atr", amount=2.5, length=20), target=Distance(unit="stop", amount=3.0))

EIDER = Strategy(
    name="Eider fade",
    notes="Buys what has fallen too fast and leaves when momentum is back in the middle.",
    long=Side(entry=_rows(Row(left=_indicator("rsi", length=10), compare="crosses below",
                              right=NumberOperand(value=25))),
              exit=_rows(Row(left=_indicator("rsi", length=10), compare="crosses above",
                             right=NumberOperand(value=55)))),
    stop=Distance(unit="atr", amount=3.0, length=20))

PETREL = Strategy(
    name="Petrel cross",
    notes="Two averages, on the right side of the day's volume-weighted price.",
    long=Side(entry=_rows(
        Row(left=_indicator("ema", length=12), compare="crosses above", right=_indicator("ema", length=40)),
        Row(left=CLOSE, compare="above", right=_indicator("vwap")))),
    stop=Distance(unit="atr", amount=2.0, length=14), target=Distance(unit="atr", amount=4.0, length=14))

STRATEGIES = ((TERN, "NPW", 15), (EIDER, "BBY", 15), (PETREL, "CRB", 15))


def cost_sets() -> dict[str, dict[str, Costs]]:
    """Two more cost sets a market: another broker's, and costs as they are on a bad day."""
    made = {}
    for market in MARKETS:
        own = Costs.of(market.terms)
        other = own.model_copy(update={"per_contract": round(own.per_contract * 0.6, 2),
                                       "spread_ticks": own.spread_ticks * 1.5, "slippage_ticks": own.slippage_ticks + 0.5})
        made[market.terms.code] = {OTHER_BROKER: other, STRESSED: own.scaled(2.0)}
    return made


def begin_demo(folder: Path, report: Callable[[str, int, int], None] = lambda what, done, total: None) -> Project:
    """Make the demo project in `folder` with its first market and its strategies, so that it can be opened; the others follow
    (`steps_left`). One that was interrupted goes on."""
    fresh = not (folder / "project.sqlite").exists()
    settings = Settings(desk=DESK, currency="EUR", capital=50_000.0, training_first=dt.date(2016, 1, 1),
                        holdout_first=dt.date(2022, 7, 1), last=dt.date(2025, 12, 31),
                        cost_sets=cost_sets())
    project = Project.create(folder, settings) if fresh else Project(folder)
    project.set_value(EXEMPT, [m.terms.code for m in MARKETS])
    report(f"Making the history of {MARKETS[0].terms.code}", 0, 2)
    first = next(iter(steps_left(project)), None)
    if first is not None and not project.markets():
        first[1]()
    report("Opening the demo", 1, 2)
    if not project.get_value("demo strategies", False):
        with project.transaction():
            for strategy, code, interval in STRATEGIES:
                project.save_strategy(strategy, code, interval)
            project.set_value("demo strategies", True)
    return project


def steps_left(project: Project) -> list[tuple[str, Callable[[], object]]]:
    """What the demo project lacks, in order: a title and what makes it."""
    have = {m.code for m in project.markets() if project.history_path(m).exists()}
    steps: list[tuple[str, Callable[[], object]]] = []
    for market in MARKETS:
        code = market.terms.code
        if code not in have:
            steps.append((f"Demo: making the history of {code}",
                          partial(_first, project, market)))
        if market.dirty and (code not in have or len(project.sources.of(code)) < 2):
            steps.append((f"Demo: making a second source of {code}", partial(_second, project, market)))
    return steps


def _first(project: Project, market: DemoMarket) -> None:
    project.add_market(market.terms, generate(market), SOURCE)


def _second(project: Project, market: DemoMarket) -> None:
    code = market.terms.code
    project.sources.put(market.terms, SECOND_SOURCE, Raw.of(generate(market, clean=True)), origin=SECOND_SOURCE)
    project.sources.set_cost_set(code, SECOND_SOURCE, OTHER_BROKER)


def build_demo(folder: Path, report: Callable[[str, int, int], None] = lambda what, done, total: None) -> Project:
    """Make the whole demo project in `folder`, or finish one that was interrupted. report(what, done, total) before each
    step."""
    project = begin_demo(folder)
    steps = steps_left(project)
    for done, (what, act) in enumerate(steps):
        report(what.removeprefix("Demo: ").capitalize(), done, len(steps))
        act()
    report("Demo ready", len(steps), len(steps))
    return project


def is_complete(folder: Path) -> bool:
    """Whether the demo project in `folder` needs no more building."""
    if not (folder / "project.sqlite").is_file():
        return False
    project = Project(folder)
    try:
        return not steps_left(project) and bool(project.get_value("demo strategies", False))
    finally:
        project.close()
