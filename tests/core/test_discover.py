"""Discover: rows that are numbered, genotypes against plain strategies, floors, twins, controls, evolution."""

from __future__ import annotations

import gc
import json
import weakref
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.build import any_rng, cross, discover_request, found_by, usual_level, walk_bars
from tests.core.test_evidence import fresh
from wolbrin.core.batch.many import ALL_FIGURES, Many
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Engine, Job, State
from wolbrin.core.market.costs import Costs
from wolbrin.core.measures.catalogue import BY_KEY, SUMMARY
from wolbrin.core.measures.facts import Facts
from wolbrin.core.rules.conditions import shipped
from wolbrin.core.rules.model import Distance, Filters, Sizing, Strategy, Window
from wolbrin.core.rules.naming import MOST, short_name
from wolbrin.core.rules.script import parse_strategy, strategy_text
from wolbrin.core.rules.words import describe
from wolbrin.core.search.drawing import step_code
from wolbrin.core.search.explorer import Explorer
from wolbrin.core.search.families import FAMILIES, longer_than
from wolbrin.core.search.floors import PASSED, Floors, standing, usual_floors
from wolbrin.core.search.genotype import ROW_PLACES, Plan, complexity
from wolbrin.core.search.ingredients import ROWS, Pantry, Sources, parse_chosen
from wolbrin.core.search.limits import Exits, Limits, Orders, Reach
from wolbrin.core.search.luck import luck_of
from wolbrin.core.search.objective import Floor
from wolbrin.core.search.strength import strength_of
from wolbrin.core.search.twins import Twins
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.work.discover_request import DiscoverRequest
from wolbrin.core.work.discover_results import DiscoverResult, by_floor, kept_rows, strength
from wolbrin.core.work.discovering import discover_job, read_discover, resume_discover

BARS = walk_bars(3000, seed=21)
READY = Prepared.of(BARS)
LIBRARY = tuple((c.name, c.condition(), c.tags) for c in shipped() if "position" not in c.condition().model_dump_json())
EVERY = Pantry(FAMILIES, Sources(15, (), (), LIBRARY, longer_than(15)))
STOPPED = cross(stop=Distance(unit="atr", amount=2.0))
NO_FLOORS = ALL_FIGURES
RICH = {"orders": Orders(kinds=("market", "stop", "limit"), offset=Reach.parse("atr@10:0.2..0.6", "x")),
        "stop": Exits.parse("atr@10,20:1..4|ticks:20..100|money:100..300|percent:0.2..1|none*0.2", "x"),
        "target": Exits.parse("stop:1..3|atr:2..5|none*0.3", "x"), "trail": Exits.parse("atr:1..3|none", "x"),
        "break_even": Exits.parse("stop:1..2|none", "x"), "joins": ("all", "any", "at least"), "most_rows": 5,
        "most_exit_rows": 3, "sides": ("own", "mirrored", "short")}


@pytest.fixture
def project(tmp_path: Path) -> Iterator[Project]:
    made = fresh(tmp_path / "p")
    yield made
    made.close()


@pytest.fixture
def engine() -> Iterator[Engine]:
    made = Engine(2)
    yield made
    made.close()


def explorer(limits: Limits, seed: int = 3) -> Explorer:
    return Explorer(READY, Brief(), Plan(limits), EVERY, seed)


# Ingredients


@given(st.integers(0, 2**31))
@settings(max_examples=60, deadline=None)
def test_rows_are_numbered_and_each_number_is_one_row(seed: int) -> None:
    rng = np.random.default_rng(seed)
    which = int(rng.integers(len(EVERY.items)))
    item = EVERY.items[which]
    numbers = rng.integers(item.size, size=3).tolist()
    nodes = []
    for number in numbers:
        digits = item.digits(number)
        assert item.number(digits) == number
        assert all(0 <= d < n for d, n in zip(digits, item.shape))
        nodes.append(EVERY.node(EVERY.code(which, digits), usual_level))
        beside = step_code(rng, EVERY, (which << ROWS) | number)
        assert beside >> ROWS == which
        assert sum(a != b for a, b in zip(item.digits(beside & (2**ROWS - 1)), digits)) <= 1
    known = {n: node.model_dump_json() for n, node in zip(numbers, nodes) if node is not None}
    assert len(set(known.values())) == len(known), "two numbers, two rows"


def test_what_a_choice_spans_is_the_sum_of_its_parts() -> None:
    weekday = Pantry(FAMILIES, Sources(15), parse_chosen(["weekday"]))
    rows = {weekday.node(weekday.code(i, item.digits(n)), usual_level).model_dump_json()  # type: ignore[union-attr]
            for i, item in enumerate(weekday.items) for n in range(item.size)}
    assert weekday.size == len(rows) == 5 + 5 + 10
    two = Pantry(FAMILIES, Sources(15), parse_chosen(["weekday", "clock:between*3"]))
    assert two.size == weekday.size + 480
    assert two.weights[-1] > 3 * two.weights[0]
    far = Pantry(FAMILIES, Sources(15, longer=(30, 60)), parse_chosen(["average", "longer"]))
    near = Pantry(FAMILIES, Sources(15, longer=(30, 60)), parse_chosen(["average"]))
    assert far.size == 3 * near.size
    for texts, words in ((["nonsense"], "no ingredient"), (["own"], "has nothing here"), (["trend:nothing"], "no \"trend"),
                         (["longer"], "no ingredient is chosen"), (["trend*x"], "not an ingredient"), ([""], "not an ingr")):
        with pytest.raises(UserError, match=words):
            Pantry(FAMILIES, Sources(15), parse_chosen(texts))


def test_every_family_appears_and_every_candidate_survives_text_words_and_file(tmp_path: Path) -> None:
    """Own indicators have none here; the test of own files covers them."""
    pantry = Pantry(FAMILIES, Sources(15, (), (), LIBRARY, (30, 60)), tuple(
        replace(c, weight=1.0) for c in parse_chosen([f"{f.key}" for f in FAMILIES if f.key != "own"] + ["longer"])))
    search = Explorer(READY, Brief(), Plan(Limits(pool=1200, **RICH)), pantry, 5)
    drawn = search.prepare().batch((5, 0), 150)
    seen = {pantry.items[int(c) >> ROWS].family for one in drawn for c in one[ROW_PLACES] if c >= 0}
    missing = {f.key for f in FAMILIES if f.key != "own"} - seen
    more = {pantry.items[int(c) >> ROWS].family for c in search.prepare().codes}
    assert not missing - more, "every family is drawn from"
    names = set()
    for at, one in enumerate(drawn):
        made = search.strategy(one, f"Number {at}")
        assert parse_strategy(strategy_text(made)) == made
        assert Strategy.model_validate_json(made.model_dump_json()) == made
        assert describe(made)
        name = short_name(made)
        assert 3 <= len(name) <= MOST
        names.add(name)
    assert len(names) > 100, "names say what candidates do"


# Candidates


@pytest.mark.parametrize("limits", [
    Limits(pool=120), Limits(pool=120, sides=("long",)), Limits(pool=120, sides=("short",)), Limits(pool=120, sides=("own",)),
    Limits(pool=120, **RICH), Limits(pool=120, keep="entry", strategy=STOPPED),
    Limits(pool=120, keep="exits", strategy=STOPPED), Limits(pool=120, keep="both", strategy=STOPPED),
    Limits(pool=120, sizing=Sizing(kind="risk", amount=0.5), filters=Filters(windows=(Window(first="10:00", last="15:00"),),
                                                                             most_entries=2)),
    Limits(pool=120, stop=Exits.parse("none", "x"), target=Exits.parse("atr:1..3", "x"))], ids=[
        "mirrored", "long", "short", "own", "rich", "entry", "exits", "filter", "risk", "no stop"])
def test_candidates_put_together_equal_their_strategies(limits: Limits) -> None:
    """Genomes looked up part by part against each strategy read through the model."""
    search = explorer(limits)
    drawn = search.prepare().batch((3, 0), 160)
    out = search.run(drawn, NO_FLOORS, np.ones(160, bool))
    rules = [search.strategy(one) for one in drawn]
    alone = Many(READY, Brief()).evaluate(rules, True)
    np.testing.assert_array_equal(out.figures, alone.figures)
    np.testing.assert_array_equal(out.daily, alone.daily)
    assert not alone.faults
    assert np.isfinite(out.figures[:, 0]).all()
    assert (out.figures[:, 1] > 0).mean() > 0.5
    sides = {(r.long.mode, r.short.mode) for r in rules}
    assert len(sides) == (1 if limits.keep else len(limits.sides))
    rows = [len(r.long.entry.leaves if r.long.mode == "own" else r.short.entry.leaves) for r in rules]
    if not limits.keep:
        assert max(rows) >= limits.most_rows
        assert (complexity(drawn) >= 1).all()


def test_a_pool_that_is_full_gives_way_and_changes_nothing() -> None:
    whole, small = explorer(Limits(pool=40)), Explorer(READY, Brief(), Plan(Limits(pool=40)), EVERY, 3, room=47 * 8 * 90)
    drawn = whole.prepare().batch((1, 1), 60)
    small.prepare()
    others = explorer(Limits(pool=60), 8).prepare().batch((2, 1), 60)
    for some in (drawn, others, drawn):
        np.testing.assert_array_equal(whole.run(some, NO_FLOORS).figures, small.run(some, NO_FLOORS).figures)


def test_what_a_search_held_goes_with_it() -> None:
    """Half a gigabyte of rows is free as soon as nobody holds it, without waiting for garbage to be looked for."""
    search = explorer(Limits(pool=40))
    search.run(search.prepare().batch((1, 1), 20), NO_FLOORS)
    gone = weakref.ref(search.many.pool)
    gc.disable()
    try:
        del search
        assert gone() is None
    finally:
        gc.enable()


def test_a_search_that_gives_up_keeps_its_evidence_whole(project: Project, engine: Engine) -> None:
    """Whose daily results are kept is never given up, and only they tell of Sharpe ratios."""
    told = []
    for give_up in (0, 5):
        request = discover_request(count=20_480, pool=80)
        request = replace(request, limits=request.limits.model_copy(update={"give_up_after": give_up}))
        job, result = discover_job(project, request)
        assert engine.start(job, "threads").wait() is State.DONE, job.error
        row = project.rows("SELECT sharpe_count n FROM searches WHERE id = ?", result.search)[0]
        told.append((Searches(project).rows(result.search, "daily"), row["n"]))
    assert told[0][0]["daily"].tobytes() == told[1][0]["daily"].tobytes()
    assert told[1][1] <= len(told[1][0]["number"]) < told[0][1]


# Floors


def test_floors_are_asked_in_order_and_of_sides_and_years() -> None:
    search = explorer(Limits(pool=120))
    drawn = search.prepare().batch((3, 0), 200)
    floors = Floors(tuple(Floor.parse(t) for t in (
        "trades>=20", "profit_factor>=1.0", "max_drawdown<=3000", "long.trades>=5", "year.net>=-2000", "positive_years>=50")),
        search.years)
    out = search.run(drawn, floors.ask(False, 0))
    failed = floors.first_failed(out)
    every = search.run(drawn, NO_FLOORS)
    checked = 0
    for at, one in enumerate(drawn):
        run = backtest(READY, search.strategy(one), Brief())
        figures = {k: float(BY_KEY[k].of(Facts.of(run))) for k in SUMMARY}
        np.testing.assert_array_equal(every.figures[at], list(figures.values()))
        expected = next((i for i, f in enumerate(floors.floors[:3]) if not f.holds(figures[f.key])), PASSED)
        if failed[at] == -2:
            assert figures["trades"] < 20
            continue
        assert failed[at] == expected
        if expected == PASSED:
            checked += 1
            values = floors.values(run)
            sides = run.trades_i[:, 0]
            assert values[0] == (sides > 0).sum()
            assert values[1] == pytest.approx(run.profits.sum()), "the walk stays within one year"
            assert floors.near(out.figures)[at]
    assert checked > 3


def test_floors_that_nothing_can_pass_are_told_before_anything_runs(project: Project) -> None:
    for texts, words in ((("trades>=90000",), "floors ask for 90,000 trades"), (("win_rate>=101",), "never above 100"),
                         (("net>=5", "net<=2"), "no value is at least 5 and at most 2")):
        floors = tuple(Floor.parse(t) for t in texts)
        with pytest.raises(UserError, match=words):
            discover_job(project, discover_request(floors=floors))
    assert not Searches(project).all(["discover"])
    assert usual_floors(6.5)[0].value == 20
    assert usual_floors(0.5)[0].value == 60


@pytest.mark.parametrize("method", ["random", "evolve"])
def test_controls_that_are_added_are_those_it_would_have_had(method: str, tmp_path: Path, engine: Engine) -> None:
    """To a search that ended, and to one that was stopped in the middle of a turn, which goes on afterwards: the same counts,
    finds and best of every stream, and nothing more is tried on the real history."""
    def told(one: DiscoverResult, of: Project) -> list[Any]:
        kept = [(r.get("number", np.zeros(0)).tolist()) for r in kept_rows(of, one)]
        return [[(c.tried, c.kept, c.met, c.best_t, c.best_sharpe) for c in one.counts], kept]

    whole, ended, cut = (fresh(tmp_path / name) for name in ("whole", "ended", "cut"))
    asked = discover_request(count=768, controls=4, method=method)
    job, result = discover_job(whole, asked)
    assert engine.start(job, "threads").wait() is State.DONE, job.error
    wanted = told(read_discover(whole, result.search), whole)
    for at, of in enumerate((ended, cut)):
        jobs: list[Job] = []
        job, result = discover_job(of, replace(asked, controls=1),
                                   lambda found, cut=at, jobs=jobs: jobs[0].stop() if cut and found.tried else None)
        jobs.append(job)
        assert engine.start(job, "threads").wait() is (State.STOPPED if at else State.DONE), job.error
        tried = Searches(of).tried_on("AAA")
        job, result = resume_discover(of, result.search, controls=4)
        state = engine.start(job, "threads").wait()
        assert state is State.DONE, job.error
        assert Searches(of).tried_on("AAA") == tried, "controls are not tried"
        if at:
            job, result = resume_discover(of, result.search)
            assert engine.start(job, "threads").wait() is State.DONE, job.error
        assert told(read_discover(of, result.search), of) == wanted
        with pytest.raises(UserError, match="4 controls already"):
            resume_discover(of, result.search, controls=3)
    for one in (whole, ended, cut):
        one.close()


def test_floors_that_replace_the_usual_ones_keep_what_controls_cannot_tell() -> None:
    """Enough trades, and t above drift, which controls do not have, unless they are taken out by name."""
    own = (Floor(key="profit_factor", value=1.1),)
    assert [f.text for f in standing(own, 2.0)] == ["trades>=30", "profit_factor>=1.1", "above_drift>=2.5"]
    assert standing(own, 6.5)[0].text == "trades>=65"
    assert standing(own, 2.0, ("trades", "above_drift")) == own
    moved = (Floor(key="trades_per_year", value=5.0), Floor(key="above_drift", value=1.0))
    assert standing(moved, 2.0) == moved
    with pytest.raises(UserError, match="no standing floor"):
        standing(own, 2.0, ("net",))


def test_loosening_floors_takes_in_what_was_simulated(project: Project, tmp_path: Path, engine: Engine) -> None:
    """Asked loosely at once, or strictly first and loosely after: the same is kept, on the real history and on controls."""
    strict = (Floor(key="trades", value=5), Floor(key="profit_factor", value=1.2), Floor(key="positive_years", value=1.0))
    loose = (strict[0], Floor(key="profit_factor", value=1.1), strict[2])
    other = fresh(tmp_path / "other")
    told = []
    for at, floors in ((project, strict), (other, loose)):
        job, result = discover_job(at, discover_request(count=1024, floors=floors, controls=1, alike=1.0))
        assert engine.start(job, "threads").wait() is State.DONE, job.error
        if at is project:
            before = result.kept
            job, result = resume_discover(at, result.search, floors=loose)
            assert engine.start(job, "threads").wait() is State.DONE, job.error
            assert result.kept > before
        again = read_discover(at, result.search)
        assert (again.counts, again.floors) == (result.counts, loose)
        told.append((sorted(found_by(at, result.search)), [c.kept for c in result.counts], result.tried,
                     Searches(at).tried_on("AAA")))
    other.close()
    assert told[0] == told[1]


# Twins and luck


def test_twins_are_dropped_and_near_twins_grouped_under_the_simpler() -> None:
    rng = np.random.default_rng(1)
    one, other = rng.normal(size=(2, 300)).astype(np.float32)
    twins = Twins(300, 0.9)
    assert twins.take(1, one, 3).fate == "kept"
    assert twins.take(1, one, 1).fate == "twin"
    assert (twins.take(2, one + 0.1 * other, 3).fate, twins.take(3, one * 2, 2).fate) == ("near", "instead")
    assert twins.take(4, -one, 1).fate == "kept"
    assert twins.take(5, other, 5).other == 2
    assert twins.alike == [3, 1, 1]


def test_counts_beyond_luck_are_rare_where_there_is_nothing_else() -> None:
    """Counts of overdispersed draws (negative binomial), the more so the larger they are: a search among its controls is said
    to keep more than luck in about 5 of 100, within binomial bounds at one in ten thousand and half again for the model."""
    from scipy import stats

    rng = any_rng()
    for mean, more in ((3.0, 1.2), (3.0, 2.0), (30.0, 2.0), (30.0, 3.0), (300.0, 6.0), (300.0, 16.0)):
        n = mean / (more - 1)
        for controls in (3, 8, 20):
            runs = 1500
            counts = rng.negative_binomial(n, n / (n + mean), size=(runs, controls + 1))
            beyond = sum(luck_of(int(c[0]), c[1:].tolist()).beyond for c in counts)
            assert beyond <= stats.binom.ppf(0.9999, runs, 0.075), (mean, more, controls)
            if controls == 20:
                assert beyond >= stats.binom.ppf(0.0001, runs, 0.02), (mean, more)


def test_the_share_of_finds_that_luck_brings_falls_with_strength() -> None:
    found = np.concatenate([np.random.default_rng(1).normal(2.5, 0.4, 100), np.full(20, 6.0)])
    controls = [np.random.default_rng(s).normal(2.5, 0.4, 100) for s in range(2, 6)]
    curve = strength_of(found, controls)
    level, count, share = curve.levels
    assert (np.diff(share) <= 0).all()
    assert 0.4 < curve.at(2.5) < 1.0
    assert curve.at(2.5) > 3 * curve.at(3.5)
    assert curve.at(6.0) <= 0.25 / 20
    assert (count == [(found >= v).sum() for v in level]).all()
    for at, many, expected, part in curve.shown():
        assert (many, part) == ((found >= at).sum(), curve.at(at))
        if sum((c >= at).sum() for c in controls) >= 10:
            assert expected == np.mean([(c >= at).sum() for c in controls])
    assert np.isnan(strength_of(found, []).at(3.0))


# Whole searches


@pytest.mark.parametrize("method", ["random", "evolve"])
def test_the_same_seed_gives_the_same_candidates_on_any_number_of_threads(method: str, tmp_path: Path) -> None:
    told = []
    for workers in (1, 2, 4):
        at, threads = fresh(tmp_path / str(workers)), Engine(workers)
        job, result = discover_job(at, discover_request(count=1280, pool=80, controls=1, method=method))
        assert threads.start(job, "threads").wait() is State.DONE, job.error
        searches = Searches(at)
        told.append((found_by(at, result.search), [vars(c) for c in result.counts], result.improvements,
                     [searches.rows(result.search, f"kept {s}")["daily"].tobytes() for s in (0, 1)]))
        assert result.tried == 1280
        shelf = Shelf(at)
        alike = [line.marks.alike for line in shelf.lines([k.id for k in shelf.bodies()])]
        assert len(told[0][0]) == result.kept
        threads.close()
        at.close()
    assert told[0] == told[1] == told[2]
    assert sum(alike) == told[0][1][0]["kept"] + told[0][1][0]["alike"], "each stands for its near-twins too"


def test_several_markets_are_searched_each_or_all_at_once(project: Project, engine: Engine) -> None:
    both = (("AAA", 15), ("BBB", 15))
    job, each = discover_job(project, replace(discover_request(count=512, controls=1), places=both))
    assert engine.start(job, "threads").wait() is State.DONE, job.error
    assert Searches(project).tried() == {"AAA": 512, "BBB": 512, "": 0}
    assert each.tried == 1024
    shelf = Shelf(project)
    assert {k.candidate.market for k in shelf.bodies()} == {"AAA", "BBB"}
    assert [s.tried for s in Searches(project).all(["discover"])] == [1024]
    shelf.remove([k.id for k in shelf.bodies()])
    job, hold = discover_job(project, replace(discover_request(count=512, seed=2), places=both, hold=True))
    assert engine.start(job, "threads").wait() is State.DONE, job.error
    kept = shelf.bodies()
    assert hold.kept
    by_rules: dict[str, set[str]] = {}
    for k in kept:
        by_rules.setdefault(k.hash, set()).add(k.candidate.market)
        assert k.candidate.summary["profit_factor"] >= 0.5
    assert set(map(frozenset, by_rules.values())) == {frozenset(("AAA", "BBB"))}
    assert Searches(project).tried() == {"AAA": 1024, "BBB": 1024, "": 0}


def test_a_search_ends_when_enough_is_kept_and_says_what_luck_kept(project: Project, engine: Engine) -> None:
    job, result = discover_job(project, discover_request(count=50_000, until_kept=40, controls=2))
    assert engine.start(job, "threads").wait() is State.DONE, job.error
    assert 40 <= result.kept < 300
    assert len({c.tried for c in result.counts}) == 1, "controls have tried as many"
    luck = result.luck
    assert luck.controls == (result.counts[1].kept, result.counts[2].kept)
    assert str(result.kept) in luck.words
    curve = strength(project, result)
    assert len(curve.found) == result.kept
    raised = by_floor(project, result, 1)
    assert [w.kept for _, w in raised] == sorted((w.kept for _, w in raised), reverse=True)
    assert raised[0][1].kept == result.kept
    assert json.loads(json.dumps(result.request.as_json())) == DiscoverRequest.from_json(result.request.as_json()).as_json()
    best = result.best
    assert best is not None
    first, *later = result.improvements
    assert "over" not in first
    assert all(i["by"] > 0 for i in later if "by" in i)


def test_a_search_around_a_strategy_keeps_its_part(project: Project, engine: Engine) -> None:
    for keep in ("entry", "exits", "both"):
        limits = Limits(pool=60, keep=keep, strategy=STOPPED)  # type: ignore[arg-type]
        job, result = discover_job(project, replace(discover_request(count=256), limits=limits))
        assert engine.start(job, "threads").wait() is State.DONE, job.error
        for k in Shelf(project).bodies():
            if k.search == result.search:
                s = k.candidate.strategy
                assert (s.long.entry == STOPPED.long.entry) == (keep == "entry")
                assert (s.stop == STOPPED.stop) or keep == "entry"
                if keep == "both":
                    assert s.long.entry.rows[:len(STOPPED.long.entry.rows)] == STOPPED.long.entry.rows
                    assert len(s.long.entry.rows) > len(STOPPED.long.entry.rows)
        assert result.kept


def test_what_cannot_be_asked_is_a_sentence(project: Project) -> None:
    asked = discover_request()
    for request, words in (
            (replace(asked, places=()), "no market"), (replace(asked, places=asked.places * 2), "stands there twice"),
            (replace(asked, hold=True), "needs two"), (replace(asked, controls=101), "0 to 100 controls"),
            (replace(asked, count=0), "can be tried"), (replace(asked, method="best"), "no method"),
            (replace(asked, ingredients=parse_chosen(["own"])), "has nothing here"),
            (replace(asked, places=(("XXX", 15),)), "XXX")):
        with pytest.raises(UserError, match=words):
            discover_job(project, request)
    for text, words in (("atr:4..1", "below its beginning"), ("parsec:1..2", "not a distance"), ("none*2", "not a share"),
                        ("ticks:1..2000/1", "more than 200 steps"), ("atr@0:1..2", "between 1 and 5,000")):
        with pytest.raises(UserError, match=words):
            Exits.parse(text, "--stop")
    assert Exits.parse("atr@10,20:1..4/0.5|ticks:20..100|none*0.3", "x") == Exits.parse(
        Exits.parse("atr@10,20:1..4/0.5|ticks:20..100|none*0.3", "x").text, "x")
    with pytest.raises(ValueError, match="stop distances needs a stop"):
        Limits(stop=Exits.parse("none", "x"))
    costly = Brief(costs=Costs(per_contract=60.0))
    assert (explorer(Limits(pool=60)).years, costly.capital) != (0, 0)

