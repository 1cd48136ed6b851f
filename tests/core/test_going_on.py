"""Searches that are killed, stopped or broken off go on where they were, and end as if nothing had happened."""

from __future__ import annotations

import datetime as dt
import json
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tests.build import discover_request, walk_bars
from tests.core.test_evidence import DATA, SETTINGS, STOPPED, fresh, trial_rows
from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.jobs import Engine, Job, State
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.rules.axes import Axis
from wolbrin.core.search.folds import Length
from wolbrin.core.search.objective import Floor
from wolbrin.core.search.sample import at_hand, keys_of, sampled
from wolbrin.core.store import database
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.leftovers import leftovers, sweep_out
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import INTERRUPTED, Searches
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.store.wanted import Wanted
from wolbrin.core.work.discovering import daily_sample, discover_job, last_discover, resume_discover
from wolbrin.core.work.going_on import go_on, listed
from wolbrin.core.work.scan_request import ScanRequest
from wolbrin.core.work.scanning import scan_job
from wolbrin.core.work.standing import restand
from wolbrin.core.work.sweep_luck import luck_job
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweep_results import daily_of_sweep, last_sweep
from wolbrin.core.work.sweeping import sweep_job
from wolbrin.core.work.trialing import TrialRequest, last_trial, trial_job
from wolbrin.core.work.walk_request import WalkRequest
from wolbrin.core.work.walk_results import read_walk
from wolbrin.core.work.walking import walk_job

FLOORS = (Floor(key="trades", value=5), Floor(key="profit_factor", value=0.9), Floor(key="positive_years", value=1.0))
AXES = (Axis.spread("stop.amount", "stop", 1.0, 3.0, 0.05),
        Axis.spread("long.entry.rows.0.left.params.length", "n", 3, 30, 1))


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


def discover(project: Project, count: int = 9_000) -> Job:
    return discover_job(project, discover_request(count=count, floors=FLOORS, seed=3, controls=1))[0]


def breeding(project: Project) -> Job:
    """Islands of candidates, beside those on a shuffled history."""
    return discover_job(project, discover_request(count=1500, floors=FLOORS, seed=3, controls=1, method="evolve"))[0]


def looking(project: Project) -> Job:
    """A scan first, on the market and on a shuffled history, then generations that are held against each other."""
    return discover_job(project, discover_request(count=1_600, floors=FLOORS, seed=3, controls=1, method="informed",
                                                  rows=200, pool=80))[0]


def sweep(project: Project) -> Job:
    return sweep_job(project, SweepRequest(STOPPED, "AAA", 15, AXES))[0]


def evolution(project: Project) -> Job:
    """Generations that are bred from what was kept before the kill."""
    return sweep_job(project, SweepRequest(STOPPED, "AAA", 15, AXES, method="evolve", count=600))[0]


def trial(project: Project) -> Job:
    request = TrialRequest(rows=tuple(trial_rows()) * 40, columns=(("AAA", 15), ("BBB", 15)), shuffles=3)
    return trial_job(project, request)[0]


def walk(project: Project) -> Job:
    """Fits, pairs of lengths, and the same on shuffled histories."""
    sweep = SweepRequest(STOPPED, "AAA", 15, AXES)
    return walk_job(project, WalkRequest(sweep, (Length(20, "days"), Length(30, "days")), (Length(5, "days"),)), 2)[0]


def scan(project: Project) -> Job:
    """Rows tile by tile, then pairs draw by draw."""
    return scan_job(project, ScanRequest((("AAA", 15), ("BBB", 15)), count=600))[0]


def longer(folder: Path) -> Project:
    """As `fresh`, of a longer span: to a scan few days tell nothing."""
    made = Project.create(folder, SETTINGS.model_copy(update={"holdout_first": dt.date(2024, 12, 1)}))
    for code, seed in (("AAA", 4), ("BBB", 5)):
        bars = walk_bars(9_000, seed=seed, code=code)
        made.add_market(bars.terms, bars, "test")
    return made


def outcome(project: Project) -> dict[str, Any]:
    """All that a search leaves behind, without when it was made."""
    searches = Searches(project)
    told: dict[str, Any] = {"tried": searches.tried(), "sharpe": searches.sharpe_on("AAA"),
                            "shelf": [(k.hash, k.candidate.tried, k.candidate.record, repr(k.candidate.summary), k.packed)
                                      for k in Shelf(project).bodies()]}
    for one in listed(project):
        assert one.cursor is not None
        told[f"{one.kind} cursor"] = {k: v for k, v in one.cursor.items() if k != "spent"}
        told[f"{one.kind} rows"] = {k: v.tolist() if v.dtype == object else v.tobytes()
                                    for k, v in searches.rows(one.id).items()}
        if one.kind == "walk":
            result = read_walk(project, one.id)
            told["cells"], told["luck"] = repr(result.cells), result.luck.tobytes()
        if one.kind == "scan":
            owners = searches.owners(one.id, "scan place", "scan", 2)
            told["luck"] = [searches.rows(id, "luck")["state"].tobytes() for id in owners]
        if one.kind == "discover":
            for name in ("kept 0", "kept 1", "near"):
                told[name] = {k: v.tobytes() for k, v in searches.rows(one.id, name).items()}
            told["seen"] = {k: v.tobytes() for k, v in searches.rows(one.id, "seen").items()}
            told["sample"] = [part.tobytes() for part in daily_sample(project, one.id)]
        if one.kind == "sweep":
            told["daily"] = daily_of_sweep(project, one.id)[1]["daily"].tobytes()
    return told


@pytest.mark.parametrize(("make", "kills"),
                         [(discover, 20), (breeding, 4), (looking, 4), (sweep, 3), (evolution, 3), (trial, 3), (walk, 4),
                          (scan, 6)])
def test_a_search_killed_again_and_again_ends_like_one_left_in_peace(make: Callable[[Project], Job], kills: int,
                                                                     tmp_path: Path, engine: Engine) -> None:
    told = []
    seed = random.SystemRandom().randrange(2**32)
    print("seed", seed)
    chance = random.Random(seed)
    for name in ("calm", "killed"):
        project = (longer if make in (scan, looking) else fresh)(tmp_path / name)
        job = make(project)
        if name == "calm":
            assert engine.start(job, "threads").wait() is State.DONE, job.error
        else:
            with project.transaction() as db:  # as a program leaves it that was killed before its first result
                db.execute("UPDATE searches SET state = ?", (INTERRUPTED,))
            _kill_until_done(project, kills, chance, grows=make is not scan)
        told.append(outcome(project))
        assert {s.state for s in listed(project)} == {"done"}
        assert not project.rows("SELECT 1 FROM pending"), "finished rows lie in files"
        assert leftovers(project) == []
        project.close()
    for key, value in told[0].items():
        assert told[1][key] == value, key


def _kill_until_done(project: Project, kills: int, chance: random.Random, grows: bool) -> None:
    """Kill a search at random moments so often, then let it come to its end; what was committed never gets less. grows:
    what is tried is counted, not estimated."""
    with subprocess.Popen([sys.executable, "-m", "tests.core.killable", str(project.folder)], text=True, bufsize=1,
                          stdin=subprocess.PIPE, stdout=subprocess.PIPE, cwd=Path(__file__).parents[2]) as zygote:
        assert zygote.stdin is not None
        assert zygote.stdout is not None
        assert zygote.stdout.readline() == "ready\n"
        before = 0
        for life in range(kills + 1):
            zygote.stdin.write("live\n")
            child = int(zygote.stdout.readline())
            if life < kills:
                time.sleep(chance.uniform(0.0, 0.3))
                os.kill(child, signal.SIGKILL)
                assert zygote.stdout.readline() in ("over\n", "done\n")
            else:
                assert zygote.stdout.readline() == "done\n"
            Searches(project).settle()
            states = {s.state for s in listed(project)}
            if states == {"done"}:
                return
            assert states == {INTERRUPTED}
            now = sum(Searches(project).tried().values())
            assert not grows or now >= before, "what was committed is there"
            before = now


def test_a_search_does_not_go_on_where_another_market_that_it_reads_has_changed(project: Project, engine: Engine) -> None:
    job, result = discover_job(project, discover_request(count=600, pool=400, floors=FLOORS, seed=3))
    assert engine.start(job, "threads").wait() is State.DONE, job.error
    read = (Searches(project).get(result.search).cursor or {})["elsewhere"]
    assert read == {"BBB 15": project.prepared("BBB", 15).bars.hash}
    for elsewhere in (read, {"BBB 15": "another"}):
        with project.transaction() as db:
            db.execute("UPDATE searches SET state = ?, cursor = json_set(cursor, '$.elsewhere', json(?))",
                       (INTERRUPTED, json.dumps(elsewhere)))
        if elsewhere is read:
            assert engine.start(resume_discover(project, result.search)[0], "threads").wait() is State.DONE
    with pytest.raises(UserError, match="another market that this search reads has changed"):
        resume_discover(project, result.search)


# Bad input


def test_a_full_disk_during_a_search_ends_it_with_a_sentence_and_it_goes_on_later(project: Project, engine: Engine) -> None:
    job = discover(project, 600)
    pages = project.rows("PRAGMA page_count")[0][0]
    project.rows(f"PRAGMA max_page_count = {pages + 30}")  # SQLite then says what it says on a full disk
    assert engine.start(job, "threads").wait() is State.FAILED
    assert isinstance(job.error, EnvironmentTrouble)
    assert "disk is full" in job.error.sentence()
    kept = Searches(project).tried_on("AAA")
    project.rows("PRAGMA max_page_count = 1073741823")
    Searches(project).settle()
    found = listed(project)[0]
    if found.state == "running":  # even its end could not be written down
        with pytest.raises(UserError, match="running already"):
            go_on(project, found.id)
        project.close()
        project.__init__(project.folder)  # type: ignore[misc]
        with project.transaction() as db:
            db.execute("UPDATE searches SET program = 'gone' WHERE state = 'running'")
        Searches(project).settle()
    _, job, result = go_on(project, found.id)
    assert engine.start(job, "threads").wait() is State.DONE, job.error
    assert result.tried == Searches(project).tried_on("AAA") == 600 >= kept


def test_a_database_that_another_program_holds_ends_a_search_with_a_sentence(project: Project, engine: Engine,
                                                                              monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(database, "PATIENCE", 0.05)
    project.rows("PRAGMA busy_timeout = 50")
    job = discover(project, 4_000)
    other = sqlite3.connect(project.path, isolation_level=None)
    other.execute("BEGIN IMMEDIATE")
    assert engine.start(job, "threads").wait() is State.FAILED
    assert isinstance(job.error, EnvironmentTrouble)
    assert "another program holds" in job.error.sentence()
    other.execute("ROLLBACK")
    other.close()


def test_results_that_are_missing_or_cut_short_are_named_and_all_else_is_in_use(project: Project, engine: Engine) -> None:
    for _ in range(2):
        assert engine.start(sweep(project), "threads").wait() is State.DONE
    first, second = (s.id for s in listed(project))
    for id, harm in ((first, "missing"), (second, "cut short")):
        file = project.folder / "results" / project.rows("SELECT file FROM parts WHERE owner = ? AND name = 'rows'",
                                                         f"search {id}")[0]["file"]
        if harm == "missing":
            file.unlink()
        else:
            file.write_bytes(file.read_bytes()[:-100])
        with pytest.raises(EnvironmentTrouble, match=harm):
            Searches(project).rows(id)
        assert harm in Searches(project).results.check(f"search {id}")[0]
    with pytest.raises(EnvironmentTrouble, match="cut short"):
        last_sweep(project)
    again = Project(project.folder)
    assert again.prepared("AAA", 15).bars.hash == project.prepared("AAA", 15).bars.hash
    again.close()


def test_the_luck_of_a_sweep_goes_on_where_it_was(project: Project, engine: Engine, tmp_path: Path) -> None:
    other = fresh(tmp_path / "calm")
    swept = []
    for one in (other, project):
        job, result = sweep_job(one, SweepRequest(STOPPED, "AAA", 15, AXES[:1]))
        assert engine.start(job, "threads").wait() is State.DONE
        swept.append(result)
    whole, calm = luck_job(other, swept[0], 12)
    assert engine.start(whole, "threads").wait() is State.DONE
    stopped, _ = luck_job(project, swept[1], 12, notify=lambda found: stopped.stop())
    assert engine.start(stopped, "threads").wait() is State.STOPPED
    tool, again, found = go_on(project, listed(project)[-1].id)
    assert (tool.kind, tool.place) == ("control", "sweep")
    assert engine.start(again, "threads").wait() is State.DONE
    np.testing.assert_array_equal(found.rows, calm.rows)
    assert Searches(project).tried_on("AAA") == swept[1].count
    other.close()


def test_a_request_of_a_newer_program_and_a_changed_history_are_refused(project: Project, engine: Engine) -> None:
    job = discover(project, 4_000)
    stopped = engine.start(job, "threads")
    while not job.progress().done:
        time.sleep(0.01)
    stopped.stop()
    assert stopped.wait() is State.STOPPED
    id = listed(project)[0].id
    with project.transaction() as db:
        db.execute("UPDATE searches SET request = json_set(request, '$.version', 3) WHERE id = ?", (id,))
    with pytest.raises(UserError, match="newer program"):
        go_on(project, id)
    with project.transaction() as db:
        db.execute("UPDATE searches SET request = json_set(request, '$.version', 1) WHERE id = ?", (id,))
        db.execute("UPDATE searches SET record = json_set(record, '$.engine', 'other') WHERE id = ?", (id,))
    with pytest.raises(UserError, match="simulator has changed"):
        go_on(project, id)
    project.sources.change_terms(project.market("AAA").terms.model_copy(update={"tick_size": 0.02}))
    with pytest.raises(UserError, match="history has changed"):
        go_on(project, id)
    with pytest.raises(UserError, match="no search 99"):
        go_on(project, 99)


def test_files_that_nothing_names_are_listed_and_go_only_when_told(project: Project, engine: Engine) -> None:
    assert engine.start(sweep(project), "threads").wait() is State.DONE
    stray = [project.history_folder / "old__x__9.parquet", project.folder / "results" / "search-9.parquet.partial"]
    for path in stray:
        path.write_bytes(b"x" * 10)
    assert leftovers(project) == [], "new files may be in the making"
    found = leftovers(project, younger=True)
    assert [f.path for f in found] == stray
    assert sweep_out(found) == 20
    assert leftovers(project, younger=True) == []
    assert last_sweep(project) is not None


# Samples, older projects


def test_the_sample_of_draws_is_uniform_and_the_same_however_the_search_is_cut() -> None:
    """At any end, the draws with the smallest keys are at hand; keys are uniform (chi-square over 50 cells, beyond
    one in a million for any seed)."""
    seed = random.SystemRandom().randrange(2**31)
    print("seed", seed)
    whole = keys_of(seed, 0, 100_000)
    np.testing.assert_array_equal(np.concatenate([keys_of(seed, 0, 7), keys_of(seed, 7, 99_993)]), whole)
    counts = np.histogram(whole, 50, (0.0, 1.0))[0]
    assert ((counts - 2000) ** 2 / 2000).sum() < 130
    hand = at_hand(seed, 0, 100_000, 500)
    for end in (300, 5_000, 100_000):
        numbers = np.flatnonzero(hand[:end])
        chosen = numbers[sampled(seed, numbers, 500)]
        assert chosen.tolist() == np.sort(np.argsort(whole[:end], kind="stable")[:500]).tolist()
    assert hand.sum() < 5_000


def test_a_shelf_of_schema_5_gets_its_new_columns_and_an_old_search_says_so(tmp_path: Path) -> None:
    """Written by the program of schema 5, beside what that program said of it."""
    folder = tmp_path / "p"
    shutil.copytree(DATA / "project-schema-5", folder)
    told = json.loads((folder / "told.json").read_text())
    project = Project(folder)
    shelf = Shelf(project)
    restand(project)
    lines = shelf.lines(shelf.ids(Wanted()))
    assert [[x.id, x.name, x.hash, x.market, x.interval, x.origin, x.tried, x.stands, x.ticked, x.tags, x.words, x.made]
            for x in lines] == [[*line[:-1], line[-1].replace("costs none", "free of costs")] for line in told["lines"]]
    assert [x.figures["net"] for x in lines] == told["net"]
    assert Searches(project).tried() == told["tried"]
    assert all(x.family for x in lines)
    assert {(x.marks.alike, x.marks.star, x.marks.notes, x.marks.cluster) for x in lines} == {(1, False, "", None)}
    old = next(s for s in listed(project) if s.kind == "discover")
    with pytest.raises(UserError, match="older version, in other words"):
        go_on(project, old.id)
    assert last_discover(project) is None
    shelf.star([lines[0].id])
    assert [x.id for x in shelf.lines(shelf.ids(Wanted(starred=True)))] == [lines[0].id]
    project.close()


def test_a_project_of_the_version_before_opens_unharmed(tmp_path: Path, engine: Engine) -> None:
    """Written by the program of schema 4, beside what that program said of it."""
    folder = tmp_path / "p"
    shutil.copytree(DATA / "project-schema-4", folder)
    told = json.loads((folder / "told.json").read_text())
    project = Project(folder)
    shelf = Shelf(project)
    assert restand(project) > 0
    lines = shelf.lines(shelf.ids(Wanted()))
    assert {line.stands for line in lines} == {"open"}, "its gate is asked in other words now, behind others"
    fell = {str(line.id) for line in lines for e in Dossiers(project).all_evidence(line.hash, line.market)
            if (e.gate, e.verdict) == ("monte_carlo", "falls")}
    assert fell == {i for i, stands in told["stands"].items() if stands == "falls: Monte Carlo"}, "verdicts are kept"
    for kept in shelf.bodies():
        assert kept.candidate.record.key == told["keys"][str(kept.id)]
        assert repr(kept.candidate.summary) == repr({k: float("nan") if v is None else v
                                                     for k, v in told["summary"][str(kept.id)].items()})
        assert kept.packed
    assert shelf.ticked() == [2, 4]
    swept, tried = last_sweep(project), last_trial(project, "field")
    assert swept is not None
    assert tried is not None
    assert [x.tolist() for x in swept.table()] == told["sweep"]
    assert np.nan_to_num(tried.figures, nan=-1).tolist() == told["trial"]
    assert np.nan_to_num(tried.dealt, nan=-1).tolist() == told["dealt"]
    assert Searches(project).tried() == told["tried"]
    assert [s.state for s in listed(project) if s.kind == "discover"] == [INTERRUPTED]
    with pytest.raises(UserError, match="older version"):
        go_on(project, next(s.id for s in listed(project) if s.kind == "discover"))
    best = shelf.lines(shelf.ids(Wanted("net", True)))
    assert [line.figures["net"] for line in best] == sorted((line.figures["net"] for line in best), reverse=True)
    assert set(best[0].figures) == set(SUMMARY)
    project.close()
