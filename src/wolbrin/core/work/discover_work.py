"""One piece of a Discover search: a batch of draws or a generation, tested on the real history or on a shuffled one."""

from __future__ import annotations

import hashlib
import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch.driver import SIMULATED
from wolbrin.core.batch.many import Days, Outcomes
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Run
from wolbrin.core.jobs import check_stopped
from wolbrin.core.measures.sums import COMPILED
from wolbrin.core.rules.naming import short_name
from wolbrin.core.scan.evidence import Evidence
from wolbrin.core.scan.informed import InformedExplorer
from wolbrin.core.search.breeding import BONUS, Island, Step, children_of, reached, shapes, survivors
from wolbrin.core.search.candidate import candidate_of, spark_of
from wolbrin.core.search.drawing import BATCH
from wolbrin.core.search.explorer import Explorer
from wolbrin.core.search.floors import NO_SIGNALS, PASSED, Floors
from wolbrin.core.search.genotype import SIDE, Plan, complexity
from wolbrin.core.search.ingredients import Pantry
from wolbrin.core.search.objective import Floor, Scale, named
from wolbrin.core.search.sample import at_hand
from wolbrin.core.search.simpler import MOST_KNOWN, Simplifier
from wolbrin.core.store.shelf import Ready, ready_of
from wolbrin.core.study.shuffle import shuffle
from wolbrin.core.work.discover_request import DiscoverRequest
from wolbrin.core.work.footing import Footing, Request

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]
Floats32 = NDArray[np.float32]
SHARPE, T_DAILY, TRADES = COMPILED.index("sharpe_daily"), COMPILED.index("t_daily"), COMPILED.index("trades")
DRIFT = "above_drift"
LEAST_ABOVE = 1.645  # t above drift, one side 5%, without which moved entries are not asked


@dataclass(frozen=True)
class Unit:
    """What one piece is asked. stream: which search, see `DiscoverWork.stream`. floors: as they stand now. first, count:
    numbers of its candidates; step: of an evolution; again: genotypes that came near before and may pass by now, with their
    numbers."""

    stream: int
    floors: tuple[Floor, ...]
    first: int
    count: int
    step: Step | None = None
    again: tuple[Ints, Ints] | None = None


@dataclass(frozen=True)
class Found:
    """One that passed every floor. daily: on the dates of training. ready: as it is put on the Shelf, one for each place it
    holds on; of controls none. p: of each row of its entries, the chance that luck leaves out trades as bad, NaN where it is
    no filter or that was not asked."""

    number: int
    genotype: Ints
    figures: Floats
    values: Floats
    digest: int
    complexity: int
    daily: Floats32
    ready: tuple[Ready, ...] = ()
    p: Floats = field(default_factory=lambda: np.full(2 * SIDE, np.nan))

    def strength(self, floors: tuple[Floor, ...]) -> float:
        """t of daily results, no more than that above drift where it was asked; 0 where there is none."""
        made = Floors(floors, 1.0)
        known = [self.figures[T_DAILY], *(v for at, v in zip(made.slow, self.values) if floors[at].name == DRIFT)]
        return float(min(known)) if all(math.isfinite(x) for x in known) else 0.0


@dataclass(frozen=True)
class Best:
    """The best of a piece by the objective, of those that passed every floor, or with none of those that came near."""

    number: int
    score: float
    passed: bool
    name: str
    spark: Floats32


@dataclass(frozen=True)
class Near:
    """Candidates that came near: numbers int64[m], genotypes, figures float64[m, COMPILED], and whether all floors were asked
    of them, with what the slow ones read, float64[m, slow]."""

    numbers: Ints
    genotypes: Ints
    figures: Floats
    asked: NDArray[np.bool_]
    values: Floats


@dataclass
class FoldResult:
    """What came of a piece. rejected: int64[floors] by the first floor that each failed; few: had too few entry signals to be
    simulated. sharpe: float64 of those simulated; numbers, daily: of those that may be in the sample. best_t, best_sharpe:
    largest t of daily results and daily Sharpe ratio of those with as many trades as the floors ask, NaN without any. fates:
    what the source decides about each of `found`, in their order. idle: met the quick floors with parts that add nothing;
    alike: met them, and trade like one of the generation before that is no more complex. reached: how far a generation came,
    see `breeding.reached`. seen: what the scan showed, with the first piece of a real history; unseen: why it showed
    nothing."""

    unit: Unit
    rejected: Ints
    few: int
    found: tuple[Found, ...]
    near: Near
    best: Best | None
    sharpe: Floats
    numbers: Ints
    daily: Floats32
    island: Island | None = None
    rows: int = 0
    best_t: float = math.nan
    best_sharpe: float = math.nan
    elsewhere: dict[str, str] = field(default_factory=dict)
    fates: list[tuple[str, int]] = field(default_factory=list)
    idle: int = 0
    alike: int = 0
    reached: tuple[float, ...] = ()
    seen: Evidence | None = None
    unseen: str = ""


@dataclass(frozen=True)
class DiscoverWork(Request):
    """All that a piece needs, wherever it runs. briefs, contents, days: of each place of the request. elsewhere: hashes of
    other markets' histories that it must read; None where it has not begun."""

    footing: Footing
    request: DiscoverRequest
    briefs: tuple[Brief, ...]
    contents: tuple[str, ...]
    days: tuple[Days, ...]
    elsewhere: dict[str, str] | None = None

    def stream(self, number: int) -> tuple[int, int]:
        """The control that a stream belongs to (0: the real history) and its place."""
        return divmod(number, len(self.request.searched))

    def explorers(self, stream: int) -> tuple[Explorer, ...]:
        """The explorer of a stream; where candidates must hold on several histories, one for each. All threads share them."""
        made: dict[int, tuple[Explorer, ...]] = vars(self).setdefault("_explorers", {})
        lock: Lock = vars(self).setdefault("_lock", Lock())
        with lock:
            if stream not in made:
                control, place = self.stream(stream)
                at = range(len(self.request.places)) if self.request.hold else [place]
                leader: Explorer | None = None
                found = []
                for i in at:
                    one = self._explorer(i, control, leader)
                    leader = leader or one
                    found.append(one)
                made[stream] = tuple(found)
            return made[stream]

    def history(self, place: int) -> Prepared:
        """What the search is about at a place."""
        return self.footing.prepared(*self.request.places[place], self.contents[place])

    def _explorer(self, place: int, control: int, leader: Explorer | None) -> Explorer:
        request = self.request
        market, interval = request.places[place]
        history = self.history(place)
        limits = request.limits.on(history.bars.terms)
        if control:
            history = shuffle(history, control_seed(request.seed, control, market), not request.drift, limits.flat)
        pantry = leader.pantry if leader is not None else self._pantry(interval)
        if request.method == "informed":
            return InformedExplorer(history, self.briefs[place], Plan(limits), pantry, request.seed, request.rows,
                                    levels=leader)
        return Explorer(history, self.briefs[place], Plan(limits), pantry, request.seed, levels=leader)

    def simplifier(self, stream: int) -> Simplifier | None:
        """What makes finds of a stream as simple as they can be; None where that is not asked."""
        if self.request.method != "informed":
            return None
        lead = self.explorers(stream)[0]
        held: dict[int, Simplifier] = vars(self).setdefault("_simplifiers", {})
        drawer = lead.prepare()
        with vars(self)["_lock"]:
            if stream not in held:
                held[stream] = Simplifier(lead, drawer, self.request.alike)
            return held[stream]

    def _pantry(self, interval: int) -> Pantry:
        """The ingredients at an interval, the same for all streams."""
        made: dict[int, Pantry] = vars(self).setdefault("_pantries", {})
        if interval not in made:
            made[interval] = self.request.pantry(interval)
        return made[interval]

    def doing(self) -> str:
        """What is done before anything is tried, in words."""
        made: dict[int, tuple[Explorer, ...]] = vars(self).get("_explorers", {})
        for stream, several in reversed(list(made.items())):
            lead = several[0]
            control, place = self.stream(stream)
            where = f"on control {control}" if control else f"on {self.request.places[place][0]}"
            words = lead.doing()
            if words:
                return f"{words} {where}"
        return ""

    def let_go(self) -> None:
        """Forget what was worked out: its memory is large."""
        for name in ("_explorers", "_pantries", "_simplifiers", "_tested"):
            vars(self).pop(name, None)


def control_seed(seed: int, control: int, market: str) -> int:
    """The seed of a shuffled history."""
    text = f"{seed} {control} {market}"
    return int.from_bytes(hashlib.sha256(text.encode()).digest()[:6], "big")


def evaluate_unit(work: DiscoverWork, unit: Unit) -> FoldResult:
    """Test one piece."""
    explorers = work.explorers(unit.stream)
    lead, request = explorers[0], work.request
    drawer = lead.prepare()
    floors = Floors(unit.floors, lead.years)
    control, _ = work.stream(unit.stream)
    if unit.again is not None:
        numbers, genotypes = unit.again
    elif unit.step is not None:
        genotypes = children_of(unit.step, drawer, lead.pantry)
        numbers = np.arange(unit.first, unit.first + unit.count)
    else:
        begin, end = unit.first // BATCH, -(-(unit.first + unit.count) // BATCH)
        drawn = np.concatenate([drawer.batch((request.seed, b)) for b in range(begin, end)])
        numbers = np.arange(unit.first, unit.first + unit.count)
        genotypes = drawn[numbers - begin * BATCH]
    evolving = unit.step is not None
    sampled = at_hand(request.seed, unit.first, unit.count) if unit.again is None and not control else np.zeros(
        len(genotypes), bool)
    with_daily = np.ones(len(genotypes), bool) if evolving else sampled
    # Of controls every t is known: the tail of luck comes from all that they try.
    ask = floors.ask(evolving or control > 0, 0 if evolving else request.limits.give_up_after)
    out = lead.run(genotypes, ask, with_daily)
    scale = _scale(lead, request) if request.objective.blended else {}
    failed = floors.first_failed(out)
    before = _before(unit.step, lead) if unit.step is not None else None
    judged = _judged(work, unit, floors, explorers, numbers, genotypes, out, failed, before)
    score = request.objective.score(named(COMPILED, out.figures), scale)
    rejected = np.zeros(len(unit.floors), np.int64)
    np.add.at(rejected, judged.failed[judged.failed >= 0], 1)
    near = floors.near(out.figures) & (out.outcome == SIMULATED)
    if unit.again is not None:
        near[:] = True
    at = np.flatnonzero(near)
    kept_near = Near(numbers[at], genotypes[at], out.figures[at], judged.asked[at], judged.values[at])
    daily = out.daily[sampled] if evolving else out.daily
    sharpe = out.figures[:, SHARPE]
    if request.limits.give_up_after and not evolving:
        sharpe = np.where(sampled, sharpe, np.nan)  # those that may be given up would tell of half a run
    return FoldResult(unit, rejected, int((failed == NO_SIGNALS).sum()), judged.found, kept_near,
                  _best(lead, numbers, genotypes, score, judged.failed, near), sharpe, numbers[sampled], daily,
                  None if before is None else _after(unit, lead, genotypes, score, judged.failed, out, before),
                  len(drawer.codes), _largest(out, T_DAILY, floors), _largest(out, SHARPE, floors),
                  {} if control else lead.read_elsewhere(), [], judged.idle, judged.alike,
                  _reached(unit, lead, genotypes, score, failed, out) if evolving else (),
                  *_seen(lead, unit) if not control else ())


def _seen(lead: Explorer, unit: Unit) -> tuple[Evidence | None, str]:
    """What was seen, with the first piece."""
    first = not unit.first and unit.again is None
    return (lead.evidence, lead.unseen) if isinstance(lead, InformedExplorer) and first else (None, "")


def _largest(out: Outcomes, figure: int, floors: Floors) -> float:
    """The largest of a figure among those with as many trades as the floors ask."""
    with np.errstate(invalid="ignore"):
        some = (out.outcome == SIMULATED) & (out.figures[:, TRADES] >= floors.least_trades)
    known = out.figures[some, figure]
    known = known[np.isfinite(known)]
    return float(known.max()) if len(known) else math.nan


@dataclass(frozen=True)
class _Judged:
    failed: Ints
    asked: NDArray[np.bool_]
    values: Floats
    found: tuple[Found, ...]
    idle: int
    alike: int


def _judged(work: DiscoverWork, unit: Unit, floors: Floors, explorers: Sequence[Explorer], numbers: Ints, genotypes: Ints,
            out: Outcomes, failed: Ints, before: Floats32 | None) -> _Judged:
    """The slow floors, and the other histories, asked of what passed the quick ones; each set of trades once."""
    _control, _ = work.stream(unit.stream)
    _lead, failed, simplifier = explorers[0], failed.copy(), work.simplifier(unit.stream)
    idle = alike = 0
    falls_back = np.zeros(len(numbers), bool)
    if simplifier is not None and unit.step is not None and before is not None:
        falls_back = _falls_back(unit.step, genotypes, out.daily, before, work.request.alike)
    asked, values = np.zeros(len(numbers), bool), np.full((len(numbers), len(floors.slow)), np.nan)
    found: list[Found] = []
    for at in np.flatnonzero(failed == PASSED).tolist():
        check_stopped()
        asked[at] = True
        if falls_back[at]:
            alike += 1
            continue
        one, figures, p = genotypes[at], out.figures[at], np.full(2 * SIDE, np.nan)
        if simplifier is not None:
            simpler = simplifier.of(one)
            p = simpler.p
            if not np.array_equal(simpler.genotype, one):
                idle += 1
                one, figures = simpler.genotype, None
        tested = _tested(work, unit, floors, explorers, one, figures, int(numbers[at]))
        values[at], failed[at] = tested.values, tested.fell
        if tested.fell == PASSED:
            found.append(Found(int(numbers[at]), one, tested.figures, tested.values, tested.digest,
                               int(complexity(one[None])[0]), tested.daily, tested.ready, p))
    return _Judged(failed, asked, values, tuple(found), idle, alike)


def _falls_back(step: Step, genotypes: Ints, daily: Floats32, before: Floats32, alike: float) -> NDArray[np.bool_]:
    """Which candidates trade like one of the generation before that passed, and is no more complex: they fall back to it,
    which was judged then."""
    passed = np.flatnonzero(step.island.scores >= 0.5 * BONUS)
    if not len(passed) or not len(genotypes):
        return np.zeros(len(genotypes), bool)
    like = shapes(daily) @ shapes(before[passed]).T > alike
    simpler = complexity(step.island.genotypes[passed])[None, :] <= complexity(genotypes)[:, None]
    return np.asarray((like & simpler).any(axis=1), bool)


def _before(step: Step, explorer: Explorer) -> Floats32:
    """Daily results of the population that a generation comes from, float32[p, d]."""
    if step.island.daily is not None:
        return step.island.daily
    if not len(step.island.genotypes):
        return np.zeros((0, len(explorer.days)), np.float32)
    # Going on: worked out again, to the same bits.
    return explorer.run(step.island.genotypes, Floors((), 1.0).ask(True, 0), np.ones(len(step.island.genotypes), bool)).daily


@dataclass(frozen=True)
class _Tested:
    """A candidate that met the quick floors as it was drawn: the first floor that it fails as it is, and the rest of
    `Found`."""

    fell: int
    figures: Floats
    values: Floats
    digest: int = 0
    daily: Floats32 = field(default_factory=lambda: np.zeros(0, np.float32))
    ready: tuple[Ready, ...] = ()


def _tested(work: DiscoverWork, unit: Unit, floors: Floors, explorers: Sequence[Explorer], one: Ints, figures: Floats | None,
            number: int) -> _Tested:
    """All floors asked of a candidate. figures: its own, None where they are not known. What was tested in an earlier piece
    is a twin whatever comes of it, and is not made ready again."""
    known: dict[tuple[int, str, bytes], tuple[int, _Tested]] = vars(work).setdefault("_tested", {})
    key = unit.stream, " ".join(f.text for f in unit.floors), one.tobytes()
    informed = work.request.method == "informed" and unit.again is None
    before = known.get(key)
    if informed and before is not None and before[0] <= unit.first:
        return before[1]
    made = _asked(work, floors, explorers, one, figures, number, not work.stream(unit.stream)[0])
    if informed and (before is None or unit.first <= before[0]):
        if len(known) >= MOST_KNOWN:
            known.clear()
        known[key] = unit.first, replace(made, ready=())
    return made


def _asked(work: DiscoverWork, floors: Floors, explorers: Sequence[Explorer], one: Ints, figures: Floats | None, number: int,
           real: bool) -> _Tested:
    lead, none = explorers[0], np.full(len(floors.slow), np.nan)
    if figures is None:
        again = lead.run(one[None], floors.ask(True, 0))
        figures, fell = again.figures[0], int(floors.first_failed(again)[0])
        if fell != PASSED:
            return _Tested(max(fell, 0), figures, none)
    run = lead.full_run(one)
    values, fell = _slow(floors, lead, one, run)
    runs = [run]
    for other in explorers[1:] if fell == PASSED else ():
        ran, fell = _elsewhere(floors.floors, other, one)
        runs += [ran] if ran is not None else []
        if fell != PASSED:
            break
    if fell != PASSED:
        return _Tested(fell, figures, values)
    own, profit = run.daily
    daily = np.full(len(lead.days), np.nan, np.float32)
    daily[np.searchsorted(lead.days, own)] = profit
    ready: tuple[Ready, ...] = ()
    if real:
        name = short_name(run.strategy)
        ready = tuple(ready_of(candidate_of(r, name, "discover", number + 1, (work.request.seed,))) for r in runs)
    return _Tested(PASSED, figures, values, _digest(run), daily, ready)


def _digest(run: Run) -> int:
    """Equal where trades are."""
    return int.from_bytes(hashlib.blake2b(run.profits.tobytes(), digest_size=7).digest(), "big")


def _slow(floors: Floors, explorer: Explorer, genotype: Ints, run: Run) -> tuple[Floats, int]:
    """What the slow floors read of a run, and the first that it fails.

    A rule that depends on the clock alone is its own shift by whole sessions: it beats drift by what its hours earn beyond
    the market's mean moves. What does not reach the floor that way is compared with its own entries moved by whole sessions,
    if it beats the mean moves at all: on a market that merely rises, a rule that is long on quiet days beats its own shifts.
    """
    values = floors.values(run)
    fell = floors.slow_failed(values)
    if fell != PASSED and (floors.floors[fell].key, floors.floors[fell].compare, floors.floors[fell].of) == (DRIFT, ">=", ""):
        place = floors.slow.index(fell)
        shifted = explorer.above_shifts(genotype) if values[place] >= LEAST_ABOVE else math.nan
        if shifted > values[place]:
            values[place] = shifted
            fell = floors.slow_failed(values)
    return values, fell


def _elsewhere(asked: tuple[Floor, ...], other: Explorer, genotype: Ints) -> tuple[Run | None, int]:
    """A candidate on another history: its run, and the first floor it fails there."""
    floors = Floors(asked, other.years)
    out = other.run(genotype[None], floors.ask(True, 0))
    fell = int(floors.first_failed(out)[0])
    if fell != PASSED:
        return None, max(fell, 0)
    run = other.full_run(genotype)
    return run, _slow(floors, other, genotype, run)[1]


def _best(explorer: Explorer, numbers: Ints, genotypes: Ints, score: Floats, failed: Ints,
          near: NDArray[np.bool_]) -> Best | None:
    passed = failed == PASSED
    some = passed if passed.any() else near
    ranked = np.where(some & np.isfinite(score), score, -np.inf)
    at = int(np.argmax(ranked)) if len(ranked) else -1
    if at < 0 or not np.isfinite(ranked[at]):
        return None
    run = explorer.full_run(genotypes[at])
    return Best(int(numbers[at]), float(score[at]), bool(passed[at]), short_name(run.strategy), spark_of(run))


def _after(unit: Unit, explorer: Explorer, genotypes: Ints, score: Floats, failed: Ints, out: Outcomes,
           before: Floats32) -> Island:
    """The island after this generation."""
    step = unit.step
    assert step is not None
    return survivors(step, genotypes, _usable(unit, explorer, score, failed, out), failed == PASSED, out.daily, before)


def _usable(unit: Unit, explorer: Explorer, score: Floats, failed: Ints, out: Outcomes) -> Floats:
    """Scores; -inf where a candidate cannot be judged."""
    usable = (out.outcome == SIMULATED) & (failed != NO_SIGNALS)
    trades = Floors(unit.floors, explorer.years).least_trades
    with np.errstate(invalid="ignore"):
        usable &= out.figures[:, TRADES] >= trades
    return np.where(usable, score, -np.inf)


def _reached(unit: Unit, explorer: Explorer, genotypes: Ints, score: Floats, failed: Ints,
             out: Outcomes) -> tuple[float, ...]:
    """How far a generation came, for the selection of others beside it."""
    return reached(genotypes, _usable(unit, explorer, score, failed, out))


def _scale(explorer: Explorer, request: DiscoverRequest) -> Scale:
    """What normalizes a blend: worst and best of the first draws of its search."""
    held: dict[str, Scale] = vars(explorer).setdefault("_scales", {})
    if "scale" not in held:
        drawn = explorer.prepare().batch((request.seed, 0))
        out = explorer.run(drawn, Floors((), 1.0).ask(True, 0))
        held["scale"] = request.objective.scale(named(COMPILED, out.figures))
    return held["scale"]


