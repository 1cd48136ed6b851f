"""Controls: shuffled histories hold all but the edge, in ticks, whatever the market; what luck brings by their tries."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import stats

from tests.build import any_seed, terms
from tests.core.test_luck import noise
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.costs import Costs
from wolbrin.core.measures.sums import COMPILED
from wolbrin.core.search.explorer import Explorer
from wolbrin.core.search.families import FAMILIES
from wolbrin.core.search.floors import Floors
from wolbrin.core.search.genotype import Plan
from wolbrin.core.search.ingredients import Pantry, Sources
from wolbrin.core.search.limits import Limits
from wolbrin.core.search.luck import luck_of
from wolbrin.core.search.strength import Tail, strength_of
from wolbrin.core.study.shuffle import shuffle, shuffled


@pytest.fixture
def seed() -> int:
    drawn = any_seed()
    return drawn


def priced(bars: Bars, start: float, tick: float, growth: float) -> Bars:
    """The same noise at another price, whose moves grow with it: `growth` times as large at the end."""
    path = start * np.exp(np.linspace(0.0, np.log(growth), len(bars)))
    scale = path / 8_000.0  # of the generator's ticks, at about 8,000 of them
    before = np.append(bars.o[:1], bars.c[:-1])
    gap, body = (bars.o - before) * scale, (bars.c - bars.o).astype(float) * scale
    close = path + np.cumsum(gap + body)
    open_ = close - body
    top, bottom = np.maximum(open_, close), np.minimum(open_, close)
    high, low = top + (bars.h - np.maximum(bars.o, bars.c)) * scale, bottom - (np.minimum(bars.o, bars.c) - bars.l) * scale
    lift = max(0.0, 0.2 * start - low.min())
    prices = tuple(np.round((x + lift) / tick) * tick for x in (open_, high, low, close))
    own = terms(time_zone="UTC", tick_size=tick, sessions=({"days": ("Mon", "Tue", "Wed", "Thu", "Fri"), "open": "08:00",
                                                            "close": "16:00"},))
    return make_bars(own, 15, bars.time, prices, bars.volume)  # type: ignore[arg-type]


def markets(seed: int) -> dict[str, Bars]:
    return {"plain": noise(seed), "index": priced(noise(seed + 1), 15_000.0, 0.5, 1.0),
            "rate": priced(noise(seed + 2), 1.05, 0.0001, 1.0), "trebled": priced(noise(seed + 3), 4_000.0, 0.25, 3.0)}


def sizes(bars: Bars) -> np.ndarray:
    """Mean range of a bar on each date, ticks."""
    _, day = np.unique(bars.trading_date, return_inverse=True)
    return np.bincount(day, (bars.h - bars.l).astype(float)) / np.bincount(day)


def holds_ranges(bars: Bars, made: Bars) -> None:
    assert np.corrcoef(sizes(bars), sizes(made))[0, 1] > 0.9
    assert sizes(made).mean() == pytest.approx(sizes(bars).mean(), rel=0.03)
    assert made.l.min() >= 1
    _, day = np.unique(bars.trading_date, return_inverse=True)
    np.testing.assert_allclose(np.bincount(day, made.volume), np.bincount(day, bars.volume), atol=len(bars), rtol=0.02)


@pytest.mark.parametrize("flat", [False, True])
def test_controls_keep_the_range_of_every_day_in_ticks(flat: bool, seed: int) -> None:
    for name, bars in markets(seed).items():
        for k in range(3):
            made = shuffled(bars, seed + k, True, flat)
            print(name, sizes(made).mean() / sizes(bars).mean())
            holds_ranges(bars, made)
            first = np.flatnonzero(np.diff(bars.session, prepend=-1) != 0)
            if flat:  # the flat begin at the real open, and nobody else does
                np.testing.assert_array_equal(made.o[first], bars.o[first])
            else:
                assert made.l.min() >= 0.5 * bars.l.min() - 1
                assert (made.o[first] != bars.o[first]).mean() > 0.9


def test_a_session_that_may_be_held_into_does_not_begin_at_the_real_open(seed: int) -> None:
    """Where a session's last bar is missing, what is flat by session end leaves at the next open: were that the real one, it
    would earn the way back."""
    bars = noise(seed, 60)
    gone = np.flatnonzero(bars.last != 0)[::5]
    keep = np.setdiff1d(np.arange(len(bars)), gone)
    part = make_bars(bars.terms, 15, bars.time[keep], tuple(  # type: ignore[arg-type]
        x[keep] for x in (bars.open, bars.high, bars.low, bars.close)), bars.volume[keep])
    made = shuffled(part, seed, True, True)
    first = np.flatnonzero(np.diff(part.session, prepend=-1) != 0)
    held = np.append(False, part.last[first[1:] - 1] == 0)
    assert held.sum() >= 10
    np.testing.assert_array_equal(made.o[first[~held]], part.o[first[~held]])
    moved = made.o[first[held]] - made.c[first[held] - 1]
    assert np.abs(moved).max() < np.abs(made.c[first[held] - 1] - part.o[first[held]]).max()


def results_of(b: Bars, overnight: bool) -> dict[str, np.ndarray]:
    """Gross results by session, ticks, of simple rules that know the past only: signals from what closed before, held from
    the first open (flat) or from the close before (overnight) to the session's close, or as the name says."""
    first = np.flatnonzero(np.diff(b.session, prepend=-1) != 0)
    last = np.append(first[1:] - 1, len(b) - 1)
    open_, close = b.o[first].astype(float), b.c[last].astype(float)
    before = np.append(open_[:1], close[:-1])
    hold = close - (before if overnight else open_)
    date = b.trading_date[first]
    moved = np.append(0.0, (close - open_)[:-1])
    early = b.c[first].astype(float)
    out = {"fade the session": -np.sign(moved) * hold, "follow the session": np.sign(moved) * hold,
           "fade the gap": -np.sign(early - before) * (close - early),
           "fade the gap at the open": -np.sign(open_ - before) * (early - open_),
           "Mondays": np.where(date % 7 == 4, hold, 0.0), "third hour": b.c[first + 11] - b.o[first + 8]}
    for days in (5, 20, 60):
        mean = np.convolve(np.append(np.full(days, before[0]), close), np.ones(days) / days)[days - 1:days - 1 + len(close)]
        out[f"fade {days} days"] = np.where(np.arange(len(close)) > days, -np.sign(before - mean), 0.0) * hold
    past = np.append(np.zeros(20), before[20:] - before[:-20])
    return out | {"momentum": np.sign(past) * hold}


@pytest.mark.parametrize("overnight", [False, True])
def test_nothing_earns_on_mirrored_controls_before_costs(overnight: bool, seed: int) -> None:
    """100 controls of two markets, one of them a price that trebles: the mean t of every rule is 0 within the standard errors
    that hold for any seed (5 of one rule in forty, 4.5 of all fades together)."""
    some = {k: v for k, v in markets(seed).items() if k in ("plain", "trebled")}
    for name, bars in some.items():
        found: dict[str, list[float]] = {}
        for k in range(100):
            for rule, x in results_of(shuffled(bars, seed + k, True, not overnight), overnight).items():
                found.setdefault(rule, []).append(float(x.mean() / x.std(ddof=1) * np.sqrt(len(x))))
        for rule, t in found.items():
            assert abs(np.mean(t)) < 5 * np.std(t, ddof=1) / 10, (name, rule, np.mean(t))
        fades = np.mean([t for rule, t in found.items() if rule.startswith("fade")], axis=0)
        assert abs(fades.mean()) < 4.5 * fades.std(ddof=1) / 10, name


@pytest.mark.parametrize("flat", [True, False])
def test_the_same_draws_lose_the_same_on_a_noise_market_and_on_its_controls(flat: bool, seed: int) -> None:
    """After costs of a fifth of a usual bar a side: the mean t of 256 draws on the market lies where those on its controls
    do."""
    real = Prepared.of(noise(seed, 240))
    limits = Limits(pool=150, flat_by_session_end=flat).on(real.bars.terms)
    brief = Brief(costs=Costs(slippage_ticks=0.2 * float((real.bars.h - real.bars.l).mean())))
    leader: Explorer | None = None
    means, trades = [], []
    for k in range(9):
        history = shuffle(real, seed + k, True, limits.flat) if k else real
        one = Explorer(history, brief, Plan(limits), Pantry(FAMILIES, Sources(15)), seed % 1000, levels=leader)
        leader = leader or one
        out = one.run(leader.prepare().batch((seed % 1000, 0)), Floors((), 1.0).ask(True, 0))
        t, n = (out.figures[:, COMPILED.index(key)] for key in ("t_daily", "trades"))
        some = np.isfinite(t) & (n >= 40)
        means.append(float(t[some].mean()))
        trades.append(float(n[some].mean()))
    print("means", means)
    assert means[0] < -1.0, "costs show"
    room = 6 * np.std(means[1:], ddof=1) * np.sqrt(1 + 1 / 8) + 0.06 * abs(np.mean(means[1:]))
    assert abs(means[0] - np.mean(means[1:])) < room, means
    assert np.std(means[1:], ddof=1) < 0.4 * abs(np.mean(means[1:])), "controls do not swing by their ranges"
    assert trades[0] == pytest.approx(np.mean(trades[1:]), rel=0.1)


# What luck brings


def test_the_tail_of_tries_tells_what_counting_would(seed: int) -> None:
    """Three controls of 2,000 normal tries each (half of them losing to costs) tell how often one reaches a t that none of
    them did. Over 60 seeds told was 2.2 times the truth in the median, below a third of it in 0.8 of 100."""
    rng = np.random.default_rng(seed)

    def tries() -> np.ndarray:
        return np.concatenate([rng.standard_normal(1_000), rng.standard_normal(1_000) - 2.0])

    ratios = []
    for _ in range(40):
        tail = Tail.of([tries() for _ in range(3)])
        assert tail is not None
        level = 4.2
        truth = 1_000 * (stats.norm.sf(level) + stats.norm.sf(level + 2.0))
        ratios.append(float(tail.expected(np.array([level]))[0]) / truth)
    assert (np.array(ratios) < 1 / 3).sum() <= 5, "more of 40 than one in a million"
    assert 1.0 < np.median(ratios) < 5.0


def test_a_find_is_judged_at_its_own_strength(seed: int) -> None:
    """The share of every find is that of a direct count where luck's finds are many, and falls with strength."""
    rng = np.random.default_rng(seed)
    found = np.sort(np.concatenate([rng.normal(2.8, 0.3, 400), rng.uniform(3.5, 6.0, 60)]))
    controls = [rng.normal(2.8, 0.3, 400) for _ in range(5)]
    curve = strength_of(found, controls)
    whole = np.concatenate(controls)
    share = np.array([curve.at(s) for s in found])
    assert (np.diff(share) <= 0).all()
    direct = np.array([((whole >= s).sum() + 1) / 5 / (found >= s).sum() for s in found])
    many = np.array([(whole >= s).sum() >= 10 for s in found])
    np.testing.assert_allclose(share[many], np.minimum.accumulate(np.minimum(1.0, direct))[many])
    assert share[found > 5.0].max() < 0.02


def test_a_single_strong_find_is_not_refused_for_want_of_controls() -> None:
    """By counting alone three controls could not say less than a third of one find; by all that they tried they can."""
    rng = np.random.default_rng(4)
    tries = [rng.normal(-1.0, 1.0, 4_000) for _ in range(3)]
    best = [float(t.max()) for t in tries]
    curve = strength_of(np.array([5.6]), [np.zeros(0)] * 3, [t[t > 1.0] for t in tries], best)
    assert curve.at(5.6) < 0.02
    assert curve.chance(5.6) < 0.01
    weak = strength_of(np.array([2.6]), [np.zeros(0)] * 3, [t[t > 1.0] for t in tries], best)
    assert weak.chance(2.6) > 0.05
    # An evolution is judged by the strongest of each control alone.
    bred = strength_of(np.array([5.6]), [np.zeros(0)] * 3, [t[t > 1.0] for t in tries], best, apart=False)
    assert bred.tail is None
    assert curve.at(5.6) < bred.at(5.6) < 0.1


def test_the_chance_of_as_many_finds_agrees_with_the_limits() -> None:
    few = luck_of(9, [2, 3, 1])
    assert (few.chance < 0.05) == few.beyond
    assert luck_of(2, [2, 3, 1]).chance > 0.3
