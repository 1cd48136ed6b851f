"""Choosing k of n: every combination, or an evolutionary search where they are too many, over stored daily results.

Members are added up at the size that they would trade at; the best are traded exactly afterwards. Every combination that
keeps the limits is counted as tried.
"""

from __future__ import annotations

from dataclasses import dataclass
from math import comb
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit
from wolbrin.core.errors import UserError
from wolbrin.core.search.superior import drawn_order, usual_block

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Bits = NDArray[np.uint8]
Aim = Literal["return_drawdown", "sharpe", "net"]
AIMS: dict[str, int] = {"return_drawdown": 0, "sharpe": 1, "net": 2}
EVERY = 20_000_000  # combinations, up to which all are looked at
POPULATION, GENERATIONS = 400, 150
DAYS_A_YEAR = 252
MOST_PAIRED = 8_000_000  # values of all pairs, beyond which they take too much room
NONE = -1


@dataclass(frozen=True)
class Choice:
    """What is asked. k: members. aim: what the best has most of. most: combinations that are kept. correlation: any two below
    it. per_market, per_family: members at most; drawdown, margin: of the whole at most (money); capital: that margin and
    deepest drawdown together fit into. None for no limit."""

    k: int = 5
    aim: Aim = "return_drawdown"
    most: int = 20
    correlation: float | None = None
    per_market: int | None = None
    per_family: int | None = None
    drawdown: float | None = None
    margin: float | None = None
    capital: float | None = None


@dataclass(frozen=True)
class Pool:
    """What is chosen from. daily: float64[d, n] money; matrix: correlations float64[n, n]; market, family: int64[n]; margin:
    float64[n] most that each had in use."""

    daily: Floats
    matrix: Floats
    market: Ints
    family: Ints
    margin: Floats


@dataclass(frozen=True)
class Chosen:
    """The best combinations. members: int64[m, k], each rising, best first; score: float64[m]. tried: combinations that keep
    the limits, whole: of all; every: whether all were looked at. above: share of those tried whose score is above `bar`."""

    members: Ints
    score: Floats
    tried: int
    whole: int
    every: bool
    above: int = 0


@njit(cache=True, nogil=True)
def _keep(score: float, members: Ints, scores: Floats, kept: Ints) -> None:
    """Into the sorted best; of equal scores the one that came first stays ahead."""
    m = len(scores)
    if not score > scores[m - 1]:
        return
    at = m - 1
    while at > 0 and score > scores[at - 1]:
        scores[at] = scores[at - 1]
        kept[at] = kept[at - 1]
        at -= 1
    scores[at] = score
    kept[at] = members


@njit(cache=True, nogil=True)
def _score(aim: int, net: float, fall: float, variance: float, days: int) -> float:
    if aim == 2:
        return net
    if aim == 1:
        return net / days / np.sqrt(variance) * np.sqrt(DAYS_A_YEAR) if variance > 0.0 else -np.inf
    return net / fall if fall > 0.0 else (np.inf if net > 0.0 else -np.inf)


@njit(cache=True, nogil=True)
def _allowed(members: Ints, count: int, j: int, ok: Bits, market: Ints, family: Ints, caps: Ints) -> bool:
    """Whether one more may join."""
    markets = 0
    families = 0
    for c in range(count):
        i = members[c]
        if ok[i, j] == 0:
            return False
        markets += market[i] == market[j]
        families += family[i] == family[j]
    return markets < caps[0] and families < caps[1]


@njit(cache=True, nogil=True)
def _told(members: Ints, net: float, fall: float, cov: Floats, margin: Floats, most: Floats, aim: int, days: int, bar: float,
          scores: Floats, kept: Ints) -> int:
    """Put a combination among the best. Returns 0 where it breaks a limit, 1, or 2 where its score is above `bar`."""
    used = 0.0
    variance = 0.0
    for a in members:
        used += margin[a]
        for b in members:
            variance += cov[a, b]
    if fall > most[0] or used > most[1] or used + fall > most[2]:
        return 0
    score = _score(aim, net, fall, variance, days)
    _keep(score, members, scores, kept)
    return 2 if score > bar else 1


class Held(NamedTuple):
    """A pool as the kernels take it. path: float64[d, n] running sums; cov: of days, float64[n, n]; ok: uint8[n, n], whether
    two may be together; caps: members at most per market, per family; most: drawdown, margin, and both together."""

    path: Floats
    cov: Floats
    ok: Bits
    market: Ints
    family: Ints
    margin: Floats
    caps: Ints
    most: Floats
    aim: int


@njit(cache=True, nogil=True)
def every_combination(held: Held, k: int, first: int, bar: float, scores: Floats, kept: Ints) -> tuple[int, int]:
    """All combinations whose smallest member is `first`. Returns how many kept the limits, and how many of them score above
    `bar`."""
    path, cov, ok, market, family, margin, caps, most, aim = held
    days, n = path.shape
    members = np.zeros(k, np.int64)
    whole = np.zeros((k, days))
    peak = np.zeros(n)
    fall = np.zeros(n)
    tried = 0
    above = 0
    members[0] = first
    whole[0] = path[:, first]
    depth = 1
    nxt = np.zeros(k, np.int64)
    nxt[min(1, k - 1)] = first + 1
    if k == 1:
        depth = 0
    while depth >= 0:
        if depth == k - 1:
            # The last member: all of them side by side.
            low = nxt[depth] if k > 1 else first
            high = n if k > 1 else first + 1
            tops, falls = peak[low:high], fall[low:high]  # counted from 0, so that many are walked in one instruction
            tops[:] = 0.0
            falls[:] = 0.0
            for t in range(days):
                base = whole[depth - 1, t] if k > 1 else 0.0
                row = path[t, low:high]
                for q in range(len(tops)):
                    e = base + row[q]
                    top = tops[q]
                    top = e if e > top else top
                    tops[q] = top
                    d = top - e
                    f = falls[q]
                    falls[q] = d if d > f else f
            for j in range(low, high):
                if not _allowed(members, depth, j, ok, market, family, caps):
                    continue
                members[depth] = j
                net = path[days - 1, j] + (whole[depth - 1, days - 1] if k > 1 else 0.0)
                told = _told(members, net, fall[j], cov, margin, most, aim, days, bar, scores, kept)
                tried += told > 0
                above += told > 1
            depth -= 1
            if depth <= 0:
                break
            continue
        j = nxt[depth]
        if j > n - (k - depth):
            depth -= 1
            if depth <= 0:
                break
            continue
        nxt[depth] = j + 1
        if _allowed(members, depth, j, ok, market, family, caps):
            members[depth] = j
            for t in range(days):
                whole[depth, t] = whole[depth - 1, t] + path[t, j]
            depth += 1
            nxt[depth] = j + 1
    return tried, above


class Pairs(NamedTuple):
    """Every two members side by side, by the smaller one, so that those above any member are the last. a, b: int64[p]; path:
    float64[d, p] sums of both; begins: int64[n + 1], first pair whose smaller member is at least that."""

    a: Ints
    b: Ints
    path: Floats
    begins: Ints


@njit(cache=True, nogil=True)
def every_pair_of_last(held: Held, pairs: Pairs, k: int, first: int, bar: float, scores: Floats,
                       kept: Ints) -> tuple[int, int]:
    """As `every_combination`, for three members and more: the last two are walked side by side, many at a time."""
    path, cov, ok, market, family, margin, caps, most, aim = held
    days, n = path.shape
    size = len(pairs.a)
    members = np.zeros(k, np.int64)
    whole = np.zeros((k, days))
    peak = np.zeros(size)
    fall = np.zeros(size)
    tried = 0
    above = 0
    nxt = np.zeros(k, np.int64)
    members[0] = first
    whole[0] = path[:, first]
    depth = 1
    nxt[1] = first + 1
    while depth >= 1:
        if depth == k - 2:
            low = pairs.begins[members[depth - 1] + 1]
            tops, falls = peak[low:], fall[low:]  # counted from 0, so that many are walked in one instruction
            tops[:] = 0.0
            falls[:] = 0.0
            for t in range(days):
                base = whole[depth - 1, t]
                row = pairs.path[t, low:]
                for q in range(len(tops)):
                    e = base + row[q]
                    top = tops[q]
                    top = e if e > top else top
                    tops[q] = top
                    d = top - e
                    f = falls[q]
                    falls[q] = d if d > f else f
            for q in range(low, size):
                if not _allowed(members, depth, pairs.a[q], ok, market, family, caps):
                    continue
                members[depth] = pairs.a[q]
                if not _allowed(members, depth + 1, pairs.b[q], ok, market, family, caps):
                    continue
                members[depth + 1] = pairs.b[q]
                net = whole[depth - 1, days - 1] + pairs.path[days - 1, q]
                told = _told(members, net, fall[q], cov, margin, most, aim, days, bar, scores, kept)
                tried += told > 0
                above += told > 1
            depth -= 1
            continue
        j = nxt[depth]
        if j > n - (k - depth):
            depth -= 1
            continue
        nxt[depth] = j + 1
        if _allowed(members, depth, j, ok, market, family, caps):
            members[depth] = j
            for t in range(days):
                whole[depth, t] = whole[depth - 1, t] + path[t, j]
            depth += 1
            nxt[depth] = j + 1
    return tried, above


@njit(cache=True, nogil=True)
def score_sets(held: Held, sets: Ints) -> Floats:
    """float64[p]: score of each combination, int64[p, k]; -inf where it breaks a limit."""
    path, cov, ok, market, family, margin, caps, most, aim = held
    days = len(path)
    out = np.full(len(sets), -np.inf)
    for s in range(len(sets)):
        members = sets[s]
        good = True
        for c in range(1, len(members)):
            good = good and _allowed(members, c, members[c], ok, market, family, caps)
        if not good:
            continue
        used = 0.0
        variance = 0.0
        for a in members:
            used += margin[a]
            for b in members:
                variance += cov[a, b]
        peak = 0.0
        fall = 0.0
        e = 0.0
        for t in range(days):
            e = 0.0
            for a in members:
                e += path[t, a]
            peak = max(peak, e)
            fall = max(fall, peak - e)
        if fall > most[0] or used > most[1] or used + fall > most[2]:
            continue
        out[s] = _score(aim, e, fall, variance, days)
    return out


def check_choice(choice: Choice, pool: Pool) -> None:
    """Refuse what no combination can meet, naming the limit. Raises UserError."""
    n = pool.daily.shape[1]
    if choice.k < 1 or choice.k > n:
        raise UserError(f"{choice.k} members cannot be chosen from {n}", "members",
                        f"Choose 1 to {n}, or have more candidates.")
    for per, groups, what in ((choice.per_market, pool.market, "market"), (choice.per_family, pool.family, "family")):
        if per is not None:
            most = int(np.minimum(np.bincount(groups), per).sum())
            if most < choice.k:
                raise UserError(f"at most {per} a {what} leaves {most} members of {len(np.unique(groups))}, and {choice.k} "
                                "are asked", f"limit per {what}", "Allow more of each, or choose fewer.")


@dataclass(frozen=True)
class Ready:
    """A pool with what is asked of it. n: members to choose from. pairs: of them, None where they would take too much
    room, or are of no use."""

    held: Held
    n: int
    pairs: Pairs | None = None

    @classmethod
    def of(cls, pool: Pool, choice: Choice) -> Ready:
        daily = np.ascontiguousarray(pool.daily)
        n = daily.shape[1]
        cov = np.cov(daily, rowvar=False).reshape(n, n) if len(daily) > 1 else np.zeros((n, n))
        ok = np.ones((n, n), np.uint8) if choice.correlation is None else \
            (~(np.nan_to_num(pool.matrix, nan=-1.0) >= choice.correlation)).astype(np.uint8)
        caps = np.array([n if c is None else c for c in (choice.per_market, choice.per_family)], np.int64)
        most = np.array([np.inf if v is None else v for v in (choice.drawdown, choice.margin, choice.capital)])
        path = np.cumsum(daily, axis=0)
        return cls(Held(path, cov, ok, pool.market.astype(np.int64),
                        pool.family.astype(np.int64),
                        np.ascontiguousarray(pool.margin, np.float64), caps, most, AIMS[choice.aim]), n,
                   _pairs(path) if choice.k >= 3 and n * (n - 1) // 2 * len(daily) <= MOST_PAIRED else None)


def _pairs(path: Floats) -> Pairs:
    a, b = np.triu_indices(path.shape[1], 1)
    return Pairs(a.astype(np.int64), b.astype(np.int64), np.ascontiguousarray(path[:, a] + path[:, b]),
                 np.searchsorted(a, np.arange(path.shape[1] + 1)).astype(np.int64))


def part_of_all(ready: Ready, choice: Choice, firsts: tuple[int, ...], bar: float = np.inf) -> Chosen:
    """The best of the combinations whose smallest member is one of `firsts`. bar: score above which they are counted."""
    scores = np.full(choice.most, -np.inf)
    kept = np.full((choice.most, choice.k), NONE, np.int64)
    tried = above = 0
    for first in firsts:
        if first <= ready.n - choice.k:
            more, over = (every_combination(ready.held, choice.k, first, bar, scores, kept) if ready.pairs is None else
                          every_pair_of_last(ready.held, ready.pairs, choice.k, first, bar, scores, kept))
            tried, above = tried + more, above + over
    there = kept[:, 0] >= 0
    return Chosen(kept[there], scores[there], tried, comb(ready.n, choice.k), True, above)


def joined(parts: list[Chosen], choice: Choice) -> Chosen:
    """Parts of one search together; equal scores in the order of their members."""
    members, score = np.concatenate([p.members for p in parts]), np.concatenate([p.score for p in parts])
    order = np.lexsort((*members.T[::-1], -score))[:choice.most] if len(score) else np.zeros(0, np.int64)
    return Chosen(members[order], score[order], sum(p.tried for p in parts), parts[0].whole, parts[0].every,
                  sum(p.above for p in parts))


def evolved(ready: Ready, choice: Choice, seed: int) -> Chosen:
    """The best that an evolutionary search finds: sets are bred by drawing from the union of two good ones, with a member
    changed now and then (Holland 1975; subsets as Radcliffe 1993)."""
    rng = np.random.default_rng(seed)
    n, k = ready.n, choice.k
    sets = np.sort(np.argsort(rng.random((POPULATION, n)), axis=1)[:, :k], axis=1)
    known: dict[bytes, float] = {}

    def scored(some: Ints) -> Floats:
        keys = [row.tobytes() for row in some]
        fresh = [i for i, key in enumerate(keys) if key not in known]
        if fresh:
            for i, s in zip(fresh, score_sets(ready.held, some[fresh]).tolist()):
                known[keys[i]] = s
        return np.array([known[key] for key in keys])

    score = scored(sets)
    for _ in range(GENERATIONS):
        pairs = rng.integers(0, len(sets), (2, POPULATION, 3))
        parents = [sets[p[np.arange(POPULATION), np.argmax(score[p], axis=1)]] for p in pairs]
        urge = np.where(rng.random((POPULATION, n)) < 1.0 / k, rng.random((POPULATION, n)) * 3.0, rng.random((POPULATION, n)))
        rows = np.arange(POPULATION)[:, None]
        for parent in parents:
            urge[rows, parent] += 1.0
        young = np.sort(np.argsort(-urge, axis=1)[:, :k], axis=1)
        both = np.concatenate([sets, young])
        both = np.unique(both, axis=0)
        worth = scored(both)
        order = np.argsort(-worth, kind="stable")[:POPULATION]
        sets, score = both[order], worth[order]
    good = np.isfinite(score)
    members, score = sets[good][:choice.most], score[good][:choice.most]
    return Chosen(members, score, sum(s > -np.inf for s in known.values()), comb(n, k), False)


def equally_good(daily: Floats, seed: int) -> Floats:
    """float64[d, n]: members of which none is better than another, their days drawn anew together: each has the mean Sharpe
    ratio of all at its own deviation, and blocks of days are drawn with all members in them (stationary bootstrap, Politis &
    Romano 1994), so that what goes together still does. What a choice among them shows is what choosing brings by itself."""
    rng = np.random.default_rng(seed)
    days = len(daily)
    spread = daily.std(axis=0, ddof=1)
    ratios = np.divide(daily.mean(axis=0), spread, out=np.zeros_like(spread), where=spread > 0)
    even = daily - daily.mean(axis=0) + spread * ratios.mean()
    return np.ascontiguousarray(even[drawn_order(days, usual_block(days), rng)])


def shuffled_apart(daily: Floats, seed: int) -> Floats:
    """float64[d, n]: each member with its own days in an order of its own, drawn without replacement, so that none has to do
    with another. What a choice among them shows is what it would come to if they never moved together."""
    return np.ascontiguousarray(np.random.default_rng(seed).permuted(daily, axis=0))
