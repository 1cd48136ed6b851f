"""A find as simple as it can be: filters that add nothing go, and whatever trades like something simpler falls back to it."""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch.genomes import MOST_ROWS
from wolbrin.core.batch.many import ALL_FIGURES
from wolbrin.core.jobs import check_stopped
from wolbrin.core.measures.sums import COMPILED
from wolbrin.core.search.drawing import Drawer
from wolbrin.core.search.explorer import Explorer
from wolbrin.core.search.filters import Shuffled, Taken
from wolbrin.core.search.genotype import EXITS_END, FACING, JOIN, ORDER, SIDE, STOP, rows_at
from wolbrin.core.search.limits import SIDES

Ints = NDArray[np.int64]
ROUNDS = 4  # of looking at rows, then at exits
MOST_KNOWN = 20_000  # candidates that are remembered
AT_HAND = 200  # runs whose trades are at hand
ADDS = 0.05  # p of a filter that adds something, at most
PAYS = 0.9  # of its t, that a candidate without an exit row has less than, or the row goes
AS_GOOD = 0.95  # of its t, that a simpler one has at least
OWN = SIDES.index("own")
T_DAILY = COMPILED.index("t_daily")


@dataclass(frozen=True)
class Simpler:
    """genotype: what is left of a find. p: float64 of each row of its entry (both sets of rules), the chance that luck leaves
    out trades as bad as it does, NaN where it is no filter."""

    genotype: Ints
    p: NDArray[np.float64]


class Simplifier:
    """Of one history; threads share it. alike: correlation of daily results from which two trade alike."""

    def __init__(self, explorer: Explorer, drawer: Drawer, alike: float) -> None:
        self._explorer, self._drawer, self._alike = explorer, drawer, alike
        self._known: dict[bytes, Simpler] = {}
        self._p: dict[bytes, NDArray[np.float64]] = {}
        self._bared: dict[bytes, Ints] = {}
        self._trades: OrderedDict[bytes, Taken] = OrderedDict()
        track = explorer.many.track
        self._shuffled = Shuffled(explorer.history.bars, track.first, track.last, explorer.seed)
        self._lock = Lock()

    def of(self, genotype: Ints) -> Simpler:
        """What is left of a find."""
        key = genotype.tobytes()
        with self._lock:
            known = self._known.get(key)
        if known is None:
            known = self._made(genotype.copy())
            with self._lock:
                if len(self._known) >= MOST_KNOWN:  # a long search; what is forgotten is worked out again, to the same
                    for one in (self._known, self._p, self._bared):
                        one.clear()
                self._known[key] = known
        return known

    def _made(self, one: Ints) -> Simpler:
        if self._explorer.runs_alone:
            return Simpler(one, np.full(2 * SIDE, np.nan))
        for _ in range(ROUNDS):
            one, p = self._without_idle_rows(one)
            before, one = one, self._without_idle_exits(one)
            if np.array_equal(before, one):
                break
        return Simpler(one, p)

    # Rows of the entry

    def _without_idle_rows(self, one: Ints) -> tuple[Ints, NDArray[np.float64]]:
        while True:
            p = self._of_rows(one)
            known = np.nan_to_num(p, nan=-1.0)
            worst = int(known.argmax())
            if not known[worst] > ADDS:
                return one, p
            one = self._bare(one, worst)

    def _of_rows(self, one: Ints) -> NDArray[np.float64]:
        """p of each row of an entry as a filter of the others; the row that is missed most is what the others filter."""
        key = one.tobytes()
        with self._lock:
            known = self._p.get(key)
        if known is None:
            known = np.full(2 * SIDE, np.nan)
            for side in self._rows_at(one):
                without = [self._bare(one, at) for at in side]
                missed = -1
                if not any(self._drawer.plan.fixed()):
                    out = self._explorer.run(np.stack(without), ALL_FIGURES)
                    missed = int(np.nan_to_num(out.figures[:, T_DAILY], nan=-np.inf).argmin())
                for i, at in enumerate(side):
                    if i != missed:
                        known[at] = self._adds(one, at, without[i])
            with self._lock:
                self._p[key] = known
        return known

    def _rows_at(self, one: Ints) -> list[list[int]]:
        """Places of the rows of each side's entry, where some of them are filters."""
        plan = self._drawer.plan
        found: list[list[int]] = []
        fixed = any(plan.fixed())
        if not plan.draws_entry:
            return []
        for side in range(2 if int(one[FACING]) == OWN else 1):
            entries, _ = rows_at(side)
            there = [p for p in range(entries.start, entries.stop) if one[p] >= 0]
            least = 0 if fixed else max(1, plan.limits.least_rows)
            if int(one[side * SIDE + JOIN]) == 0 and len(there) > least:
                found.append(there)
        return found

    def _bare(self, one: Ints, at: int) -> Ints:
        made = one.copy()
        made[at] = -1
        return self._drawer.settled(made[None])[0]

    def _adds(self, one: Ints, at: int, bare: Ints) -> float:
        """p of a row as a filter of the rest."""
        check_stopped()
        side, facing, fixed = at // SIDE, int(one[FACING]), self._drawer.plan.fixed()
        place = at - rows_at(side)[0].start
        rows = [place + len(fixed[0]), place + len(fixed[1])]
        if facing == OWN and not any(fixed):
            rows[1 - side] = -1
        genome, pool = self._explorer.genomes(one[None])
        found = [int(genome.genes[0, which * MOST_ROWS + row]) if row >= 0 else -1 for which, row in enumerate(rows)]
        words = [pool.held.words[i] if i >= 0 else None for i in found]
        return self._shuffled.p(self._taken(bare), (words[0], words[1]))

    def _taken(self, bare: Ints) -> Taken:
        """Trades of a candidate, the newest at hand."""
        key = bare.tobytes()
        with self._lock:
            known = self._trades.get(key)
        if known is None:
            known = self._shuffled.taken(self._explorer.full_run(bare))
            with self._lock:
                self._trades[key] = known
                while len(self._trades) > AT_HAND:
                    self._trades.popitem(last=False)
        return known

    # Exits and orders

    def _without_idle_exits(self, one: Ints) -> Ints:
        """Without the exits, and orders, that change next to nothing."""
        passed: list[bytes] = []
        while True:
            key = one.tobytes()
            with self._lock:
                known = self._bared.get(key)
            passed.append(key)
            simpler = one if known is not None else self._one_less(one)
            if known is not None or simpler is None:
                end = known if known is not None else one
                with self._lock:
                    self._bared |= dict.fromkeys(passed, end)
                return end
            one = simpler

    def _one_less(self, one: Ints) -> Ints | None:
        """Without the part that is missed least; None where each is."""
        check_stopped()
        fewer, least = self._fewer(one)
        if not len(fewer):
            return None
        every = np.concatenate([one[None], fewer])
        out = self._explorer.run(every, ALL_FIGURES, np.ones(len(every), np.bool_))
        t, daily = out.figures[:, T_DAILY], np.nan_to_num(out.daily.astype(np.float64))
        daily -= daily.mean(axis=1, keepdims=True)
        size = np.sqrt((daily * daily).sum(axis=1))
        with np.errstate(divide="ignore", invalid="ignore"):
            like = daily[1:] @ daily[0] / (size[1:] * size[0])
            good = ((like > self._alike) & (t[1:] >= AS_GOOD * t[0])) | (t[1:] >= least * t[0])
        return fewer[int(np.where(good, t[1:], -np.inf).argmax())] if good.any() else None

    def _fewer(self, one: Ints) -> tuple[Ints, NDArray[np.float64]]:
        """The candidate without each part that may go, and the share of its t from which it goes whatever it trades like."""
        plan, found, least = self._drawer.plan, [], []
        for side in range(2 if int(one[FACING]) == OWN else 1):
            _, leave = rows_at(side)
            there = [p for p in range(leave.start, leave.stop) if one[p] >= 0]
            if plan.draws_exits and len(there) > plan.limits.least_exit_rows:
                found += [(p, -1) for p in there]
                least += [PAYS] * len(there)
            order = side * SIDE + ORDER
            if one[order] > 0 and "market" in plan.limits.orders.kinds:
                found.append((order, 0))
                least.append(1.0)
        for at in range(STOP, EXITS_END):
            if plan.draws_exits and one[at] > 0 and self._may_go(at):
                found.append((at, 0))
                least.append(1.0)
        made = np.repeat(one[None], len(found), 0)
        for i, (at, value) in enumerate(found):
            made[i, at] = value
        return self._drawer.settled(made) if len(made) else made, np.array(least)

    def _may_go(self, at: int) -> bool:
        """Whether candidates may go without an exit."""
        limits = self._drawer.plan.limits
        if at == STOP:
            return limits.stop.none > 0 and limits.sizing.kind != "risk"
        parts = {1: limits.target.none, 2: limits.trail.none, 3: limits.break_even.none, 4: limits.no_time_exit}
        return parts[at - STOP] > 0
