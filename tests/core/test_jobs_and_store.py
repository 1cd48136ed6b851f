"""Jobs, the project on disk, and the rules of the house (imports, threads, damage)."""

from __future__ import annotations

import ast
import datetime as dt
import os
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from pathlib import Path

import numpy as np
import pytest

from tests.build import WAIT, cross, discover_request, found_by, until, walk_bars
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import EnvironmentTrouble, UserError, WolbrinError
from wolbrin.core.jobs import Chunk, Engine, Job, State, Until
from wolbrin.core.rules.axes import Axis, variant
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Distance
from wolbrin.core.search.candidate import candidate_of
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.store.schema import SCHEMA_VERSION
from wolbrin.core.store.settings import Settings
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.work.discovering import daily_sample, discover_job
from wolbrin.core.work.funnel import funnel
from wolbrin.core.work.proving import prove_job
from wolbrin.core.work.subject import Subject
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweep_results import daily_of_sweep, last_sweep
from wolbrin.core.work.sweeping import sweep_job

ROOT = Path(__file__).parents[2]


@pytest.fixture
def engine():
    made = Engine(2)
    yield made
    made.close()


@pytest.fixture
def project(tmp_path: Path):
    made = Project.create(tmp_path / "p", Settings(training_first=dt.date(2024, 1, 1), holdout_first=dt.date(2024, 4, 1),
                                                   last=dt.date(2024, 12, 31)))
    bars = walk_bars(2500, seed=4)
    made.add_market(bars.terms, bars, "test")
    yield made
    made.close()


# Jobs


def test_results_come_in_order_whatever_finishes_first(engine: Engine) -> None:
    def slow_first(x: int) -> int:
        time.sleep(0.02 if x % 2 == 0 else 0.0)
        return x

    got: list[int] = []
    job = Job("order", "steps", [Chunk(i, 2) for i in range(40)], slow_first, got.append)
    assert engine.start(job, "threads").wait() is State.DONE
    assert got == list(range(40))
    p = job.progress()
    assert (p.done, p.total, p.share) == (80, 80, 1.0)
    assert p.rate > 0


def test_pause_holds_and_stop_keeps_what_was_found(engine: Engine) -> None:
    """Pieces wait for leave, so that what runs while the job is paused is counted and not timed: while another job goes
    through from end to end, only those end that had begun."""
    leave, begun, got = threading.Semaphore(0), [], []  # type: ignore[var-annotated]
    ends: list[State] = []

    def piece(x: int) -> int:
        begun.append(x)
        leave.acquire()
        return x

    job = Job("long", "steps", [Chunk(i) for i in range(10_000)], piece, got.append, ends.append)
    engine.start(job, "threads")
    leave.release(5)
    until(lambda: len(got) >= 5)
    job.pause()
    held = len(begun)
    leave.release(5_000)
    other = Job("other", "steps", [Chunk(i) for i in range(200)], abs, lambda _: None)
    assert engine.start(other, "threads").wait() is State.DONE
    assert len(begun) <= held + 2, "one a worker, which had looked before"
    assert len(got) <= len(begun)
    assert job.state is State.PAUSED
    job.resume()
    until(lambda: len(got) > held + 2)
    job.stop()
    leave.release(10_000)
    assert job.wait(WAIT / 1000) is State.STOPPED
    assert got == list(range(len(got)))
    assert ends == [State.STOPPED]


def test_an_error_in_a_worker_ends_the_job_and_is_kept(engine: Engine) -> None:
    def fail(x: int) -> int:
        if x == 7:
            raise UserError("no bar fits", "chunk 7", "Try another.")
        return x

    got: list[int] = []
    job = Job("bad", "steps", [Chunk(i) for i in range(20)], fail, got.append)
    assert engine.start(job, "threads").wait() is State.FAILED
    assert isinstance(job.error, UserError)
    assert got == list(range(len(got)))
    assert len(got) <= 7


def _raise(_: int) -> int:
    raise EnvironmentTrouble("the disk is full", "/tmp", "Free some space.")


def test_errors_come_back_from_processes_whole(engine: Engine) -> None:
    job = Job("bad", "steps", [Chunk(1)], _raise, lambda _: None)
    engine.start(job, "processes").wait()
    assert isinstance(job.error, EnvironmentTrouble)
    assert job.error.sentence() == "/tmp: the disk is full. Free some space."


def test_a_job_that_knows_when_it_has_enough(engine: Engine) -> None:
    total = [0]
    played = [0]

    def play(_: None) -> int:
        played[0] += 3
        return 3

    job = Job("bars", "bars", Until(10, lambda: played[0] >= 10, lambda n: n), play,
              lambda n: total.__setitem__(0, total[0] + n), width=1)
    assert engine.start(job, "threads").wait() is State.DONE
    assert job.progress().done == total[0] == 12


# Same bits everywhere


def test_sweeps_and_searches_are_the_same_on_any_number_of_workers(project: Project) -> None:
    axes = (Axis.spread("stop.amount", "stop", 1.0, 3.0, 0.1),
            Axis.spread("long.entry.rows.0.left.params.length", "n", 3, 6, 1))
    what = cross(stop=Distance(unit="atr", amount=1.0))
    tables, found = [], []
    for workers in (1, 2, 4):
        with_these = Engine(workers)
        job, result = sweep_job(project, SweepRequest(what, "TST", 15, axes))
        assert with_these.start(job, "threads").wait() is State.DONE
        tables.append(result.table())
        with_these.close()
    for kind in ("threads", "processes"):
        with_these = Engine(2)
        job, outcome = discover_job(project, discover_request("TST", count=600, pool=80, seed=5, controls=1))
        assert with_these.start(job, kind).wait() is State.DONE, job.error  # type: ignore[arg-type]
        hashes = found_by(project, outcome.search)
        Shelf(project).remove([k.id for k in Shelf(project).bodies()])
        found.append((hashes, [vars(c) for c in outcome.counts],
                      [part.tobytes() for part in daily_sample(project, outcome.search)]))
        with_these.close()
    for settings, figures in tables[1:]:
        np.testing.assert_array_equal(settings, tables[0][0])
        np.testing.assert_array_equal(figures, tables[0][1])
    assert found[0] == found[1]
    assert found[0][0]
    last = last_sweep(project)
    assert last is not None
    np.testing.assert_array_equal(last.table()[1], tables[0][1])
    days, kept = daily_of_sweep(project, last.search)
    assert kept["daily"].shape == (len(tables[0][0]), len(days))
    one = backtest(project.prepared("TST", 15), variant(what, axes, (1.3, 4.0)), last.record.brief)
    row = kept["daily"][tables[0][0].tolist().index([1.3, 4.0])]
    assert row[np.isin(days, one.daily[0])].tolist() == one.daily[1].astype(np.float32).tolist()
    assert len(last.request.axes) == 2


# Store


def test_a_project_remembers_everything(tmp_path: Path) -> None:
    made = Project.create(tmp_path / "p", Settings(training_first=dt.date(2024, 1, 1), holdout_first=dt.date(2025, 1, 1)))
    bars = walk_bars(800)
    made.add_market(bars.terms, bars, "test")
    id = made.save_strategy(cross(), "TST", 15)
    dossiers = Dossiers(made)
    run = backtest(bars, cross(), Brief())
    kept = dossiers.keep(candidate_of(run, "One", "rules", 3))
    assert dossiers.keep(candidate_of(run, "Twin", "rules", 3)) is None
    dossiers.keep_run(run, "first")
    assert dossiers.keep_run(run, "again") == 1
    made.close()
    again = Project(tmp_path / "p")
    assert again.strategy(id).strategy == cross()
    assert again.base("TST").hash == bars.hash == again.market("TST").hash
    shelf = Dossiers(again).shelf()
    assert [(k.id, k.candidate.name, k.candidate.tried) for k in shelf] == [(kept, "One", 3)]
    np.testing.assert_array_equal(shelf[0].candidate.spark, candidate_of(run, "One", "rules", 3).spark)
    record = Dossiers(again).runs()[0]
    assert record.fingerprint == backtest(Prepared.of(again.base("TST")), record.strategy, Brief()).fingerprint
    counts = funnel(again)
    assert (counts["kept"], counts["runs"], counts["strategies"], counts["proved"]) == (1, 1, 1, 0)
    Dossiers(again).remove([kept])
    Dossiers(again).restore(shelf)
    assert Dossiers(again).shelf()[0].id == kept
    again.close()


def test_transactions_are_all_or_nothing(project: Project) -> None:
    with pytest.raises(RuntimeError), project.transaction():  # noqa: PT012 - both writes belong to one transaction
        project.save_strategy(cross(), "TST", 15)
        with project.transaction():
            project.set_value("x", 1)
        raise RuntimeError
    assert project.strategies() == []
    assert project.get_value("x") is None


def test_openings_of_the_holdout_are_counted(project: Project, engine: Engine) -> None:
    assert project.openings() == 0

    def border(day: str, why: str = "") -> None:
        project.update_settings(project.settings.model_validate(project.settings.model_dump() | {"holdout_first": day}), why)

    border("2024-03-01")
    assert project.openings() == 0, "before any work the border is free"
    subject = Subject(cross(stop=Distance()), "TST", 15)
    engine.start(prove_job(project, [subject], open_holdout=False), "threads").wait()
    assert project.openings() == 0
    found = {e.gate: e for e in Dossiers(project).evidence(*subject.key)}
    assert set(found) == {"dates", "evidence"}
    assert subject.key[0] == strategy_hash(subject.strategy)
    for day in ("2024-02-15", "2024-03-15"):
        with pytest.raises(UserError, match="work was done"):
            border(day)
    border("2024-03-15", "the first weeks were not normal")
    assert project.openings() == 1
    assert [o.kind for o in project.book.all()] == ["border"]
    with pytest.raises(UserError, match="outside the data"):
        border("2024-12-30", "why not")


def test_what_was_made_survives_kill_9(tmp_path: Path) -> None:
    """A process that is killed in the middle of writing leaves every finished change and a sound database."""
    code = ("import sys; sys.path.insert(0, sys.argv[2])\n"
            "from pathlib import Path; from tests.build import cross; from wolbrin.core.store.project import Project\n"
            "p = Project.create(Path(sys.argv[1]))\ni = 0\n"
            "while True:\n i += 1\n p.save_strategy(cross(name=f'S{i}'), 'TST', 15)\n print(i, flush=True)\n")
    process = subprocess.Popen([sys.executable, "-c", code, str(tmp_path / "p"), str(ROOT)], stdout=subprocess.PIPE,
                               text=True)
    assert process.stdout is not None
    last = 0
    while last < 25:
        last = int(process.stdout.readline())
    os.kill(process.pid, signal.SIGKILL)
    process.wait()
    process.stdout.close()
    again = Project(tmp_path / "p")
    names = [e.strategy.name for e in again.strategies()]
    assert names[:last] == [f"S{i}" for i in range(1, last + 1)]
    assert again.rows("PRAGMA integrity_check")[0][0] == "ok"
    again.close()


def test_damage_is_one_sentence_and_nothing_is_overwritten(tmp_path: Path, project: Project) -> None:
    with pytest.raises(UserError, match="no project in this folder"):
        Project(tmp_path / "nowhere")
    with pytest.raises(UserError, match="already"):
        Project.create(project.folder)
    broken = tmp_path / "broken"
    broken.mkdir()
    (broken / "project.sqlite").write_bytes(b"this is no database" * 100)
    before = (broken / "project.sqlite").read_bytes()
    with pytest.raises(EnvironmentTrouble, match="is damaged"):
        Project(broken)
    assert (broken / "project.sqlite").read_bytes() == before
    newer = tmp_path / "newer"
    newer.mkdir()
    db = sqlite3.connect(newer / "project.sqlite")
    db.execute(f"PRAGMA user_version = {SCHEMA_VERSION + 1}")
    db.close()
    with pytest.raises(EnvironmentTrouble, match="newer"):
        Project(newer)
    history = project.history_path(project.market("TST"))
    history.write_bytes(history.read_bytes()[:200])
    with pytest.raises(EnvironmentTrouble, match="damaged"):
        project.base("TST")
    history.unlink()
    with pytest.raises(EnvironmentTrouble, match="missing"):
        project.base("TST")
    with pytest.raises(UserError, match="Known are TST"):
        project.market("NOPE")


def test_settings_refuse_an_impossible_span(project: Project) -> None:
    with pytest.raises(ValueError, match="training span must begin before"):
        project.settings.model_validate(project.settings.model_dump() | {"holdout_first": "2010-01-01"})


# The house


def test_the_core_imports_without_qt(tmp_path: Path) -> None:
    """Every module of the core, with the interface packages blocked."""
    code = ("import sys\nfor name in ('PySide6', 'pyqtgraph', 'typer', 'rich'): sys.modules[name] = None\n"
            "import importlib, pkgutil, wolbrin.core\n"
            "names = [m.name for m in pkgutil.walk_packages(wolbrin.core.__path__, 'wolbrin.core.')]\n"
            "[importlib.import_module(n) for n in names]\nprint(len(names))\n")
    out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert out.returncode == 0, out.stderr
    assert int(out.stdout) > 40


def test_public_functions_are_documented() -> None:
    missing = []
    for path in (ROOT / "src/wolbrin/core").rglob("*.py"):
        tree = ast.parse(path.read_text())
        assert ast.get_docstring(tree), path
        for node in tree.body:
            if isinstance(node, ast.FunctionDef | ast.ClassDef) and not node.name.startswith("_") and (
                    ast.get_docstring(node) is None) and len(node.body) > 4:
                missing.append(f"{path.name}:{node.name}")
    assert len(missing) < 12, missing


def test_errors_read_as_sentences() -> None:
    assert WolbrinError("it is torn", "a.csv, row 3", "Mend it.").sentence() == "a.csv, row 3: it is torn. Mend it."
    assert WolbrinError("what now?").sentence() == "what now?"
