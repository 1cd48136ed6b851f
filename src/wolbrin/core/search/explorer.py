"""A search on one history: the rows it draws from, and what becomes of the candidates it is given."""

from __future__ import annotations

from threading import Condition as Waiting
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch.driver import TOO_FEW, Ask
from wolbrin.core.batch.genomes import Genomes, runs_alone
from wolbrin.core.batch.many import Days, Many, Outcomes
from wolbrin.core.batch.pool import FullError, Pool
from wolbrin.core.batch.shifted import Shifting
from wolbrin.core.bits import count_entries
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Run, backtest, need_bars
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import check_stopped
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.rules.evaluate import operand_column, operands
from wolbrin.core.rules.model import Condition, Strategy
from wolbrin.core.rules.operands import Operand, leaves
from wolbrin.core.search.assembly import Assemblies
from wolbrin.core.search.drawing import Drawer, draw_pool
from wolbrin.core.search.genotype import FACING, ROW_PLACES, Plan
from wolbrin.core.search.ingredients import Node, Pantry

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]
COLUMN_BYTES = 160 * 1024**2  # indicator columns at hand while rows are worked out
SEEN = 4_000  # values that tell which levels a series takes
SOME = 20  # bars on which a row must hold to be of use
FIRES, ALWAYS = 0.05, 0.97  # a row that holds on fewer bars fires at moments; one that holds on more says nothing
SHIFTS = 24  # shifted histories that a candidate's entries are compared with
DAYS_A_YEAR = 365.25


class Explorer:
    """Threads share it: whoever comes first draws the rows, all work them out.

    levels: the explorer whose history decides on the levels of rows and on which are of use, where a search is held on
    several histories at once; itself where None. columns: bytes of indicator columns at hand.
    """

    def __init__(self, history: Prepared, brief: Brief, plan: Plan, pantry: Pantry, seed: int, room: int | None = None,
                 levels: Explorer | None = None, columns: int = COLUMN_BYTES) -> None:
        need_bars(history, brief.span)
        small = Prepared(history.bars, history.columns.over(history.bars, columns), history.finer, history.rates,
                         history.source)
        self.history, self.brief, self.plan, self.pantry, self.seed = history, brief, plan, pantry, seed
        self.many = Many(small, brief, room)
        self.days: Days = self.many.days
        self._levels = levels
        self._single = plan.kept is not None and runs_alone(plan.kept)
        self._nodes: dict[int, Node | None] = {}
        self._lock = Lock()
        self._assembly: Assemblies | None = None
        self._read: set[str] = set()  # other markets that rows read, of the first so many
        self._looked = 0
        self._waiting = Waiting()
        self._codes: list[int] = []
        self._asked: dict[int, float] = {}
        self._taken = self._done = 0
        self._drawer: Drawer | None = None

    @property
    def _leader(self) -> Explorer:
        """Whose levels are read: not kept where it is this one, since what refers to itself waits to be found as garbage, and
        it holds half a gigabyte."""
        return self._levels or self

    @property
    def years(self) -> float:
        """Calendar years of the span."""
        track, bars = self.many.track, self.history.bars
        if track.last <= track.first:
            return 0.0
        return float(bars.end[track.last - 1] - bars.time[track.first]) / (DAYS_A_YEAR * 86_400e9)

    @property
    def size(self) -> int:
        """Bars of the span."""
        return max(0, self.many.track.last - self.many.track.first)

    # Rows

    def node(self, code: int) -> Node | None:
        """The row of a code as it reads on the deciding history."""
        leader = self._leader
        if leader is not self:
            return leader.node(code)
        if code not in self._nodes:
            self._nodes[code] = self._read_row(code)
        return self._nodes[code]

    def _read_row(self, code: int) -> Node | None:
        return self.pantry.node(code, self._level)

    def _level(self, operand: Operand, share: float) -> float:
        track = self.many.track
        try:
            values = operand_column(self.many.history.columns, operand)[track.first:track.last]
        except UserError:
            return float("nan")
        values = values[::max(1, len(values) // SEEN)]
        known = values[np.isfinite(values)]
        return float(np.quantile(known, share)) if len(known) else float("nan")

    def _at(self, full: Assemblies | None = None) -> Assemblies:
        """The assemblies in the present pool; in a new one where `full` has no room left."""
        with self._lock:
            if self._assembly is None:
                self._assembly = Assemblies(self.plan, self.many.pool, self.brief)
            elif self._assembly is full:
                self._assembly = Assemblies(self.plan, self.many.new_pool(), self.brief)
            return self._assembly

    def prepare(self) -> Drawer:
        """The rows of the first pool, worked out by all threads that ask."""
        leader = self._leader
        if leader is not self:
            return leader.prepare()
        with self._waiting:
            if self._drawer is not None:
                return self._drawer
            if not self._codes:
                pool = self._at().pool
                room = (pool.most - 8) // (1 if self.plan.facings == ("long",) else 2)
                if room < 10:
                    raise UserError("the memory for conditions holds too few of them", "memory for conditions",
                                    "Give more memory, or search on fewer bars.")
                # Rows on the same series follow one another, so that few columns need be at hand.
                self._asked = self._first_rows(min(self.plan.limits.pool, room))
                self._codes = sorted(self._asked)
                self._shares = [-1.0] * len(self._codes)
        while True:
            check_stopped()
            with self._waiting:
                if self._taken >= len(self._codes):
                    break
                at = self._taken
                self._taken += 1
            try:
                self._shares[at] = self._share(self._codes[at])
            finally:
                with self._waiting:
                    self._done += 1
                    self._waiting.notify_all()
        with self._waiting:
            while self._done < len(self._codes):
                self._waiting.wait(0.1)
                check_stopped()
            if self._drawer is None:
                self._drawer = self._settled()
            return self._drawer

    def doing(self) -> str:
        """What is done before rows can be drawn, in words; "" once they can."""
        if self._drawer is not None or not self._codes:
            return ""
        return f"Conditions are worked out: {self._done:,} of {len(self._codes):,}"

    def _first_rows(self, count: int) -> dict[int, float]:
        """Codes that the first pool holds, at most so many, each with how often it is asked."""
        return draw_pool(self.seed, count, self.pantry)

    def _share(self, code: int) -> float:
        """On which share of bars a row holds; below 0 where it cannot be had."""
        at = self._at().put(code, self.node(code))
        if at < 0:
            return -1.0
        track, one = self.many.track, self._at().pool.held.words[at]
        return count_entries(one, one, track.first, track.last) / max(1, self.size)

    def _settled(self) -> Drawer:
        shares, codes = np.array(self._shares), np.array(self._codes, np.int64)
        bars = max(self.size, 1)
        useful = (shares >= SOME / bars) & (shares <= ALWAYS)
        firing = useful & (shares < max(FIRES, 3 * SOME / bars))
        if not useful.any():
            raise UserError("no condition of these ingredients holds now and then on this history",
                            self.history.bars.terms.code, "Choose more ingredients, or a longer span.")
        asked = np.array([self._asked[code] for code in self._codes])
        return self._drawn_from(codes[useful], asked[useful], firing[useful])

    def _drawn_from(self, codes: Ints, asked: Floats, firing: NDArray[np.bool_]) -> Drawer:
        return Drawer(self.plan, codes, asked, firing)

    def read_elsewhere(self) -> dict[str, str]:
        """Hashes of the other markets' bars that rows read so far, by "market interval"."""
        nodes = list(self._leader._nodes.values())
        for node in nodes[self._looked:]:
            if node is not None:
                for operand in operands(node) if isinstance(node, Condition) else node.asked:
                    self._read |= {market for leaf in leaves(operand) if (market := getattr(leaf, "market", None))}
        self._looked = len(nodes)
        found = self._read
        own = self.history.bars.terms.code
        out = {}
        for market in sorted(found - {own}):
            try:
                bars = self.many.history.columns.other(market, None)[0].bars
                out[f"{market} {bars.interval}"] = bars.hash
            except UserError:
                continue
        return out

    # Candidates

    def strategy(self, genotype: Ints, name: str = "x") -> Strategy:
        """A candidate as rules."""
        def node(code: int) -> Node:
            made = self.node(code)
            assert made is not None
            return made
        return self.plan.of(int(genotype[FACING])).strategy(genotype, node, name)

    def run(self, genotypes: Ints, ask: Ask, with_daily: NDArray[np.bool_] | None = None) -> Outcomes:
        """Test candidates. Those with a row that cannot be had here count as having too few signals."""
        if self._single:
            return self._one_by_one(genotypes, ask, with_daily)
        assembly = self._at()
        try:
            self._place(assembly, genotypes)
        except FullError:
            assembly = self._at(assembly)
            try:
                self._place(assembly, genotypes)
            except FullError:
                if len(genotypes) < 2:
                    raise UserError("the memory for conditions does not hold those of one candidate", "memory for conditions",
                                    "Give more memory, or search on fewer bars.") from None
                half = len(genotypes) // 2
                first, rest = (None, None) if with_daily is None else (with_daily[:half], with_daily[half:])
                return _joined(self.run(genotypes[:half], ask, first), self.run(genotypes[half:], ask, rest))
        genomes, had = assembly.genomes(genotypes)
        if had.all():
            return self.many.run(genomes, with_daily, ask, assembly.pool)
        wanted = had if with_daily is None else had & with_daily
        some = Genomes(genomes.genes[had], genomes.numbers[had])
        out = self.many.run(some, None if with_daily is None else with_daily[had], ask, assembly.pool)
        return _spread(out, had, wanted if with_daily is not None else None, with_daily)

    def genomes(self, genotypes: Ints) -> tuple[Genomes, Pool]:
        """Few candidates whose rows can all be had, as genomes of a pool."""
        assembly = self._at()
        try:
            self._place(assembly, genotypes)
        except FullError:
            assembly = self._at(assembly)
            self._place(assembly, genotypes)
        return assembly.genomes(genotypes)[0], assembly.pool

    @property
    def runs_alone(self) -> bool:
        """Whether candidates take runs of their own, since a kept part asks the state of the position."""
        return self._single

    def _place(self, assembly: Assemblies, genotypes: Ints) -> None:
        for code in assembly.missing(genotypes):
            check_stopped()
            assembly.put(code, self.node(code))

    def _one_by_one(self, genotypes: Ints, ask: Ask, with_daily: NDArray[np.bool_] | None) -> Outcomes:
        """Candidates whose kept part asks the state of the position: single runs of the same loop."""
        had = [all(c < 0 or self.node(int(c)) is not None for c in one[ROW_PLACES]) for one in genotypes]
        made = self.many.evaluate([self.strategy(one) for one, ok in zip(genotypes, had) if ok], True)
        out = _spread(made, np.array(had, bool), np.array(had, bool), np.ones(len(genotypes), bool))
        with np.errstate(invalid="ignore"):
            met = ((out.figures >= ask.floors) | ~np.isfinite(ask.floors)).all(axis=1) & (out.outcome != TOO_FEW)
        daily = out.daily if with_daily is None else out.daily[with_daily]
        digest = np.array([hash(x.tobytes()) & (2**63 - 1) for x in np.nan_to_num(out.daily)], np.uint64)
        return Outcomes(out.figures, out.outcome, met, digest, daily if with_daily is not None else daily[:0], out.faults)

    def full_run(self, genotype: Ints, name: str = "x") -> Run:
        """A run of its own: what is kept is evidence."""
        return backtest(self.many.history, self.strategy(genotype, name), self.brief, detail=False)

    def above_shifts(self, genotype: Ints) -> float:
        """How far a candidate stands above its own entries moved by whole sessions, in standard deviations: the t of so few
        shifts, read on the normal scale. NaN where that says nothing, since they come to the same wherever they are
        moved."""
        from scipy.special import ndtri, stdtr  # late

        if self._single:
            return float("nan")
        made = Shifting(self.many, *self.genomes(genotype[None])).run(self.seed, 0, SHIFTS)
        spread = float(made.chance.std(ddof=1))
        if not spread > 0:
            return float("nan")
        t = (made.actual - float(made.chance.mean())) / (spread * np.sqrt(1 + 1 / SHIFTS))
        return float(-ndtri(max(stdtr(SHIFTS - 1, -t), 1e-300)))



def _spread(out: Outcomes, had: NDArray[np.bool_], daily: NDArray[np.bool_] | None,
            with_daily: NDArray[np.bool_] | None) -> Outcomes:
    """Outcomes of some among all: the others have too few signals."""
    count = len(had)
    figures = np.full((count, len(SUMMARY)), np.nan)
    outcome, met, digest = np.full(count, TOO_FEW, np.uint8), np.zeros(count, bool), np.zeros(count, np.uint64)
    figures[had], outcome[had], met[had], digest[had] = out.figures, out.outcome, out.met, out.digest
    rows = out.daily
    if daily is not None and with_daily is not None:
        whole = np.full((count, out.daily.shape[1]), np.nan, np.float32)
        whole[daily] = out.daily
        rows = whole[with_daily]
    return Outcomes(figures, outcome, met, digest, rows, {})


def _joined(a: Outcomes, b: Outcomes) -> Outcomes:
    return Outcomes(np.concatenate([a.figures, b.figures]), np.concatenate([a.outcome, b.outcome]),
                    np.concatenate([a.met, b.met]), np.concatenate([a.digest, b.digest]), np.concatenate([a.daily, b.daily]),
                    {})
