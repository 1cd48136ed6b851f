"""What a block of a sweep needs, wherever it runs, and what comes of it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch.many import NO_DAYS, Days, Many, days_of
from wolbrin.core.batch.variants import Block, Variants
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import need_bars
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.work.footing import Footing, Request
from wolbrin.core.work.sweep_request import Place, SweepRequest

Ints = NDArray[np.int64]
ROOM = 64 * 1024**2  # bytes of packed conditions of one of several places
PARTS = 16  # blocks of days whose sums are kept of every set of a larger sweep


@dataclass(frozen=True)
class Question:
    """What is the same for all sets of a market and interval: brief, hash of the bars, trading dates; those of all intervals
    of the market together (market_days)."""

    brief: Brief
    content: str
    days: Days
    market_days: Days


@dataclass(frozen=True)
class SweepWork(Request):
    """All that a block needs, wherever it runs. questions: of each (market, interval). daily: how much of daily results is
    kept: all, sums of blocks of days, or nothing."""

    footing: Footing
    request: SweepRequest
    questions: tuple[tuple[tuple[str, int], Question], ...]
    daily: str = "all"

    @cached_property
    def _held(self) -> Callable[[Place], Variants]:
        return lru_cache(maxsize=3)(self._made)

    def _made(self, place: Place) -> Variants:
        history = self.footing.prepared(place.market, place.interval, self.question(place).content)
        return self.over(history, place)

    def over(self, history: Prepared, place: Place) -> Variants:
        """The sets of a place on a history."""
        r = self.request
        many = Many(history, self.question(place).brief, ROOM if len(r.places) > 1 else None)
        return Variants(r.strategy, r.space.numbers, many, place.sides, r.measures[len(SUMMARY):])

    def question(self, place: Place) -> Question:
        return dict(self.questions)[place.market, place.interval]

    def variants(self, place: Place) -> Variants:
        """The sets of a place on its history; all threads share them."""
        return self._held(place)

    def let_go(self) -> None:
        """Drop what takes much memory."""
        vars(self).pop("_held", None)

    def place_of(self, at: Ints) -> Place:
        """The place of a block's sets."""
        return self.request.places[int(at[0]) // self.request.space.inner]


@dataclass(frozen=True)
class Done(Block):
    """A block of a sweep. gone: int64[refused], numbers of the sets that the model refused."""

    gone: Ints


def evaluate_block(work: SweepWork, at: Ints) -> Done:
    """One block of sets of one place, by their numbers."""
    space, place = work.request.space, work.place_of(at)
    values, question = space.values(at), work.question(place)
    sets = [tuple(v) for v in values[:, space.places:].tolist()]
    block = work.variants(place).evaluate(sets, question.days if work.daily != "none" else NO_DAYS)
    daily = block.daily
    if daily.shape[1] and len(question.market_days) != len(question.days):
        daily = np.full((len(daily), len(question.market_days)), np.nan, np.float32)
        daily[:, np.searchsorted(question.market_days, question.days)] = block.daily
    return Done(values[block.kept], block.figures, daily, block.refused, block.kept, np.delete(at, block.kept))


def questions_of(footing: Footing, request: SweepRequest, briefs: Mapping[tuple[str, int], Brief] | None = None) -> dict[
        tuple[str, int], tuple[Prepared, Question]]:
    """History and question of every market and interval; of one market, days are those of all its intervals together. briefs:
    those of a sweep that was run before; the present ones where None."""
    found: dict[tuple[str, int], tuple[Prepared, Question]] = {}
    for place in dict.fromkeys((p.market, p.interval) for p in request.places):
        history = footing.prepared(*place)
        brief = footing.brief(history.bars.terms, request.own) if briefs is None else briefs[place]
        need_bars(history, brief.span)
        days = days_of(history, brief)
        found[place] = history, Question(brief, history.bars.hash, days, days)
    for market in request.markets:
        of = {p: g for p, g in found.items() if p[0] == market}
        days = np.unique(np.concatenate([g.days for _, g in of.values()])).astype(np.int32)
        found |= {p: (history, replace(question, market_days=days)) for p, (history, question) in of.items()}
    return found
