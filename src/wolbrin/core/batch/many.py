"""Many candidates on one history: the one way by which searches, trials and gates evaluate more than a few."""

from __future__ import annotations

from collections.abc import Sequence
from copy import copy
from dataclasses import dataclass, replace
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch.driver import FAULT, FIGURES, SIMULATED, Ask, Out, Track, drive, lean_drive
from wolbrin.core.batch.genomes import G_FULL, Genomes, genome_of, runs_alone
from wolbrin.core.batch.pool import FullError, Pool
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.inputs import NO_FINER, NO_NIGHTS, Clock
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import check_stopped
from wolbrin.core.market.bars import Span
from wolbrin.core.measures.catalogue import SUMMARY, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.sums import COMPILED
from wolbrin.core.rules.model import Strategy

Floats = NDArray[np.float64]
Days = NDArray[np.int32]
NO_DAYS: Days = np.zeros(0, np.int32)
ALL_FIGURES = Ask(np.full(FIGURES, -np.inf), True, 0)
PIECE = 64  # candidates between two looks whether to stop


def track_of(history: Prepared, brief: Brief) -> tuple[Track, bool]:
    """What candidates run over, and whether the lean loop serves such a market."""
    bars = history.bars
    first, last = bars.range_of(brief.span)
    if brief.most_bars is not None:
        first = max(first, last - brief.most_bars)
    costs = brief.on(bars.terms).paid
    financed = costs.roll_ticks != 0.0 or any(costs.financing(bars.terms))
    nights = history.nights if financed else (NO_NIGHTS, NO_NIGHTS)
    rates = history.conversion
    fine = brief.fine and history.fine is not None
    finer = history.finer_arrays(0, len(bars), financed) if fine else NO_FINER
    ends = bars.day_ends
    ends = ends[(ends >= first) & (ends < last - 1)]
    ends = np.append(ends, last - 1) if last > first else ends
    clock = Clock(nights[0], nights[1], rates[0], rates[1], np.asarray(bars.trading_date, np.int32))
    track = Track(bars.prices, bars.session, bars.last, clock, finer,
                  np.asarray(bars.trading_date, np.int32), ends.astype(np.int64), first, last)
    return track, not (financed or len(rates[1]) > 1 or fine)


@dataclass(frozen=True)
class Outcomes:
    """What came of some candidates, in their order. figures: float64[g, len(SUMMARY)], NaN where nothing was simulated;
    outcome: uint8[g], see driver.OUTCOMES; met: bool[g], whether the floors are met; digest: uint64[g] of those, equal where
    trades are; daily: float32[s, d] of the candidates asked for, on the dates of the span. faults: sentences of candidates
    that could not be run, by place."""

    figures: Floats
    outcome: NDArray[np.uint8]
    met: NDArray[np.bool_]
    digest: NDArray[np.uint64]
    daily: NDArray[np.float32]
    faults: dict[int, str]


class Many:
    """Candidates on one history under one brief. Threads may share it.

    room: bytes that packed conditions take at most; a pool that is full gives way to a new one.
    """

    def __init__(self, history: Prepared, brief: Brief, room: int | None = None) -> None:
        self.history, self.brief = history, brief.on(history.bars.terms)
        self._room = room
        self._lock = Lock()
        self.pool = self.new_pool()
        self.track, self.lean = track_of(history, brief)
        self.days: Days = np.asarray(history.bars.trading_date[self.track.day_ends], np.int32)

    def within(self, span: Span) -> Many:
        """The same candidates, with the conditions there are, over another span of the history."""
        other = copy(self)
        other.brief = replace(self.brief, span=span, most_bars=None)
        other.track, other.lean = track_of(self.history, other.brief)
        other.days = np.asarray(self.history.bars.trading_date[other.track.day_ends], np.int32)
        return other

    def new_pool(self) -> Pool:
        """A pool without rows, as large as the first."""
        return Pool(self.history) if self._room is None else Pool(self.history, self._room)

    def run(self, genomes: Genomes, with_daily: NDArray[np.bool_] | None = None, ask: Ask = ALL_FIGURES,
            pool: Pool | None = None) -> Outcomes:
        """Run genomes of this pool. with_daily: bool[g], whose daily results are wanted."""
        count = len(genomes)
        slot = np.full(count, -1, np.int64)
        if with_daily is not None:
            slot[with_daily] = np.arange(int(with_daily.sum()))
        out = Out(np.zeros(count, np.uint8), np.zeros(count, np.uint8), np.full((count, FIGURES), np.nan), np.zeros(count,
                                                                                                                    np.uint64),
                  np.full((int((slot >= 0).sum()), len(self.days)), np.nan, np.float32), slot)
        lean = (genomes.genes[:, G_FULL] == 0) & self.lean
        held = (pool or self.pool).held
        for which, loop in ((lean, lean_drive), (~lean, drive)):
            at = np.flatnonzero(which)
            for piece in range(0, len(at), PIECE):
                check_stopped()
                now = at[piece:piece + PIECE]
                part = Out(np.zeros(len(now), np.uint8), np.zeros(len(now), np.uint8), np.empty((len(now), FIGURES)),
                           np.zeros(len(now), np.uint64), out.daily, slot[now])
                loop(genomes.genes[now], genomes.numbers[now], held, self.track, ask, part)
                out.outcome[now], out.figures[now], out.digest[now] = part.outcome, part.figures, part.digest
                out.met[now] = part.met
        return Outcomes(out.figures, out.outcome, out.met.view(np.bool_), out.digest, out.daily, {})

    def evaluate(self, strategies: Sequence[Strategy], with_daily: bool = False) -> Outcomes:
        """Run strategies. Those that a genome has no words for, and a project's own kept measures, go through single
        runs of the same loop. A strategy that cannot be run is named among the faults, and the others go on."""
        count = len(strategies)
        figures = np.full((count, len(SUMMARY)), np.nan)
        outcome, digest = np.full(count, FAULT, np.uint8), np.zeros(count, np.uint64)
        daily = np.full((count if with_daily else 0, len(self.days)), np.nan, np.float32)
        faults: dict[int, str] = {}
        waiting: list[tuple[int, Genomes]] = []
        pool = self.pool
        kept_only = tuple(SUMMARY) == COMPILED

        def flush() -> None:
            if waiting:
                at = np.array([i for i, _ in waiting])
                found = self.run(Genomes.joined([g for _, g in waiting]), np.full(len(at), with_daily), pool=pool)
                figures[at, :FIGURES], outcome[at], digest[at] = found.figures, found.outcome, found.digest
                if with_daily:
                    daily[at] = found.daily
                waiting.clear()

        for at, one in enumerate(strategies):
            check_stopped()
            try:
                if runs_alone(one) or not kept_only:
                    figures[at] = self.single(one, daily[at] if with_daily else None)
                    outcome[at] = SIMULATED
                    continue
                try:
                    waiting.append((at, genome_of(one, pool, self.brief)))
                except FullError:
                    flush()
                    pool = self._after(pool)
                    waiting.append((at, self._alone(one, pool)))
            except UserError as err:
                faults[at] = err.sentence()
        flush()
        return Outcomes(figures, outcome, outcome == SIMULATED, digest, daily, faults)

    def _after(self, full: Pool) -> Pool:
        """The pool that takes over from one that is full."""
        with self._lock:
            if self.pool is full:
                self.pool = self.new_pool()
            return self.pool

    def _alone(self, strategy: Strategy, pool: Pool) -> Genomes:
        """A genome in a new pool. Raises UserError where even that is too small."""
        try:
            return genome_of(strategy, pool, self.brief)
        except FullError:
            raise UserError("the memory for conditions does not hold those of one candidate", strategy.name,
                            "Give more memory, or ask fewer conditions of one candidate.") from None

    def single(self, strategy: Strategy, daily: NDArray[np.float32] | None = None,
               keys: Sequence[str] | None = None) -> list[float]:
        """Measures of an ordinary run, SUMMARY where none are named; its daily results into `daily`, float32[d]."""
        run = backtest(self.history, strategy, self.brief, detail=False)
        if daily is not None:
            own, profit = run.daily
            at = np.searchsorted(self.days, own)
            daily[at] = profit
        return list(measure(Facts.of(run), SUMMARY if keys is None else keys).values())


def days_of(history: Prepared, brief: Brief) -> Days:
    """Trading dates of a brief's span on which a history has bars, int32[d]."""
    first, last = history.bars.range_of(brief.span)
    return np.unique(history.bars.trading_date[first:last])
