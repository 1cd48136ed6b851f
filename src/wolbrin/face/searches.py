"""Studies, sweeps, Discover and walk-forward, kept and counted in the project they are asked of."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any, get_args

import numpy as np
import pandas as pd

from wolbrin.core.errors import UserError
from wolbrin.core.measures.wording import number
from wolbrin.core.rules.conditions import project_conditions
from wolbrin.core.rules.formula import parse_condition
from wolbrin.core.rules.language import Names
from wolbrin.core.rules.model import Condition, Strategy
from wolbrin.core.rules.numbers import tunables
from wolbrin.core.search.floors import Floor
from wolbrin.core.search.ingredients import parse_chosen
from wolbrin.core.search.limits import Limits
from wolbrin.core.search.objective import Objective
from wolbrin.core.search.walked import Choice
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.study.forward import Study as CoreStudy
from wolbrin.core.study.forward import Unit
from wolbrin.core.work.discover_answer import discover_answer
from wolbrin.core.work.discover_request import USUAL_CONTROLS, USUAL_COUNT, DiscoverRequest, Method, usual_limits
from wolbrin.core.work.discover_results import DiscoverResult
from wolbrin.core.work.discovering import discover_job, read_discover
from wolbrin.core.work.standing_floors import floors_of_sets
from wolbrin.core.work.studying import StudyRequest, study_job
from wolbrin.core.work.sweep_answer import table_of
from wolbrin.core.work.sweep_luck import luck_job
from wolbrin.core.work.sweep_reading import read as read_rows
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweep_results import SweepResult
from wolbrin.core.work.sweep_sets import strategy_of
from wolbrin.core.work.sweeping import sweep_job
from wolbrin.core.work.varying import axes_of, constraints_of, lengths_of
from wolbrin.core.work.walk_answer import fold_table
from wolbrin.core.work.walk_request import WalkRequest
from wolbrin.core.work.walk_results import WalkResult, walk_of
from wolbrin.core.work.walking import walk_job
from wolbrin.face.histories import MarketBars
from wolbrin.face.runs import Run, backtest, strategy
from wolbrin.face.shown import Told, frame
from wolbrin.face.working import finish

Vary = Mapping[str, Any] | Sequence[str]


def _texts(vary: Vary) -> list[str]:
    """What is varied, as the command line has it: KEY=FROM:TO:STEP or KEY=A,B,C."""
    if not isinstance(vary, Mapping):
        return [vary] if isinstance(vary, str) else list(vary)
    out = []
    for key, values in vary.items():
        if isinstance(values, range):
            values = list(values)
        out.append(f"{key}={values}" if isinstance(values, str) else f"{key}={','.join(f'{v:g}' for v in np.ravel(values))}")
    return out


def _varied(rules: Strategy, vary: Vary, link: Sequence[str]) -> Any:
    axes = axes_of(rules, _texts(vary), link, "", "", "")
    if not axes:
        known = "; ".join(f"{t.key} (now {t.value:g})" for t in tunables(rules))
        raise UserError("no number is varied", "vary", f"There are {known}: write vary={{'{tunables(rules)[0].key}': "
                                                       "range(5, 50, 5)}." if known else "The strategy has no number.")
    return axes


class Study(Told):
    """What price did after something fired. `table`: by bars after, DataFrame: mean, median, low, high (95% band of the
    mean), all_bars, same_times, counted; in `unit`."""

    def __init__(self, core: CoreStudy) -> None:
        self.core = core

    @property
    def unit(self) -> str:
        return self.core.unit

    @cached_property
    def table(self) -> pd.DataFrame:
        c = self.core
        return pd.DataFrame({"mean": c.mean, "median": c.median, "low": c.low, "high": c.high, "all_bars": c.baseline,
                             "same_times": c.clock, "counted": c.counted},
                            index=pd.RangeIndex(1, len(c.mean) + 1, name="bars_after"))

    def _title(self) -> str:
        c = self.core
        return f"{c.name}, {'long' if c.side > 0 else 'short'}: {number(c.firings)} firings on {number(c.bars)} bars"

    def _rows(self) -> list[tuple[str, str]]:
        c = self.core
        return [(f"{after} bars after", f"{c.mean[after - 1]:.4g} ({c.low[after - 1]:.4g} to {c.high[after - 1]:.4g}), all "
                 f"bars "
                 f"{c.baseline[after - 1]:.4g}") for after in sorted({1, 5, 10, 20, c.best}) if after <= len(c.mean)]


def condition(history: MarketBars, what: str | Condition) -> Condition:
    """A condition of the library by its name, else one written as a formula. Raises UserError."""
    if isinstance(what, Condition):
        return what
    project = history.project
    for one in project_conditions(project.get_value("conditions")):
        if one.name.casefold() == what.strip().casefold():
            return one.condition()
    return parse_condition(what, Names(own=project.own.known()))


def study(history: MarketBars, what: str | Condition, *, side: str = "long", bars: int = 40, unit: Unit = "points",
          overlapping: bool = True) -> Study:
    """What price does after a condition fires, beside all bars and the same times of day.

    Args:
        what: a formula such as ``"crosses_above(close, sma(20))"``, or the name of a library condition; written for
            the long side.
        side: "long" or "short", for which it is mirrored. bars: how many after the firing.
        unit: "points", "ATR" or "money". overlapping: every firing, or only those so many bars apart.
    Raises:
        UserError: the condition cannot be read, or the span holds no bar.

    Example:
        >>> wb.study(h, "crosses_above(close, sma(20))").table.loc[10]  # doctest: +SKIP
    """
    if side not in ("long", "short") or unit not in get_args(Unit):
        raise UserError(f'"{side}", "{unit}" is no side and unit', "study", f"Write long or short, and one of "
                                                                            f"{', '.join(get_args(Unit))}.")
    asked = StudyRequest(Strategy(name="study"), history.terms.code, history.interval, 1 if side == "long" else -1, bars,
                         True,
                         unit, overlapping, ((str(what)[:60], condition(history, what)),))
    found: list[CoreStudy] = []
    finish(study_job(history.project, asked, found.extend))
    return Study(found[0])


class Sweep(Told):
    """What came of a sweep. `table` (DataFrame, all sets, best first), `center` and `best` (strategies: the middle of the
    broadest good region, and the best single set), `luck` (Series, against shuffled histories), `reason`."""

    def __init__(self, history: MarketBars, result: SweepResult, luck: pd.Series) -> None:
        self.history, self.result, self.luck = history, result, luck
        self.reading = read_rows(result)

    @cached_property
    def table(self) -> pd.DataFrame:
        """Numbers of each set, its measures, score, plateau and whether it passes the floors; best first."""
        return frame(table_of(self.reading))

    def _set(self, row: int, which: str) -> Strategy:
        if row < 0:
            raise UserError(f"there is no {which}: {self.reading.reason()}", "sweep", "Look at the table.")
        return strategy_of(self.result.request, self.reading.values(row))

    @property
    def center(self) -> Strategy:
        return self._set(self.reading.center, "center")

    @property
    def best(self) -> Strategy:
        return self._set(self.reading.best, "best set")

    @property
    def reason(self) -> str:
        """What to choose and why, in a sentence."""
        return self.reading.reason()

    def _title(self) -> str:
        tried = Searches(self.history.project).tried_on(self.history.terms.code)
        return f"{self.result.request.title}: {len(self.reading):,} sets, {tried:,} tried on this market; {self.reason}"

    def _rows(self) -> list[tuple[str, str]]:
        return [(str(k), f"{v:.4g}" if isinstance(v, float) else str(v)) for k, v in self.luck.items()]


def sweep(history: MarketBars, rules: str | Path | Strategy, vary: Vary, *, link: Sequence[str] = (),
          constraints: Sequence[str] = (), objective: Sequence[str] = (), floors: Sequence[str] = (), shuffles: int = 20,
          method: str = "every", count: int = 0, seed: int = 1, name: str = "") -> Sweep:
    """Try sets of numbers of a strategy on the training span, beside shuffled histories that say how much is luck.

    Args:
        vary: ``{"entry.row1.length": range(5, 50, 5), "stop.amount": "1:4:0.5"}`` by key or title of a number; left empty,
            the error lists the numbers. link: what moves along; constraints: sets to leave out ("fast < slow").
        objective: measures that are looked for; usual: return over drawdown. floors: such as ``["trades >= 100"]``.
        shuffles: shuffled histories. method: "every", "sample" or "evolve", with `count` sets.
    Raises:
        UserError: a number is unknown, a range cannot be read, or nothing can be run.
    """
    what, project = strategy(rules), history.project
    request = SweepRequest(what, history.terms.code, history.interval, _varied(what, vary, link), None,
                           constraints_of(what, constraints), method, count, seed, Objective.parse(list(objective)),
                           floors_of_sets(project, [Floor.parse_plain(f) for f in floors]), 0, 0, name)
    job, result = sweep_job(project, request)
    finish(job)
    found: dict[str, float] = {}
    if shuffles and result.count and not result.unfinished:
        luck_work, luck = luck_job(project, result, shuffles)
        finish(luck_work, "How much is luck")
        of = luck.of()
        found = {"shuffles": float(of.shuffles), "p": float(of.p)}
    return Sweep(history, result, pd.Series(found, name="luck", dtype=float))


class Finds(Told):
    """What a search kept. `table` (DataFrame by Shelf id: name, words, leads, measures), `strategy(id)`, `families` (the
    groups that are one idea), `words` (what the search says of luck)."""

    def __init__(self, history: MarketBars, result: DiscoverResult, state: str) -> None:
        self.history, self.result = history, result
        self.answer = discover_answer(history.project, result, state)

    @cached_property
    def table(self) -> pd.DataFrame:
        leads = {f.leads for f in self.answer.families}
        rows = [{"id": c.id, "name": c.name, "leads": c.id in leads, **c.measures} for c in self.answer.candidates]
        return pd.DataFrame(rows, columns=None if rows else ["id", "name", "leads"]).set_index("id")

    @property
    def families(self) -> pd.DataFrame:
        """A row a family: the find that stands for it, how many there are, and in words how they are alike."""
        return pd.DataFrame([{"leads": f.leads, "name": f.name, "members": len(np.atleast_1d(f.members)), "words": f.words}
                             for f in self.answer.families])

    @property
    def words(self) -> str:
        return self.result.nothing or self.result.luck.words

    def strategy(self, id: int) -> Strategy:
        """The rules of a find. Raises UserError where there is none of that id."""
        kept = Shelf(self.history.project).body(id)
        if kept is None:
            raise UserError(f"there is no find {id}", "discover", "See its table.")
        return kept.candidate.strategy

    def backtest(self, id: int) -> Run:
        """A find, run on its history."""
        return backtest(self.history, self.strategy(id))

    def _title(self) -> str:
        return f"{self.result.tried:,} tried, {len(self.answer.candidates):,} kept. {self.words}"

    def _rows(self) -> list[tuple[str, str]]:
        return [(f.name, f.words) for f in self.answer.families[:10]]


def discover(history: MarketBars, *, method: Method = "informed", count: int | None = None, controls: int | None = None,
             ingredients: Sequence[str] = (), floors: Sequence[str] = (), objective: str = "", seed: int = 1,
             **limits: Any) -> Finds:
    """Build candidates, test them, keep those above the floors; the same search on shuffled histories says what luck keeps.

    Args:
        method: "informed" (looks first at what moves), "random" or "evolve". count: candidates at most.
        controls: shuffled histories beside it. ingredients: families such as "average" (all), see docs/discover.md.
        floors: such as ``["trades >= 100", "profit_factor >= 1.2"]``; the usual ones where none is given.
        limits: fields of `Limits`, such as `most_rows`, `sides`, `pool`.
    Raises:
        UserError: something cannot be read, or the history is too short.
    """
    base = usual_limits(method)
    made = Limits.model_validate(base.model_dump() | limits)
    request = DiscoverRequest(
        ((history.terms.code, history.interval),), made, parse_chosen(list(ingredients)) if ingredients else (),
        tuple(Floor.parse(f) for f in floors), Objective.parse([objective]) if objective else Objective.of("t_daily"), method,
        count=USUAL_COUNT[method] if count is None else count,
        controls=USUAL_CONTROLS[method] if controls is None else controls, seed=seed)
    job, result = discover_job(history.project, request)
    finish(job)
    return Finds(history, read_discover(history.project, result.search), job.state.value)


class Walk(Told):
    """A strategy fitted anew on stretch after stretch, each test traded with what its training chose. `folds` (DataFrame),
    `figures` (Series), `run` (all tests strung together), `strategy` (with its dated numbers)."""

    def __init__(self, history: MarketBars, result: WalkResult) -> None:
        self.history, self.result = history, result
        self.walked = walk_of(history.project, result)

    @cached_property
    def folds(self) -> pd.DataFrame:
        return frame(fold_table(self.walked))

    @cached_property
    def figures(self) -> pd.Series:
        """Measures of the tests strung together, and efficiency, profitable, drift, folds (`wolbrin figure`)."""
        return pd.Series(self.walked.figures, name="value")

    @property
    def run(self) -> Run:
        return Run(self.walked.run, self.history.project.settings.currency, self.history)

    @property
    def strategy(self) -> Strategy:
        return self.walked.strategy

    def _title(self) -> str:
        return self.walked.words()[0]

    def _rows(self) -> list[tuple[str, str]]:
        return [(k, f"{v:.4g}") for k, v in self.figures.items()]


def walk_forward(history: MarketBars, rules: str | Path | Strategy, vary: Vary, *, training: str = "24m", test: str = "6m",
                 anchored: bool = False, choice: Choice = "center", objective: Sequence[str] = (), floors: Sequence[str] = (),
                 method: str = "every", count: int = 0, seed: int = 1, name: str = "") -> Walk:
    """Fit numbers on a stretch, trade the next with them, move on; say whether tuning carries over.

    Args:
        vary: as in `wb.sweep`. training, test: lengths: "90d", "24m", "2y", or trades as "40t".
        anchored: training always begins with the history. choice: of each fit "center" of the best plateau, or "best".
    Raises:
        UserError: a length or range cannot be read, or not one fold fits the span.
    """
    what, project = strategy(rules), history.project
    lengths = lengths_of(training, "training"), lengths_of(test, "test")
    sweep_part = SweepRequest(what, history.terms.code, history.interval, _varied(what, vary, ()), None, (), method, count,
                              seed,
                              Objective.parse(list(objective)),
                              floors_of_sets(project, [Floor.parse_plain(f) for f in floors], (), None, lengths[0]))
    job, result = walk_job(project, WalkRequest(sweep_part, *lengths, None, anchored, True, choice, name))
    finish(job)
    return Walk(history, result)
