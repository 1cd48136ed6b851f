"""Killed at any moment: changes of the schema, saves of portfolios, and putting right what was wrong."""

from __future__ import annotations

import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path

import pytest

from tests.core.full_project import make_full, read_all
from wolbrin.core.store.check import check_project
from wolbrin.core.store.database import DATABASE
from wolbrin.core.store.portfolios import Portfolios
from wolbrin.core.store.project import Project

ROOT = Path(__file__).parents[2]
OPEN = "Project(folder).close(); print('done', flush=True)"
SAVE = """
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.portfolios import Portfolios
from wolbrin.core.work.portfolios import plan_of
p = Project(folder)
kept = Dossiers(p).shelf()
for i in range(10_000):
    print(Portfolios(p).keep(plan_of(kept, f"Save {i}"), {"net": float(i)}, [k.candidate.record for k in kept]), flush=True)
"""


def killed(code: str, folder: Path, after: float) -> list[str]:
    """Run code in a program of its own that is killed so many seconds after it was ready; the lines it wrote."""
    text = ("import sys\nfrom pathlib import Path\nfrom wolbrin.core.store.project import Project\nimport "
            "wolbrin.core.work.portfolios\nfolder = Path(sys.argv[1])\nprint('ready', flush=True)\nsys.stdin.readline()\n"
            f"{code}")
    with subprocess.Popen([sys.executable, "-c", text, str(folder)], cwd=ROOT, stdin=subprocess.PIPE,
                          stdout=subprocess.PIPE, text=True, env=dict(os.environ)) as child:
        assert child.stdin is not None
        assert child.stdout is not None
        assert child.stdout.readline() == "ready\n"
        child.stdin.write("\n")
        child.stdin.flush()
        time.sleep(after)
        child.send_signal(signal.SIGKILL)
        out = child.stdout.read()
    return out.split("\n")[:-1]  # a half line was never said


@pytest.mark.parametrize("version", [1, 2, 3, 4, 5])
def test_a_killed_change_of_the_schema_is_gone_on_with(tmp_path: Path, version: int) -> None:
    """At moments drawn anew: what the project holds is what an undisturbed opening makes of it."""
    data = Path(__file__).parents[1] / f"data/project-schema-{version}"

    def held(folder: Path) -> list[list[tuple[object, ...]]]:
        with closing(Project(folder)):
            pass
        with closing(sqlite3.connect(folder / DATABASE)) as db:
            return [db.execute(f"SELECT * FROM {t} ORDER BY 1").fetchall()
                    for t in ("markets", "strategies", "searches", "candidates", "evidence", "judged")]

    shutil.copytree(data, tmp_path / "calm")
    calm = held(tmp_path / "calm")
    shutil.copytree(data, tmp_path / "p")
    for _ in range(4):
        killed(OPEN, tmp_path / "p", random.SystemRandom().uniform(0.0, 0.2))
    assert held(tmp_path / "p") == calm
    assert [w.sentence() for w in check_project(tmp_path / "p")] == [w.sentence() for w in check_project(
        tmp_path / "calm")] or version < 5


def test_a_portfolio_that_was_said_to_be_saved_is_there_after_a_kill(tmp_path: Path) -> None:
    """And a project whose wrong values are being put right is put right by the next that opens it."""
    folder = make_full(tmp_path / "p")
    with closing(Project(folder)) as project:
        before = read_all(project)
    said: list[str] = []
    for _ in range(4):
        with closing(sqlite3.connect(folder / DATABASE)) as db:
            db.execute("UPDATE openings SET batch = 'o' WHERE id = 1")
            db.execute("UPDATE searches SET tried = 'many' WHERE id = 1")
            db.commit()
        said += killed(SAVE, folder, random.SystemRandom().uniform(0.05, 0.6))
        with closing(Project(folder)) as project:
            assert {s.name for s in Portfolios(project).all()} >= set(said)
            after = read_all(project)
            assert (after["openings"], after["falls"]) == (before["openings"], before["falls"])
            assert after["tried"] >= before["tried"]
        assert check_project(folder) == []
    assert said
