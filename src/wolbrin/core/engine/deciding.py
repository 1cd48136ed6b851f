"""Who decides when: the steps of a strategy with dated numbers (one alone without), as the kernel takes them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

import numpy as np

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.inputs import NO_ELDER, NOTHING_ASKED, Asked, Elder, Ints, State, Wanted, gathered
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.market.bars import day_number
from wolbrin.core.rules.dated import Step
from wolbrin.core.rules.decide import Decisions, decide
from wolbrin.core.rules.model import PositionOperand, Row, Strategy

NEVER = (k.BARS_HELD, k.ABOVE, np.inf)  # a row on the state of the position that never holds


def state_of(row: Row) -> str:
    """What a row on the state of the position reads."""
    assert isinstance(row.left, PositionOperand)
    return row.left.state


def asked_rows(rows: Iterable[Row]) -> list[tuple[float, float, float]]:
    """Rows on the state of the position as the kernel reads them."""
    return [(k.POSITION[state_of(r)], k.COMPARE[r.compare], float(r.right.value)) for r in rows]  # type: ignore[union-attr]


class Deciding:
    """The steps over one history. A step decides from its first bar on; positions and orders keep the rules of the step that
    decided them, so that a position opened before a step leaves as it would have without it."""

    def __init__(self, ready: Prepared, steps: list[Step], base: Strategy, made: Decisions | None = None) -> None:
        """base: what decides where no step enters anything. made: decisions of a single step, where they are at hand."""
        self.steps, self._base, self._ready = steps, base, ready
        self._made: dict[int, Decisions] = {} if made is None or len(steps) > 1 else {0: made}
        self.at = 0

    @property
    def counts_entries(self) -> bool:
        """Whether any step asks how many entries there were on a date."""
        return any(s.strategy is not None and (s.strategy.filters.most_entries or any(
            state_of(r) == "entries_today" for r in s.strategy.position_rows)) for s in self.steps)

    def strategy(self, step: int) -> Strategy:
        """The rules of a step; where it enters nothing, those of the one before."""
        while step > 0 and self.steps[step].strategy is None:
            step -= 1
        return self.steps[step].strategy or self._base

    def take(self, ready: Prepared) -> None:
        """Decide on a history that goes on from the one before."""
        self._ready = ready
        self._made = {step: self._decisions(step) for step in self._made}

    def _decisions(self, step: int) -> Decisions:
        made = decide(self._ready.columns, self.strategy(step))
        if self.steps[step].strategy is None:
            words = made.words.copy()
            words[:, [k.R_LONG_IN, k.R_SHORT_IN]] = 0
            made = replace(made, words=words)
        return made

    def decisions(self, step: int) -> Decisions:
        """What a step's rules say over the whole history."""
        if step not in self._made:
            self._made[step] = self._decisions(step)
        return self._made[step]

    def begins(self, step: int) -> int:
        """The first bar of the history on which a step decides; its length where that is later."""
        day = self.steps[step].first
        return 0 if day is None else int(np.searchsorted(self._ready.bars.trading_date, day_number(day), "left"))

    def step_at(self, bar: int) -> int:
        """The step that decides on a bar; the first one before that."""
        return max((s for s in range(len(self.steps)) if self.begins(s) <= bar), default=0)

    def stands_until(self, last: int) -> int:
        """The bar before which the present step decides; `last` at most."""
        return min(last, self.begins(self.at + 1)) if self.at + 1 < len(self.steps) else last

    def wanted(self, first: int, last: int, state: State | None = None, trades: Ints | None = None) -> Wanted:
        """What the present step wants on bars first .. last - 1 of the history. state, trades: where the run stands."""
        made = self.decisions(self.at)
        begin, stop = max(first, self.begins(self.at)), self.stands_until(last)
        if len(self.steps) > 1:
            begin = max(begin, made.warm)
        entries = made.entries(begin, max(begin, stop)) + (begin - first)
        needs, need_of = gathered(made.needed, first + entries)
        part = slice(first, last)
        asked = NOTHING_ASKED
        if made.asked:
            asked = Asked(np.array(asked_rows(made.asked), np.float64), np.ascontiguousarray(made.tables[:, part]))
        elder = NO_ELDER
        if state is not None and trades is not None:
            alive = self._alive(state, trades)
            self._made = {step: one for step, one in self._made.items() if step in (self.at, *alive)}
            elder = self._elder(alive, part) if alive else NO_ELDER
        return Wanted(made.words, entries, needs, need_of, asked, first, elder)

    def _alive(self, state: State, trades: Ints) -> list[int]:
        """Steps before the present one that an open position or a waiting order belongs to."""
        done = int(state.s[k.S_DONE])
        found = {int(trades[done, k.T_NUMBERS])} if trades[done, k.T_SIDE] else set()
        found |= {int(row[k.O_NUMBERS]) for row in state.wi[:k.SPARE_ROW] if row[k.O_SIDE]}
        return sorted(found - {self.at})

    def _elder(self, alive: list[int], part: slice) -> Elder:
        made = [self.decisions(step) for step in alive]
        words = np.stack([d.words for d in made])
        words[:, :, [k.R_LONG_IN, k.R_SHORT_IN]] = 0
        wide = max(len(d.asked) for d in made)
        if not wide:
            return Elder(np.array(alive, np.int64), words, NO_ELDER.asked, NO_ELDER.tables)
        rows = np.array([[*asked_rows(d.asked), *[NEVER] * (wide - len(d.asked))] for d in made], np.float64)
        return Elder(np.array(alive, np.int64), words, rows, np.stack([d.tables[:, part] for d in made]))
