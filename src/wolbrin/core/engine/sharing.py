"""The loop of several members on one purse: who advances when, with what purse, and who is stopped. It decides no fill,
`kernel.advance` does. Contract section 11, see docs/engine.md.

Bars are processed whole, in the order of their ends; at one instant in priority order. Ruin and daily limits are judged once
an instant, after its last bar.
"""

from __future__ import annotations

from typing import Any, NamedTuple

from wolbrin.core.compiled import njit
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.inputs import Bits, Books, Clock, Finer, Floats, Ints, State, Tape, Wanted
from wolbrin.core.engine.kernel import advance
from wolbrin.core.engine.orders import cancel
from wolbrin.core.engine.position import close_position, gone, move_stops

# Module-level copies: numba freezes plain globals into the compiled code.
T_SIDE, T_ENTRY_BAR, T_COUNTS, T_NUMBERS = k.T_SIDE, k.T_ENTRY_BAR, k.T_COUNTS, k.T_NUMBERS
F_MARGIN, W_HELD, O_SIDE, O_DECISION = k.F_MARGIN, k.W_HELD, k.O_SIDE, k.O_DECISION
X_TRAIL_UNIT, X_EVEN_UNIT, NONE = k.X_TRAIL_UNIT, k.X_EVEN_UNIT, k.NONE
S_LOGGED = k.S_LOGGED
(L_EVENT, L_ORDER, L_BAR, L_AT, L_WHY) = (k.L_EVENT, k.L_ORDER, k.L_BAR, k.L_AT, k.L_WHY)
PLACED, REJECTED, SKIPPED, CANCELLED = k.PLACED, k.REJECTED, k.SKIPPED, k.CANCELLED
W_REPLACED, ENTRIES_END = k.W_REPLACED, k.ENTRIES_END
P_CASH, P_MARK, P_OTHERS, P_USED = k.P_CASH, k.P_MARK, k.P_OTHERS, k.P_USED
S_DONE, S_BAR, S_PENDING, S_BARRED, S_TAIL = k.S_DONE, k.S_BAR, k.S_PENDING, k.S_BARRED, k.S_TAIL
NOTHING, RUIN, LIMIT, END_OF_DATA, AT_CLOSE = k.NOTHING, k.RUIN, k.LIMIT, k.END_OF_DATA, k.AT_CLOSE
SAME = k.SAME


class Member(NamedTuple):
    """What the loop walks of one member; see `inputs`."""

    tape: Tape
    wanted: Wanted
    clock: Clock
    finer: Finer
    xs: Floats
    state: State
    books: Books


class Turns(NamedTuple):
    """Every bar of every member in the order in which they are processed. member: int64[n]; bar: int64[n], counted from the
    member's first; instant: int64[n], number of the instant at which it ends. opens: uint8[n], 1 on the first bar of a
    trading date of its member; known: int64[n], number of the last instant at or before the bar's start, -1 for none. asks:
    uint8[n], 1 where the member has an entry signal. date: int64[t], the account's date of each instant. last: int64[m], each
    member's last bar. order: int64[m], members in priority order."""

    member: Ints
    bar: Ints
    instant: Ints
    opens: Bits
    known: Ints
    asks: Bits
    date: Ints
    last: Ints
    order: Ints


class Rules(NamedTuple):
    """capital; daily limits, float64[m + 1], the account's last, 0 for none; percent: uint8[m + 1], whether they are percent
    of the account's marked equity at the date's start."""

    capital: float
    limit: Floats
    percent: Bits


class Purse(NamedTuple):
    """Where the account stands between two instants. cash, mark, margin: float64[m], by member: closed trades and all marked,
    each from the capital on; margin in use. seen: int64[m], trades that are in the ledger. held, busy: uint8[m], whether it
    has a position, or anything. waits: int64[m], why a member is closed at the end of its next bar, NOTHING for not. stopped:
    uint8[m], for the date. at_start, account_at_start: float64[m], result and account at the member's date's start. told:
    int64[4]: date, whether the account is stopped for it, whether it is ruined, rows of the ledger. start: float64[1], the
    account at its date's start."""

    cash: Floats
    mark: Floats
    margin: Floats
    seen: Ints
    held: Bits
    busy: Bits
    waits: Ints
    stopped: Bits
    at_start: Floats
    account_at_start: Floats
    told: Ints
    start: Floats


class Kept(NamedTuple):
    """What is written. mark, margin: float64[t], the account marked and margin in use at each instant; held: int64[t],
    positions open. ledger: int64[room, 2], member and row of each trade in the order in which they became known."""

    mark: Floats
    margin: Floats
    held: Ints
    ledger: Ints


@njit(cache=True, nogil=True, error_model="numpy")
def taken(one: Member, m: int, purse: Purse, kept: Kept) -> None:
    """Take a member's cash, mark and margin in, and its new trades into the ledger."""
    s = one.state.s
    ti, tf = one.books.trades_i, one.books.trades_f
    open_now = ti[s[S_DONE], T_SIDE] != 0
    purse.cash[m] = one.state.purse[P_CASH]
    purse.mark[m] = one.state.purse[P_MARK] if open_now else purse.cash[m]
    margin = tf[s[S_DONE], F_MARGIN] if open_now else 0.0
    busy = open_now
    for row in range(3):
        if one.state.wi[row, O_SIDE] != 0:
            margin = max(margin, one.state.wf[row, W_HELD])
            busy = True
    purse.margin[m] = margin
    purse.held[m] = 1 if open_now else 0
    purse.busy[m] = 1 if busy else 0
    while purse.seen[m] < s[S_DONE]:
        kept.ledger[purse.told[3], 0] = m
        kept.ledger[purse.told[3], 1] = purse.seen[m]
        purse.told[3] += 1
        purse.seen[m] += 1


@njit(cache=True, nogil=True, error_model="numpy")
def take_back(one: Member, i: int) -> None:
    """Orders placed at the close of bar i. One that was to be replaced by them ends by the ruin like every other one."""
    s, log, wi = one.state.s, one.books.log, one.state.wi
    for row in range(3):
        if wi[row, O_SIDE] != 0 and wi[row, O_DECISION] == i:
            wi[row, O_SIDE] = 0
    at = min(s[S_LOGGED], len(log)) - 1
    while at >= 0 and log[at, L_BAR] == i and log[at, L_AT] == AT_CLOSE and log[at, L_ORDER] < ENTRIES_END:
        event = log[at, L_EVENT]
        if event == CANCELLED and log[at, L_WHY] == W_REPLACED:
            log[at, L_WHY] = RUIN
        elif event == PLACED:
            for later in range(at, min(s[S_LOGGED], len(log)) - 1):
                log[later] = log[later + 1]
            s[S_LOGGED] -= 1
        elif event not in (REJECTED, SKIPPED):
            break
        at -= 1


@njit(cache=True, nogil=True, error_model="numpy")
def unplaced(members: Any, turns: Turns, begin: int, end: int, purse: Purse, kept: Kept) -> None:
    """The bar of ruin places no orders (contract section 10): of the turns begin .. end - 1 of this instant, those that were
    placed at their closes, before the account was judged, are taken back."""
    for h in range(begin, end):
        one = members[turns.member[h]]
        if one.state.s[S_BAR] == turns.bar[h] and one.state.s[S_TAIL] != 0:
            take_back(one, turns.bar[h])
            taken(one, turns.member[h], purse, kept)


@njit(cache=True, nogil=True, error_model="numpy")
def close_member(members: Any, m: int, reason: int, last: int, purse: Purse, kept: Kept) -> None:
    """A member at the close of the bar it has walked: out, and nothing waits. last: its last bar."""
    if purse.busy[m] == 0:
        return
    one = members[m]
    s, i = one.state.s, one.state.s[S_BAR]
    ti, tf, log = one.books.trades_i, one.books.trades_f, one.books.log
    clock = one.clock
    nights = clock.nights_end[i] if len(clock.nights_end) > 1 else 0
    rate = clock.rate_end[i] if len(clock.rate_end) > 1 else clock.rate_end[0]
    d = s[S_DONE]
    if ti[d, T_SIDE] != 0:
        # A limit closes what has ended its bar: stops have moved by then, but where data ends before they would.
        own = one.xs[ti[d, T_NUMBERS]]
        moving = own[X_TRAIL_UNIT] != NONE or own[X_EVEN_UNIT] != NONE
        if reason == LIMIT and i != last and moving and (ti[d, T_ENTRY_BAR] != i or ti[d, T_COUNTS] != 0):
            move_stops(ti, tf, s, log, own, i, int(one.tape.prices[i, 1]), int(one.tape.prices[i, 2]))
        close_position(ti, tf, s, log, one.state.purse, one.xs[0], one.state.counts, one.books.nets,
                       int(one.tape.prices[i, 3]), i, -1, AT_CLOSE, reason, nights, rate)
    for row in range(3):
        cancel(one.state.wi, row, s, log, i, -1, AT_CLOSE, reason)
    s[S_PENDING] = NOTHING
    one.state.purse[P_MARK] = one.state.purse[P_CASH]
    taken(one, m, purse, kept)


@njit(cache=True, nogil=True, error_model="numpy")
def stop(m: int, reason: int, here: Bits, purse: Purse, out: Ints) -> None:
    """A member is stopped now: closed at the end of a bar of its own, else of its next one, if there is anything to close."""
    ruin = reason == RUIN or purse.waits[m] == RUIN
    if here[m] != 0:
        out[m] = RUIN if ruin else reason
    elif purse.busy[m] != 0:
        purse.waits[m] = RUIN if ruin else reason


@njit(cache=True, nogil=True, error_model="numpy")
def close_those(members: Any, turns: Turns, here: Bits, out: Ints, purse: Purse, kept: Kept) -> None:
    """Close whoever has walked a bar here and is stopped now, or waits for that since before, in priority order."""
    for at in range(len(turns.order)):
        n = turns.order[at]
        if here[n] != 0 and out[n] == NOTHING:
            out[n] = purse.waits[n]
        if here[n] != 0 and out[n] != NOTHING:
            close_member(members, n, out[n], turns.last[n], purse, kept)
            purse.waits[n] = NOTHING


@njit(cache=True, nogil=True, error_model="numpy")
def summed(purse: Purse, capital: float) -> tuple[float, float]:
    """The purse, and the account marked."""
    cash, mark = capital, capital
    for n in range(len(purse.cash)):
        cash += purse.cash[n] - capital
        mark += purse.mark[n] - capital
    return cash, mark


@njit(cache=True, nogil=True, error_model="numpy")
def reached(start: float, now: float, limit: float, percent: bool, base: float, scale: float) -> bool:
    """Whether a value has fallen from its date's start by a daily limit. base: what percent are of; scale: a large amount."""
    most = limit / 100.0 * base if percent else limit
    return start - now >= most - SAME * max(abs(start), abs(now), scale)


@njit(cache=True, nogil=True, error_model="numpy")
def share(members: Any, turns: Turns, rules: Rules, purse: Purse, kept: Kept, here: Bits, out: Ints, first: int,
          stop_at: int) -> None:
    """Process the turns first .. stop_at - 1; both begin an instant.

    members: a typed list of `Member`. here: uint8[m], out: int64[m], room to work in.
    """
    count, capital = len(turns.last), rules.capital
    j = first
    while j < stop_at:
        t = turns.instant[j]
        begin = j
        if turns.date[t] != purse.told[0] or t == 0:
            purse.told[0] = turns.date[t]
            purse.told[1] = 0
            purse.start[0] = kept.mark[t - 1] if t > 0 else capital
        here[:] = 0
        out[:] = NOTHING
        while j < stop_at and turns.instant[j] == t:
            m, i = turns.member[j], turns.bar[j]
            here[m] = 1
            if turns.opens[j] != 0:
                purse.stopped[m] = 0
                purse.at_start[m] = purse.mark[m] - capital
                purse.account_at_start[m] = kept.mark[turns.known[j]] if turns.known[j] >= 0 else capital
            if turns.asks[j] != 0 or purse.busy[m] != 0:
                one = members[m]
                others, used = 0.0, 0.0
                for n in range(count):
                    if n != m:
                        others += purse.cash[n] - capital
                        used += purse.margin[n]
                one.state.purse[P_OTHERS] = others
                one.state.purse[P_USED] = used
                barred = purse.told[1] != 0 or purse.told[2] != 0 or purse.stopped[m] != 0 or purse.waits[m] != NOTHING
                one.state.s[S_BARRED] = 1 if barred else 0
                advance(one.tape, one.wanted, one.clock, one.finer, one.xs, one.state, one.books, i + 1, 0)
                taken(one, m, purse, kept)
            j += 1

        # Ruin, else all limits on the same mark; closings by them; end of data; ruin once more; then the mark stands.
        cash, mark = summed(purse, capital)
        if purse.told[2] == 0 and gone(mark, cash, capital):
            purse.told[2] = 1
            unplaced(members, turns, begin, j, purse, kept)
            for n in range(count):
                stop(n, RUIN, here, purse, out)
        elif purse.told[2] == 0:
            if rules.limit[count] > 0.0 and purse.told[1] == 0 and reached(
                    purse.start[0], mark, rules.limit[count], rules.percent[count] != 0, purse.start[0], 0.0):
                purse.told[1] = 1
                for n in range(count):
                    stop(n, LIMIT, here, purse, out)
            for n in range(count):
                if here[n] != 0 and rules.limit[n] > 0.0 and purse.stopped[n] == 0 and reached(
                        purse.at_start[n], purse.mark[n] - capital, rules.limit[n], rules.percent[n] != 0,
                        purse.account_at_start[n], capital):
                    purse.stopped[n] = 1
                    stop(n, LIMIT, here, purse, out)
        close_those(members, turns, here, out, purse, kept)
        for h in range(begin, j):
            n = turns.member[h]
            if turns.bar[h] == turns.last[n]:
                close_member(members, n, END_OF_DATA, turns.last[n], purse, kept)
                purse.waits[n] = NOTHING
        cash, mark = summed(purse, capital)
        if purse.told[2] == 0 and gone(mark, cash, capital):
            purse.told[2] = 1
            out[:] = NOTHING
            unplaced(members, turns, begin, j, purse, kept)
            for n in range(count):
                stop(n, RUIN, here, purse, out)
            close_those(members, turns, here, out, purse, kept)
            cash, mark = summed(purse, capital)
        kept.mark[t] = mark
        kept.margin[t] = 0.0
        kept.held[t] = 0
        for n in range(count):
            kept.margin[t] += purse.margin[n]
            kept.held[t] += purse.held[n]
