"""Walk-forward: dated strategies, walks as jobs, grids of lengths, extension, the gate, the holdout."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Iterator
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from scipy import stats

from tests.build import any_seed, cross, walk_bars
from tests.core.test_evidence import SETTINGS, fresh
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.ledger import ledger
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Going, backtest
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Engine, State
from wolbrin.core.market.bars import Bars, Span, day_of
from wolbrin.core.market.costs import Costs
from wolbrin.core.proving.gate import FALLS, NOT_ENOUGH, PASSES
from wolbrin.core.proving.holdout import HoldoutGate
from wolbrin.core.proving.walk_forward import WalkForwardGate, WalkForwardSettings
from wolbrin.core.rules.axes import Axis
from wolbrin.core.rules.dated import schedule_words, steps_of, undated, varied, with_schedule
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Distance, PositionOperand, Row, Side, Strategy, read_strategy
from wolbrin.core.rules.numbers import with_values
from wolbrin.core.rules.operands import NumberOperand
from wolbrin.core.rules.schedule import Schedule, Spell
from wolbrin.core.search.folds import Fold, Length
from wolbrin.core.search.objective import Floor
from wolbrin.core.search.walked import Fit, FoldResult, drift_of, efficiency, jumps, profitable, sentence
from wolbrin.core.store.holdout import HoldoutBook
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.going_on import go_on
from wolbrin.core.work.judging import figures_of
from wolbrin.core.work.procedure import Procedure
from wolbrin.core.work.proving import case_of, prove_job, unseen_span
from wolbrin.core.work.subject import Subject
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.walk_fits import fit_span, work_on
from wolbrin.core.work.walk_grid import grid_of, luck_words
from wolbrin.core.work.walk_reading import walked
from wolbrin.core.work.walk_request import View, WalkRequest
from wolbrin.core.work.walk_results import WalkResult, read_walk, walk_of
from wolbrin.core.work.walk_schedule import carried_on, fit_due, keep_strategy
from wolbrin.core.work.walk_work import WalkWork
from wolbrin.core.work.walking import estimate_walk, extend_walk, laid_over, resume_walk, walk_job

ONE = dt.timedelta(days=1)
FAST, SLOW = "long.entry.rows.0.left.params.length", "long.entry.rows.0.right.params.length"
RULES = cross(stop=Distance(unit="atr", amount=1.5), flat_by_session_end=False)
COSTS = Costs(slippage_ticks=1, per_contract=1.0)


@pytest.fixture
def engine() -> Iterator[Engine]:
    made = Engine(2)
    yield made
    made.close()


@pytest.fixture
def project(tmp_path: Path) -> Iterator[Project]:
    made = fresh(tmp_path / "p")
    yield made
    made.close()


def lengths(text: str) -> tuple[Length, ...]:
    return tuple(Length.parse(t) for t in text.split(",") if t)


def asked(training: str = "20d", test: str = "10d", rules: Strategy = RULES, **more: object) -> WalkRequest:
    axes = (Axis(FAST, "fast", (2.0, 3.0, 5.0, 8.0)), Axis(SLOW, "slow", (12.0, 20.0, 30.0)))
    return WalkRequest(SweepRequest(rules, "AAA", 15, axes), lengths(training), lengths(test), **more)  # type: ignore[arg-type]


def done(engine: Engine, made: tuple) -> WalkResult:
    assert engine.start(made[0], "threads").wait() is State.DONE, made[0].error
    result: WalkResult = made[1]
    return result


def scheduled(rules: Strategy, spells: list[tuple[dt.date, tuple[float, ...]]], keys: tuple[str, ...] = (FAST, SLOW),
              market: str = "TST") -> Strategy:
    made = tuple(Spell(first=first, values=values, fitted_first=first - 9 * ONE, fitted_last=first - ONE)
                 for first, values in spells)
    return with_schedule(rules, Schedule(keys=keys, titles=keys, spells=made, market=market, interval=15, rules="0" * 16))


def dates(bars: Bars) -> list[dt.date]:
    return [day_of(d) for d in np.unique(bars.trading_date)]


# Dated numbers in the simulator; tests/core/test_twin.py holds the loop to the slow twin


SETS = [(3.0, 12.0), (5.0, 20.0), (2.0, 30.0), ()]


@settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.integers(0, 400), st.lists(st.sampled_from(SETS), min_size=1, max_size=4), st.booleans(), st.integers(1, 900))
def test_equal_numbers_are_no_change_and_pauses_change_nothing(seed: int, sets: list[tuple[float, ...]], flat: bool,
                                                               pause: int) -> None:
    """The same numbers again at every date: the plain run, bit for bit. Any dates: run whole, in steps, and over a history
    that grows, the same bits."""
    bars = walk_bars(1000, seed=seed)
    history, brief = Prepared.of(bars), Brief(costs=COSTS)
    days, rules = dates(bars), RULES.model_copy(update={"flat_by_session_end": flat})
    at = [days[2 + 5 * i] for i in range(len(sets))]
    same = scheduled(rules, [(d, (5.0, 20.0)) for d in at])
    plain = backtest(history, with_values(rules, {FAST: 5.0, SLOW: 20.0}), replace(brief, span=Span(at[0], None)))
    again = backtest(history, same, brief)
    np.testing.assert_array_equal(np.delete(again.trades_i, k.T_NUMBERS, 1), np.delete(plain.trades_i, k.T_NUMBERS, 1))
    np.testing.assert_array_equal(again.trades_f, plain.trades_f)
    np.testing.assert_array_equal(again.log, plain.log)
    np.testing.assert_array_equal(again.net, plain.net)
    dated = scheduled(rules, list(zip(at, sets)))
    whole = backtest(history, dated, brief)
    going = Going(history, dated, brief)
    for until in (*range(pause, going.size, pause), going.size):
        going.advance(until)
    stop = max(going.first + 1, 300 + pause % 300)
    grown = Going(history.over(bars.take(stop)), dated, brief)
    if grown.size:
        for end in (stop, min(len(bars), stop + pause), len(bars)):
            grown.extend(history.over(bars.take(end)))
            grown.advance(grown.size)
    for other in (going.so_far(), *((grown.so_far(),) if grown.size else ())):
        assert other.fingerprint == whole.fingerprint
        np.testing.assert_array_equal(other.log, whole.log)


def test_each_trade_is_decided_by_the_numbers_of_its_day_and_leaves_by_its_own() -> None:
    """A time exit of 40 bars opens a trade before the border; after it, one of 2 bars stands. The old one still takes 40, and
    rows on the position, dated too, ask what stood at its entry."""
    held = Row(left=PositionOperand(state="bars_held"), compare="at or above", right=NumberOperand(value=40.0))
    rules = cross(flat_by_session_end=False, on_opposite="ignore")
    rules = rules.model_copy(update={"long": rules.long.model_copy(update={"exit": rules.long.exit.model_copy(
        update={"match": "any", "rows": (held,)})}), "short": Side(mode="off")})
    bars = walk_bars(900, seed=11)
    days, key = dates(bars), "long.exit.rows.0.right.value"
    run = backtest(Prepared.of(bars), scheduled(rules, [(days[0], (40.0,)), (days[8], (2.0,))], (key,)), Brief())
    border = int(np.searchsorted(bars.trading_date, (days[8] - dt.date(1970, 1, 1)).days))
    t = run.trades_i
    before = t[:, k.T_DECISION] < border
    assert (t[:, k.T_NUMBERS] == np.where(before, 0, 1)).all()
    carried = before & (t[:, k.T_EXIT_BAR] > border)
    assert carried.any()
    closed = t[:, k.T_REASON] == k.CONDITION
    assert (t[closed & before, k.T_HELD] == 41).all()
    assert (t[closed & ~before, k.T_HELD] == 3).all()
    assert set(ledger(run)["numbers_from"]) == {str(days[0]), str(days[8])}
    assert run.decided_by(0).long.exit.rows[0].right.value == 40.0  # type: ignore[union-attr]


def test_dated_numbers_belong_to_their_rules_and_place() -> None:
    bars = walk_bars(600)
    history, at = Prepared.of(bars), dates(bars)[5]
    good = scheduled(RULES, [(at, (3.0, 12.0))])
    assert len(backtest(history, good, Brief())) > 0
    assert strategy_hash(good) != strategy_hash(undated(good))
    assert read_strategy(good.model_dump(mode="json"), "x") == good
    assert schedule_words(good) == [f"from {at.day} {at:%b %Y}: {FAST} 3, {SLOW} 12"]
    other = good.model_copy(update={"quantity": 2.0})
    with pytest.raises(UserError, match="fitted for other rules"):
        backtest(history, other, Brief())
    with pytest.raises(UserError, match="fitted on XYZ, not on TST"):
        backtest(history, scheduled(RULES, [(at, (3.0, 12.0))], market="XYZ"), Brief())
    with pytest.raises(UserError, match="no such number"):
        scheduled(RULES, [(at, (3.0, 12.0))], ("long.entry.rows.7.left.params.length", SLOW))
    with pytest.raises(UserError, match="is not where it was"):
        steps_of(_moved(good))
    for spells in ([(at, (3.0,))], [(at, (3.0, 12.0)), (at, (5.0, 20.0))]):
        with pytest.raises(ValueError, match=r"all of them, or none|order of their dates"):
            scheduled(RULES, spells)  # type: ignore[arg-type]
    moved = varied(good, {FAST: 4.0, "stop.amount": 2.0})
    assert [s.strategy and s.strategy.stop and s.strategy.stop.amount for s in steps_of(moved)] == [2.0]
    assert moved.schedule is not None
    assert moved.schedule.spells[0].values == (4.0, 12.0)


def _moved(good: Strategy) -> Strategy:
    """A parameter stands where another one stood."""
    schedule = good.schedule
    assert schedule is not None
    keys = ("parameters.0.value", SLOW)
    return good.model_copy(update={"schedule": schedule.model_copy(update={"keys": keys, "titles": ("length", SLOW)})})


# What a walk says of itself


def fold(n: int) -> Fold:
    """Training of 2020 + n, test of the first half of the year after."""
    return Fold(dt.date(2020 + n, 1, 1), dt.date(2020 + n, 12, 31), dt.date(2021 + n, 1, 1), dt.date(2021 + n, 6, 30))


def test_efficiency_drift_and_jumps_by_hand() -> None:
    """Pardo's efficiency: 3,000 in 1.5 test years against 12,000 in three training years; a fold that fitted nothing is left
    out."""
    axes = (Axis("a", "fast", tuple(float(v) for v in range(10, 21))),)

    def fit(n: int, value: float | None, net: float, near: tuple[float, float] = (10.0, 12.0)) -> Fit:
        f = fold(n)
        return Fit(f.training_first, f.training_last, None if value is None else (value,), {"net": net}, 1.0, 11, "",
                   (near,))

    fits = [fit(0, 10, 4000), fit(1, 11, 6000), fit(2, 20, 2000, (18.0, 20.0)), fit(3, None, 0)]
    tested = [FoldResult(fold(i), f, net, 3) for i, (f, net) in enumerate(zip(fits, (1000, -500, 2500, 0)))]
    year = 365.25
    test_years, training_years = (181 + 181 + 181) / year, (366 + 365 + 365) / year
    assert efficiency(tested) == pytest.approx((3000 / test_years) / (12_000 / training_years))
    assert efficiency(tested[3:]) != efficiency(tested[3:])
    assert profitable(tested) == 50.0
    assert drift_of(axes, fits) == [pytest.approx(100 * (0.1 + 0.9) / 2)]
    assert [(j.at, j.before, j.after) for j in jumps(axes, fits)] == [(2, 11.0, 20.0)]
    assert not jumps(axes, [fit(0, 10, 1, (10.0, 20.0)), fit(1, 20, 1, (18.0, 20.0))])
    said = sentence(axes, tested, 3000.0)
    assert said.startswith("Earned 3,000 in four tests, fitted to earn ")
    assert "; one of four lost; in one nothing could be fitted and nothing was traded; fast wanders from 10 to 20." in said


# Walks


def test_a_walk_stitches_its_folds_and_the_schedule_trades_the_same(project: Project, engine: Engine) -> None:
    """Flat at every session's end nothing is carried, so that the walk is its folds one after the other, run alone; and the
    kept strategy, read from the project again, trades the same bits."""
    flat = RULES.model_copy(update={"flat_by_session_end": True})
    result = done(engine, walk_job(project, asked(rules=flat)))
    walk = walk_of(project, result)
    request = walk.request
    assert len(walk.tested) >= 2
    nets, rows = [], 0
    for t in walk.tested:
        assert t.fit.values is not None
        one = with_values(flat, dict(zip((FAST, SLOW), t.fit.values)))
        alone = backtest(walk.history, one, replace(walk.brief, span=Span(t.fold.test_first, t.fold.test_last)))
        mine = walk.run.trades_f[rows:rows + len(alone), k.F_NET]
        np.testing.assert_array_equal(mine, alone.profits)
        assert t.net == pytest.approx(alone.profits.sum(), abs=1e-6)
        assert t.trades == len(alone)
        rows += len(alone)
        nets += alone.profits.tolist()
    assert rows == len(walk.run)
    assert walk.figures["net"] == pytest.approx(sum(nets))
    id = keep_strategy(project, walk)
    kept = project.strategy(id)
    again = backtest(project.prepared("AAA", 15), kept.strategy, project.settings.brief(project.market("AAA").terms))
    assert again.fingerprint == walk.run.fingerprint
    stored = read_walk(project, result.search)
    assert stored.fits == result.fits
    assert walk_of(project, stored).run.fingerprint == walk.run.fingerprint
    last = walk.strategy.schedule
    assert last is not None
    view = request.view
    assert view is not None
    assert last.now.first == view.last + ONE
    assert last.due == view.last + ONE + dt.timedelta(days=10)


def test_cells_share_fits_and_give_the_bits_of_walks_of_their_own(project: Project, engine: Engine) -> None:
    """Shared conditions and spans change nothing; what is charged: the sets once, and every cell."""
    grid = done(engine, walk_job(project, asked("15d,25d", "5d,10d")))
    assert len(grid.request.spans) < sum(len(o.spans) for o in grid.request.layouts)
    assert Searches(project).get(grid.search).tried == 12 + 4
    footing = Footing.of(project)
    for span, fit in list(zip(grid.request.spans, grid.fits))[:4]:
        assert fit_span(work_on(footing, grid.request.sweep, *span)) == fit
    for cell, one in enumerate(grid.request.cells):
        alone = done(engine, walk_job(project, asked(one.training.short, one.test.short)))
        assert walk_of(project, alone).run.fingerprint == walk_of(project, grid, cell).run.fingerprint
        assert alone.cells[0] == pytest.approx(grid.cells[cell], nan_ok=True, abs=0)


def test_a_walk_that_is_stopped_goes_on_and_shuffled_histories_come_later(project: Project, engine: Engine) -> None:
    whole = done(engine, walk_job(project, asked("15d", "5d"), shuffles=3))
    held: list[WalkResult] = []
    job, result = walk_job(project, asked("15d", "5d"), shuffles=2, notify=lambda r: (held.append(r), job.stop()))
    engine.start(job, "threads").wait()
    assert result.unfinished
    assert 0 < len(result.fits) < len(result.request.spans)
    _, more, grown = go_on(project, result.search)
    assert engine.start(more, "threads").wait() is State.DONE, more.error
    assert grown.fits == whole.fits
    np.testing.assert_array_equal(grown.luck, whole.luck[:2])
    longer = done(engine, resume_walk(project, grown.search, more=1))
    np.testing.assert_array_equal(longer.luck, whole.luck)
    assert Searches(project).get(result.search).tried == Searches(project).get(whole.search).tried
    assert "On 3 shuffled histories" in luck_words(longer)


def test_nothing_after_a_day_changes_the_folds_before_it(project: Project, engine: Engine) -> None:
    """The same walk over a view that ends earlier: the folds that end by then are the same, fits and figures."""
    long = asked("15d", "5d", backward=False)
    whole = walk_of(project, done(engine, walk_job(project, long)))
    cut = whole.tested[len(whole.tested) // 2].fold.test_last
    project.update_settings(project.settings.model_copy(update={"training_last": cut}))
    short = walk_of(project, done(engine, walk_job(project, long)))
    assert len(short.tested) < len(whole.tested)
    for a, b in zip(short.tested, whole.tested):
        assert a.fit == b.fit
    ends = short.tested[-1].fold.test_last
    n = int((whole.run.trades_i[:, k.T_EXIT_BAR] < whole.run.bars.range_of(Span(None, ends))[1]).sum()) - 1
    np.testing.assert_array_equal(short.run.trades_f[:n], whole.run.trades_f[:n])


def test_a_gap_a_side_and_trades_as_lengths(project: Project, engine: Engine) -> None:
    one = done(engine, walk_job(project, asked("20d", "10d", gap=Length.parse("3d"))))
    for t in walk_of(project, one).tested:
        assert (t.fold.test_first - t.fold.training_last).days == 4
    by_trades = walk_of(project, done(engine, walk_job(project, asked("30t", "12t"))))
    schedule = by_trades.strategy.schedule
    assert schedule is not None
    assert (schedule.due, schedule.due_after) == (None, "12 trades")
    assert "next fit due after 12 trades" in schedule_words(by_trades.strategy)[0]
    anchored = walk_of(project, done(engine, walk_job(project, asked(anchored=True))))
    view = anchored.request.view
    assert view is not None
    assert {t.fold.training_first for t in anchored.tested} == {view.first}


@pytest.mark.parametrize(("request_", "what"), [
    (asked("900d", "30d"), "no fold fits"), (asked("20d", ""), "training and a test length"),
    (asked("20d", "10d", choice="worst"), "is no choice"), (asked(",".join(f"{i}d" for i in range(10, 40)),
                                                             ",".join(f"{i}d" for i in range(5, 25))), "600 pairs"),
    (replace(asked(), sweep=replace(asked().sweep, axes=())), "no number is chosen"),
    (replace(asked(), sweep=replace(asked().sweep, axes=(Axis.sides(),))), "a walk fits numbers, not the sides")])
def test_what_cannot_be_walked_is_said(project: Project, request_: WalkRequest, what: str) -> None:
    with pytest.raises(UserError, match=what):
        walk_job(project, request_)


def test_folds_that_fit_nothing_trade_nothing_and_say_so(project: Project, engine: Engine) -> None:
    request = asked()
    never = replace(request, sweep=replace(request.sweep, floors=(Floor(key="trades", value=100_000.0),)))
    walk = walk_of(project, done(engine, walk_job(project, never)))
    assert len(walk.run) == 0
    assert math.isnan(walk.figures["efficiency"])
    assert "nothing could be fitted and nothing was traded" in walk.words()[0]
    assert any("No set passes the floors" in line for line in walk.words())
    assert "nothing is entered" in schedule_words(walk.strategy)[0]


# Growing


def test_fits_that_come_due_are_appended_and_old_ones_kept(project: Project, engine: Engine) -> None:
    """A walk over the first part of the view, extended to all of it: the old folds stay, the new ones follow, and the kept
    strategy carried on by its own procedure comes to the same numbers."""
    last = project.settings.training.last
    assert last is not None
    project.update_settings(project.settings.model_copy(update={"training_last": last - dt.timedelta(days=25)}))
    result = done(engine, walk_job(project, asked("20d", "10d")))
    before = walk_of(project, result)
    id = keep_strategy(project, before)
    made, words = fit_due(project, project.strategy(id).strategy)
    assert (made.added, words.startswith("Nothing is due")) == (0, True)
    tried = Searches(project).tried_on("AAA")
    project.update_settings(project.settings.model_copy(update={"training_last": None}))
    job, grown, missing = extend_walk(project, result.search)
    assert missing >= 2
    after = walk_of(project, done(engine, (job, grown)))
    n = len(before.tested)
    assert [t.fit for t in after.tested[:n]] == [t.fit for t in before.tested]
    assert all(b.fold.test_first == a.fold.test_last + ONE for a, b in pairwise(after.tested))
    assert Searches(project).tried_on("AAA") == tried, "the same sets, the same cell"
    made, words = fit_due(project, project.strategy(id).strategy)
    assert made.added >= 2
    assert "appended; the next is due" in words
    a, b = made.strategy.schedule, after.strategy.schedule
    assert a is not None
    assert b is not None
    assert (a.spells, a.due) == (b.spells, b.due)
    assert read_walk(project, result.search).request == after.request
    job, _, missing = extend_walk(project, result.search)
    assert missing == 0
    engine.start(job, "threads").wait()
    with pytest.raises(UserError, match="no dated numbers"):
        fit_due(project, RULES)
    broken = made.strategy.model_copy(update={"schedule": a.model_copy(update={"procedure": a.procedure | {"sweep": {}}})})
    with pytest.raises(UserError, match="how its numbers are fitted"):
        Procedure.of(broken)
    changed = a.model_copy(update={"procedure": a.procedure | {"history": "0" * 16}})
    with pytest.raises(UserError, match="have changed since"):
        fit_due(project, made.strategy.model_copy(update={"schedule": changed}))


def test_the_holdout_is_walked_by_the_frozen_procedure_in_one_opening(project: Project, engine: Engine) -> None:
    """Fits inside the holdout see what lies before each of them and nothing after; one opening is counted, and what is judged
    is the run that carries them."""
    result = done(engine, walk_job(project, asked("20d", "10d")))
    walk = walk_of(project, result)
    footing = Footing.of(project)
    assert HoldoutBook(project).count() == 0
    case = case_of(footing, Subject(walk.strategy, "AAA", 15, 5), unseen_span(HoldoutBook(project), footing))
    bars = walk_bars(2600, seed=4, code="AAA")
    whole = Prepared.of(bars)
    until = case.holdout.last
    assert until is not None
    carried = carried_on(footing, walk.strategy, case.brief, until, whole)
    assert carried.added >= 2
    schedule = carried.strategy.schedule
    assert schedule is not None
    work = WalkWork(footing, asked(), case.brief, "")
    for spell in schedule.spells:
        short = whole.over(bars.take(bars.range_of(Span(None, spell.fitted_last))[1]))
        fit = work.fit((spell.fitted_first, spell.fitted_last), work.sets_on(short), short).fit
        assert spell.values == (fit.values or ())
    # Numbers that the procedure does not choose are no procedure's; nothing is opened for them.
    mine = walk.strategy.schedule
    assert mine is not None
    other = next(v for v in ((3.0, 30.0), (2.0, 12.0)) if v != mine.spells[0].values)
    first = mine.spells[0].model_copy(update={"values": other})
    by_hand = mine.model_copy(update={"spells": (first, *mine.spells[1:])})
    seen: list = []

    def open_for(strategy: Strategy) -> None:
        job = prove_job(project, [Subject(strategy, "AAA", 15, 5)], open_holdout=True, gates=[HoldoutGate()],
                        notify=seen.append)
        assert engine.start(job, "threads").wait() is State.DONE, job.error

    open_for(with_schedule(walk.strategy, by_hand))
    assert "not what their procedure chooses" in seen[0].fault
    open_for(with_schedule(walk.strategy, mine.model_copy(update={"procedure": {}})))
    assert "without the procedure that fits them" in seen[1].fault
    assert HoldoutBook(project).count() == 0
    open_for(walk.strategy)
    assert HoldoutBook(project).count() == 1
    assert not next(o for p in seen for o in p.outcomes if o.gate == "holdout").figures, "of a fall nothing is told"
    outcome = figures_of(project, footing, HoldoutGate(), "AAA", strategy_hash(walk.strategy))
    run = backtest(whole, carried.strategy, replace(case.brief, span=case.holdout, role="holdout"), detail=False)
    assert outcome.figures["net"] == pytest.approx(float(run.profits.sum()))


# Grids, the gate, noise


def test_a_lonely_cell_is_called_luck_and_a_region_is_marked() -> None:
    view = View(dt.date(2020, 1, 1), dt.date(2020, 12, 31))
    request = asked("10d,20d,30d,40d,50d", "2d,3d,4d,5d,6d", view=view)
    flat = np.full((5, 5), -0.5)
    flat[1, 3] = 3.0
    lonely = grid_of(request, flat.ravel(), flat.ravel())
    assert (lonely.best, lonely.lonely, lonely.region.any()) == (8, True, False)
    assert "No region of lengths works" in lonely.words()[0]
    assert "a good cell in a bad neighborhood is luck" in lonely.words()[1]
    hill = np.full((5, 5), -0.5)
    hill[1:4, 1:4] = 2.0
    hill[0, 4] = 4.0
    mixed = grid_of(request, hill.ravel(), hill.ravel())
    assert mixed.center == 12
    assert mixed.region[1:4, 1:4].sum() >= 5
    assert not mixed.region[0, 4]
    assert mixed.lonely
    nothing = grid_of(request, np.full(25, -1.0), np.full(25, -1.0))
    assert nothing.words() == ["No pair of lengths earned in its tests: tuning does not carry over at any of them."]
    gaps = np.where(np.arange(25) % 5 == 0, np.nan, 1.0)
    assert grid_of(request, gaps, gaps).center >= 0


def test_the_gate_walks_a_candidate_and_judges_by_its_rules(project: Project) -> None:
    footing = Footing.of(project)
    case = case_of(footing, Subject(RULES, "AAA", 15, 5), Span(SETTINGS.holdout_first, SETTINGS.last))
    easy = {"training": 20, "training_unit": "days", "test": 10, "test_unit": "days", "least_efficiency": 0.0,
            "least_profitable": 0.0, "least_return_drawdown": 0.0, "least_t": 0.0}
    told = WalkForwardGate(WalkForwardSettings(**easy)).judge(case)  # type: ignore[arg-type]
    assert told.verdict == PASSES
    assert told.figures["folds"] == len(told.tables["folds"]["net"]) >= 2
    hard = WalkForwardGate(WalkForwardSettings(**easy | {"least_t": 50.0})).judge(case)  # type: ignore[arg-type]
    assert hard.verdict == FALLS
    assert "50.00 is needed" in hard.reason
    long = WalkForwardGate(WalkForwardSettings(**easy | {"training": 900})).judge(case)  # type: ignore[arg-type]
    assert long.verdict == NOT_ENOUGH
    assert WalkForwardGate(WalkForwardSettings(**easy)).judge(case).figures == pytest.approx(told.figures, nan_ok=True)  # type: ignore[arg-type]


def test_on_noise_the_stitched_t_is_standard_normal(project: Project) -> None:
    """Random walks without costs: tuning finds much in training, and its tests earn nothing. Any seed."""
    seed = any_seed()
    rules, footing = cross(), Footing.of(project)
    found, promised = [], []
    for turn in range(120):
        history = Prepared.of(walk_bars(1400, seed=seed + turn, code="AAA"))
        request = laid_over(history, Brief(), asked("15d", "6d", rules))
        work = WalkWork(footing, request, Brief(), history.bars.hash)
        sets = work.sets_on(history)
        fits = {span: work.fit(span, sets, history).fit for span in request.spans}
        walk = walked(request, 0, fits, history, Brief(), detail=False)
        found.append(walk.figures["t_daily"])
        promised.append(sum(t.promised for t in walk.tested))
    t = np.array(found)
    assert np.isfinite(t).all()
    assert np.mean(np.array(promised) > 0) > 0.7, "training looks good"
    assert stats.kstest(t, "norm").pvalue > 1e-4
    assert abs(t.mean()) < 5 / math.sqrt(len(t))
    assert 0.6 < t.std() < 1.5


def test_an_estimate_says_fits_and_sets(project: Project) -> None:
    one = estimate_walk(project, asked("15d,20d", "5d"))
    assert (one.sets, one.fits > 4) == (12, True)
    assert "fits of 12 sets, about" in one.words()
