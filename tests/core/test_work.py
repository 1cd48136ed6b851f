"""Whole tasks on a project: what the window and the command line share."""

from __future__ import annotations

import datetime as dt
import json
import math
import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.build import SHORT, cross, entry, ind, num, price, row, terms, walk_bars
from wolbrin.core.bench.data import bench_bars, bench_strategy
from wolbrin.core.bench.figure import measured
from wolbrin.core.bench.figures import page
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.inputs import parameters
from wolbrin.core.engine.orders import settle
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.record import Record
from wolbrin.core.engine.run import backtest, money_of, plan_of
from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.jobs import Engine, State
from wolbrin.core.market.bars import Span
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.intervals import to_interval
from wolbrin.core.measures.catalogue import SUMMARY, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.proving.gate import Gate, Outcome
from wolbrin.core.rules.axes import Axis
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Distance, Side, Strategy
from wolbrin.core.rules.words import describe
from wolbrin.core.search.candidate import SPARK_POINTS, candidate_of, spark_of
from wolbrin.core.store.dossier import Dossiers, decode, encode
from wolbrin.core.store.history import read_history, write_history
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.schema import MIGRATIONS
from wolbrin.core.store.settings import OWN_COSTS, Settings
from wolbrin.core.store.shelf import place_words
from wolbrin.core.store.sources import silhouette
from wolbrin.core.work.combining import series_job, training_run
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.funnel import funnel
from wolbrin.core.work.lines import use_line
from wolbrin.core.work.proving import case_of, prove_job, unseen_span
from wolbrin.core.work.standing import Standings, standing_ids
from wolbrin.core.work.studying import StudyRequest, run_study, study_job
from wolbrin.core.work.subject import Subject
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweep_results import read_sweep
from wolbrin.core.work.sweep_sets import candidate_from_sweep
from wolbrin.core.work.sweeping import sweep_job
from wolbrin.core.work.warmed import is_warm

SETTINGS = Settings(training_first=dt.date(2024, 1, 1), holdout_first=dt.date(2024, 4, 1), last=dt.date(2024, 12, 31))
STOPPED = cross(stop=Distance(unit="atr", amount=1.5))


@pytest.fixture
def engine() -> Iterator[Engine]:
    made = Engine(2)
    yield made
    made.close()


@pytest.fixture
def project(tmp_path: Path) -> Iterator[Project]:
    made = Project.create(tmp_path / "p", SETTINGS)
    for code, seed in (("AAA", 4), ("BBB", 5)):
        bars = walk_bars(2600, seed=seed, code=code)
        made.add_market(bars.terms, bars, "test")
    yield made
    made.close()


def keep(project: Project, what: Strategy, code: str = "AAA") -> int:
    history = project.prepared(code, 15)
    run = backtest(history, what, project.settings.brief(history.bars.terms))
    id = Dossiers(project).keep(candidate_of(run, what.name, "rules", 7))
    assert id is not None
    return id


# Proving and standing


def test_standing_follows_the_line(project: Project) -> None:
    dossiers = Dossiers(project)
    id = keep(project, STOPPED)
    kept = dossiers.shelf()[0]
    key = Subject.of(kept).key

    def say(gate: Gate, passed: bool, record: Record = kept.candidate.record, settings_: dict | None = None) -> str:
        outcome = Outcome(gate.key, passed, "Because.", "h", {}, {"x": 1.0, "y": math.nan},
                          gate.settings if settings_ is None else settings_)
        dossiers.testify(*key, outcome, record)
        if gate.opens_holdout:
            project.book.judge(now(), key[1], key[0], "x", "passes" if passed else "falls", "Because.", None)
        return Standings(project).of(kept).stands

    use_line(project, SHORT)
    monte_carlo, holdout = SHORT.gates()
    other = kept.candidate.record.model_copy(update={"capital": 1.0})
    assert Standings(project).of(kept).stands == "open"
    assert say(monte_carlo, True, other) == "open", "a verdict holds only for its record"
    assert say(monte_carlo, True, settings_={"paths": 1}) == "open", "and for the gate's settings"
    assert say(monte_carlo, False) == "falls: Monte Carlo"
    assert say(monte_carlo, True) == "ready"
    assert standing_ids(project) == []
    assert say(holdout, True) == "stands"
    assert standing_ids(project) == [id]
    assert funnel(project)["proved"] == 1
    assert say(monte_carlo, False, other) == "fell before: Monte Carlo", "another brief does not wash a fall away"
    assert say(holdout, False) == "falls: Holdout"
    assert say(holdout, True) == "falls: Holdout", "a fall in the holdout is final"
    every = dossiers.evidence(*key)
    assert [e.verdict for e in every] == ["passes", "passes", "falls", "passes", "passes", "falls", "falls", "passes"]
    assert math.isnan(every[0].outcome["y"])
    assert dossiers.evidence(key[0], "BBB", 15) == [], "a verdict belongs to its market"


def test_a_dossier_belongs_to_the_rules_not_to_the_name(project: Project, engine: Engine) -> None:
    a = Subject(STOPPED, "AAA", 15)
    b = Subject(STOPPED.model_copy(update={"name": "Other", "notes": "renamed"}), "AAA", 15)
    engine.start(prove_job(project, [a], open_holdout=False), "threads").wait()
    assert a.key == b.key
    assert len(Dossiers(project).evidence(*b.key)) == 2, "gates Dates and Evidence"


def test_the_case_carries_the_sealed_span_and_training_brief(project: Project) -> None:
    footing = Footing.of(project)
    case = case_of(footing, Subject(STOPPED, "AAA", 15, tried=12), unseen_span(project.book, footing))
    assert case.brief.span == Span(dt.date(2024, 1, 1), dt.date(2024, 3, 31))
    assert case.holdout == Span(dt.date(2024, 4, 1), dt.date(2024, 12, 31))
    assert case.tried == 12
    run = backtest(case.history, STOPPED, case.brief)
    last = run.bars.trading_date[run.last - 1].astype("datetime64[D]")
    assert last < np.datetime64("2024-04-01")


def test_no_search_sees_the_holdout(project: Project, engine: Engine) -> None:
    """Scrambling every bar of the holdout must change nothing that a sweep, a study or a training run reports."""
    axes = (Axis.spread("stop.amount", "stop", 1.0, 2.0, 0.5),)
    request = StudyRequest(STOPPED, "AAA", 15, horizon=6)

    def all_results() -> tuple[np.ndarray, ...]:
        job, result = sweep_job(project, SweepRequest(STOPPED, "AAA", 15, axes))
        assert engine.start(job, "threads").wait() is State.DONE
        made = run_study(Footing.of(project), request)[0]
        return result.table()[1], made.mean, made.low, made.baseline

    before = all_results()
    bars = walk_bars(2600, seed=4, code="AAA")
    first = bars.range_of(SETTINGS.holdout)[0]
    assert len(project.base("AAA")) == first < len(bars), "what a project gives ends at the border"
    moved = [column.copy() for column in (bars.open, bars.high, bars.low, bars.close)]
    for column in moved:
        column[first:] = column[first:][::-1] + 20.0
    from wolbrin.core.market.bars import make_bars

    project.add_market(bars.terms, make_bars(bars.terms, 15, bars.time, tuple(moved), bars.volume), "test")  # type: ignore[arg-type]
    for a, b in zip(before, all_results()):
        np.testing.assert_array_equal(a, b)


# Sweeps, studies, combinations


def test_a_sweep_row_becomes_the_same_candidate(project: Project, engine: Engine) -> None:
    axes = (Axis.spread("stop.amount", "stop", 1.0, 2.0, 0.5), Axis.spread("stop.length", "length", 10, 14, 4))
    request = SweepRequest(STOPPED, "AAA", 15, axes)
    grown: list[int] = []
    job, result = sweep_job(project, request, lambda r: grown.append(r.count))
    engine.start(job, "threads").wait()
    settings_, figures = result.table()
    candidate = candidate_from_sweep(project, result, tuple(settings_[3].tolist()))
    np.testing.assert_allclose(list(candidate.summary.values()), figures[3], equal_nan=True)
    assert candidate.tried == 6
    assert grown
    assert SweepRequest.from_json(json.loads(json.dumps(request.as_json()))) == request
    with pytest.raises(UserError):
        sweep_job(project, SweepRequest(STOPPED, "NOPE", 15, axes))
    assert Dossiers(project).counts()["sweeps"] == 1


def test_studies_are_counted_and_mirror(project: Project, engine: Engine) -> None:
    got: list[object] = []
    job = study_job(project, StudyRequest(STOPPED, "AAA", 15, -1, 5), got.append)
    assert engine.start(job, "threads").wait() is State.DONE
    short = got[0][0]  # type: ignore[index]
    direct = run_study(Footing.of(project), StudyRequest(STOPPED, "AAA", 15, -1, 5))[0]
    np.testing.assert_array_equal(short.mean, direct.mean)
    assert Dossiers(project).counts()["studies"] == 1
    assert funnel(project)["tried"] == 0, "a study tries no alternatives"
    nothing = study_job(project, StudyRequest(Strategy(), "AAA", 15), got.append)
    assert engine.start(nothing, "threads").wait() is State.FAILED
    assert isinstance(nothing.error, UserError)


def test_candidates_run_again_as_they_were_kept(project: Project, engine: Engine) -> None:
    for n in (1.0, 2.0, 3.0):
        keep(project, cross(name=f"S{n}", stop=Distance(unit="atr", amount=n)))
    keep(project, STOPPED, "BBB")
    shelf = Dossiers(project).shelf()
    got: list[list[object]] = []
    engine.start(series_job(project, [k.id for k in shelf], got.append), "threads").wait()
    for kept, known in zip(shelf, got[0]):
        run = training_run(Footing.of(project), kept)
        assert measure(Facts.of(run), SUMMARY) == pytest.approx(kept.candidate.summary, nan_ok=True)
        assert run.record(tried=7) == kept.candidate.record
        np.testing.assert_array_equal(known.series.profit, run.daily[1])  # type: ignore[attr-defined]
    assert {k.candidate.market for k in shelf} == {"AAA", "BBB"}


def test_spark_and_silhouette_show_begin_and_end(project: Project) -> None:
    run = training_run(Footing.of(project), Dossiers(project).shelf()[0]) if keep(project, STOPPED) else None
    assert run is not None
    spark = spark_of(run)
    assert spark.shape == (SPARK_POINTS,)
    assert spark[-1] == pytest.approx(run.profits.sum(), rel=1e-5)
    line = silhouette(run.bars)
    assert line[0] == pytest.approx(run.bars.close[0])
    assert line[-1] == pytest.approx(run.bars.close[-1])
    assert (spark_of(backtest(run.bars, STOPPED, Brief(Span(dt.date(2050, 1, 1), None)))) == 0).all()


# Store


@given(st.dictionaries(st.text(min_size=1, max_size=6), st.floats(), max_size=6))
def test_figures_survive_json(values: dict[str, float]) -> None:
    back = decode(encode(dict(values)))
    for key, value in values.items():
        assert back[key] == value or not math.isfinite(value)
        assert math.isfinite(value) or math.isnan(back[key])


def test_history_files_keep_every_bit_and_are_replaced_whole(tmp_path: Path) -> None:
    bars = walk_bars(500, tick_size=0.00005)
    path = tmp_path / "h.parquet"
    write_history(path, bars)
    write_history(path, bars)
    back = read_history(path, bars.terms, bars.interval)
    assert back.hash == bars.hash
    assert list(tmp_path.iterdir()) == [path], "no half-written file stays behind"


def test_the_first_schema_migrates_step_by_step_and_a_failed_step_changes_nothing(tmp_path: Path) -> None:
    """A database made by the first migration alone, with a strategy, a sweep's block and a candidate by position."""
    (tmp_path / "history").mkdir()
    db = sqlite3.connect(tmp_path / "project.sqlite", isolation_level=None)
    for statement in MIGRATIONS[0].split(";"):
        if statement.strip():
            db.execute(statement)
    db.execute("INSERT INTO strategies VALUES (1, ?, ?, '', 'AAA', 15, '', '')", (STOPPED.name, STOPPED.model_dump_json()))
    asked = {"strategy": STOPPED.model_dump(mode="json"), "market": "AAA", "interval": 15, "axes": [
        {"key": "stop.amount", "title": "stop", "values": [1.0, 2.0]}]}
    db.execute("INSERT INTO searches VALUES (1, '', 'sweep', 'S', ?, 2, 0, 'done')", (json.dumps(asked),))
    db.execute("INSERT INTO sweep_rows VALUES (1, 0, ?, ?)",
               (np.array([[1.0], [2.0]]).tobytes(), np.arange(18.0).reshape(2, 9).tobytes()))
    db.execute("INSERT INTO candidates VALUES (7, '', 'Kept', ?, 'h', 'AAA', 15, 'rules', NULL, 1, '{}', ?, ?)",
               (STOPPED.model_dump_json(), json.dumps({"net": 5.0, "t": None}), np.zeros(4, np.float32).tobytes()))
    db.execute("PRAGMA user_version = 1")
    db.execute("CREATE TABLE parts (in_the_way INTEGER)")  # a later step will fail on this
    with pytest.raises(EnvironmentTrouble):
        Project(tmp_path)
    assert db.execute("PRAGMA user_version").fetchone()[0] == 4, "steps before it stand"
    assert db.execute("SELECT count(*) FROM sweep_rows").fetchone()[0] == 1, "and nothing of it was done"
    db.execute("DROP TABLE parts")
    db.close()
    again = Project(tmp_path)
    assert again.rows("PRAGMA user_version")[0][0] == len(MIGRATIONS)
    assert again.strategies()[0].strategy == STOPPED
    assert again.free_name("Cross") == "Cross 2"
    assert again.free_name("New") == "New"
    swept = read_sweep(again, 1)
    assert swept.table()[0].tolist() == [[1.0], [2.0]]
    assert dict(zip(SUMMARY, swept.table()[1][1].tolist()))["net"] == 9.0
    line = Dossiers(again).on_shelf.lines([7])[0]
    assert (line.figures["net"], place_words(line), line.words) == (5.0, "AAA 15 min", describe(STOPPED))
    again.close()


def test_prepared_histories_are_shared_and_renewed(project: Project) -> None:
    one = project.prepared("AAA", 30)
    assert project.prepared("AAA", 30) is one
    assert one.bars.hash == to_interval(project.base("AAA"), 30).hash
    for minutes in (15, 45, 60, 75, 90, 120, 150):
        project.prepared("BBB", minutes)
    assert project.prepared("AAA", 30) is not one, "only the last few stay in memory"
    bars = walk_bars(300, seed=9, code="AAA")
    project.add_market(bars.terms, bars, "test")
    assert len(project.base("AAA")) == 300
    assert [m.code for m in project.markets()].count("AAA") == 1


def test_costs_of_the_project_override_the_terms(project: Project) -> None:
    entry_ = project.market("AAA")
    assert project.settings.costs_of(entry_.terms) == Costs.of(entry_.terms)
    dear = Costs(slippage_ticks=9)
    project.update_settings(project.settings.model_copy(update={
        "cost_sets": {"AAA": {OWN_COSTS: dear}}, "cost_set": {"AAA": OWN_COSTS}}))
    assert project.settings.brief(entry_.terms).costs == dear
    assert project.settings.brief(project.market("BBB").terms).costs == Costs()
    assert dear.scaled(2.0).slippage_ticks == 18


# Engine details that reach beyond one bar


def test_costs_are_linear_and_never_move_a_trade() -> None:
    """Spread, slippage and commission are money only: trades stay, net falls by exactly the multiple."""
    bars = walk_bars(2500, seed=31)
    costs = Costs(spread_ticks=2, slippage_ticks=1, per_contract=2.4, percent=0.002)
    free, once, twice = (backtest(bars, STOPPED, Brief(costs=c)) for c in (Costs(), costs, costs.scaled(2.0)))
    places = [k.T_SIDE, k.T_ENTRY_BAR, k.T_EXIT_BAR, k.T_ENTRY, k.T_EXIT, k.T_REASON]
    np.testing.assert_array_equal(free.trades_i[:, places], twice.trades_i[:, places])
    one, two = free.profits - once.profits, free.profits - twice.profits
    np.testing.assert_allclose(two, 2 * one, rtol=1e-9)
    assert (one > 0).all()


@given(st.floats(0.01, 500), st.sampled_from([1.0, 0.1, 0.01, 2.0, 0.5]))
@settings(max_examples=200, deadline=None)
def test_quantities_round_down_to_the_lot_step(wanted: float, step: float) -> None:
    market = terms(lot_step=step, minimum_lot=step)
    x = parameters(plan_of(Strategy(quantity=wanted), market), money_of(market, Brief(capital=1e12)))
    why, got, _ = settle(x, np.zeros(k.NEEDS), np.zeros(k.STATE, np.int64), 1, 100, 1e12, 1.0, 1.0, 0.0)
    assert (why == 0) == (got > 0)
    assert got <= wanted + 1e-5 * step
    assert got == 0 or wanted - got < step * (1 + 1e-6)
    assert abs(got / step - round(got / step)) < 1e-6


def test_profit_scales_with_quantity_and_conversion() -> None:
    bars = walk_bars(1500, seed=3)
    double = bars.terms.model_copy(update={"conversion_rate": 0.5})
    halved = walk_bars(1500, seed=3, conversion_rate=0.5)
    assert halved.terms == double
    a, b, c = (backtest(x, STOPPED.model_copy(update={"quantity": q}), Brief(capital=1e9))
               for x, q in ((bars, 1), (bars, 4), (halved, 4)))
    np.testing.assert_allclose(b.profits, 4 * a.profits)
    np.testing.assert_allclose(c.profits, 2 * a.profits)


def test_long_only_plus_short_only_is_both_when_they_do_not_meet() -> None:
    """With `ignore` and exits within the session, one side alone never trades more than its own signals."""
    bars = walk_bars(2500, seed=12)
    both = backtest(bars, STOPPED.model_copy(update={"on_opposite": "ignore"}), Brief())
    long = backtest(bars, STOPPED.model_copy(update={"short": Side(mode="off")}), Brief())
    short = backtest(bars, STOPPED.model_copy(update={"long": Side(mode="off"), "short": Side(
        entry=entry(row(ind("ema", length=5), "crosses below", ind("ema", length=15))).entry)}), Brief())
    assert (long.trades_i[:, k.T_SIDE] == 1).all()
    assert (short.trades_i[:, k.T_SIDE] == -1).all()
    assert len(both) <= len(long) + len(short)
    starts = {(t[k.T_SIDE], t[k.T_ENTRY_BAR]) for run in (long, short) for t in run.trades_i}
    inside = sum((t[k.T_SIDE], t[k.T_ENTRY_BAR]) in starts for t in both.trades_i)
    assert inside >= 0.9 * len(both)


def test_stops_and_targets_bound_every_trade() -> None:
    """No trade may lose more than its stop distance but by a gap, none win more than its target but by a gap."""
    bars = walk_bars(4000, seed=17)
    run = backtest(bars, cross(stop=Distance(unit="ticks", amount=40), target=Distance(unit="ticks", amount=60)), Brief())
    t = run.trades_i
    move = t[:, k.T_SIDE] * (t[:, k.T_EXIT] - t[:, k.T_ENTRY])
    opens = bars.o[t[:, k.T_EXIT_BAR]]
    stopped = t[:, k.T_REASON] == k.STOP
    gap = t[:, k.T_EXIT] == opens
    assert (move[stopped & ~gap] == -40).all()
    won = t[:, k.T_REASON] == k.TARGET
    assert (move[won & ~gap] == 60).all()
    others = ~stopped & ~won
    assert (move[others] > -40).all()
    assert (move[others] < 60).all()
    assert stopped.any()
    assert won.any()
    assert (t[:, k.T_WORST] <= np.minimum(move, 0)).all()
    assert (t[:, k.T_BEST] >= np.maximum(move, 0)).all()


def test_flat_by_session_end_leaves_nothing_overnight() -> None:
    bars = walk_bars(4000, seed=18)
    flat = backtest(bars, STOPPED, Brief())
    t = flat.trades_i
    same = bars.session[t[:, k.T_ENTRY_BAR]] == bars.session[t[:, k.T_EXIT_BAR]]
    assert same.all()
    assert (flat.position[np.flatnonzero(bars.last[flat.first:flat.last])] == 0).all()
    held = backtest(bars, STOPPED.model_copy(update={"flat_by_session_end": False}), Brief())
    assert (bars.session[held.trades_i[:, k.T_ENTRY_BAR]] != bars.session[held.trades_i[:, k.T_EXIT_BAR]]).any()


def test_higher_intervals_decide_on_closed_bars_only() -> None:
    """A run on 60-minute bars built from 15-minute ones never depends on a later 15-minute bar."""
    base = walk_bars(2000, seed=40)
    whole = backtest(to_interval(base, 60), STOPPED, Brief())
    for cut in (700, 1203, 1777):
        part = backtest(to_interval(base.take(cut), 60), STOPPED, Brief())
        final = part.trades_i[part.trades_i[:, k.T_REASON] != k.END_OF_DATA]
        sure = final[final[:, k.T_EXIT_BAR] < len(to_interval(base.take(cut), 60)) - 1]
        np.testing.assert_array_equal(sure, whole.trades_i[: len(sure)])


def test_time_exit_and_conditions_name_their_reason() -> None:
    bars = walk_bars(2500, seed=23)
    timed = backtest(bars, cross(time_exit=3), Brief())
    out = timed.trades_i[timed.trades_i[:, k.T_REASON] == k.TIME]
    assert len(out) > 10
    assert (out[:, k.T_HELD] == 4).all(), "three bars closed in position, out at the open of the fourth"
    closing = backtest(bars, cross(time_exit=3, fill="this close"), Brief())
    out = closing.trades_i[closing.trades_i[:, k.T_REASON] == k.TIME]
    assert (out[:, k.T_HELD] == 3).all()
    leaving = Strategy(long=entry(row(price(), "crosses above", ind("sma", length=10)),
                                  leave=(row(price(), "crosses below", ind("sma", length=10)),)), short=Side(mode="off"))
    reasons = backtest(bars, leaving, Brief()).trades_i[:, k.T_REASON]
    assert set(np.unique(reasons)) <= {k.CONDITION, k.SESSION, k.END_OF_DATA}
    assert (reasons == k.CONDITION).any()


def test_a_condition_that_never_holds_trades_nothing() -> None:
    bars = walk_bars(300)
    never = Strategy(long=entry(row(price(), "above", num(1e9))), short=Side(mode="off"))
    run = backtest(bars, never, Brief())
    assert len(run) == 0
    assert (run.net == 50_000.0).all()
    assert measure(Facts.of(run))["exposure"] == 0.0
    endless = Strategy(long=entry(row(price(), "above", ind("sma", length=5000))))
    late = backtest(bars, endless, Brief())
    assert (late.first, len(late.net)) == (300, 0)


# First start and benchmark


def test_warming_runs_every_kernel_and_reports() -> None:
    """In a process of its own, in which nothing was compiled before."""
    code = ("import importlib, pkgutil, wolbrin.core\nfrom wolbrin.core.compiled import Kernel\n"
            "from wolbrin.core.work.warming import warm\nsaid = []\nwarm(lambda *x: said.append(x))\n"
            "names = [m.name for m in pkgutil.walk_packages(wolbrin.core.__path__, 'wolbrin.core.')"
            " if not m.name.endswith('own_worker')]\n"
            "found = [k for n in names for k in vars(importlib.import_module(n)).values() if isinstance(k, Kernel)]\n"
            "print(sorted({f'{k.__module__}.{k.__name__}' for k in found if not k.ready}))\n"
            "print(len(found) > 3, said[0][1] == 0, said[-1][0] == 'ready' and said[-1][1] == said[-1][2])")
    out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.splitlines()
    assert out == ["[]", "True True True"]
    assert is_warm()


def test_the_benchmark_is_honest_about_what_it_reaches() -> None:
    low = measured("a", 13.0, "x", "lower", 12.0, "beside b")
    high = measured("b", 1.8, "x", "higher", 1.7, "beside a")
    free = measured("c", 5.0, "s", "lower", None, "alone")
    assert (low.reached, high.reached, free.reached) == (False, True, None)
    assert "NOT REACHED" in low.line()
    assert set(low.as_json()) == {"name", "value", "unit", "better", "reach", "reference"}
    text = page([low, high, free])
    assert text.count("\n| ") == 4
    assert "| a | 13 | x | lower | 12 |" in text
    bars = bench_bars(3000)
    assert len(bars) == 3000
    assert bench_bars(3000).hash == bars.hash
    assert len(backtest(Prepared.of(bars), bench_strategy(), Brief())) > 5
    assert strategy_hash(bench_strategy()) == strategy_hash(bench_strategy())
