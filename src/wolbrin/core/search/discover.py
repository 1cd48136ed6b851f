"""Random candidates under the user's limits, in quantity. Candidate number k of a seed is always the same strategy."""

from __future__ import annotations

from dataclasses import dataclass
from threading import Condition as Waiting

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch.driver import FIGURES, TOO_FEW, Ask
from wolbrin.core.batch.many import Days, Many
from wolbrin.core.bits import count_entries
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest, need_bars
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import check_stopped
from wolbrin.core.measures.sums import COMPILED
from wolbrin.core.rules.evaluate import operand_column, operands
from wolbrin.core.rules.model import Condition, Strategy
from wolbrin.core.rules.operands import CustomOperand, Operand, leaves
from wolbrin.core.search.candidate import Candidate, candidate_of
from wolbrin.core.search.drawing import Grammar, Node, Rows, mirrored
from wolbrin.core.search.families import Sources, draw_nodes
from wolbrin.core.search.grammar import Limits
from wolbrin.core.search.sample import at_hand

WORDS = ("Fulmar", "Skua", "Gannet", "Plover", "Dunlin", "Avocet", "Curlew", "Whimbrel", "Knot", "Turnstone",
         "Dotterel", "Puffin", "Guillemot", "Kittiwake", "Merganser", "Scoter", "Goldeneye", "Garganey",
         "Pintail", "Wigeon", "Redshank", "Phalarope", "Ruff", "Godwit")
COLUMN_BYTES = 128 * 1024**2  # indicator columns at hand while the pool is filled
SIGHT = 20_000  # bars
SOME = 20  # bars on which a condition must hold to be of use
TRIGGER, ALWAYS = 0.05, 0.97  # a condition that holds on fewer bars fires at moments; one that holds on more says nothing
SHARPE = COMPILED.index("sharpe_daily")


def name_of(number: int) -> str:
    """A short name for candidate `number`."""
    return f"{WORDS[number % len(WORDS)]} {number}"


@dataclass(frozen=True)
class Found:
    """A candidate that met the limits, with the digest of its trades (to drop twins)."""

    number: int
    candidate: Candidate
    fingerprint: str


@dataclass(frozen=True)
class Draws:
    """What came of draws first .. first + count - 1: those that met the limits, each set of trades once among these; the
    daily Sharpe ratio of every one that was simulated, float64[count], else NaN; how many had too few entry signals to be;
    and daily P/L, float32[s, d] on the dates of training, of those that may be in the sample, by number, int64[s]. met: how
    many met the limits, twins included."""

    first: int
    count: int
    found: tuple[Found, ...]
    sharpe: NDArray[np.float64]
    few: int
    numbers: NDArray[np.int64]
    daily: NDArray[np.float32]
    met: int


class Explorer:
    """A search on one history: the pool it draws from, and what becomes of the draws. Threads share it: whoever comes first
    draws the conditions, all fill the pool."""

    def __init__(self, history: Prepared, brief: Brief, limits: Limits, seed: int, others: tuple[str, ...] = (),
                 own: tuple[CustomOperand, ...] = (), room: int | None = None) -> None:
        need_bars(history, brief.span)
        small = Prepared(history.bars, history.columns.over(history.bars, COLUMN_BYTES), history.finer, history.rates,
                         history.source)
        self.history, self.brief, self.limits, self.seed = history, brief, limits, seed
        self.many = Many(small, brief, room)
        self.days: Days = self.many.days
        track = self.many.track
        # What values an operand takes is seen on a beginning of training; which conditions fire, on all of it.
        begun = history.bars.take(min(track.last, track.first + SIGHT))
        self._sight = history.columns.over(begun, COLUMN_BYTES // 4)
        self._sources = Sources(history.bars.interval, self._level, others, own)
        self._waiting = Waiting()
        self._nodes: list[Node] = []
        self._order: list[int] = []
        self._rows: list[tuple[int, int] | None] = []
        self._shares: list[float] = []
        self._taken = self._done = 0
        self._ready: tuple[Grammar, Rows] | None = None

    def _level(self, operand: Operand, share: float) -> float:
        try:
            values = operand_column(self._sight, operand)[self.many.track.first:]
        except UserError:
            return float("nan")
        known = values[np.isfinite(values)]
        return float(np.quantile(known, share)) if len(known) else float("nan")

    def _fill(self) -> tuple[Grammar, Rows]:
        """The conditions and their rows, worked out by all threads that ask."""
        pool, both = self.many.pool, self.limits.sides == "both"
        with self._waiting:
            if self._ready is not None:
                return self._ready
            if not self._nodes:
                room = (pool.most - 8) // (2 if both else 1)
                if room < 10:
                    raise UserError("the memory for conditions holds too few of them", "memory for conditions",
                                    "Give more memory, or search on fewer bars.")
                self._nodes = draw_nodes(self.seed, min(self.limits.pool, room), self._sources)
                # Conditions on the same series follow one another, so that few columns need be at hand.
                self._order = sorted(range(len(self._nodes)), key=lambda i: self._nodes[i].model_dump_json())
                self._rows = [None] * len(self._nodes)
                self._shares = [0.0] * len(self._nodes)
        while True:
            check_stopped()
            with self._waiting:
                if self._taken >= len(self._nodes):
                    break
                at = self._order[self._taken]
                self._taken += 1
            try:
                self._rows[at], self._shares[at] = self._put(self._nodes[at])
            except UserError:
                pass  # a condition that cannot be had on this history, such as a longer interval of it
            finally:
                with self._waiting:
                    self._done += 1
                    self._waiting.notify_all()
        with self._waiting:
            while self._done < len(self._nodes):
                self._waiting.wait(0.1)
                check_stopped()
            if self._ready is None:
                self._ready = self._settled()
            return self._ready

    def _put(self, node: Node) -> tuple[tuple[int, int], float]:
        pool, track, sides = self.many.pool, self.many.track, self.limits.sides
        upright = pool.row(node) if sides != "short" else -1
        turned = pool.row(mirrored(node)) if sides != "long" else -1
        words = pool.held.words
        one = words[upright if upright >= 0 else turned]
        held = count_entries(one, one, track.first, track.last)
        return (upright, turned), held / max(1, track.last - track.first)

    def _settled(self) -> tuple[Grammar, Rows]:
        bars = self.many.track.last - self.many.track.first
        useful = [i for i, r in enumerate(self._rows) if r is not None and SOME / max(bars, 1) <= self._shares[i] <= ALWAYS]
        seldom = max(TRIGGER, 3 * SOME / max(bars, 1))
        firing = [i for i in useful if self._shares[i] < seldom]
        order = firing + [i for i in useful if self._shares[i] >= seldom]
        if not firing:
            raise UserError("no condition fires on this history", self.history.bars.terms.code,
                            "Search on a longer span, or let the pool be larger.")
        pairs = [self._rows[i] or (-1, -1) for i in order]
        rows = Rows(np.array([p[0] for p in pairs], np.int32), np.array([p[1] for p in pairs], np.int32), len(firing))
        return Grammar(self.limits, self.seed, tuple(self._nodes[i] for i in order), len(firing)), rows

    def read_elsewhere(self) -> dict[str, str]:
        """Hashes of the other markets' histories that the conditions read, by market."""
        found: set[str] = set()
        for node in self.grammar.nodes:
            for operand in operands(node) if isinstance(node, Condition) else node.asked:
                found |= {market for leaf in leaves(operand) if (market := getattr(leaf, "market", None))}
        own = self.history.bars.terms.code
        return {m: self.many.pool.columns.other(m, None)[0].bars.hash for m in sorted(found - {own})}

    @property
    def grammar(self) -> Grammar:
        """How candidates are drawn."""
        return self._fill()[0]

    @property
    def pool_size(self) -> int:
        """How many conditions candidates are built from; 0 before that is known."""
        return len(self._ready[0].nodes) if self._ready is not None else 0

    def strategy(self, number: int) -> Strategy:
        """Candidate `number`."""
        return self.grammar.strategy(number, name_of(number))

    @property
    def ask(self) -> Ask:
        floors = np.full(FIGURES, -np.inf)
        floors[COMPILED.index("trades")] = self.limits.least_trades
        floors[COMPILED.index("profit_factor")] = self.limits.least_profit_factor
        return Ask(floors, False, self.limits.give_up_after)

    def explore(self, first: int, count: int) -> Draws:
        """Draw and test candidates first .. first + count - 1."""
        grammar, rows = self._fill()
        genomes = grammar.genomes(rows, self.many.pool, self.brief, first, count)
        sampled = at_hand(self.seed, first, count)
        out = self.many.run(genomes, sampled, self.ask)
        found: list[Found] = []
        seen: set[int] = set()
        for at in np.flatnonzero(out.met):
            digest = int(out.digest[at])
            if digest in seen:
                continue
            seen.add(digest)
            check_stopped()
            # What is kept is evidence: it comes from a run of its own, to its end.
            run = backtest(self.many.history, self.strategy(first + int(at)), self.brief, detail=False)
            made = candidate_of(run, run.strategy.name, "discover", first + int(at) + 1, (self.seed,))
            found.append(Found(first + int(at), made, f"{digest:016x}"))
        sharpe = out.figures[:, SHARPE]
        if self.limits.give_up_after:
            sharpe = np.where(sampled, sharpe, np.nan)  # those that may be given up would tell of half a run
        return Draws(first, count, tuple(found), sharpe, int((out.outcome == TOO_FEW).sum()),
                     np.flatnonzero(sampled) + first, out.daily, int(out.met.sum()))
