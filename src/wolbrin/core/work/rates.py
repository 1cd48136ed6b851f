"""The line judges itself: how often luck becomes ready, and how often what is real does.

Entrants by luck are the best finds of whole searches on shuffled histories, each with its own controls, walked to *ready* as
finds on the Shelf are. Real ones are the best finds of searches on shuffled histories into which a drift of known size was
planted; true is what also earns on another history with the same drift.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Chunk, Job, Listed, Work, check_stopped
from wolbrin.core.market.bars import Span
from wolbrin.core.measures.sums import COMPILED
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import Case, Gate, Origin
from wolbrin.core.proving.line import Line, walk_line
from wolbrin.core.search.deflated import Hurdle
from wolbrin.core.search.limits import Limits
from wolbrin.core.search.luck import luck_of
from wolbrin.core.search.strength import strength_of
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import search_read
from wolbrin.core.study.perturb import over, planted
from wolbrin.core.study.shuffle import DEALING, shuffle
from wolbrin.core.work.discover_request import DiscoverRequest
from wolbrin.core.work.discover_source import Counts
from wolbrin.core.work.discover_work import DiscoverWork, Found, Unit, evaluate_unit
from wolbrin.core.work.discovering import filled
from wolbrin.core.work.footing import Footing, Request
from wolbrin.core.work.lines import line_of
from wolbrin.core.work.walk_case import walk_case

Floats = NDArray[np.float64]
RATES = "rates of the line"
PIECE = 256
SURE = 1.96
T_DAILY = COMPILED.index("t_daily")


class RatesRequest(Model):
    """searches: by luck; planted: for each size of a planted drift. best: finds of each that enter the line. controls,
    count, pool: of each search. dealing: how histories are dealt, see study.shuffle. sharpes: sizes of planted drifts, as
    yearly Sharpe ratios of the drift alone."""

    market: str
    interval: int
    searches: int = 50
    best: int = 20
    controls: int = 5
    count: int = 1_024
    pool: int = 600
    sharpes: tuple[float, ...] = (1.0, 2.0, 3.0)
    planted: int = 4
    seed: int = 1
    dealing: int = DEALING


@dataclass(frozen=True)
class RatesWork(Request):
    """All that one search needs. discover: what is searched for, on the real history; line: that is walked."""

    discover: DiscoverWork
    request: RatesRequest
    line: Line


@dataclass(frozen=True)
class Entrant:
    """sharpe: of the planted drift, 0 by luck. falls: the gate that it did not pass, "" where it is ready. true: it earns on
    another history with the same drift. figures: of each gate that judged it, by its key, the figure by which it mostly
    judges."""

    search: int
    sharpe: float
    strength: float
    falls: str
    true: bool
    figures: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class _Dealt(DiscoverWork):
    """A search on a shuffled history, with a drift in it where `sharpe` is not 0."""

    deal: int = 0
    sharpe: float = 0.0

    def history(self, place: int) -> Prepared:
        return dealt(super().history(place), self.request.seed, self.deal, self.sharpe)


def dealt(history: Prepared, seed: int, deal: int, sharpe: float, fresh: int = 0) -> Prepared:
    """A shuffled history of a number, without drift but the one that is planted. fresh: another one with the same drift."""
    made = shuffle(history, int(np.random.default_rng((seed, deal, fresh, 5)).integers(2**40)), True)
    return over(made, planted(made.bars, (seed, deal, 6), sharpe)) if sharpe else made


def evaluate_search(work: RatesWork, unit: tuple[int, float]) -> list[Entrant]:
    """One search on a dealt history, its best finds walked along the line. unit: number of the search, planted drift."""
    deal, sharpe = unit
    r, base = work.request, work.discover
    search = _Dealt(base.footing, base.request, base.briefs, base.contents, base.days, base.elsewhere, deal, sharpe)
    try:
        several = [_finds(search, stream) for stream in range(1 + r.controls)]
        strengths = [np.array([s for s, _ in one.finds]) for one in several]
        controls = several[1:]
        curve = strength_of(strengths[0], strengths[1:], [c.tries for c in controls], [c.best_t for c in controls])
        luck = luck_of(len(strengths[0]), [len(s) for s in strengths[1:]])
        hurdle = Hurdle.of([c.best_sharpe for c in controls], r.count, len(search.explorers(0)[0].days))
        explorer = search.explorers(0)[0]
        gates = [g for g in work.line.gates() if not g.opens_holdout]
        out = []
        for strength, found in sorted(several[0].finds, key=lambda pair: -pair[0])[:r.best]:
            check_stopped()
            origin = Origin(deal, r.count, strength, luck, curve, hurdle)
            strategy = explorer.strategy(found.genotype)
            walk = partial(walk_case, base.footing, explorer.history, strategy, explorer.brief)
            case = Case(strategy, explorer.history, explorer.brief, Span(), r.count, origin=origin, walk=walk)
            judged = walk_line(case, gates)
            falls = "" if judged and judged[-1].passed else judged[-1].gate if judged else "none"
            true = False
            if sharpe:
                other = dealt(base.history(0), base.request.seed, deal, sharpe, 1)
                true = float(backtest(other, strategy, explorer.brief, detail=False).profits.sum()) > 0
            named = {g.key: g.figure for g in gates if g.figure}
            figures = {o.gate: o.figures.get(named[o.gate], math.nan) for o in judged if o.gate in named}
            out.append(Entrant(deal, sharpe, strength, falls, true, figures))
        return out
    finally:
        search.let_go()


@dataclass(frozen=True)
class _Searched:
    """finds: of a stream, twins once, each with its strength; tries: t of all that came near; best_t, best_sharpe: of all."""

    finds: list[tuple[float, Found]]
    tries: Floats
    best_t: float
    best_sharpe: float


def _finds(search: DiscoverWork, stream: int) -> _Searched:
    """A whole stream."""
    found: dict[int, tuple[float, Found]] = {}
    request = search.request
    near, counts = [], Counts()
    for first in range(0, request.count, PIECE):
        check_stopped()
        unit = Unit(stream, request.floors, first, min(PIECE, request.count - first))
        done = evaluate_unit(search, unit)
        near.append(done.near.figures[:, T_DAILY])
        counts.note(done.best_t, done.best_sharpe)
        for one in done.found:
            known = [float(one.figures[T_DAILY]), *one.values.tolist()]
            found.setdefault(one.digest, (min(x for x in known if math.isfinite(x)), one))
    best = [math.nan if x is None else x for x in (counts.best_t, counts.best_sharpe)]
    return _Searched(list(found.values()), np.concatenate(near), best[0], best[1])


@dataclass(frozen=True)
class Rates:
    """What came of all, and of which line. searches: that are done."""

    request: RatesRequest
    line: Line
    entrants: tuple[Entrant, ...]
    searches: int

    def lucky(self) -> tuple[int, int]:
        """Entrants by luck, and how many of them became ready."""
        mine = [e for e in self.entrants if not e.sharpe]
        return len(mine), sum(not e.falls for e in mine)

    def true(self, sharpe: float | None = None) -> tuple[int, int]:
        """True ones (of one size), and how many of them became ready."""
        mine = [e for e in self.entrants if e.true and (sharpe is None or e.sharpe == sharpe)]
        return len(mine), sum(not e.falls for e in mine)

    def words(self) -> str:
        """In one sentence."""
        n, passed = self.lucky()
        low, high = wilson(passed, n)
        text = (f"Of {number(n)} finds of luck this line lets {number(passed)} through ({100 * passed / max(1, n):.1f}%, "
                f"{100 * low:.1f} to {100 * high:.1f}%)")
        real, through = self.true()
        return f"{text}; of {number(real)} that are real, {number(through)}." if real else f"{text}."

    def under(self, line: Line) -> tuple[Rates, bool] | None:
        """What they come to where thresholds have moved since, from what was measured; and whether that is exact. Where a
        gate asks less than it did, those that fell there count as ready, since the gates after it did not see them: the rates
        are the largest possible then. None where the lines differ in more than thresholds, which has to be measured."""
        before, after = self.line.gates(), line.gates()
        if [g.key for g in before] != [g.key for g in after]:
            return None
        moved = []
        for old, new in zip(before, after):
            changed = {k for k in new.settings if new.settings[k] != old.settings.get(k)}
            if changed - {new.setting}:
                return None
            if changed:
                moved.append((new, _bar(new), _bar(old)))
        exact = all(new >= old for _, new, old in moved)
        return replace(self, line=line, entrants=tuple(_moved(e, moved) for e in self.entrants)), exact

    def as_json(self) -> dict[str, Any]:
        """For keeping and for machines."""
        n, passed = self.lucky()
        return {"request": self.request.model_dump(mode="json"), "line": self.line.model_dump(mode="json"),
                "searches": self.searches, "lucky": n, "lucky_ready": passed, "interval": list(wilson(passed, n)),
                "power": [{"sharpe": s, "true": self.true(s)[0], "ready": self.true(s)[1]} for s in self.request.sharpes],
                "entrants": [[e.search, e.sharpe, e.strength, e.falls, e.true, e.figures] for e in self.entrants],
                "words": self.words()}

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> Rates:
        return cls(RatesRequest.model_validate(data["request"]), Line.model_validate(data["line"]),
                   tuple(Entrant(*e) for e in data["entrants"]), data["searches"])


def _direction(gate: Gate) -> int:
    """1 where more is asked for, -1 where less is."""
    return -1 if gate.setting.startswith("most_") else 1


def _bar(gate: Gate) -> float:
    """A gate's threshold, such that a larger one asks more."""
    return _direction(gate) * float(getattr(gate.options, gate.setting))


def _moved(entrant: Entrant, moved: list[tuple[Gate, float, float]]) -> Entrant:
    """An entrant under thresholds that have moved: gate, its new and its old bar."""
    for gate, new, old in moved:
        value = entrant.figures.get(gate.key, math.nan) * _direction(gate)
        if gate.key not in entrant.figures:
            continue  # it fell before
        if value < new:
            return replace(entrant, falls=gate.key)
        if entrant.falls == gate.key and value < old:
            return replace(entrant, falls="")
    return entrant


def wilson(passed: int, n: int) -> tuple[float, float]:
    """95% interval of a share (Wilson 1927); all of it where there is none."""
    if not n:
        return 0.0, 1.0
    p, z2 = passed / n, SURE**2
    middle, spread = p + z2 / (2 * n), SURE * math.sqrt(p * (1 - p) / n + z2 / (4 * n * n))
    return max(0.0, (middle - spread) / (1 + z2 / n)), min(1.0, (middle + spread) / (1 + z2 / n))


def rates_job(project: Project, request: RatesRequest, done: Callable[[Rates], None] = lambda rates: None) -> Job:
    """Measure the line in use on a market. Nothing of it counts as tried: no real history is searched.

    Raises:
        UserError: the market cannot be searched.
    """
    if min(request.searches, request.best, request.controls, request.count) < 1:
        raise UserError("searches, finds, controls and candidates must be at least one", "rates", "Change the number.")
    footing, line = Footing.of(project), line_of(project)
    asked = filled(project, DiscoverRequest(((request.market, request.interval),), Limits(pool=request.pool),
                                            count=request.count, controls=request.controls, seed=request.seed))
    asked = replace(asked, others=())
    history = footing.prepared(request.market, request.interval)
    brief = footing.brief(history.bars.terms)
    discover = DiscoverWork(footing, asked, (brief,), (history.bars.hash,), ())
    units = [(i, 0.0) for i in range(request.searches)]
    units += [(10_000 * (k + 1) + i, s) for k, s in enumerate(request.sharpes) for i in range(request.planted)]
    found: list[Entrant] = []
    count = 0

    def commit(several: list[list[Entrant]], _: dict[str, Any]) -> None:
        nonlocal count
        count += len(several)
        found.extend(e for one in several for e in one)
        rates = Rates(request, line, tuple(found), count)
        project.set_value(f"{RATES} {request.market} {request.interval}", rates.as_json())
        done(rates)

    return Job(f"Rates of the line on {request.market}", "searches", Listed([Chunk(u) for u in units]),
               Work(evaluate_search, RatesWork(discover, request, line)), commit=commit)


@search_read()
def read_rates(project: Project, market: str, interval: int) -> Rates | None:
    """Those measured last on a market, whatever the line was then; None before any."""
    data = project.get_value(f"{RATES} {market} {interval}", None)
    if data is None or data["request"].get("dealing", 1) != DEALING:
        return None  # measured on histories that an older program dealt
    return Rates.from_json(data)
