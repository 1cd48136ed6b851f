"""Many at once: genomes, pool, driver and what is built on them, against ordinary runs of the same strategies."""

from __future__ import annotations

import importlib
import pkgutil
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from tests.build import cross, entry, num, price, row, walk_bars
from tests.core.ideas import ideas
from wolbrin.core.batch import driver
from wolbrin.core.batch.driver import FIGURES, GIVEN_UP, SIMULATED, TOO_FEW, Ask
from wolbrin.core.batch.genomes import G_ROWS, Genomes, genome_of, runs_alone
from wolbrin.core.batch.many import Many
from wolbrin.core.batch.neighbors import neighbors
from wolbrin.core.batch.pool import Pool
from wolbrin.core.batch.shifted import Shifting, move_entries
from wolbrin.core.batch.variants import Variants
from wolbrin.core.bits import pack, unpack, words_of
from wolbrin.core.compiled import Kernel, njit
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.ledger import ledger
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Going, Run, backtest
from wolbrin.core.engine.version import MODULES, engine_version
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Span, day_of
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.intervals import to_interval
from wolbrin.core.measures.catalogue import SUMMARY, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.rehearsal.session import same_ledger
from wolbrin.core.rules.axes import Axis, combinations, variant
from wolbrin.core.rules.model import Condition, Distance, IndicatorOperand, PositionOperand, Row, Side, Strategy

BARS = walk_bars(1500, seed=5)
READY = Prepared.of(BARS)
BRIEF = Brief(costs=Costs(slippage_ticks=1, spread_ticks=1, per_contract=2.0))
STOPPED = cross(stop=Distance(unit="atr", amount=1.5), target=Distance(unit="stop", amount=2.0))
SLOW = list(HealthCheck)


def expected(run: Run) -> list[float]:
    return list(measure(Facts.of(run), SUMMARY).values())


def on_days(run: Run, days: np.ndarray) -> np.ndarray:
    out = np.full(len(days), np.nan, np.float32)
    out[np.searchsorted(days, run.daily[0])] = run.daily[1]
    return out


@settings(max_examples=400, deadline=None, suppress_health_check=SLOW)
@given(st.lists(ideas, min_size=1, max_size=4), st.integers(0, 400))
def test_genomes_equal_ordinary_runs_with_every_option(strategies: list[Strategy], skipped: int) -> None:
    """Figures and daily results to the last bit; what cannot be run is named, and the others go on."""
    first = int(BARS.trading_date[skipped])
    brief = Brief(Span(np.datetime64(first, "D").item(), None), BRIEF.costs)
    many = Many(READY, brief)
    out = many.evaluate(strategies, with_daily=True)
    for at, one in enumerate(strategies):
        try:
            run = backtest(READY, one, brief, detail=False)
        except UserError as err:
            assert out.faults[at] == err.sentence()
            continue
        np.testing.assert_array_equal(out.figures[at], expected(run))
        np.testing.assert_array_equal(out.daily[at], on_days(run, many.days))


def test_markets_with_financing_rates_and_finer_bars_take_the_full_form() -> None:
    """The same strategy on a market with nights, a moving rate and finer bars: the driver's full form, bit for bit."""
    fine = walk_bars(4000, seed=8, minutes=5)
    bars = to_interval(fine, 15)
    history = Prepared.of(bars, finer=lambda: fine)
    brief = Brief(costs=BRIEF.costs, fine=True)
    many = Many(history, brief)
    assert not many.lean
    out = many.evaluate([STOPPED], with_daily=True)
    run = backtest(history, STOPPED, brief, detail=False)
    assert run.fine is not None
    np.testing.assert_array_equal(out.figures[0], expected(run))
    np.testing.assert_array_equal(out.daily[0], on_days(run, many.days))


@given(st.integers(1, 8), st.integers(0, 9), st.integers(1, 300), st.integers(0, 2**31))
@example(8, 9, 107, 0)  # more than there are rows
@settings(max_examples=80, deadline=None)
def test_conditions_are_joined_as_counting_joins_them(rows: int, least: int, size: int, seed: int) -> None:
    rng = np.random.default_rng(seed)
    flags = (rng.random((rows, size)) < 0.5).astype(np.uint8)
    pool = np.ascontiguousarray(pack(tuple(flags), size).T)
    genes = np.full(driver.g.GENOME, -1, np.int32)
    genes[G_ROWS:G_ROWS + rows] = np.arange(rows)
    genes[driver.G_LOGIC] = least
    out = np.zeros(words_of(size), np.uint64)
    driver.combine(genes, 0, pool, out)
    want = flags.sum(0) >= (least or rows)
    np.testing.assert_array_equal(unpack(out.reshape(-1, 1), size), want)


def test_any_number_of_threads_and_any_memory_give_the_same_bits() -> None:
    axes = (Axis.spread("long.entry.rows.0.left.params.length", "fast", 3, 12, 1),
            Axis.spread("stop.amount", "stop", 1, 3, 0.5))
    sets = combinations(axes, 100)
    blocks = [sets[i:i + 7] for i in range(0, len(sets), 7)]
    found = []
    for threads, room in ((1, None), (2, None), (4, None), (2, 8 * words_of(len(BARS)) * 6)):
        made = Variants(STOPPED, axes, Many(READY, BRIEF, room))
        with ThreadPoolExecutor(threads) as pool:
            found.append(np.concatenate([b.figures for b in pool.map(made.evaluate, blocks)]))
    for other in found[1:]:
        np.testing.assert_array_equal(other, found[0])
    one = variant(STOPPED, axes, sets[13])
    assert one is not None
    np.testing.assert_array_equal(found[0][13], expected(backtest(READY, one, BRIEF, detail=False)))


def test_a_driver_that_gives_up_does_so_in_its_full_form_too() -> None:
    rolls = Many(READY, Brief(costs=Costs(per_contract=500.0, roll_ticks=1.0)))
    assert not rolls.lean
    lost = rolls.run(genome_of(STOPPED, rolls.pool, rolls.brief), ask=Ask(np.full(FIGURES, -np.inf), True, 5))
    assert lost.outcome.tolist() == [GIVEN_UP]


def test_a_run_begins_where_columns_with_holes_all_have_a_value() -> None:
    """Opening ranges have none early in each session: two of different length, and one of another session's, meet late."""
    def ranged(minutes: float, ago: int = 0) -> IndicatorOperand:
        return IndicatorOperand(indicator="opening_range", output="high", params={"minutes": minutes}, ago=ago)

    for rows in ((row(price(), "above", ranged(30)), row(price(), "above", ranged(120))),
                 (row(price(), "above", ranged(60, 12)), row(price(), "above", ranged(90)))):
        one = STOPPED.model_copy(update={"long": entry(*rows)})
        out = Many(READY, BRIEF).evaluate([one], with_daily=True)
        np.testing.assert_array_equal(out.figures[0], expected(backtest(READY, one, BRIEF, detail=False)))


# What is asked of candidates


def test_floors_few_signals_and_hopeless_ones_are_told_apart() -> None:
    many = Many(READY, BRIEF)
    rare = cross(long=entry(row(price(), "above", num(1e9))), short=Side(mode="off"))
    genomes = Genomes.joined([genome_of(s, many.pool, BRIEF) for s in (STOPPED, rare)])
    floors = np.full(FIGURES, -np.inf)
    floors[1] = 10
    out = many.run(genomes, ask=Ask(floors, False, 0))
    assert out.outcome.tolist() == [SIMULATED, TOO_FEW]
    assert np.isnan(out.figures[1]).all()
    floors[SUMMARY.index("t")] = -1e9
    met = many.run(genomes, ask=Ask(floors, True, 0)).met.tolist()
    assert met == [True, False], "a figure without a value meets no floor"
    seen = many.run(genomes, np.array([False, True]), Ask(floors, False, 0))
    assert seen.outcome.tolist() == [SIMULATED, SIMULATED], "whose daily results are wanted is simulated"
    costly = Many(READY, Brief(costs=Costs(per_contract=500.0)))
    lost = costly.run(genome_of(STOPPED, costly.pool, costly.brief), ask=Ask(np.full(FIGURES, -np.inf), True, 5))
    assert lost.outcome.tolist() == [GIVEN_UP]
    assert lost.figures[0, 1] == 5
    assert len(many.run(Genomes(genomes.genes[:0], genomes.numbers[:0])).figures) == 0


def test_bad_ones_are_named_and_the_others_go_on() -> None:
    many = Many(READY, BRIEF)
    small = STOPPED.model_copy(update={"quantity": 0.001})
    absurd = STOPPED.model_copy(update={"stop": Distance(unit="ticks", amount=1e9), "target": None})
    out = many.evaluate([small, absurd, STOPPED])
    assert list(out.faults) == [0]
    assert "smallest lot" in out.faults[0]
    assert np.isnan(out.figures[0]).all()
    np.testing.assert_array_equal(out.figures[1], expected(backtest(READY, absurd, BRIEF, detail=False)))
    np.testing.assert_array_equal(out.figures[2], expected(backtest(READY, STOPPED, BRIEF, detail=False)))
    with pytest.raises(UserError, match="do not hold one condition"):
        Pool(READY, 8)
    tight = Variants(STOPPED, (Axis("stop.amount", "stop", (1.0,)),), Many(READY, BRIEF, 8 * words_of(len(BARS))))
    with pytest.raises(UserError, match="does not hold those of one c"):
        tight.evaluate([(1.0,)])


def test_what_a_genome_has_no_word_for_goes_through_the_same_loop() -> None:
    held = Row(left=PositionOperand(), compare="at or above", right=num(4))
    asking = STOPPED.model_copy(update={"long": STOPPED.long.model_copy(update={"exit": Condition(rows=(held,))})})
    assert runs_alone(asking)
    run = backtest(READY, asking, BRIEF, detail=False)
    np.testing.assert_array_equal(Many(READY, BRIEF).evaluate([asking]).figures[0], expected(run))
    axes = (Axis("stop.amount", "stop", (1.0, 1.5)),)
    swept = Variants(asking, axes, Many(READY, BRIEF)).evaluate([(1.0,), (1.5,)])
    np.testing.assert_array_equal(swept.figures[1], expected(run))


# Services


def test_shifted_entries_keep_their_number_and_their_place_in_the_session() -> None:
    rng = np.random.default_rng(3)
    flags = (rng.random(len(BARS)) < 0.05).astype(np.uint8)
    many = Many(READY, BRIEF)
    shifting = Shifting(many, genome_of(STOPPED, many.pool, BRIEF))
    words = np.ascontiguousarray(pack((flags,), len(BARS))[:, 0])
    target = np.arange(len(shifting.sessions.start))
    for alike in shifting.sessions.alike:
        target[alike] = rng.permutation(alike)
    out = np.zeros_like(words)
    move_entries(words, shifting.sessions.of, shifting.sessions.start, target, out)
    moved = unpack(out.reshape(-1, 1), len(BARS))
    assert moved.sum() == flags.sum()
    place = np.arange(len(BARS)) - np.searchsorted(BARS.session, BARS.session)
    assert sorted(place[moved == 1]) == sorted(place[flags == 1])
    parts = [shifting.run(7, first, 20) for first in (0, 20)]
    whole = shifting.run(7, 0, 40)
    np.testing.assert_array_equal(whole.chance, np.concatenate([p.chance for p in parts]))
    assert whole.trades.min() > 0
    assert 0 < whole.p <= 1
    unmoved = Shifting(many, genome_of(STOPPED, many.pool, BRIEF))
    unmoved.sessions = replace(unmoved.sessions, alike=())
    assert unmoved.run(1, 0, 1).chance[0] == whole.actual, "not moved, it is the candidate itself"


def test_shifted_entries_find_nothing_in_noise() -> None:
    """On random walks whose days differ in volatility, p below 0.1 is as rare as it says: within four standard errors. Exits
    are by time and signal: wicks of these walks return, so that leaving before a stop is met would be worth something."""
    found = []
    seed = np.random.SeedSequence().entropy
    print("seed", seed)
    rng = np.random.default_rng(seed)
    for _ in range(60):
        bars = walk_bars(900, seed=int(rng.integers(2**31)), sigma=float(rng.uniform(5, 30)))
        many = Many(Prepared.of(bars), Brief())
        rule = cross(time_exit=5)
        found.append(Shifting(many, genome_of(rule, many.pool, Brief())).run(1, 0, 39).p)
    assert np.mean(np.array(found) <= 0.1) < 0.1 + 4 * np.sqrt(0.09 / len(found))


def test_neighbors_differ_in_one_number_by_a_step() -> None:
    around = neighbors(STOPPED)
    assert len({n.key for n in around}) >= 4
    assert all(n.strategy != STOPPED for n in around)
    stops = sorted(n.value for n in around if n.key == "stop.amount")
    assert stops == [1.25, 1.75]
    assert np.isfinite(Many(READY, BRIEF).evaluate([n.strategy for n in around]).figures[:, 1]).all()


# Runs that pause


def test_a_run_that_bars_join_one_by_one_equals_one_in_a_go() -> None:
    going = Going(Prepared.of(BARS.take(900)), STOPPED, BRIEF)
    going.advance(going.size)
    for size in (901, 902, 930, 1200):
        bars = BARS.take(size)
        going.extend(Prepared.of(bars))
        going.advance(going.size)
        whole = backtest(bars, STOPPED, BRIEF)
        assert same_ledger(going.so_far(), whole)
        np.testing.assert_array_equal(going.so_far().log, whole.log)


def test_a_run_of_one_bar_counts_nights_as_the_longer_one_does() -> None:
    """A position taken on the first bar at its close, held for weeks: the nights before that bar are not its own."""
    whole = walk_bars(1200, seed=3, financing={"long": -2.0, "time": "17:00", "triple": "Wed"})
    days = np.unique(whole.trading_date)
    first = int(np.searchsorted(whole.trading_date, days[5]))
    rules = Strategy(name="hold", long=entry(row(price(), "above", num(0))), fill="this close", flat_by_session_end=False)
    brief = Brief(Span(day_of(days[5]), None), Costs.of(whole.terms))
    going = Going(Prepared.of(whole.take(first + 1)), rules, brief)
    assert going.size == 1
    going.advance(1)
    going.extend(Prepared.of(whole))
    going.advance(going.size)
    plain = backtest(whole, rules, brief)
    assert ledger(plain)["financing"][0] > 0
    assert same_ledger(going.so_far(), plain)


# Compiled code


def test_machine_code_goes_by_all_that_went_into_it() -> None:
    """A helper or constant that changes gives another digest to whoever calls it; a comment does not."""
    def make(body: str) -> Kernel:
        space: dict[str, object] = {"njit": njit, "__name__": "made"}
        exec(compile(body, "made.py", "exec"), space)
        found = space["outer"]
        assert isinstance(found, Kernel)
        return found

    text = ("LIMIT = {}\n@njit(nogil=True)\ndef inner(x):\n    {}return x + {}\n"
            "@njit(nogil=True)\ndef outer(x):\n    return inner(x) * LIMIT\n")
    plain = make(text.format(2, "", 1))
    assert plain.digest == make(text.format(2, "'''Says more.'''\n    ", 1)).digest
    assert plain.digest != make(text.format(3, "", 1)).digest
    assert plain.digest != make(text.format(2, "", 4)).digest
    other = plain.form(LIMIT=5)
    assert other.digest != plain.digest
    assert (plain(1), other(1), plain.form(LIMIT=5)(1)) == (4, 10, 10)
    assert plain.form(UNKNOWN=1) is plain


def test_the_engine_version_covers_every_kernel_of_signals_and_fills() -> None:
    assert engine_version().split(".")[0] == "4"
    known = {m.__name__ for m in MODULES} | {"wolbrin.core.engine.passing", "wolbrin.core.engine.orders",
                                            "wolbrin.core.engine.position", "wolbrin.core.engine.jit"}
    for part in ("indicators", "rules", "engine"):
        package = importlib.import_module(f"wolbrin.core.{part}")
        for found in pkgutil.iter_modules(package.__path__, f"wolbrin.core.{part}."):
            if found.name.endswith("own_worker"):
                continue
            module = importlib.import_module(found.name)
            own = [n for n, v in vars(module).items() if isinstance(v, Kernel) and v.__module__ == found.name]
            assert not own or found.name in known, found.name
