"""The compiled driver: combines the rows of each candidate, runs the one event loop over it, and sums up.

Its full form serves every candidate a genome can say; its lean form, with the loop's, those with market orders and fixed
protective orders on a market without financing and moving rates, of which only the summary is kept.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch import genomes as g
from wolbrin.core.batch.pool import Held
from wolbrin.core.bits import Words, count_entries, entries_into
from wolbrin.core.compiled import form_of, njit
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.inputs import Asked, Bits, Books, Clock, Elder, Finer, Floats, Ints, State, Tape, Ticks, Wanted
from wolbrin.core.engine.kernel import simulate
from wolbrin.core.measures.drawdown import largest_fall
from wolbrin.core.measures.sums import COMPILED, fall_that_counts, gains_and_losses, ratio, sharpe_of, summary

FULL, KEEP = k.FULL, k.KEEP
MOST_ROWS, G_LOGIC, G_BLOCKED, G_EDGES, G_NEEDS = g.MOST_ROWS, g.G_LOGIC, g.G_BLOCKED, g.G_EDGES, g.G_NEEDS
R_BLOCKED, R_EDGE, SIGNALS, NEEDS = k.R_BLOCKED, k.R_EDGE, k.SIGNALS, k.NEEDS
INT_COLUMNS, FLOAT_COLUMNS, F_NET, LOG_COLUMNS = k.INT_COLUMNS, k.FLOAT_COLUMNS, k.F_NET, k.LOG_COLUMNS
STATE, PURSE, COUNTS, WAITING_INTS, WAITING_FLOATS = k.STATE, k.PURSE, len(k.COUNTS), k.WAITING_INTS, k.WAITING_FLOATS
S_DONE, S_FAULT, S_GIVEN_UP, S_BAR, P_CASH, P_PEAK, P_FALL = (
    k.S_DONE, k.S_FAULT, k.S_GIVEN_UP, k.S_BAR, k.P_CASH, k.P_PEAK, k.P_FALL)
X_CAPITAL, X_SIZING, X_MOST_ENTRIES, RISK, PERCENT_OF_EQUITY = (
    k.X_CAPITAL, k.X_SIZING, k.X_MOST_ENTRIES, k.RISK, k.PERCENT_OF_EQUITY)
FIGURES = len(COMPILED)

# What became of a candidate: simulated; not simulated, since it has fewer entry signals than the least number of trades;
# ended early, since a level or a size is absurd; given up as hopeless.
OUTCOMES = ("simulated", "too few signals", "fault", "given up")
SIMULATED, TOO_FEW, FAULT, GIVEN_UP = range(len(OUTCOMES))


class Track(NamedTuple):
    """The history that candidates run over, whole. first, last: bars of the span; dates: int32[n], trading dates; day_ends:
    int64, last bars of the trading dates that end before the span's last bar, that one included."""

    prices: Ticks
    session: NDArray[np.int32]
    last_bar: Bits
    clock: Clock
    finer: Finer
    dates: NDArray[np.int32]
    day_ends: Ints
    first: int
    last: int


class Ask(NamedTuple):
    """What is asked of candidates. floors: float64[FIGURES], the least that each figure must be, -inf for no floor; a figure
    without a value meets none. With fewer entry signals than the floor under trades a candidate is not simulated, unless its
    daily results are asked for. everything: whether one that cannot meet the floors is to have all figures; else it has its
    trades, profit factor and daily Sharpe ratio. hopeless: give up after so many trades if their sum is not above zero; 0
    for never, and never one whose daily results are asked for."""

    floors: Floats
    everything: bool
    hopeless: int


class Out(NamedTuple):
    """What comes out of some candidates, in their order. outcome: uint8[g]; met: uint8[g], 1 where all floors are met.
    figures: float64[g, FIGURES], NaN where nothing was simulated. digest: uint64[g] of the trades' results of those that met
    the floors: equal ones trade alike. daily: float32[s, days], P/L on each date of the span, NaN before a run begins; slot:
    int64[g], the row of daily that a candidate fills, -1 for none."""

    outcome: Bits
    met: Bits
    figures: Floats
    digest: NDArray[np.uint64]
    daily: NDArray[np.float32]
    slot: Ints


@njit(cache=True, nogil=True)
def combine(genes: NDArray[np.int32], which: int, pool: Words, out: Words) -> None:
    """Write one of a candidate's four conditions into out, uint64[w]."""
    wide = pool.shape[1]
    begin = which * MOST_ROWS
    rows = 0
    while rows < MOST_ROWS and genes[begin + rows] >= 0:
        rows += 1
    least = genes[G_LOGIC + which]
    if rows == 0 or least > rows:
        out[:] = 0
    elif least <= 0 or least == rows:
        one = pool[genes[begin]]
        for w in range(wide):
            out[w] = one[w]
        for row in range(1, rows):
            other = pool[genes[begin + row]]
            for w in range(wide):
                out[w] &= other[w]
    else:
        # At least so many: a counter of four bits a bar, 64 bars at a time.
        for w in range(wide):
            ones, twos, fours, eights = np.uint64(0), np.uint64(0), np.uint64(0), np.uint64(0)
            for row in range(rows):
                bit = pool[genes[begin + row], w]
                carry = ones & bit
                ones ^= bit
                more = twos & carry
                twos ^= carry
                eights |= fours & more
                fours ^= more
            enough = eights
            for have in range(least, 8):
                enough |= ((ones if have & 1 else ~ones) & (twos if have & 2 else ~twos) & (fours if have & 4 else ~fours)
                           & ~eights)
            out[w] = enough


@njit(cache=True, nogil=True)
def interleave(four: Words, genes: NDArray[np.int32], pool: Words, words: Words) -> None:
    """Conditions, what blocks entries and edges side by side, uint64[w, SIGNALS], as the loop reads them."""
    blocked, edges = genes[G_BLOCKED], genes[G_EDGES]
    one, two = pool[max(0, blocked)], pool[max(0, edges)]
    none = np.uint64(0)
    for w in range(pool.shape[1]):
        words[w, 0] = four[0, w]
        words[w, 1] = four[1, w]
        words[w, 2] = four[2, w]
        words[w, 3] = four[3, w]
        words[w, R_BLOCKED] = one[w] if blocked >= 0 else none
        words[w, R_EDGE] = two[w] if edges >= 0 else none


@njit(cache=True, nogil=True)
def begins_at(genes: NDArray[np.int32], held: Held, size: int) -> int:
    """The first bar at which everything a candidate reads has a value; `size` if there is none."""
    start = 0
    holes = False
    for at in range(4 * MOST_ROWS):
        if genes[at] >= 0:
            start = max(start, held.known[genes[at]])
            holes = holes or held.hole[genes[at]] >= 0
    if genes[G_BLOCKED] >= 0:
        start = max(start, held.known[genes[G_BLOCKED]])
        holes = holes or held.hole[genes[G_BLOCKED]] >= 0
    for at in range(NEEDS):
        column = genes[G_NEEDS + at]
        if column >= 0:
            start = max(start, held.column_known[column])
            holes = holes or held.column_hole[column] >= 0
    while holes and start < size:
        there = True
        for at in range(4 * MOST_ROWS + 1 + NEEDS):
            hole = -1
            if at < 4 * MOST_ROWS:
                hole = held.hole[genes[at]] if genes[at] >= 0 else -1
            elif at == 4 * MOST_ROWS:
                hole = held.hole[genes[G_BLOCKED]] if genes[G_BLOCKED] >= 0 else -1
            else:
                column = genes[G_NEEDS + at - 4 * MOST_ROWS - 1]
                hole = held.column_hole[column] if column >= 0 else -1
            if hole >= 0 and held.holes[hole, start >> 6] >> np.uint64(start & 63) & np.uint64(1) == 0:
                there = False
                break
        if there:
            break
        start += 1
    return min(start, size)


@njit(cache=True, nogil=True)
def digest_of(nets: Floats) -> int:
    """A digest of trades' results (multiplier and mixer of splitmix64: Steele, Lea & Flood 2014)."""
    h = np.uint64(len(nets)) + np.uint64(0x9E3779B97F4A7C15)
    for word in nets.view(np.uint64):
        h ^= word
        h = ((h << np.uint64(27)) | (h >> np.uint64(37))) * np.uint64(0xBF58476D1CE4E5B9)
    h = (h ^ (h >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    h ^= h >> np.uint64(31)
    return h  # type: ignore[return-value]


@njit(cache=True, nogil=True, error_model="numpy")
def drive(genes: NDArray[np.int32], numbers: Floats, held: Held, track: Track, ask: Ask, out: Out) -> None:
    """Run candidates and write what comes out of them. genes, numbers: see genomes.Genomes."""
    size = len(track.prices)
    wide = held.words.shape[1]
    words = np.empty((wide, SIGNALS), np.uint64)
    four = np.empty((4, wide), np.uint64)
    entries = np.empty(max(1, track.last - track.first), np.int64)
    nets = np.empty(len(entries) + 2 if not KEEP else 0)
    curve = np.empty(len(entries) if KEEP else 0)
    none, no_days = np.empty(0), np.empty(0, np.int64)
    positions = np.empty(0, np.int8)
    log = np.empty((0, LOG_COLUMNS), np.int64)
    asked = Asked(np.empty((0, 3)), np.empty((0, 0), np.uint64))
    elder = Elder(np.empty(0, np.int64), np.empty((0, 0, 0), np.uint64), np.empty((0, 0, 3)), np.empty((0, 0, 0), np.uint64))
    trades_i = np.empty((2, INT_COLUMNS), np.int64)
    trades_f = np.empty((2, FLOAT_COLUMNS))
    equity = np.empty(len(track.day_ends))
    daily = np.empty(len(track.day_ends))
    ends = np.empty(len(track.day_ends), np.int64)
    need_of = np.empty(NEEDS, np.int64)
    needs = np.empty((4, 1024))
    state = State(np.zeros(STATE, np.int64), np.zeros(PURSE), np.zeros(COUNTS, np.int64), np.zeros((4, WAITING_INTS),
                                                                                                   np.int64),
                  np.zeros((4, WAITING_FLOATS)))
    for at in range(len(genes)):
        gene = genes[at]
        out.figures[at] = np.nan
        out.digest[at] = 0
        combine(gene, 0, held.words, four[0])
        combine(gene, 1, held.words, four[1])
        first = max(track.first, begins_at(gene, held, size))
        last = max(first, track.last)
        count = count_entries(four[0], four[1], first, last)
        out.met[at] = 0
        if count < ask.floors[1] and out.slot[at] < 0:
            out.outcome[at] = TOO_FEW
            continue
        combine(gene, 2, held.words, four[2])
        combine(gene, 3, held.words, four[3])
        interleave(four, gene, held.words, words)
        entries_into(four[0], four[1], first, last, entries)
        # What orders need is gathered here: many loads at once wait for memory together, in the loop each would wait alone.
        different = 0
        for need in range(NEEDS):
            column = gene[G_NEEDS + need]
            need_of[need] = -1
            if column >= 0:
                for before in range(need):
                    if gene[G_NEEDS + before] == column:
                        need_of[need] = need_of[before]
                if need_of[need] < 0:
                    if needs.shape[1] < count or needs.shape[0] <= different:
                        grown = np.empty((max(4, needs.shape[0], different + 2), max(needs.shape[1], 2 * count)))
                        for row in range(different):
                            for m in range(count):
                                grown[row, m] = needs[row, m]
                        needs = grown
                    values = held.columns[column]
                    for m in range(count):
                        needs[different, m] = values[first + entries[m]]
                    need_of[need] = different
                    different += 1
        # The first trading date that has a bar of the run; its last one ends the run.
        day = np.searchsorted(track.day_ends, first)
        days = len(track.day_ends) - day if last > first else 0
        for d in range(days):
            ends[d] = track.day_ends[day + d] - first
        xs = numbers[at:at + 1]
        tape = Tape(track.prices[first:last], track.session[first:last], track.last_bar[first:last])
        wanted = Wanted(words, entries[:count], needs, need_of, asked, first, elder)
        clock, finer = track.clock, track.finer
        # Only a cap on entries a date asks which date it is.
        dates = track.dates[first:last] if xs[0, X_MOST_ENTRIES] > 0.0 else track.dates[:1]
        if FULL:
            one = np.int64(1)
            clock = Clock(clock.nights_start[first:last] if len(clock.nights_start) > one else clock.nights_start,
                          clock.nights_end[first:last] if len(clock.nights_end) > one else clock.nights_end,
                          clock.rate_start[first:last] if len(clock.rate_start) > one else clock.rate_start,
                          clock.rate_end[first:last] if len(clock.rate_end) > one else clock.rate_end,
                          track.dates[first:last])
            if len(finer.first) > one:
                finer = Finer(finer.first[first:last + 1], finer.usable[first:last], finer.open, finer.high, finer.low,
                              finer.close, finer.nights)
        else:
            clock = Clock(clock.nights_start, clock.nights_end, clock.rate_start, clock.rate_end, dates)
        if KEEP and len(trades_i) < count + 2:
            trades_i = np.empty((2 * count + 2, INT_COLUMNS), np.int64)
            trades_f = np.empty((2 * count + 2, FLOAT_COLUMNS))
        books = Books(trades_i, trades_f, log, curve[:last - first], none, positions, nets,
                      ends[:days] if not KEEP else no_days, equity)
        state.s[S_DONE] = 0
        state.s[S_FAULT] = 0
        state.s[S_GIVEN_UP] = 0
        state.purse[P_FALL] = 0.0
        state.purse[P_PEAK] = xs[0, X_CAPITAL]
        if last > first:
            simulate(tape, wanted, clock, finer, xs, state, books,
                     ask.hopeless if out.slot[at] < 0 else 0)
        done = state.s[S_DONE]
        capital = xs[0, X_CAPITAL]
        # A run that ended early has fewer dates; its last one stands at what was left.
        ran = state.s[S_BAR] if last > first else 0
        whole = 0
        while whole < days and ends[whole] < ran - 1:
            whole += 1
        skipped = day
        days = whole + 1 if ran > 0 else 0
        if KEEP:
            results = np.empty(done)
            for trade in range(done):
                results[trade] = trades_f[trade, F_NET]
            for d in range(whole):
                equity[d] = curve[ends[d]]
            fall = largest_fall(curve[:ran], capital)
        else:
            results = nets[:done]
            fall = fall_that_counts(state.purse[P_FALL], state.purse[P_PEAK])
        if days > 0:
            equity[whole] = state.purse[P_CASH]
        before = capital
        for d in range(days):
            daily[d] = equity[d] - before
            before = equity[d]
        compounds = xs[0, X_SIZING] == RISK or xs[0, X_SIZING] == PERCENT_OF_EQUITY
        figures = out.figures[at]
        gains, losses, _, _ = gains_and_losses(results)
        figures[1] = done
        figures[2] = ratio(gains, abs(losses))
        figures[10] = sharpe_of(daily[:days])
        if ask.everything or (done >= ask.floors[1] and not figures[2] < ask.floors[2]):
            summary(results, daily[:days], fall, capital, compounds, figures)
            met = True
            for measure in range(FIGURES):
                if ask.floors[measure] > -np.inf and not figures[measure] >= ask.floors[measure]:
                    met = False
            if met:
                out.met[at] = 1
                out.digest[at] = digest_of(results)
        out.outcome[at] = SIMULATED
        if state.s[S_FAULT] != 0:
            out.outcome[at] = FAULT
        elif state.s[S_GIVEN_UP] != 0:
            out.outcome[at] = GIVEN_UP
        if out.slot[at] >= 0:
            row = out.daily[out.slot[at]]
            for d in range(len(row)):
                row[d] = daily[d - skipped] if skipped <= d < skipped + days else np.nan


lean_drive = form_of(drive, FULL=False, KEEP=False)
