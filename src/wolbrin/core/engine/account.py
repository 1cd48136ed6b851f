"""Several strategies on one purse, as a broker would have it: capital and margin are taken in priority order, and whoever
comes later gets what is left. Contract section 11; `sharing` is the loop.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.inputs import Floats, Ints
from wolbrin.core.engine.lent import lend
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import EVENTS_A_BAR, Going, Run
from wolbrin.core.engine.sharing import Kept, Purse, Rules, Turns, share
from wolbrin.core.errors import UserError
from wolbrin.core.market.sessions import NS_A_DAY
from wolbrin.core.market.zones import to_local
from wolbrin.core.rules.model import Strategy


@dataclass(frozen=True)
class DailyLimit:
    """A loss in a day beyond which everything is closed, and nothing entered until the next date: money, or percent of the
    account's marked equity at the date's start."""

    amount: float
    percent: bool = False


@dataclass(frozen=True)
class Seat:
    """A member of an account. brief: its costs and span; the capital is the account's. weight: by which its own sizing is
    multiplied, 0 or more. priority: 1 goes first; equal ones go in the order of the list."""

    name: str
    history: Prepared
    strategy: Strategy
    brief: Brief
    weight: float = 1.0
    priority: int = 1
    limit: DailyLimit | None = None


@dataclass(frozen=True)
class Resize:
    """When sizes that do not follow equity by themselves (fixed ones, and a fixed notional) are set again by what the account
    is worth: at the first instant of each calendar month of the account's zone, or of a date once it has moved by `step`
    (share of what it was worth when they were set last). Positions that are open are left alone: the next entry has the new
    size, so that setting it again costs nothing beside the costs of the trades themselves."""

    monthly: bool = False
    step: float = 0.0


@dataclass(frozen=True)
class Refused:
    """An entry that the purse did not allow. at: instant of the decision, UTC ns; reason: margin above equity (of the whole
    purse), or account (others have it in use)."""

    member: int
    at: int
    side: int
    reason: str


@dataclass(frozen=True)
class AccountRun:
    """What came of an account. runs: of each member, whose equity is the capital and its own results. instants: int64[t] UTC
    ns; mark: float64[t] equity marked there, margin: in use, held: positions open. ledger: int64[n, 2], member and row of its
    ledger, in the order in which trades became known."""

    seats: tuple[Seat, ...]
    capital: float
    runs: tuple[Run, ...]
    instants: Ints
    mark: Floats
    margin: Floats
    held: Ints
    ledger: Ints
    ruined: bool

    def refused(self) -> list[Refused]:
        """Entries that the purse did not allow, in the order of their decisions."""
        found = []
        for m, run in enumerate(self.runs):
            for e in run.log[run.log[:, k.L_EVENT] == k.REJECTED]:
                found.append(Refused(m, int(run.bars.end[e[k.L_BAR]]), int(e[k.L_SIDE]), k.WHY[e[k.L_WHY]]))
        return sorted(found, key=lambda r: (r.at, r.member))


def run_account(seats: Sequence[Seat], capital: float, zone: str = "UTC", limit: DailyLimit | None = None,
                resize: Resize | None = None) -> AccountRun:
    """Run several strategies on one purse.

    zone: time zone of the account, whose calendar dates its daily limit counts by. resize: whether sizes follow the account.
    Raises:
        UserError: there is no member, no capital, a weight below zero, or a member that cannot be run.
    """
    _check(seats, capital, limit)
    logs = [0] * len(seats)
    while True:
        goings = [Going(s.history, s.strategy, replace(s.brief, capital=capital)) for s in seats]
        for going, seat, log in zip(goings, seats, logs):
            going.share(seat.weight, log)
        made = _walk(seats, goings, capital, zone, limit, resize)
        if not any(g.log_cut for g in goings):
            return made
        logs = [int(g.state.s[k.S_LOGGED]) + EVENTS_A_BAR for g in goings]  # now the room is known


def _check(seats: Sequence[Seat], capital: float, limit: DailyLimit | None) -> None:
    if not seats:
        raise UserError("a portfolio needs at least one strategy", "portfolio", "Select candidates first.")
    if not (np.isfinite(capital) and capital > 0):
        raise UserError("the starting capital must be above zero", "capital", "Enter the account's size.")
    for seat in seats:
        if not (np.isfinite(seat.weight) and seat.weight >= 0):
            raise UserError("a weight is 0 or more", seat.name, "Enter its share of the size, such as 0.5.")
    for one, where in ((limit, "the account"), *((s.limit, s.name) for s in seats)):
        if one is not None and not (np.isfinite(one.amount) and one.amount > 0):
            raise UserError("a daily limit is above zero", where, "Enter a loss in money, or percent.")


def _turns(seats: Sequence[Seat], goings: Sequence[Going], zone: str) -> tuple[Turns, Ints]:
    """The order in which all bars are processed, and the instants at which they end."""
    priority = np.array([s.priority for s in seats], np.int64)
    ranked = np.lexsort((np.arange(len(seats)), priority)).astype(np.int64)
    # Members one after the other in their order: sorting by the instant alone then keeps that at one instant.
    parts = [(goings[m].ready.bars, slice(goings[m].first, goings[m].first + goings[m].size), m) for m in ranked.tolist()]
    member = np.concatenate([np.full(p.stop - p.start, m, np.int64) for _, p, m in parts])
    bar = np.concatenate([np.arange(p.stop - p.start, dtype=np.int64) for _, p, _ in parts])
    start, end = np.concatenate([b.time[p] for b, p, _ in parts]), np.concatenate([b.end[p] for b, p, _ in parts])
    opens = np.concatenate([np.append(True, np.diff(b.trading_date[p]) != 0)[:p.stop - p.start] for b, p, _ in parts])
    order = np.argsort(end, kind="stable")
    ends = end[order]
    new = np.append(True, ends[1:] != ends[:-1])[:len(ends)]
    instants = ends[new]
    known = np.searchsorted(instants, start, "right").astype(np.int64) - 1
    # Midnight belongs to the day that ends.
    date = to_local(instants - 1, zone) // NS_A_DAY if len(instants) else instants
    return Turns(member[order], bar[order], np.cumsum(new, dtype=np.int64) - 1, opens[order].astype(np.uint8), known[order],
                 np.zeros(len(order), np.uint8), np.asarray(date, np.int64),
                 np.array([g.size - 1 for g in goings], np.int64), ranked), instants


def _looks(turns: Turns, resize: Resize | None) -> Ints:
    """Turns at whose beginning sizes may be set again."""
    if resize is None or not len(turns.bar):
        return np.zeros(0, np.int64)
    dates = turns.date
    if resize.monthly:
        dates = dates.astype("datetime64[D]").astype("datetime64[M]").astype(np.int64)
    return np.searchsorted(turns.instant, 1 + np.flatnonzero(dates[1:] != dates[:-1]))


class _Sizes:
    """Sizes that follow the account."""

    def __init__(self, seats: Sequence[Seat], goings: Sequence[Going], capital: float, resize: Resize | None) -> None:
        self.resize, self.capital, self.last = resize, capital, capital
        self.fixed = [(g, s.weight) for g, s in zip(goings, seats) if s.strategy.sizing.kind in ("fixed", "notional")]

    def look(self, worth: float) -> None:
        """What the account is worth now; sizes are set again if that is enough of a change."""
        assert self.resize is not None
        if self.resize.monthly or abs(worth - self.last) >= self.resize.step * abs(self.last):
            self.last = worth
            for going, weight in self.fixed:
                going.weigh(weight * max(worth, 0.0) / self.capital)


def _walk(seats: Sequence[Seat], goings: Sequence[Going], capital: float, zone: str, limit: DailyLimit | None,
          resize: Resize | None) -> AccountRun:
    from numba import typed  # late

    count = len(seats)
    turns, instants = _turns(seats, goings, zone)
    limits = [*(s.limit for s in seats), limit]
    rules = Rules(float(capital), np.array([one.amount if one else 0.0 for one in limits]),
                  np.array([one is not None and one.percent for one in limits], np.uint8))
    whole, none = (np.full(count, v) for v in (float(capital), 0.0))
    flags = np.zeros((3, count), np.uint8)
    purse = Purse(whole.copy(), whole.copy(), none.copy(), np.zeros(count, np.int64), flags[0], flags[1],
                  np.full(count, k.NOTHING, np.int64), flags[2], none, whole, np.array([-1, 0, 0, 0], np.int64),
                  np.full(1, float(capital)))
    size = len(instants)
    kept = Kept(np.zeros(size), np.zeros(size), np.zeros(size, np.int64), np.zeros((len(turns.bar) + 2, 2), np.int64))
    here, out = np.zeros(count, np.uint8), np.zeros(count, np.int64)
    owners = [g.member() for g in goings]  # alive for as long as the loop uses what they lend it
    members = typed.List([owners[0]])
    for m, one in enumerate(owners):
        lend(members, m, one)
    at = [np.flatnonzero(turns.member == m) for m in range(count)]  # the turn of each bar
    for going, mine in zip(goings, at):
        turns.asks[mine[going.member().wanted.entries]] = 1
    looks, sizes = _looks(turns, resize).tolist(), _Sizes(seats, goings, capital, resize)
    first = 0
    while first < len(turns.bar):
        if looks and looks[0] == first:
            sizes.look(float(kept.mark[turns.instant[first] - 1]))
            looks.pop(0)
        stop, turning = _until(goings, turns, at)
        if looks and looks[0] < stop:
            stop, turning = looks[0], []
        share(members, turns, rules, purse, kept, here, out, first, stop)
        for m in turning:
            turns.asks[at[m][goings[m].border:]] = 0
            goings[m].turn()
            owners[m] = goings[m].member()
            lend(members, m, owners[m])
            turns.asks[at[m][owners[m].wanted.entries]] = 1
        first = stop
    runs = []
    for going in goings:
        going.look_at_log()
        going.advance(going.size)  # bars on which nothing was asked
        runs.append(going.so_far())
    return AccountRun(tuple(seats), float(capital), tuple(runs), instants, kept.mark, kept.margin, kept.held,
                      kept.ledger[:purse.told[3]], bool(purse.told[2]))


def _until(goings: Sequence[Going], turns: Turns, at: Sequence[Ints]) -> tuple[int, list[int]]:
    """How far the present numbers of all members stand: up to which turn (the first of an instant), and whose change then.
    at: the turn of each member's bars."""
    found = {m: int(np.searchsorted(turns.instant, turns.instant[at[m][g.border]])) for m, g in enumerate(goings)
             if g.border < g.size}
    stop = min(found.values(), default=len(turns.bar))
    return stop, [m for m, turn in found.items() if turn == stop]
