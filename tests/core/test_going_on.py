"""Searches that are killed, stopped or broken off go on where they were, and end as if nothing had happened."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, Future, ProcessPoolExecutor, ThreadPoolExecutor
from multiprocessing import get_context
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tests.core.test_evidence import DATA, STOPPED, fresh, trial_rows
from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.jobs import Chunk, Engine, Job, State, Work, check_stopped
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.rules.axes import Axis
from wolbrin.core.search.grammar import Limits
from wolbrin.core.search.sample import at_hand, keys_of, sampled
from wolbrin.core.store.leftovers import leftovers, sweep_out
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import INTERRUPTED, Searches
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.work.discovering import DiscoverRequest, daily_sample, discover_job
from wolbrin.core.work.going_on import go_on, listed
from wolbrin.core.work.standing import restand
from wolbrin.core.work.sweeping import SweepRequest, daily_of_sweep, last_sweep, sweep_job
from wolbrin.core.work.trialing import TrialRequest, last_trial, trial_job

LIMITS = Limits(least_trades=5, least_profit_factor=0.9)
AXES = (Axis.spread("stop.amount", "stop", 1.0, 3.0, 0.05), Axis.spread("long.entry.rows.0.left.params.length", "n", 3, 30, 1))


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


def discover(project: Project, count: int = 2_000) -> Job:
    return discover_job(project, DiscoverRequest("AAA", 15, LIMITS, count, 3))[0]


def sweep(project: Project) -> Job:
    return sweep_job(project, SweepRequest(STOPPED, "AAA", 15, AXES))[0]


def trial(project: Project) -> Job:
    request = TrialRequest(rows=tuple(trial_rows()) * 40, columns=(("AAA", 15), ("BBB", 15)), shuffles=3)
    return trial_job(project, request)[0]


def outcome(project: Project) -> dict[str, Any]:
    """All that a search leaves behind, without when it was made."""
    searches = Searches(project)
    told: dict[str, Any] = {"tried": searches.tried(), "sharpe": searches.sharpe_on("AAA"),
                            "shelf": [(k.hash, k.candidate.tried, k.candidate.record, repr(k.candidate.summary), k.packed)
                                      for k in Shelf(project).bodies()]}
    for one in listed(project):
        assert one.cursor is not None
        told[f"{one.kind} cursor"] = one.cursor
        told[f"{one.kind} marks"] = searches.marks(one.id)
        told[f"{one.kind} rows"] = {k: v.tobytes() for k, v in searches.rows(one.id).items()}
        if one.kind == "discover":
            told["sample"] = [part.tobytes() for part in daily_sample(project, one.id)]
        if one.kind == "sweep":
            told["daily"] = daily_of_sweep(project, one.id)[1]["daily"].tobytes()
    return told


@pytest.mark.parametrize(("make", "kills"), [(discover, 20), (sweep, 3), (trial, 3)])
def test_a_search_killed_again_and_again_ends_like_one_left_in_peace(make: Callable[[Project], Job], kills: int,
                                                                     tmp_path: Path, engine: Engine) -> None:
    told = []
    seed = random.SystemRandom().randrange(2**32)
    print("seed", seed)
    chance = random.Random(seed)
    for name in ("calm", "killed"):
        project = fresh(tmp_path / name)
        job = make(project)
        if name == "calm":
            assert engine.start(job, "threads").wait() is State.DONE, job.error
        else:
            with project.transaction() as db:  # as a program leaves it that was killed before its first result
                db.execute("UPDATE searches SET state = ?", (INTERRUPTED,))
            _kill_until_done(project, kills, chance)
        told.append(outcome(project))
        assert {s.state for s in listed(project)} == {"done"}
        assert not project.rows("SELECT 1 FROM pending"), "finished rows lie in files"
        assert leftovers(project) == []
        project.close()
    for key, value in told[0].items():
        assert told[1][key] == value, key


def _kill_until_done(project: Project, kills: int, chance: random.Random) -> None:
    """Kill a search at random moments so often, then let it come to its end; what was committed never gets less."""
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
            assert now >= before, "what was committed is there"
            before = now
