"""Scans: scores against plain loops and statsmodels, p against arch, noise that stays noise, edges that are found."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.build import WORKDAYS, terms, walk_bars
from tests.core.scan_markets import A_DAY, EDGES, NOISE, edge, found_edge, noise
from wolbrin.core.bits import Words, pack
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.indicators.columns import Columns
from wolbrin.core.jobs import Engine, State
from wolbrin.core.market.bars import Span, make_bars
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.terms import SessionRule
from wolbrin.core.rules.model import Row
from wolbrin.core.scan import scores
from wolbrin.core.scan.families import SCANNED
from wolbrin.core.scan.luck import passed_in, share_of_luck, stepwise, tries_worth
from wolbrin.core.scan.moves import DAYS_BEFORE, END, USUAL, Moves, moves_of, round_turn
from wolbrin.core.scan.pairs import pair
from wolbrin.core.scan.rows import choose_rows, grid, says_when, unanchored
from wolbrin.core.scan.scores import Scorer, t_of
from wolbrin.core.scan.signs import signs_of
from wolbrin.core.scan.told import strategy_of
from wolbrin.core.search.families import longer_than
from wolbrin.core.search.ingredients import ROWS, Pantry, Sources, parse_chosen
from wolbrin.core.store.project import Project
from wolbrin.core.store.results import search_owner
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.settings import Settings
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.scan_answer import scan_answer
from wolbrin.core.work.scan_names import ScanNames, leader
from wolbrin.core.work.scan_pictures import week_of
from wolbrin.core.work.scan_request import ScanRequest, read_horizons
from wolbrin.core.work.scanning import read_scan, resume_scan, scan_here, scan_job


def ragged(seed: int, days: int = 130) -> Prepared:
    """A market whose sessions differ in length, with days that are missing, and two sessions on each date."""
    rng = np.random.default_rng(seed)
    rules = (SessionRule(days=WORKDAYS, open="08:00", close="12:00"), SessionRule(days=WORKDAYS, open="13:00", close="17:00"))
    base = walk_bars(days * 32, seed=seed, sigma=20.0)
    keep = rng.random(len(base)) > rng.choice([0.0, 0.05, 0.3])
    keep &= rng.random(base.session.max() + 1)[base.session] > 0.03
    prices = tuple(x[keep] for x in (base.open, base.high, base.low, base.close))
    bars = make_bars(terms(sessions=rules), 15, base.time[keep], prices)  # type: ignore[arg-type]
    return Prepared(bars, Columns(bars))


def points_of(history: Prepared, moves: Moves, i: int, stop: int) -> float:
    """What a bar moves, from its open to where a position is when the next one opens."""
    bars = history.bars
    last = i in (len(bars) - 1, stop - 1) or (moves.flat and bars.session[i + 1] != bars.session[i])
    return float((bars.close[i] if last else bars.open[i + 1]) - bars.open[i])


def usual_of(history: Prepared, moves: Moves, stop: int) -> list[float]:
    """The mean size of what each bar's hour moved on the 20 dates before on which it did; NaN where it did on fewer."""
    bars, out = history.bars, []
    sizes: dict[tuple[int, int], list[float]] = {}
    for i in range(len(bars)):
        hour, date = int(moves.hour[i]), int(bars.trading_date[i])
        before = sorted(d for h, d in sizes if h == hour and d < date)[-DAYS_BEFORE:]
        out.append(float(np.mean([x for d in before for x in sizes[hour, d]])) if len(before) == DAYS_BEFORE else np.nan)
        sizes.setdefault((hour, date), []).append(abs(points_of(history, moves, i, stop)))
    return out


def plain(history: Prepared, moves: Moves, usual: list[float], fires: Any, horizon: int) -> tuple[float, int, int, float]:
    """t with sign, bars held, positions and money, bar by bar."""
    bars, n = history.bars, len(history.bars)
    stop = int(np.flatnonzero(moves.day >= 0)[-1]) + 1
    held = [False] * n
    for i in range(n):
        if not fires[i] or i < np.flatnonzero(moves.day >= 0)[0] - 1 or i >= stop:
            continue
        j = i + 1
        while j < stop and (horizon == END or j <= i + horizon) and (
                bars.session[j] == bars.session[i] or (not moves.flat and horizon != END)):
            held[j] = True
            j += 1
    counts = [bool(u > 0) and i < stop for i, u in enumerate(usual)]
    unit, covered, trades, money = [], [], 0, 0.0
    for i in range(n):
        if not counts[i]:
            continue
        points = points_of(history, moves, i, stop)
        unit.append(points / usual[i])
        covered.append(float(held[i]))
        money += held[i] * points * bars.terms.point_value
    unit_, covered_ = np.array(unit) - np.mean(unit), np.array(covered) - np.mean(covered)
    date = bars.trading_date[np.array(counts)]
    y = np.array([(unit_ * covered_)[date == d].sum() for d in np.unique(date)])
    for i in range(n):
        before = i > 0 and held[i - 1] and (bars.session[i - 1] == bars.session[i] or not moves.flat)
        trades += held[i] and not before
    t = y.sum() / np.sqrt((y ** 2).sum() - y.sum() ** 2 / len(y))
    return float(t), int(sum(covered)), trades, money


def bits_of(flags: Any) -> Words:
    return pack((np.ascontiguousarray(flags, np.uint8),), len(flags))[:, 0]


@pytest.mark.parametrize("flat", [True, False])
@pytest.mark.parametrize("seed", [1, 2])
def test_scores_equal_plain_loops(seed: int, flat: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    history = ragged(seed, 95)
    moves = moves_of(history, Span(), flat)
    rng = np.random.default_rng(seed)
    horizons = (1, 3, 7, 20, END)
    rows = [rng.random(len(history.bars)) < share for share in (0.02, 0.2, 0.7)] + [np.ones(len(history.bars), bool)]
    words = np.stack([bits_of(r) for r in rows])
    fast = Scorer(moves, horizons).score(words)
    monkeypatch.setattr(scores, "layout_of", lambda moves: None)
    slow = Scorer(moves, horizons)
    by_runs = slow.score(words)
    for name in ("y", "strength", "side", "ok", "trades", "covered", "firing", "effective"):
        np.testing.assert_allclose(getattr(fast, name), getattr(by_runs, name), rtol=1e-5, atol=1e-6, err_msg=name)
    t = t_of(fast.strength, moves.days) * fast.side
    usual = usual_of(history, moves, int(np.flatnonzero(moves.day >= 0)[-1]) + 1)
    for r, h in ((0, 0), (0, 3), (1, 2), (2, 1), (2, 4)):
        told, covered, trades, money = plain(history, moves, usual, rows[r], horizons[h])
        assert t[r, h] == pytest.approx(told, abs=1e-6)
        assert (fast.covered[r, h], fast.trades[r, h]) == (covered, trades)
        assert slow.earned(words[r:r + 1], np.array([horizons[h]]))[0] == pytest.approx(money, abs=1e-6)
    holds = np.stack([bits_of(r) for r in rows[2:]])
    signs = signs_of(moves.dates, 100)[:, 7]
    made = pair(slow, words[:2], holds, np.array([3, END]), signs)
    for a in range(2):
        for b in range(2):
            both = Scorer(moves, (3, END)).score(words[a:a + 1] & holds[b:b + 1])
            signed = float(both.y[0, a].astype(np.float64) @ signs) if both.ok[0, a] else 0.0
            assert made.strength[a, b] == pytest.approx(signed, abs=1e-4)


def test_t_is_that_of_a_regression_with_days_as_clusters() -> None:
    """statsmodels: OLS of the moves on whether a bar is held, Liang & Zeger's covariance with dates as clusters."""
    import statsmodels.api as sm

    history = noise("fat tails", 3, 400)
    moves = moves_of(history, Span())
    rng = np.random.default_rng(5)
    rows = np.stack([bits_of(rng.random(len(history.bars)) < share) for share in (0.03, 0.3)])
    made = Scorer(moves, (4,)).score(rows)
    t = t_of(made.strength, moves.days) * made.side
    here = moves.day >= 0
    for r in range(2):
        held = np.zeros(len(here))
        for i in np.flatnonzero(np.unpackbits(rows[r].view(np.uint8), bitorder="little")[:len(here)]):
            held[i + 1:min(moves.last[i], i + 4) + 1] = 1.0
        fitted = sm.OLS(moves.unit[here], sm.add_constant(held[here])).fit(
            cov_type="cluster", cov_kwds={"groups": moves.day[here], "use_correction": False})
        assert t[r, 0] == pytest.approx(float(fitted.tvalues[1]), rel=0.02, abs=0.02)


def test_stepwise_p_is_that_of_arch_on_the_same_signs() -> None:
    """arch: StepM of Romano & Wolf (2005) draws days; given the days with random signs instead, it keeps the same ones."""
    from arch.bootstrap import StepM

    rng = np.random.default_rng(11)
    days, draws = 300, 499
    y = rng.normal(size=(days, 12)) + np.array([0.45, 0.4, 0.26, 0.22, 0.17, *(0.0,) * 7])
    y /= np.sqrt((y ** 2).sum(axis=0))
    signs = signs_of(np.arange(20_000, 20_000 + days), draws).astype(np.float64)
    seen, drawn = y.sum(axis=0), (signs.T @ y).T
    order = np.argsort(-seen)
    p = np.empty(12)
    p[order] = stepwise(seen[order], drawn[order], np.full(draws, -np.inf))
    assert (np.diff(p[order]) >= 0).all()
    for size in (0.02, 0.10, 0.30):
        theirs = StepM(np.zeros(days), -y, size=size, reps=draws)

        class Signed:
            def bootstrap(self, reps: int) -> Iterator[tuple[tuple[Any], dict[str, Any]]]:
                for d in range(reps):
                    yield (y * signs[:, d:d + 1] + y.mean(axis=0),), {}

        theirs.spa.bootstrap = Signed()  # type: ignore[assignment]
        setattr(theirs.spa, "_check_column_validity", lambda: np.ones(12, bool))  # noqa: B010 - it is private
        theirs.compute()
        ours = set(np.flatnonzero(p < size - 1.5 / draws).tolist())
        perhaps = set(np.flatnonzero(p < size + 2.5 / draws).tolist())
        assert ours <= set(theirs.superior_models) <= perhaps


def test_p_against_others_and_what_a_scan_is_worth() -> None:
    assert tries_worth(4.42) == pytest.approx(5_000, rel=0.02)  # the issue's own figure, from the normal table
    assert tries_worth(1.96) == 1
    assert tries_worth(float("nan")) == 0
    assert passed_in(np.arange(1.0, 101.0), 0.05) == 96.0
    drawn = np.array([[1.0, 3.0, 0.0, 0.0], [0.5, 0.2, 5.0, 0.1]])
    assert stepwise(np.array([2.0, 1.9]), drawn, np.array([0.0, 0.0, 0.0, 4.0])).tolist() == [4 / 5, 4 / 5]
    assert stepwise(np.array([6.0, 1.9]), drawn, np.zeros(4)).tolist() == [1 / 5, 2 / 5]
    uniform = np.random.default_rng(1).normal(size=5_000)
    assert share_of_luck(uniform)[np.abs(uniform).argmax()] > 0.05
    mixed = np.concatenate([uniform, np.full(500, 6.0)])
    assert share_of_luck(mixed)[-1] < 0.001


def test_signs_follow_from_seed_and_date_alone() -> None:
    one = signs_of(np.array([19_000, 19_001, 19_500]), 999)
    assert np.array_equal(one[1:2, :100], signs_of(np.array([19_001]), 100))
    assert not np.array_equal(one, signs_of(np.array([19_000, 19_001, 19_500]), 999, seed=2))
    assert set(np.unique(one).tolist()) == {-1.0, 1.0}
    many = signs_of(np.arange(2_000), 999)
    assert abs(float(many.mean())) < 4 / np.sqrt(many.size)
    assert np.abs(np.corrcoef(many.T[:50]) - np.eye(50)).max() < 0.12


# Rows


def pantry(others: tuple[str, ...] = ("AAA",), chosen: str = "") -> Pantry:
    return Pantry(SCANNED, Sources(15, others, (), (), longer_than(15), others), parse_chosen([chosen]) if chosen else ())


@given(st.integers(50, 4_000), st.integers(2, 100))
@settings(max_examples=12, deadline=None)
def test_rows_are_as_many_as_asked_each_once_and_small_families_whole(count: int, longest: int) -> None:
    made = choose_rows(pantry(), count, longest)
    assert len(made) <= count
    assert len(set(zip(made.codes.tolist(), made.at.tolist()))) == len(made)
    assert made.at.max() < longest
    items = pantry().items
    families = [items[int(c) >> ROWS].family for c in made.codes]
    if count >= 2_000:
        assert families.count("weekday") == 20
        assert families.count("month") == 90
        assert families.count("week") == 120
        assert {"led", "session", "price", "oscillator", "average"} <= set(families)
    again = choose_rows(pantry(), count, longest)
    assert np.array_equal(made.codes, again.codes)


def test_a_grid_spreads_over_every_setting_with_its_stated_shares() -> None:
    item = next(i for i in pantry().items if i.key == "oscillator:stochastic.k")
    digits = np.array([item.digits(int(n)) for n in grid(item, 3_000)])
    assert 0.08 < (np.isin(digits[:, 0], range(1, 5))).mean() < 0.12  # longer intervals
    assert 0.02 < (digits[:, 0] == 5).mean() < 0.06  # the other market
    assert 0.12 < (digits[:, 1] > 0).mean() < 0.18  # ways to last
    for at in range(2, len(item.shape) - 1):
        shares = np.bincount(digits[:, at], minlength=item.shape[at]) / len(digits)
        assert shares.max() < 1.3 / item.shape[at]


def test_only_levels_of_what_has_no_fixed_one_are_said_to_be_such() -> None:
    found = {key: [item.make(item.digits(n), lambda operand, share: share) for n in range(item.size)] for key, item in
             ((i.key, i) for i in pantry().items if i.key in ("extreme:max", "statistics:sum", "session:gap"))}
    said = {key: {row.compare for row in rows if isinstance(row, Row) and (series := unanchored(row)) is not None
                  and says_when(series)} for key, rows in found.items()}
    assert said["extreme:max"] == set(), "a line on the price that rises says nothing of when"
    assert said["statistics:sum"] == {"above", "below", "crosses above", "crosses below", "at or above", "at or below",
                                      "between"}
    assert said["session:gap"] == set()


def test_levels_that_say_when_in_the_history_it_is_are_left_out() -> None:
    result = scan_here([noise("drift", 1)], [Brief()], ScanRequest((("TST", 15),), parse_chosen(["statistics:sum"]), 200,
                                                                   pairs=False))
    assert result.left_out().get("a level of what has no fixed one", 0) > 20
    assert not result.beyond()


# Whole scans


def test_noise_of_every_kind_moves_price_no_more_than_luck_does() -> None:
    """At most 5 of 100 are said to; of 42, with chance, at most 7 (the normal case is 2)."""
    found = 0
    for kind in NOISE:
        for seed in np.random.SeedSequence().generate_state(6).tolist():
            history = noise(kind, int(seed % 10**6), 260)
            result = scan_here([history], [Brief()], ScanRequest((("TST", 15),), count=120, draws=100))
            assert result.answered
            found += bool(result.beyond())
    assert found <= 7


def test_strong_edges_are_found_and_named() -> None:
    for kind in EDGES:
        seed = int(np.random.SeedSequence().generate_state(1)[0] % 10**6)
        found, t, hurdle = found_edge(kind, 5.0, seed, 3_000, pairs=False)
        assert found, (kind, seed, t, hurdle)
    planted = edge("weekday drift", 5.0, 3)
    request = ScanRequest((("TST", 15),), parse_chosen(["weekday"]), 100)
    result = scan_here([planted.history], [Brief()], request)
    best = result.beyond()[0]
    key = result.keys[0][int(result.places[0].ingredient[best.number])]
    assert key.startswith("weekday:")
    assert best.side == 1


def test_a_move_of_the_first_half_hour_that_goes_on_is_found_at_its_bar() -> None:
    planted = edge("opening momentum", 5.0, 4)
    request = ScanRequest((("TST", 15),), parse_chosen(["session"]), 1_500, pairs=False)
    result = scan_here([planted.history], [Brief()], request)
    best = max(result.beyond(), key=lambda x: x.t)
    assert 1 <= result.places[0].at[best.number] <= 8


# In a project


@pytest.fixture
def project(tmp_path: Path) -> Iterator[Project]:
    import datetime as dt

    made = Project.create(tmp_path / "p", Settings(training_first=dt.date(2024, 1, 1), holdout_first=dt.date(2025, 12, 1),
                                                   last=dt.date(2029, 12, 31)))
    for bars in (edge("weekday drift", 7.0, 2).history.bars, walk_bars(15_000, code="CALM")):
        made.add_market(bars.terms, bars, "test")
    yield made
    made.close()


@pytest.fixture
def engine() -> Iterator[Engine]:
    made = Engine(2)
    yield made
    made.close()


SMALL = ScanRequest((("TST", 15),), parse_chosen(["weekday", "clock"]), 400, draws=150)


def test_a_scan_is_kept_counts_for_what_comes_later_and_begins_a_strategy(project: Project, engine: Engine) -> None:
    job, result = scan_job(project, SMALL)
    assert engine.start(job, "threads").wait() is State.DONE, job.error
    answer = scan_answer(project, result, "done")
    assert "Tuesdays, up" in answer.sentence
    assert answer.something
    assert answer.records["TST 15 min"].last == project.settings.training.last
    counted = project.rows("SELECT tried FROM searches WHERE kind = 'scan'")[0]["tried"]
    assert counted == answer.tries == Searches(project).tried_on("TST") > 50
    again = read_scan(project, result.search)
    assert [(x.number, x.p) for x in again.lines()] == [(x.number, x.p) for x in result.lines()]
    assert scan_answer(project, again, "done") == answer
    names = ScanNames(Footing.of(project), again)
    strategy = names.strategy(leader(again, names))
    assert strategy.short.mode == "off"
    run = backtest(project.prepared("TST", 15), strategy, project.settings.of(None).brief(project.market("TST").terms))
    assert len(run) > 60
    # The same scan again adds nothing; another adds what both are worth together.
    job, _ = scan_job(project, SMALL)
    assert engine.start(job, "threads").wait() is State.DONE
    assert Searches(project).tried_on("TST") == counted
    job, _ = scan_job(project, replace(SMALL, ingredients=parse_chosen(["oscillator"]), count=600))
    assert engine.start(job, "threads").wait() is State.DONE
    assert Searches(project).tried_on("TST") > counted


def test_money_of_a_row_is_what_its_strategy_earns(project: Project, engine: Engine) -> None:
    """Held to the session's end from one bar a day: one trade a firing day, the same bars, the same costs."""
    job, result = scan_job(project, replace(SMALL, ingredients=parse_chosen(["clock:bars"]), horizons=(END,), pairs=False))
    assert engine.start(job, "threads").wait() is State.DONE
    names = ScanNames(Footing.of(project), result)
    brief = Footing.of(project).brief(project.market("TST").terms)
    history = project.prepared("TST", 15)
    f = result.places[0]
    checked = 0
    warm = int(np.flatnonzero(moves_of(history, brief.span).day >= 0)[0])
    for number in range(f.looked):
        node = names.node(0, number)
        if getattr(node, "compare", "") != "equals" or not f.trades[number]:
            continue
        assert node is not None
        side = int(f.side[number, 0])
        strategy = strategy_of((node,), side, END, True, "row").model_copy(update={"stop": None})
        run = backtest(history, strategy, brief)
        entered, left = run.trades_i[:, k.T_ENTRY_BAR], run.trades_i[:, k.T_EXIT_BAR]
        late = entered >= warm
        assert int(late.sum()) == f.trades[number]
        gross = side * (history.bars.close[left[late]] - history.bars.open[entered[late]]).sum()
        assert f.money[number] == pytest.approx(gross * history.bars.terms.point_value, abs=1e-6)
        checked += 1
    assert checked > 20
    assert f.cost == round_turn(history, brief) >= 0


def test_sealed_bars_never_reach_a_scan(project: Project, engine: Engine) -> None:
    job, before = scan_job(project, SMALL)
    assert engine.start(job, "threads").wait() is State.DONE
    border = project.settings.training.last
    assert border is not None
    history = Footing.of(project).prepared("TST", 15)
    assert history.bars.trading_date.max() <= (np.datetime64(border) - np.datetime64("1970-01-01")).astype(int)
    assert before.places[0].days <= len(np.unique(history.bars.trading_date))


def test_a_scan_stopped_goes_on_and_comes_to_the_same(project: Project, engine: Engine) -> None:
    whole = replace(SMALL, places=(("TST", 15), ("CALM", 15)), ingredients=(), count=900)
    job, calm = scan_job(project, whole)
    assert engine.start(job, "threads").wait() is State.DONE
    told = [(x.place, x.number, x.holds, x.p) for x in calm.lines()]
    seen: list[int] = []
    job, part = scan_job(project, whole, lambda r: seen.append(r.rows) or job.stop())  # type: ignore[func-returns-value]
    assert engine.start(job, "threads").wait() is State.STOPPED
    assert 0 < part.rows <= part.total
    job, part = resume_scan(project, part.search)
    assert engine.start(job, "threads").wait() is State.DONE, job.error
    assert [(x.place, x.number, x.holds, x.p) for x in part.lines()] == told
    assert [len(list(week_of(part, p))) > 20 for p in range(2)] == [True, True]


def test_what_cannot_be_scanned_is_said(project: Project) -> None:
    for request, words in ((replace(SMALL, count=0), "rows can be scanned"),
                           (replace(SMALL, horizons=(1, 900)), "a horizon lies between"),
                           (replace(SMALL, ingredients=parse_chosen(["own"])), "has nothing here"),
                           (replace(SMALL, ingredients=parse_chosen(["weather"])), "there is no ingredient"),
                           (replace(SMALL, places=(("TST", 15), ("TST", 15))), "stands there twice")):
        with pytest.raises(UserError, match=words):
            scan_job(project, request)
    _, usual = scan_job(project, SMALL)
    assert not usual.notes, "of the usual horizons it is not worth a word"
    with pytest.raises(UserError, match="is no horizon"):
        read_horizons("1,soon")
    assert read_horizons("4, 1,end") == (4, 1, END)
    _, result = scan_job(project, replace(SMALL, horizons=(*USUAL, 40)))
    assert "32, 40 bars reach beyond a session of 32 bars" in " ".join(result.notes)
    assert result.request.levels == (1, 2, 4, 8, 16, END)
    with pytest.raises(UserError, match="a session is one bar here"):
        scan_job(project, replace(SMALL, places=(("TST", 480),)))
    project.update_settings(project.settings.model_copy(update={"training_last": project.settings.training_first}))
    with pytest.raises(UserError, match=r"days are too few|no day of this span|no bars|empty"):
        scan_job(project, SMALL)


def test_a_scan_of_many_markets_has_few_at_hand_and_does_not_go_on_where_another_has_changed(project: Project,
                                                                                             engine: Engine) -> None:
    for code in ("ONE", "TWO"):
        project.add_market((bars := walk_bars(15_000, code=code, seed=len(code))).terms, bars, "test")
    asked = ScanRequest(tuple((m, 15) for m in ("TST", "CALM", "ONE")), parse_chosen(["led", "weekday"]), 120, draws=120)
    job, result = scan_job(project, asked)
    assert engine.start(job, "threads").wait() is State.DONE, job.error
    assert {m.split(" ")[0] for m in result.elsewhere} == {"TST", "CALM", "ONE", "TWO"}
    assert result.answered
    with project.transaction() as db:
        db.execute("UPDATE searches SET state = 'interrupted', cursor = json_set(cursor, '$.elsewhere.\"TWO 15\"', 'x') "
                   "WHERE id = ?", (result.search,))
    with pytest.raises(UserError, match="another market that this scan reads has changed"):
        resume_scan(project, result.search)


def test_a_damaged_scan_is_a_sentence(project: Project, engine: Engine) -> None:
    job, result = scan_job(project, SMALL)
    assert engine.start(job, "threads").wait() is State.DONE
    with project.transaction() as db:
        state = Searches(project).rows(result.search, "luck")["state"]
        Searches(project).results.replace(search_owner(result.search), "luck", {"state": state[:, :400]})
        assert len(db.execute("SELECT cursor FROM searches WHERE id = ?", (result.search,)).fetchone()["cursor"]) < 100_000
    with pytest.raises(UserError, match="cannot be read any more"):
        read_scan(project, result.search)


def test_costs_of_a_trade_in_and_out() -> None:
    history = noise("plain", 1, 100)
    costs = Costs(spread_ticks=1.0, slippage_ticks=0.5, per_contract=2.0)
    assert round_turn(history, Brief(costs=costs)) == pytest.approx(2 * 1.0 + 2 * 2.0)
    assert A_DAY == 32
