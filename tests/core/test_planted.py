"""Searches on generated markets: planted edges are found beyond luck, drift alone is not. Rates are in docs/discover.md."""

from __future__ import annotations

import datetime as dt
import random
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.core.planted import KINDS, planted
from wolbrin.core.jobs import Engine, State
from wolbrin.core.search.limits import Limits
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import Settings
from wolbrin.core.work.discover_request import DiscoverRequest
from wolbrin.core.work.discover_results import DiscoverResult, strength
from wolbrin.core.work.discovering import discover_job


@pytest.fixture(scope="module")
def engine() -> Iterator[Engine]:
    made = Engine(2)
    yield made
    made.close()


STRENGTH = {"hour drift": 2.0, "weekday drift": 2.0}  # few rows of so small a search read the clock: their edge is larger


def searched(kind: str, folder: Path, engine: Engine) -> tuple[Project, DiscoverResult]:
    """A small search with the usual floors on a market of this kind, at any seed."""
    seed = random.SystemRandom().randrange(2**31)
    print("seed", seed)
    project = Project.create(folder, Settings(training_first=dt.date(2023, 1, 1), holdout_first=dt.date(2032, 1, 1),
                                              last=dt.date(2035, 1, 1)))
    bars = planted(kind, seed, 400, STRENGTH.get(kind, 1.0))
    project.add_market(bars.terms, bars, "generated")
    request = DiscoverRequest((("TST", 15),), Limits(pool=300), count=768, controls=3, seed=seed)
    job, result = discover_job(project, request)
    assert engine.start(job, "threads").wait() is State.DONE, job.error
    return project, result


@pytest.mark.parametrize("kind", KINDS)
def test_a_planted_edge_is_found_beyond_luck(kind: str, tmp_path: Path, engine: Engine) -> None:
    """By how many are kept, or by how strong the strongest is."""
    project, result = searched(kind, tmp_path / "p", engine)
    strong = strength(project, result)
    assert result.kept
    assert result.luck.beyond or strong.beyond, (result.luck.words, strong.words)
    project.close()


def test_drift_alone_keeps_about_what_controls_keep(tmp_path: Path, engine: Engine) -> None:
    """Many long candidates earn there; the floor on t above drift takes them out. The bound is far beyond the spread of
    counts."""
    project, result = searched("drift", tmp_path / "p", engine)
    luck = result.luck
    assert result.kept <= 3 * luck.high + 10, luck.words
    at = [f.key for f in result.floors].index("above_drift")
    assert result.rejected[at] > 2 * result.kept
    project.close()
