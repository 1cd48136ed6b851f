"""The seal: sealed bars change nothing before they are opened, every way to them is counted, verdicts are final."""

from __future__ import annotations

import ast
import datetime as dt
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from statsmodels.stats.multitest import multipletests

from tests.build import any_rng, cross, discover_request, found_by, walk_bars
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Engine
from wolbrin.core.market.bars import Bars, Span, make_bars
from wolbrin.core.market.contracts import Rule
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.importing.layout import Layout
from wolbrin.core.market.intervals import Interval
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.treatment import Treatment
from wolbrin.core.measures.inference import effective_bets, p_above
from wolbrin.core.portfolio.overlap import Overlap
from wolbrin.core.proving.gate import Gate
from wolbrin.core.proving.gatekeeping import holm_at
from wolbrin.core.proving.holdout import HoldoutGate
from wolbrin.core.proving.line import Line, Step
from wolbrin.core.proving.monte_carlo import MonteCarloGate, MonteCarloSettings
from wolbrin.core.rules.axes import Axis
from wolbrin.core.rules.model import Distance, Strategy
from wolbrin.core.rules.script import parse_strategy
from wolbrin.core.search.candidate import candidate_of
from wolbrin.core.store.dossier import Dossiers, Evidence
from wolbrin.core.store.holdout import ERROR, HoldoutBook, level_of, t_for
from wolbrin.core.store.project import Project
from wolbrin.core.store.sealed import open_again
from wolbrin.core.store.settings import OwnSpan, Settings
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.study.groups import groups
from wolbrin.core.study.trial import TrialRow
from wolbrin.core.work.combining import series_of, training_run
from wolbrin.core.work.discover_results import strength
from wolbrin.core.work.discovering import daily_sample, discover_job
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.importing import take_in_all
from wolbrin.core.work.lines import use_line
from wolbrin.core.work.markets import compare, count_bars, join_contracts, preview_treatment, quality
from wolbrin.core.work.opening import beyond, open_for
from wolbrin.core.work.portfolio_pieces import told_of
from wolbrin.core.work.portfolios import desk_of, plan_of, weight_table
from wolbrin.core.work.proving import prove_job
from wolbrin.core.work.spending import check_opening, spend_on
from wolbrin.core.work.standing import Standings
from wolbrin.core.work.studying import StudyRequest, run_study
from wolbrin.core.work.subject import Subject
from wolbrin.core.work.sweep_luck import luck_job
from wolbrin.core.work.sweep_reading import read
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweep_results import daily_of_sweep
from wolbrin.core.work.sweep_sets import candidate_from_sweep
from wolbrin.core.work.sweep_statistics import statistics, years_of
from wolbrin.core.work.sweeping import sweep_job
from wolbrin.core.work.together import as_json
from wolbrin.core.work.trialing import TrialRequest, trial_job
from wolbrin.core.work.whole import open_portfolio, portfolio_figures, portfolio_verdicts, seen_members, verdict_on

SOURCE = Path(__file__).parents[2] / "src/wolbrin"
BORDER = dt.date(2024, 4, 1)
SETTINGS = Settings(training_first=dt.date(2024, 1, 1), holdout_first=BORDER, last=dt.date(2024, 12, 31))
STOPPED = cross(stop=Distance(unit="atr", amount=2.0))
EASY: tuple[Gate, ...] = (
    MonteCarloGate(MonteCarloSettings(paths=50, least_return_drawdown=-1e9, largest_risk=1.0)), HoldoutGate())
EASY_LINE = Line(name="easy", steps=(Step(gate="monte_carlo", settings={
    "paths": 50, "least_return_drawdown": -1e9, "largest_risk": 1.0}), Step(gate="holdout")))
LAYOUT = Layout(columns=("time", "open", "high", "low", "close", "volume"))


@pytest.fixture
def engine() -> Iterator[Engine]:
    made = Engine(2)
    yield made
    made.close()


@pytest.fixture
def project(tmp_path: Path) -> Iterator[Project]:
    made = Project.create(tmp_path / "p", SETTINGS)
    bars = walk_bars(2600, seed=4, code="AAA")
    made.add_market(bars.terms, bars, "test")
    yield made
    made.close()


# Replacing every sealed bar changes nothing


def with_other_end(bars: Bars, seed: int, spikes: bool = False) -> Bars:
    """The same bars up to the border, others from there on: other prices, another level, some bars missing."""
    first = bars.range_of(Span(BORDER, None))[0]
    columns = [x.copy() for x in (bars.open, bars.high, bars.low, bars.close)]
    rng = np.random.default_rng(99)
    if spikes:
        at = rng.integers(50, len(bars), 12)
        columns[1][at] += 9.0
    stays = np.ones(len(bars), bool)
    if seed:
        rng = np.random.default_rng(seed)
        step = rng.normal(0, 0.4, len(bars) - first).cumsum().round(2) + rng.integers(-30, 60)
        for c in columns:
            c[first:] += step
        columns[1][first:] += rng.integers(0, 300, len(bars) - first) / 100
        stays[first:] = rng.random(len(bars) - first) > 0.2
    prices = tuple(c[stays] for c in columns)
    volume = np.where(np.arange(len(bars)) >= first, bars.volume * (1 + seed), bars.volume)[stays]
    return make_bars(bars.terms, bars.interval, bars.time[stays], prices, volume)  # type: ignore[arg-type]


def world(folder: Path, seed: int) -> Project:
    """Spiky bars with spike treatment, a conversion market, a second source, and two joined futures, one adjusted by
    difference and one by ratio, that roll on both sides of the border."""
    project = Project.create(folder, SETTINGS)
    base = walk_bars(2600, seed=4, code="AAA", conversion_market="RAT")
    rate = walk_bars(2600, seed=6, code="RAT")
    other = walk_bars(2600, seed=5, code="BBB")
    project.add_market(rate.terms, with_other_end(rate, seed), "test")
    project.add_market(base.terms, with_other_end(base, seed, spikes=True), "test")
    project.add_market(other.terms, with_other_end(other, seed), "test")
    project.sources.treat("AAA", "test", Treatment(spikes="cap", deviations=6))
    project.sources.put(other.terms, "second", Raw.of(with_other_end(walk_bars(2600, seed=8, code="BBB"), seed)))
    roll = with_other_end(walk_bars(2600, seed=7, code="FUT"), seed)
    raw = Raw.of(roll)
    # Months that overlap and differ in price; two rolls before the border, one or two behind it.
    months = []
    for number in range(4):
        span = slice(number * 600, number * 600 + 800)
        part = raw.take(np.arange(len(raw))[span])
        months.append((f"FUT-m{number}", replace(part, **{n: getattr(part, n) + 3.0 * number
                                                          for n in ("open", "high", "low", "close")})))
    take_in_all(project, roll.terms, months, keep="old", origin="m", layout=LAYOUT, months=True)
    for how in ("difference", "ratio"):
        join_contracts(project, "FUT", ["m0", "m1", "m2", "m3"], Rule(days=2, adjust=how), how)  # type: ignore[arg-type]
    project.sources.activate("FUT", "difference")
    return project


def everything(project: Project, engine: Engine) -> dict[str, Any]:
    """Figures of every kind of work that may be done before the holdout is opened."""
    out: dict[str, Any] = {}
    pair = parse_strategy("name = 'pair'\nlong_entry = rises(series(close, market='BBB')) and close > ema(5)\n"
                          "stop = 2 * atr(14)\n")
    settings = project.settings.model_copy(update={"fine_fills": True})
    project.update_settings(settings)
    for code, interval in (("AAA", 15), ("AAA", 30), ("AAA", Interval("range", 40).code), ("FUT", 15), ("BBB", 1440)):
        for name, strategy in (("stopped", STOPPED), ("pair", pair)):
            ready = project.prepared(code, interval)
            run = backtest(ready, strategy, project.settings.brief(ready.bars.terms))
            out[f"run {code} {interval} {name}"] = (run.fingerprint, run.record().key, ready.bars.hash)
    ratio = project.prepared("FUT", 15, "ratio")
    out["ratio"] = ratio.bars.hash
    assert len(ratio.bars.rolls) >= 1
    sweep, result = sweep_job(project, SweepRequest(STOPPED, "AAA", 15, (Axis.spread("stop.amount", "stop", 1, 3, 1),)))
    engine.start(sweep, "threads").wait()
    out["sweep"] = result.table()[1].tobytes()
    wide = SweepRequest(STOPPED, "AAA", 15, (Axis.spread("stop.amount", "stop", 1, 3, 0.25), Axis.markets(["AAA", "FUT"]),
                                             Axis.intervals([15, 30])), method="evolve", count=20)
    sweep, evolved = sweep_job(project, wide)
    engine.start(sweep, "threads").wait()
    luck, lucky = luck_job(project, evolved, 2)
    engine.start(luck, "threads").wait()
    reading = read(evolved)
    out["evolved"] = [x.tobytes() for x in (*evolved.table(), reading.median, lucky.rows)]
    out["judged"] = [repr(replace(statistics(project, evolved, reading, m), tried_on=0)) for m in ("AAA", "FUT")]
    out["years"] = years_of(project, evolved, "FUT")[2].tobytes()
    for method in ("random", "evolve"):
        discover, found = discover_job(project, discover_request("FUT", count=200, method=method, controls=1))
        engine.start(discover, "threads").wait()
        out[f"discover {method}"] = [found_by(project, found.search), [vars(c) for c in found.counts],
                                     repr(strength(project, found))]
    out["daily"] = [[part.tobytes() for part in daily_sample(project, found.search)],
                    daily_of_sweep(project, result.search)[1]["daily"].tobytes()]
    rows = (TrialRow(name="a", strategy=STOPPED), TrialRow(name="b", strategy=pair))
    for mirrored in (False, True):
        trial, tried = trial_job(project, TrialRequest(rows=rows, columns=(("AAA", 30), ("BBB", 15)), shuffles=2,
                                                       mirrored=mirrored))
        engine.start(trial, "threads").wait()
        assert np.isfinite(tried.dealt[..., 3]).all()
        out[f"trial {mirrored}"] = tried.figures.tobytes() + tried.dealt.tobytes()
    made = run_study(Footing.of(project), StudyRequest(STOPPED, "AAA", 15, unit="ATR"))[0]
    grouped = groups(project.prepared("AAA", 15), made, 3)
    out["study"] = [made.mean.tobytes(), made.low.tobytes(), made.clock.tobytes(), [repr(g.spreads) for g in grouped]]
    shelf = Dossiers(project).shelf()[:4]
    engine.start(prove_job(project, [Subject.of(k) for k in shelf], open_holdout=False), "threads").wait()
    out["gates"] = [[(e.verdict, e.outcome, e.record.key if e.record else "")
                     for e in Dossiers(project).evidence(*Subject.of(k).key)] for k in shelf]
    plans: list[Any] = []
    engine.start(prove_job(project, [Subject.of(k) for k in shelf], open_holdout=True, gates=EASY, plan_only=True,
                           planned_as=lambda plan, _: plans.append(as_json(plan))), "threads").wait()
    assert plans[0]["families"]
    out["plan"] = repr(plans)
    series = series_of(project, Footing.of(project), [k.id for k in shelf])
    out["overlap"] = Overlap.of([k.series for k in series]).p.tobytes()
    desk = desk_of(project, plan_of(shelf))
    out["portfolio"] = repr((told_of(desk).figures, weight_table(desk).rows[3].weights.tolist()))
    out["shelf"] = [(k.hash, repr(k.candidate.summary), k.candidate.record.key) for k in Dossiers(project).shelf()]
    for code in ("AAA", "BBB", "FUT"):
        source = project.sources.get(code, project.market(code).source)
        report = quality(project, source)
        out[f"quality {code}"] = (report.score, [(f.key, f.count, [p.time for p in f.places]) for f in report.findings],
                                  quality(project, source, treated=True).score)
        preview = preview_treatment(project, source, Treatment(spikes="leave out", no_range="leave out"))
        out[f"treatment {code}"] = (preview.bars.hash, [c.rows.tolist() for c in preview.changes])
        out[f"counts {code}"] = [count_bars(project, source, i) for i in (15, 60, 1440, Interval("volume", 3000).code)]
    both = compare(project, "BBB", "test", "second", STOPPED, 15)
    assert both.runs is not None
    out["sources"] = (both.prices.ticks.tobytes(), both.runs.first_net, both.runs.second_net)
    return out


def test_replacing_every_sealed_bar_changes_no_bit_before_the_holdout_is_opened(tmp_path: Path, engine: Engine) -> None:
    first = None
    for seed in (0, 1, 2):
        project = world(tmp_path / f"p{seed}", seed)
        found = everything(project, engine)
        if first is None:
            first = found
        for key, value in found.items():
            assert value == first[key], key
        project.close()


def test_an_opened_history_begins_with_exactly_the_sealed_one(tmp_path: Path) -> None:
    """What the sealed rows are judged and adjusted by was learned before them; they change nothing behind the border."""
    project = world(tmp_path / "p", 1)
    footing = Footing.of(project)
    whole = open_again(footing.ground)
    for code, interval in (("AAA", 15), ("RAT", 15), ("FUT", 30), ("BBB", 1440), ("AAA", Interval("range", 40).code)):
        closed, opened = project.prepared(code, interval).bars, whole.prepared(code, interval).bars
        assert len(opened) > len(closed)
        for name in ("time", "end", "o", "h", "l", "c", "volume", "last"):
            there, here = getattr(opened, name)[:len(closed)], getattr(closed, name)
            np.testing.assert_array_equal(there, here, err_msg=f"{code} {name}")
        assert opened.rolls[:len(closed.rolls)] == closed.rolls
    jump = np.abs(np.diff(whole.prepared("FUT", 15).bars.c)).max()
    raw = np.abs(np.diff(project.sources.raw(project.sources.get("FUT", "difference")).close)).max() / 0.01
    assert len(whole.prepared("FUT", 15).bars.rolls) > len(project.prepared("FUT", 15).bars.rolls)
    assert jump <= raw
    project.close()


def test_a_border_moved_by_another_program_is_the_border_here_too(project: Project) -> None:
    before = project.prepared("AAA", 15)
    other = Project(project.folder)
    other.set_value("x", 1)
    assert project.prepared("AAA", 15) is before
    other.update_settings(SETTINGS.model_copy(update={"holdout_first": dt.date(2024, 3, 1)}))
    assert len(project.prepared("AAA", 15).bars) < len(before.bars)
    other.close()


# No other way in


def test_there_is_one_door_to_sealed_bars() -> None:
    """Names that lead to sealed rows are used where they are listed, and nowhere else."""
    allowed = {
        "unsealed": {"core/store/sealed.py", "core/store/sources.py", "core/store/ground.py"},
        "open_sealed": {"core/work/judging.py", "core/store/sealed.py"},
        "open_again": {"core/work/judging.py", "core/store/sealed.py"},
        "judge_plan": {"core/work/judging.py"},
        "open_plan": {"core/work/judging.py", "core/work/together.py"},
        "look_beyond": {"core/work/opening.py", "core/work/judging.py"},
        "open_for": {"core/work/opening.py", "app/places/backtest/measures_page.py", "app/places/rehearsal/state.py",
                     "core/work/one_run.py"},
        "read_raw": {"core/store/history.py", "core/store/sources.py"},
        # Drawn, never counted.
        "pictured_raw": {"core/store/sources.py", "app/places/markets/view.py"},
        "History": {"core/store/history.py", "core/store/sources.py", "core/store/ground.py"},
        "Ground": {"core/store/ground.py", "core/store/project.py", "core/store/sealed.py", "core/work/footing.py"},
    }
    # Rows as they came, for joining, appending and looking at files.
    rows = {"core/work/importing.py", "core/work/markets.py", "core/store/sources.py"}
    for path in SOURCE.rglob("*.py"):
        here = path.relative_to(SOURCE).as_posix()
        for node in ast.walk(ast.parse(path.read_text())):
            name = node.attr if isinstance(node, ast.Attribute) else node.id if isinstance(node, ast.Name) else ""
            if name in allowed:
                assert here in allowed[name], f"{here}, line {node.lineno}: {name}"  # type: ignore[attr-defined]
            if (isinstance(node, ast.Attribute) and node.attr in ("raw", "ticks") and isinstance(node.value, ast.Attribute)
                    and node.value.attr == "sources"):
                assert here in rows, f"{here}, line {node.lineno}: sources.{node.attr}"


# Openings, verdicts, near-twins


def prove(project: Project, engine: Engine, what: list[Strategy] | list[Subject], market: str = "AAA") -> list[str]:
    """Walk strategies (kept on the Shelf first) or subjects through the line, holdout included; where each stands."""
    dossiers, ids = Dossiers(project), []
    for one in what:
        assert isinstance(one, Strategy)
        run = backtest(project.prepared(market, 15), one, project.settings.brief(project.market(market).terms))
        ids.append(dossiers.keep(candidate_of(run, one.name, "rules", 1)))
    kept = [k for k in dossiers.shelf() if k.id in ids]
    engine.start(prove_job(project, [Subject.of(k) for k in kept], open_holdout=True, gates=EASY), "threads").wait()
    standings = Standings(project, EASY)
    return [standings.of(k).stands for k in kept]


def stop(amount: float, **more: Any) -> Strategy:
    return cross(name=f"stop {amount:g}", stop=Distance(unit="atr", amount=amount), **more)


def test_neither_twins_nor_briefs_nor_dates_turn_a_fall_into_standing(project: Project, engine: Engine) -> None:
    assert prove(project, engine, [stop(2.0)]) == ["falls: Holdout"], "noise does not stand"
    assert project.openings() == project.openings("AAA") == 1
    # Near-twins are not even opened.
    assert prove(project, engine, [stop(2.01), stop(2.0, quantity=3)]) == ["falls: Holdout"] * 2
    assert project.openings() == 1
    reasons = [j.reason for j in project.book.judged("AAA")]
    assert all("Earns like stop 2, which fell" in r for r in reasons[1:])
    # Other costs, capital, data end, limits: the verdict is for the rules, under any brief.
    for changes in ({"capital": 9e6}, {"cost_sets": {"AAA": {"none": Costs()}}, "cost_set": {"AAA": "none"}},
                    {"last": dt.date(2024, 5, 1)}, {"last": dt.date(2024, 12, 30)}, {"most_months": 1}, {"fine_fills": True}):
        project.update_settings(Settings.model_validate(project.settings.model_dump() | changes))
        Dossiers(project).remove([k.id for k in Dossiers(project).shelf()])
        assert set(prove(project, engine, [stop(2.0), stop(2.005)])) == {"falls: Holdout"}, changes
    assert project.openings() == 1
    assert [o.kind for o in project.book.all()].count("end") == 2, "moves of the data's end are written down"
    # A different bet gets a verdict of its own.
    other = parse_strategy("name = 'fade'\nlong_entry = crosses_below(rsi(4), 30)\nstop = 2 * atr(14)\n")
    prove(project, engine, [other])
    assert project.openings() == 2
    assert all(not e.outcome for k in Dossiers(project).shelf() for e in Dossiers(project).all_evidence(k.hash, "AAA")
               if e.gate == "holdout"), "of what fell nothing is told but that"
    # A later look stands beside the verdict and changes nothing; but figures of what fell were shown by it, and whatever is
    # kept from then on is ready at most.
    footing = Footing.of(project)
    opened = open_for(project, footing, stop(2.0), "AAA", 15, Brief(), Span(BORDER, dt.date(2024, 4, 20)), "test")
    assert not opened.verdict.passed
    assert "for good" in opened.verdict.reason
    assert project.openings() == 2
    assert [o.kind for o in project.book.all()][-1] == "shown"
    third = parse_strategy("name = 'third'\nlong_entry = crosses_above(rsi(9), 60)\nstop = 3 * atr(14)\n")
    assert prove(project, engine, [third]) == ["ready"]
    assert project.openings() == 2


def test_the_verdict_is_for_the_rules_on_every_way_in(project: Project) -> None:
    """Whoever looks is judged before he sees, once; and what saw nothing is not counted."""
    footing, book = Footing.of(project), project.book
    for span in (Span(dt.date(2030, 1, 1), None), Span(None, dt.date(2024, 3, 1)), Span(dt.date(9999, 12, 31), None)):
        with pytest.raises(UserError, match="no sealed bars"):
            open_for(project, footing, STOPPED, "AAA", 15, Brief(), span, "test")
    assert book.all() == []
    asked = Span(dt.date(2024, 3, 1), dt.date(2024, 4, 30))
    opened = open_for(project, footing, STOPPED, "AAA", 15, Brief(), asked, "test")
    run = beyond(opened, Brief(), asked, SETTINGS.holdout)
    assert (run.record().role, run.brief.span) == ("whole", asked)
    assert len(book.judged("AAA")) == book.count() == 1
    assert [o.what for o in book.of(run.record().strategy, "AAA")] == [f"test: {STOPPED.name} on AAA"]
    verdict = book.judged("AAA")[0].verdict
    open_for(project, footing, STOPPED, "AAA", 15, Brief(), asked, "again")
    assert [j.verdict for j in book.judged("AAA")] == [verdict]
    assert book.count() == 1, "nothing is judged by a second look"
    assert book.count("BBB") == 0


def test_moving_the_border_on_purpose_spends_the_holdout_for_what_was_found(project: Project, engine: Engine) -> None:
    for new in (dt.date(2024, 3, 1), dt.date(2024, 4, 15)):
        run = backtest(project.prepared("AAA", 15), STOPPED, project.settings.brief(project.market("AAA").terms))
        Dossiers(project).keep(candidate_of(run, "found", "rules", 1))
        moved = project.settings.model_copy(update={"holdout_first": new})
        with pytest.raises(UserError, match="spends the holdout"):
            project.update_settings(moved)
        project.update_settings(moved, "a reason")
        assert project.settings.holdout_first == new
    kept = Dossiers(project).shelf()
    engine.start(prove_job(project, [Subject.of(k) for k in kept], open_holdout=True, gates=EASY), "threads").wait()
    assert {Standings(project, EASY).of(k).stands for k in Dossiers(project).shelf()} == {"falls: Holdout"}
    assert "Seen since" in project.book.judged("AAA")[0].reason
    assert project.openings() == 2, "both moves are counted; nothing else was opened"
    # The same bet found again, and one that earns like it, are no better off.
    Dossiers(project).remove([k.id for k in kept])
    assert prove(project, engine, [stop(2.0), stop(2.01)]) == ["falls: Holdout"] * 2
    assert project.openings() == 2


def test_bars_that_a_search_has_seen_are_never_unseen(project: Project, engine: Engine) -> None:
    job, _ = sweep_job(project, SweepRequest(STOPPED, "AAA", 15, (Axis.spread("stop.amount", "stop", 1, 2, 1),)))
    engine.start(job, "threads").wait()
    project.update_settings(project.settings.model_copy(update={"holdout_first": dt.date(2024, 2, 15)}), "earlier")
    assert project.book.unseen_first(project.settings.holdout_first) == BORDER
    prove(project, engine, [cross(stop=Distance(unit="atr", amount=4.0), target=Distance(unit="atr", amount=1.0))])
    opened = [o for o in project.book.all() if o.kind == "opened"]
    assert [o.first for o in opened] == [str(BORDER)]


def test_a_strategy_may_train_on_less_and_what_comes_of_it_inherits_that(project: Project, engine: Engine) -> None:
    own = OwnSpan(last=dt.date(2024, 2, 29))
    id = project.save_strategy(stop(2.0), "AAA", 15)
    project.set_own_span(id, own)
    entry = project.strategy(id)
    project.save_strategy(entry.strategy.model_copy(update={"name": "renamed"}), "AAA", 15, id)
    assert project.strategy(id).own == own, "it is the strategy's, whatever its name"
    axes = (Axis.spread("stop.amount", "stop", 1, 2, 1),)
    job, result = sweep_job(project, SweepRequest(entry.strategy, "AAA", 15, axes, entry.own))
    engine.start(job, "threads").wait()
    candidate = candidate_from_sweep(project, result, (1.0,))
    assert candidate.record.last == own.last
    dossiers = Dossiers(project)
    dossiers.keep(candidate, own=entry.own)
    kept = dossiers.shelf()[0]
    run = training_run(Footing.of(project), kept)
    assert run.brief.span.last == own.last == desk_of(project, plan_of([kept])).played().runs[0].brief.span.last
    engine.start(prove_job(project, [Subject.of(kept)], open_holdout=False), "threads").wait()
    evidence = dossiers.evidence(*Subject.of(kept).key)
    assert {e.record.last for e in evidence if e.record} == {own.last}
    project.delete_strategy(id)
    project.put_back_strategy(replace(entry, own=own))
    assert project.strategy(id).own == own


# What trying again and again brings


def test_opening_again_and_again_on_noise_hardly_ever_brings_a_standing() -> None:
    """2,000 projects without any edge open one to eight candidates thirty times: in at most 5% of them one ever passes
    (within three standard errors; normal t, the law of a mean of many days)."""
    rng = any_rng()
    fooled = 0
    for _ in range(2_000):
        sizes = rng.integers(1, 9, 30)
        drawn = [rng.normal(size=n) for n in sizes]
        fooled += any((t >= holm_at(t.tolist(), level_of(b))).any() for b, t in enumerate(drawn, 1))
    share = fooled / 2_000
    assert share <= ERROR + 3 * np.sqrt(ERROR * (1 - ERROR) / 2_000)
    bars = [t_for(b, 1) for b in range(1, 40)]
    assert bars == sorted(bars), "every opening raises the next bar"
    assert t_for(1, 20) > t_for(1, 1)
    # Some real ones among them do not make it easier for the others to pass by luck.
    wrong = 0
    for _ in range(2_000):
        t = rng.normal(size=6)
        t[:3] += 5
        wrong += bool((t >= holm_at(t.tolist(), level_of(1)))[3:].any())
    spent = ERROR / 2
    assert wrong / 2_000 <= spent + 3 * np.sqrt(spent * (1 - spent) / 2_000)


def test_those_opened_together_share_the_error_as_holm_has_it() -> None:
    """Against statsmodels (Holm 1979)."""
    rng = any_rng()
    for _ in range(30):
        t, batch = rng.normal(2.0, 1.5, int(rng.integers(1, 9))), int(rng.integers(1, 5))
        t[rng.random(len(t)) < 0.1] = np.nan
        p = np.array([p_above(x) if x == x else 1.0 for x in t])
        want = multipletests(p, ERROR / (batch * (batch + 1)), method="holm")[0]
        needed = np.array(holm_at(t.tolist(), level_of(batch)))
        np.testing.assert_array_equal(t >= needed, want)


def test_a_holdout_kept_for_a_portfolio_is_opened_once_and_for_the_whole(project: Project, engine: Engine) -> None:
    use_line(project, EASY_LINE)
    dossiers, kept = Dossiers(project), []
    other = parse_strategy("name = 'fade'\nlong_entry = crosses_below(rsi(4), 30)\nstop = 2 * atr(14)\n")
    for what in (stop(2.0), other):
        run = backtest(project.prepared("AAA", 15), what, project.settings.brief(project.market("AAA").terms))
        dossiers.keep(candidate_of(run, what.name, "rules", 1))
    kept = dossiers.shelf()
    spend_on(project, "portfolio")
    with pytest.raises(UserError, match="kept for a portfolio"):
        prove_job(project, [Subject.of(k) for k in kept], open_holdout=True)
    with pytest.raises(UserError, match="kept for a portfolio"):
        open_for(project, Footing.of(project), STOPPED, "AAA", 15, Brief(), SETTINGS.holdout, "test")
    with pytest.raises(UserError, match=r"not ready \(open\)"):
        open_portfolio(project, plan_of(kept, "two"))
    assert project.openings() == 0
    engine.start(prove_job(project, [Subject.of(k) for k in kept], open_holdout=False), "threads").wait()
    assert seen_members(project, kept) == []
    made = open_portfolio(project, plan_of(kept, "two"))
    footing = Footing.of(project)
    sealed = open_again(footing.ground)
    brief = replace(footing.brief(project.market("AAA").terms), span=SETTINGS.holdout)
    nets = [backtest(sealed.prepared("AAA", 15), k.candidate.strategy, brief).profits.sum() for k in kept]
    assert (made.passed, made.figures) == (False, {}), "of what falls nothing is told but that"
    assert "fell" in verdict_on(project, [k.id for k in kept])
    assert {o.batch for o in project.book.all()} == {1}
    assert [Standings(project).of(k).stands.split(":")[0] for k in kept] == ["falls"] * 2
    assert all("as a member of two" in j.reason for j in project.book.judged("AAA"))
    assert seen_members(project, kept) == [k.candidate.name for k in kept]
    assert portfolio_verdicts(project)[0]["members"] == [k.id for k in kept]
    assert verdict_on(project, [k.id for k in reversed(kept)]).startswith("two ")
    with pytest.raises(UserError, match="not ready"):
        open_portfolio(project, plan_of(kept, "again"))
    run = backtest(project.prepared("AAA", 15), stop(2.001), project.settings.brief(project.market("AAA").terms))
    id = dossiers.keep(candidate_of(run, "nearly the same", "rules", 1))
    assert id is not None
    twin = Shelf(project).bodies([id])
    engine.start(prove_job(project, [Subject.of(twin[0])], open_holdout=False), "threads").wait()
    assert Standings(project).of(twin[0]).stands == "ready"
    openings = project.openings()
    with pytest.raises(UserError, match="nearly the same cannot be opened any more: Earns like"):
        open_portfolio(project, plan_of(twin, "twin"))
    assert project.openings() == openings, "and nothing was opened for it"
    assert Standings(project).of(twin[0]).stands.startswith("falls")
    shown = portfolio_figures(project, "two")["figures"]
    assert shown["net"] == pytest.approx(sum(nets))
    assert shown["t_needed"] == t_for(1, 1), "one opening, whose bar is that of one"
    assert [o.kind for o in project.book.all()][-1] == "shown"
    with pytest.raises(UserError, match="no portfolio"):
        portfolio_figures(project, "twin")
    spend_on(project, "candidates")
    with pytest.raises(UserError, match="would spend the holdout of 900 candidates"):
        check_opening(project, 900)
    check_opening(project, 900, many=True)


def test_what_is_kept_after_an_opening_says_so(project: Project, engine: Engine) -> None:
    """Whatever is chosen by what was shown there is chosen on seen data."""
    prove(project, engine, [stop(2.0)])
    before = Dossiers(project).shelf()[0]
    assert Standings(project).of(before).seen == 0
    later = replace(before, created="2999-01-01T00:00:00")
    place = Standings(project).of(later)
    assert place.seen == 1
    figures = {"drawdown_95": 1.0, "capital_for_10": 2.0}
    passed = {"monte_carlo": Evidence("monte_carlo", "", {}, figures, "passes", "Good.", {})}
    words = replace(place, evidence=passed).words(EASY)
    assert words.startswith("Ready, still sealed: ")
    assert words.endswith("It was kept after its market's holdout had been opened 1 time.")


def test_the_next_opening_is_known_beforehand(project: Project) -> None:
    book = HoldoutBook(project)
    assert book.next_batch() == 1
    open_for(project, Footing.of(project), STOPPED, "AAA", 15, Brief(), SETTINGS.holdout, "test")
    assert book.next_batch() == 2
    # Two programs at once never get the same number.
    other = Project(project.folder)
    assert {book.reserve(), HoldoutBook(other).reserve(), book.reserve()} == {2, 3, 4}
    other.close()


def test_effective_bets_equal_the_definition() -> None:
    rng = np.random.default_rng(3)
    table = rng.normal(size=(400, 1)) + 0.5 * rng.normal(size=(400, 7))
    matrix = np.corrcoef(table.T)
    eigen = np.linalg.eigvalsh(matrix)
    assert effective_bets(matrix) == pytest.approx(eigen.sum() ** 2 / (eigen**2).sum())
    assert effective_bets(np.eye(9)) == pytest.approx(9)
    assert effective_bets(np.ones((5, 5))) == pytest.approx(1)
    assert np.isnan(effective_bets(np.full((2, 2), np.nan)))
