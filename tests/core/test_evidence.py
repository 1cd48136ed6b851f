"""Evidence: one record for every result, one meaning of tried, requests that nothing changes, projects of older versions."""

from __future__ import annotations

import datetime as dt
import json
import pickle
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.build import cross, discover_request, found_by, walk_bars
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.record import NOT_RECORDED, RECORD_VERSION, Record
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Engine, Job, State
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.treatment import Treatment
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.measures.inference import Tally
from wolbrin.core.rules.axes import Axis
from wolbrin.core.rules.model import Distance
from wolbrin.core.rules.script import parse_strategy
from wolbrin.core.search.folds import Length
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.store.schema import SCHEMA_VERSION
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.settings import Settings
from wolbrin.core.study.trial import TrialRow
from wolbrin.core.work.discovering import discover_job
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.funnel import funnel
from wolbrin.core.work.lines import line_of
from wolbrin.core.work.portfolio_pieces import weigh_job
from wolbrin.core.work.portfolios import desk_of, plan_of
from wolbrin.core.work.proving import prove_job
from wolbrin.core.work.standing import Standings
from wolbrin.core.work.studying import StudyRequest, study_job
from wolbrin.core.work.subject import Subject
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweep_results import last_sweep
from wolbrin.core.work.sweep_sets import candidate_from_sweep
from wolbrin.core.work.sweeping import sweep_job
from wolbrin.core.work.trialing import TrialRequest, candidate_from_trial, last_trial, trial_job
from wolbrin.core.work.walk_request import WalkRequest
from wolbrin.core.work.walking import walk_job

DATA = Path(__file__).parents[1] / "data"
SETTINGS = Settings(training_first=dt.date(2024, 1, 1), holdout_first=dt.date(2024, 4, 1), last=dt.date(2024, 12, 31))
STOPPED = cross(stop=Distance(unit="atr", amount=1.5))
AXES = (Axis.spread("stop.amount", "stop", 1.0, 2.0, 0.5),)


@pytest.fixture
def engine() -> Iterator[Engine]:
    made = Engine(2)
    yield made
    made.close()


def fresh(folder: Path) -> Project:
    made = Project.create(folder, SETTINGS)
    for code, seed in (("AAA", 4), ("BBB", 5)):
        bars = walk_bars(2600, seed=seed, code=code)
        made.add_market(bars.terms, bars, "test")
    return made


@pytest.fixture
def project(tmp_path: Path) -> Iterator[Project]:
    made = fresh(tmp_path / "p")
    yield made
    made.close()


def trial_rows() -> tuple[TrialRow, ...]:
    pair = parse_strategy("name = 'pair'\nlong_entry = rises(series(close, market='BBB')) and close > ema(5)\n"
                          "stop = 2 * atr(14)\n")
    return (TrialRow(name="stopped", strategy=STOPPED), TrialRow(name="pair", strategy=pair))


# Records


def test_a_record_says_what_made_a_run_and_the_same_record_gives_the_same_bits(project: Project) -> None:
    rows = trial_rows()
    brief = project.settings.brief(project.market("AAA").terms)
    run = backtest(project.prepared("AAA", 30), rows[1].strategy, brief)
    record = run.record(tried=7, seeds=(3,))
    assert (record.market, record.source, record.interval, record.role) == ("AAA", "test", 30, "training")
    assert record.history == project.prepared("AAA", 30).bars.hash
    assert record.histories == {"operand BBB 30 min": project.prepared("BBB", 30).bars.hash}
    assert (record.tried, record.seeds, record.last) == (7, (3,), dt.date(2024, 3, 31))
    again = Record.read(json.loads(record.model_dump_json()), "here")
    assert again == record
    assert backtest(project.prepared("AAA", 30), rows[1].strategy, again.brief).fingerprint == run.fingerprint
    assert record.key == record.model_copy(update={"tried": 99}).key, "how many were tried changes no bit"
    for change in ({"capital": 1.0}, {"costs": Costs(slippage_ticks=1)}, {"history": "x"}, {"last": None},
                   {"role": "holdout"}, {"engine": "0"}, {"histories": {}}, {"most_bars": 9}):
        assert record.model_copy(update=change).key != record.key, change
    fine = backtest(project.prepared("AAA", 30), STOPPED, Brief(fine=True)).record()
    assert fine.histories == {"finer bars": project.base("AAA").hash}


def test_records_that_cannot_be_read_are_told_and_prove_nothing(project: Project, engine: Engine) -> None:
    with pytest.raises(UserError, match=f"version {RECORD_VERSION + 1}, newer"):
        Record.read({"version": RECORD_VERSION + 1}, "candidate X")
    with pytest.raises(UserError, match="capital"):
        Record.read({"version": 1, "engine": "3", "market": "A", "interval": 5, "history": "", "strategy": "",
                     "capital": "much"}, "candidate X")
    old = Record.read({"engine": "2", "market": "A", "interval": 5, "history": "", "strategy": "", "gone": 1}, "x")
    assert not old.whole
    assert old.words() == NOT_RECORDED
    job, _ = discover_job(project, discover_request())
    engine.start(job, "threads").wait()
    ids = [k.id for k in Dossiers(project).shelf()][:2]
    with project.transaction() as db:
        db.execute("UPDATE bodies SET record = json_set(record, '$.version', 9) WHERE candidate = ?", (ids[0],))
    shelf = {k.id: k for k in Dossiers(project).shelf()}
    assert "newer than this program knows" in shelf[ids[0]].candidate.record.words()
    assert Standings(project).of(shelf[ids[0]]).stands == NOT_RECORDED
    assert Standings(project).of(shelf[ids[1]]).stands == "open", "the others stay in use"


def test_a_candidate_whose_record_cannot_be_asked_again_is_run_anew(project: Project, engine: Engine) -> None:
    job, result = sweep_job(project, SweepRequest(STOPPED, "AAA", 15, AXES))
    engine.start(job, "threads").wait()
    dossiers = Dossiers(project)
    dossiers.keep(candidate_from_sweep(project, result, (1.0,)))
    before = dossiers.shelf()[0]
    engine.start(prove_job(project, [Subject.of(before)], open_holdout=False), "threads").wait()
    assert set(Standings(project).of(dossiers.shelf()[0]).evidence) == {"dates", "evidence"}
    project.sources.treat("AAA", "test", Treatment(without_days=("Mon",)))
    with pytest.raises(UserError, match="history has changed"):
        candidate_from_sweep(project, result, (1.5,))
    seen: list[Any] = []
    engine.start(prove_job(project, [Subject.of(before)], open_holdout=False, notify=seen.append), "threads").wait()
    after = dossiers.shelf()[0]
    assert seen[0].renewed is not None
    assert after.candidate.record.history == project.prepared("AAA", 15).bars.hash != before.candidate.record.history
    assert len(dossiers.evidence(*Subject.of(after).key)) == 4, "what was judged before stays in the dossier"
    gone = Subject(STOPPED, "GONE", 15)
    engine.start(prove_job(project, [gone], open_holdout=False, notify=seen.append), "threads").wait()
    assert 'no market "GONE"' in seen[-1].fault


# Tried


def test_tried_is_what_a_choice_was_possible_among_on_that_market(project: Project, engine: Engine) -> None:
    searches = Searches(project)
    sweep, result = sweep_job(project, SweepRequest(STOPPED, "AAA", 15, AXES))
    engine.start(sweep, "threads").wait()
    assert searches.tried() == {"AAA": 3}
    discover, found = discover_job(project, discover_request(interval=30, count=20))
    engine.start(discover, "threads").wait()
    trial, tried = trial_job(project, TrialRequest(rows=trial_rows(), columns=(("AAA", 15), ("BBB", 15)), shuffles=3))
    engine.start(trial, "threads").wait()
    engine.start(study_job(project, StudyRequest(STOPPED, "AAA", 15), lambda made: None), "threads").wait()
    total = {"AAA": 3 + 20 + 2, "BBB": 2, "": 0}
    assert searches.tried() == total, "whatever the tool and the interval; shuffles and studies are none"
    dossiers = Dossiers(project)
    dossiers.keep(candidate_from_trial(project, tried, 0, 1))
    dossiers.keep(candidate_from_sweep(project, result, (1.0,)))
    shelf = dossiers.shelf()
    assert {k.candidate.tried for k in shelf if k.candidate.market == "AAA"} == {25}
    assert {k.candidate.record.tried for k in shelf if k.candidate.market == "BBB"} == {2}
    engine.start(prove_job(project, [Subject.of(shelf[0])], open_holdout=False), "threads").wait()
    evidence = dossiers.evidence(*Subject.of(shelf[0]).key)[0]
    assert evidence.inputs["tried"] == 25
    assert evidence.record is not None
    assert searches.tried() == total, "a gate's own runs are none"
    # Mean and variance of the daily Sharpe ratio over all of them, whether they were kept or not.
    figures = np.concatenate([result.table()[1][:, SUMMARY.index("sharpe_daily")], tried.figures[:, 0, -1]])
    row = project.rows("SELECT * FROM searches WHERE kind = 'discover'")[0]
    assert 0 < row["sharpe_count"] <= 20
    whole = Tally.of(figures).with_(Tally(row["sharpe_count"], row["sharpe_mean"], row["sharpe_m2"]))
    got = searches.sharpe_on("AAA")
    assert (got.count, got.mean, got.variance) == pytest.approx((whole.count, whole.mean, whole.variance))
    assert found.record.tried == 23


@given(st.lists(st.lists(st.floats(-1e3, 1e3) | st.just(float("nan")), max_size=9), min_size=1, max_size=6))
def test_tallies_of_blocks_add_up_to_numpys_figures(blocks: list[list[float]]) -> None:
    total = Tally()
    for block in blocks:
        total = total.with_(Tally.of(np.array(block, float)))
    known = np.array([x for b in blocks for x in b if x == x])
    assert total.count == len(known)
    if len(known):
        assert total.mean == pytest.approx(known.mean(), abs=1e-9)
    if len(known) > 1:
        assert total.variance == pytest.approx(known.var(ddof=1), rel=1e-9, abs=1e-9)


# Frozen requests


def _sweep(project: Project) -> tuple[Job, Callable[[], Any]]:
    job, result = sweep_job(project, SweepRequest(STOPPED, "AAA", 15, AXES))
    return job, lambda: (result.table()[1].tobytes(), result.record)


def _discover(project: Project) -> tuple[Job, Callable[[], Any]]:
    job, result = discover_job(project, discover_request(count=16))
    return job, lambda: (found_by(project, result.search), result.record)


def _trial(project: Project) -> tuple[Job, Callable[[], Any]]:
    request = TrialRequest(rows=trial_rows(), columns=(("AAA", 15), ("BBB", 15)), shuffles=1, mirrored=True)
    job, result = trial_job(project, request)
    return job, lambda: (result.figures.tobytes(), result.dealt.tobytes(), result.records)


def _walk(project: Project) -> tuple[Job, Callable[[], Any]]:
    request = WalkRequest(SweepRequest(STOPPED, "AAA", 15, AXES), (Length(20, "days"),), (Length(10, "days"),))
    job, result = walk_job(project, request)
    return job, lambda: (repr(result.fits), repr(result.cells), result.record)


def _study(project: Project) -> tuple[Job, Callable[[], Any]]:
    got: list[Any] = []
    return study_job(project, StudyRequest(STOPPED, "AAA", 15), got.append), lambda: [s.mean.tobytes() for s in got[0]]


def _prove(project: Project) -> tuple[Job, Callable[[], Any]]:
    job = prove_job(project, [Subject(STOPPED, "AAA", 15)], open_holdout=False)
    return job, lambda: [(e.outcome, e.record) for e in Dossiers(project).evidence(*Subject(STOPPED, "AAA", 15).key)]


def _combine(project: Project) -> tuple[Job, Callable[[], Any]]:
    run = backtest(project.prepared("AAA", 15), STOPPED, project.settings.brief(project.market("AAA").terms))
    from wolbrin.core.search.candidate import candidate_of

    dossiers, got = Dossiers(project), []
    dossiers.keep(candidate_of(run, "kept", "rules", 1))
    desk = desk_of(project, plan_of(dossiers.shelf()))
    job = weigh_job(desk, lambda table: got.extend((desk.played().equity.tobytes(), table.rows[0].walked.tobytes())))
    return job, lambda: got


@pytest.mark.parametrize("make", [_sweep, _discover, _trial, _walk, _study, _prove, _combine])
def test_work_goes_on_with_what_it_began_on_whatever_is_changed(make: Callable, tmp_path: Path, engine: Engine) -> None:
    """Everything that can be set is changed between asking for work and its running; no bit of the result may move."""
    told = []
    for disturbed in (False, True):
        project = fresh(tmp_path / f"p{disturbed}")
        job, outcome = make(project)
        if disturbed:
            settings = project.settings.model_dump() | {
                "capital": 7_000.0, "cost_sets": {"AAA": {"dear": Costs(slippage_ticks=9).model_dump()}},
                "cost_set": {"AAA": "dear"}, "training_first": "2024-02-01", "holdout_first": "2024-03-20",
                "last": "2024-11-30", "most_bars": 100, "fine_fills": True, "currency": "USD", "assumed_costs": ["AAA"]}
            project.update_settings(Settings.model_validate(settings), "on purpose")
            project.sources.treat("AAA", "test", Treatment(without_days=("Mon",)))
            project.sources.change_terms(project.market("BBB").terms.model_copy(update={"point_value": 3.0}))
        engine.start(job, "threads").wait()
        assert job.state is State.DONE, job.error
        told.append(outcome())
        project.close()
    assert told[0] == told[1]


def test_a_footing_travels_as_plain_data(project: Project) -> None:
    footing = Footing.of(project)
    there = pickle.loads(pickle.dumps(footing))
    assert there == footing
    assert there.histories.prepared("AAA", 15).bars.hash == footing.histories.prepared("AAA", 15).bars.hash


# Older projects


def test_verdicts_of_the_program_before_hold_and_are_called_by_the_new_names(tmp_path: Path) -> None:
    """Written by the program of schema 11, whose gates had other keys and whose engine's code was another: not one verdict is
    asked again, and its line is read."""
    folder = tmp_path / "p"
    shutil.copytree(DATA / "project-schema-11", folder)
    project = Project(folder)
    line = line_of(project)
    assert [s.gate for s in line.steps] == ["dates", "evidence", "blocks", "costs", "timing", "neighbors", "monte_carlo",
                                            "run_again", "walk_forward", "holdout"]
    kept = Dossiers(project).shelf()[0]
    found = Standings(project).of(kept)
    assert set(found.evidence) == {s.gate for s in line.steps} - {"holdout"}, "all hold: same record, same engine"
    assert {e.gate for e in Dossiers(project).evidence(*Subject.of(kept).key)} == set(found.evidence)
    project.close()


@pytest.mark.parametrize("version", [1, 2, 3])
def test_projects_written_by_older_versions_open_and_prove_nothing_by_their_old_rows(version: int, tmp_path: Path,
                                                                                     engine: Engine) -> None:
    """Each was really written by the program of that schema: strategies, own spans by name (from 2 on), a sweep, a search, a
    trial (3), kept candidates with verdicts, a run, a portfolio, an opening."""
    folder = tmp_path / "p"
    shutil.copytree(DATA / f"project-schema-{version}", folder)
    project = Project(folder)
    assert project.rows("PRAGMA user_version")[0][0] == SCHEMA_VERSION
    dossiers = Dossiers(project)
    shelf = dossiers.shelf()
    counts = funnel(project)
    assert (counts["kept"], counts["sweeps"], counts["runs"], counts["portfolios"]) == (16, 1, 1, 1)
    assert counts["proved"] == 0, "a verdict without a record is none"
    standings = Standings(project)
    places = [standings.of(k).stands for k in shelf]
    assert set(places) == {NOT_RECORDED, "falls: Holdout"}, "but a fall in the holdout stays one"
    assert project.openings() >= 2
    assert project.book.seen_until() == dt.date(2024, 3, 31)
    assert Searches(project).tried()["AAA"] == 63 + (version == 3)
    swept = last_sweep(project)
    assert swept is not None
    named = dict(zip(SUMMARY, swept.table()[1].T))
    assert np.isfinite(named["net"]).all()
    assert np.isnan(named["t_daily"]).all(), "what was not stored has no value"
    with pytest.raises(UserError, match="not recorded"):
        candidate_from_sweep(project, swept, (1.0,))
    trial = last_trial(project, "field")
    assert (trial is not None) == (version == 3)
    own = {e.strategy.name: e.own for e in project.strategies()}
    assert own["Cross"] is None
    if version > 1:
        span = own["Cross short span"]
        assert span is not None
        assert (span.first, span.last) == (dt.date(2024, 1, 15), dt.date(2024, 2, 29))
    assert not dossiers.runs()[0].record.whole
    # Proving gives the candidates a record; the fallen stay fallen, twins of theirs included.
    fallen = [k.id for k, stands in zip(shelf, places) if stands.startswith("falls")]
    engine.start(prove_job(project, [Subject.of(k) for k in shelf], open_holdout=True), "threads").wait()
    after = {k.id: Standings(project).of(k).stands for k in dossiers.shelf()}
    assert all(after[i] == "falls: Holdout" for i in fallen)
    assert all(k.candidate.record.whole for k in dossiers.shelf())
    project.close()


