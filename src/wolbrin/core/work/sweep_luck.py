"""What luck alone brings: the same sweep on shuffled histories, as a job of its own.

The whole search is done again on each: the same sets, or the same sample or evolution with the same seed; a sweep that
refines an older one is refined again, around the best that the shuffled history shows. What counts is the best value that
passes the floors. Controls are not counted as tried.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Chunk, Job, Listed, State, Work, check_stopped
from wolbrin.core.measures.wording import number
from wolbrin.core.search.objective import Scale, named, passing
from wolbrin.core.search.planners import Known, Planner, planner
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.searches import ROWS, Searches, matrix, search_read
from wolbrin.core.study.shuffle import DEALING, shuffle
from wolbrin.core.study.trial import permutation_p
from wolbrin.core.work.footing import Footing, Request
from wolbrin.core.work.sweep_reading import Reading, read
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweep_results import SweepResult, questions_again, read_sweep
from wolbrin.core.work.sweep_work import SweepWork

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
KIND = "control"
SHARPE, TRADES = "sharpe_daily", ("trades", "trades_per_year")
COLUMNS = ("shuffle", "market", "best", "passed", "sets", "sharpe")
USUAL = 20
PIECE = 200  # sets between two looks whether to stop


@dataclass(frozen=True)
class Stage:
    """One sweep of a chain, oldest first. count: sets of a sample or an evolution. shift_from: the values around which the
    next finer sweep was laid, which is the real best of this one; None for the last."""

    request: SweepRequest
    shift_from: tuple[float, ...] | None


@dataclass(frozen=True)
class LuckWork(Request):
    """All that a shuffle needs. works: of each stage. scale: what normalizes a blend, that of the real histories."""

    works: tuple[SweepWork, ...]
    stages: tuple[Stage, ...]
    scale: Scale
    seed: int
    mirrored: bool


@dataclass(frozen=True)
class Luck:
    """What luck brought on a market. best: float64[shuffles], scores, NaN where no set passed the floors. actual: of the real
    history, NaN likewise. sets: in the real sweep. sharpe: float64[shuffles], the best daily Sharpe ratio of the sets with as
    many trades as the floors ask."""

    market: str
    best: Floats
    actual: float
    sets: int
    passed: Ints
    sharpe: Floats

    @property
    def shuffles(self) -> int:
        return len(self.best)

    @property
    def p(self) -> float:
        """(1 + shuffles at or above) / (shuffles + 1) (Phipson & Smyth 2010); NaN without any. Where no set passes the
        floors, luck brought nothing."""
        if not len(self.best):
            return math.nan
        if not math.isfinite(self.actual):
            return 1.0
        return permutation_p(self.actual, np.where(np.isfinite(self.best), self.best, -np.inf).tolist())

    @property
    def finest(self) -> float:
        """The smallest p that so many shuffles allow."""
        return 1.0 / (self.shuffles + 1)

    def words(self, say: Callable[[float], str]) -> str:
        """In plain words. say: how a score is read."""
        if not len(self.best):
            return ""
        known = self.best[np.isfinite(self.best)]
        if not math.isfinite(self.actual):
            return f"No set passes here; on shuffled histories one did in {len(known)} of {self.shuffles}."
        text = f"Best of {number(self.sets)}: {say(self.actual)}. "
        if not len(known):
            return (text + f"On {self.shuffles} shuffled histories no set passed the floors: p {self.p:.3f}, the finest so "
                    "many allow.")
        low, high = float(known.min()), float(known.max())
        text += f"By luck alone the best of so many is {say(float(np.median(known)))} ({say(low)} to {say(high)}). "
        if self.p <= self.finest * 1.0001:
            return text + f"No shuffle of {self.shuffles} reached it: p {self.p:.3f}, the finest so many allow."
        return text + f"Luck brings such a best in about {max(1, round(100 * self.p))} of 100 sweeps (p {self.p:.3f})."


@dataclass
class LuckResult:
    """Grows shuffle by shuffle. best: rows of COLUMNS. search: number of this control; sweep: of what it belongs to."""

    sweep: int
    search: int
    rows: Floats
    markets: tuple[str, ...]
    actual: dict[str, tuple[float, int]]
    unfinished: bool = False

    def of(self, market: str = "") -> Luck:
        """What luck brought on a market, the first where none is named."""
        market = market or self.markets[0]
        mine = self.rows[self.rows[:, 1] == self.markets.index(market)]
        actual, sets = self.actual[market]
        return Luck(market, mine[:, 2], actual, sets, mine[:, 3].astype(np.int64), mine[:, 5])


def evaluate_shuffle(work: LuckWork, unit: tuple[int, int]) -> Floats:
    """The whole search on one shuffled history: one row of COLUMNS. unit: shuffle, market."""
    deal, which = unit
    best, passed, sets, sharpe = math.nan, 0, 0, math.nan
    shift: tuple[float, ...] | None = None
    held: dict[tuple[str, int], Prepared] = {}
    for stage, sweep in zip(work.stages, work.works):
        request = _moved(stage.request, shift)
        found, score, ok, best_sharpe = _searched(replace(sweep, request=request), work, deal, which, held)
        sharpe = float(np.fmax(sharpe, best_sharpe))
        passed, sets = passed + int(ok.sum()), sets + len(score)
        at = np.flatnonzero(ok)
        top = int(at[np.argmax(score[at])]) if len(at) else -1
        if top >= 0 and not score[top] <= best:
            best = float(score[top])
        if stage.shift_from is not None:
            shift = tuple(found[top] - np.array(stage.shift_from)) if top >= 0 else tuple(0.0 for _ in stage.shift_from)
    return np.array([deal, which, best, passed, sets, sharpe], np.float64)


def _moved(request: SweepRequest, shift: tuple[float, ...] | None) -> SweepRequest:
    """A finer sweep laid around another best: its numbers moved by as much."""
    if shift is None:
        return request
    axes = [replace(a, values=tuple(float(round(v + by, 10)) for v in a.values))
            if a.kind in ("number", "clock") and by else a for a, by in zip(request.axes, shift)]
    return replace(request, axes=tuple(axes))


def _searched(sweep: SweepWork, work: LuckWork, deal: int, which: int,
              held: dict[tuple[str, int], Prepared]) -> tuple[Floats, Floats, NDArray[np.bool_], float]:
    """Settings, scores, and what passes, of all sets of a market that a search comes to on shuffled histories; and the best
    daily Sharpe ratio of those with as many trades as the floors ask."""
    request = sweep.request
    space, market = request.space, request.markets[which]
    known = Known(request.measures, request.objective, request.floors)
    plan: Planner = planner(request.method, space, known, request.count, request.seed)
    sets: list[Ints] = []
    figures: list[Floats] = []
    variants = {}
    while (batch := plan.plan()) is not None:
        out = np.full((len(batch), len(request.measures)), np.nan)
        for place in np.unique(batch // space.inner).tolist():
            where = request.places[place]
            if where.market != market:
                continue
            if place not in variants:
                key = where.market, where.interval
                if key not in held:
                    real = sweep.footing.prepared(*key, sweep.question(where).content)
                    held[key] = shuffle(real, work.seed * 1000 + deal, work.mirrored, request.strategy.flat_by_session_end)
                variants[place] = sweep.over(held[key], where)
            rows = np.flatnonzero(batch // space.inner == place)
            for i in range(0, len(rows), PIECE):
                check_stopped()
                part = rows[i:i + PIECE]
                values = space.values(batch[part])[:, space.places:]
                block = variants[place].evaluate([tuple(v) for v in values.tolist()])
                out[part[block.kept]] = block.figures
        plan.tell(batch, out)
        sets.append(batch)
        figures.append(out)
    at = np.concatenate(sets) if sets else np.zeros(0, np.int64)
    table = np.concatenate(figures) if figures else np.zeros((0, len(request.measures)))
    columns = named(request.measures, table)
    score = request.objective.score(columns, work.scale) if len(at) else np.zeros(0)
    fit = passing(request.floors, columns, len(at)) & np.isfinite(score)
    traded = passing([f for f in request.floors if f.key in TRADES], columns, len(at)) & np.isfinite(columns[SHARPE])
    return space.values(at), score, fit, float(columns[SHARPE][traded].max()) if traded.any() else math.nan


def _actual(reading: Reading) -> dict[str, tuple[float, int]]:
    """Best score that passes, and number of sets, by market."""
    request = reading.request
    place = next((i for i, a in enumerate(request.axes) if a.kind == "market"), -1)
    out = {}
    for which, market in enumerate(request.markets):
        mine = reading.settings[:, place] == which if place >= 0 else np.ones(len(reading), bool)
        fit = mine & reading.passes
        out[market] = (float(reading.score[fit].max()) if fit.any() else math.nan, int(mine.sum()))
    return out


def _prepared(project: Project, result: SweepResult, seed: int, mirrored: bool) -> LuckWork:
    footing = Footing.of(project)
    chain = [*reversed(result.older), result]
    stages, works = [], []
    for at, one in enumerate(chain):
        request = one.request
        questions = {p: question for p, (_, question) in questions_again(project, footing, one).items()}
        own = read(replace_older(one))
        last = at == len(chain) - 1
        stages.append(Stage(replace(request, base=0), None if last or own.best < 0 else own.values(own.best)))
        works.append(SweepWork(footing, request, tuple(questions.items()), "none"))
    whole = read(result)
    return LuckWork(tuple(works), tuple(stages), result.request.objective.scale(whole.columns), seed, mirrored)


def replace_older(result: SweepResult) -> SweepResult:
    """A sweep without those that it refines."""
    alone = SweepResult(result.request, result.record, result.search, result.total, result.refused, result.unfinished,
                        result.records, result.refused_sets)
    alone.add(*result.table())
    return alone


def _job(project: Project, work: LuckWork, result: LuckResult, units: list[tuple[int, int]], first: int, title: str,
         notify: Callable[[LuckResult], None]) -> Job:
    searches = Searches(project)

    def commit(rows: list[Floats], cursor: dict[str, Any]) -> None:
        table = np.stack(rows)
        with project.transaction():
            searches.commit(result.search, cursor, {ROWS: {name: table[:, i] for i, name in enumerate(COLUMNS)}})
        result.rows = np.concatenate([result.rows, table])
        notify(result)

    def finish(state: State) -> None:
        result.unfinished = state is not State.DONE
        searches.end(result.search, state)

    return Job(title, "shuffles", Listed([Chunk(u) for u in units], first), Work(evaluate_shuffle, work), commit=commit,
               finish=finish)


def _units(request: SweepRequest, first: int, count: int) -> list[tuple[int, int]]:
    return [(deal, which) for deal in range(first, first + count) for which in range(len(request.markets))]


def luck_job(project: Project, result: SweepResult, shuffles: int = USUAL, mirrored: bool = False, seed: int = 1,
             notify: Callable[[LuckResult], None] = lambda result: None) -> tuple[Job, LuckResult]:
    """Prepare so many further shuffles of a sweep. Raises UserError when the sweep is not finished, or cannot be asked
    again."""
    if result.unfinished or not result.count:
        raise UserError("the sweep is not finished", result.request.title, "Go on with it first.")
    if not 1 <= shuffles <= 1000:
        raise UserError("1 to 1,000 shuffles can be asked", "--shuffles", "Change the number.")
    searches = Searches(project)
    work = _prepared(project, result, seed, mirrored)
    known = read_luck(project, result, mirrored)
    first = int(known.rows[:, 0].max()) + 1 if known is not None and len(known.rows) else 0
    asked = {"sweep": result.search, "first": first, "shuffles": shuffles, "mirrored": mirrored, "seed": seed,
             "dealing": DEALING}
    search = searches.begin(now(), KIND, f"Luck of {result.request.title}", asked, columns=COLUMNS, cursor={"first": 0})
    made = LuckResult(result.search, search, known.rows if known is not None else np.zeros((0, len(COLUMNS))),
                      result.request.markets, _actual(read(result)))
    units = _units(result.request, first, shuffles)
    return _job(project, work, made, units, 0, f"Luck of {result.request.title}", notify), made


@search_read()
def resume_luck(project: Project, search: int,
                notify: Callable[[LuckResult], None] = lambda result: None) -> tuple[Job, LuckResult]:
    """Go on with shuffles where they were."""
    searches = Searches(project)
    asked = searches.get(search).request
    sweep = read_sweep(project, asked["sweep"])
    if asked.get("dealing") != DEALING:
        raise UserError("these shuffled histories were dealt by an older program, in another way", sweep.request.title,
                        "Ask for shuffles again.")
    work = _prepared(project, sweep, asked["seed"], asked["mirrored"])
    stored = searches.take_up(search)
    made = read_luck(project, sweep, asked["mirrored"])
    if made is None:
        made = LuckResult(asked["sweep"], search, np.zeros((0, len(COLUMNS))), sweep.request.markets, _actual(read(sweep)))
    made.search, made.unfinished = search, False
    units = _units(sweep.request, asked["first"], asked["shuffles"])
    return _job(project, work, made, units, (stored.cursor or {}).get("first", 0), stored.title, notify), made


def read_luck(project: Project, result: SweepResult, mirrored: bool = False) -> LuckResult | None:
    """All shuffles of a sweep so far; None where there are none."""
    searches = Searches(project)
    found = project.rows("SELECT id FROM searches WHERE kind = ? AND json_extract(request, '$.sweep') = ? AND "
                         "json_extract(request, '$.mirrored') = ? AND json_extract(request, '$.dealing') = ? ORDER BY id",
                         KIND, result.search, int(mirrored), DEALING)  # not what an older program dealt
    if not found:
        return None
    rows = np.concatenate([matrix(searches.rows(r["id"]), COLUMNS) for r in found])
    last = searches.get(found[-1]["id"])
    return LuckResult(result.search, last.id, rows, result.request.markets, _actual(read(result)), last.unfinished)
