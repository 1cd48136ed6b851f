"""Fixtures shared by all tests."""

from __future__ import annotations

import os
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("NUMBA_CACHE_DIR", str(Path(__file__).parents[1] / ".venv/kernels"))

import pytest
from hypothesis import settings

settings.register_profile("ci", print_blob=True)
settings.load_profile("ci")


@pytest.fixture(autouse=True)
def _user(monkeypatch: pytest.MonkeyPatch, tmp_path_factory: pytest.TempPathFactory) -> None:
    """A user of its own for each test, who has confirmed nothing yet."""
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path_factory.mktemp("user")))
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path_factory.mktemp("state")))
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path_factory.mktemp("cache")))


@pytest.fixture(scope="session")
def demo_master(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A demo project with a few markets, made once; tests copy it."""
    from wolbrin.core.market.bars import Span
    from wolbrin.core.store.book_journal import EXEMPT
    from wolbrin.core.store.project import Project
    from wolbrin.demo import build
    from wolbrin.demo.markets import MARKETS, generate

    folder = tmp_path_factory.mktemp("master") / "demo"
    chosen = [m for m in MARKETS if m.terms.code in ("NPW", "ASL", "BBY", "NOKSEK")]
    settings_ = build.Settings(desk=build.DESK)
    project = Project.create(folder, settings_)
    project.set_value(EXEMPT, [m.terms.code for m in chosen])
    for market in chosen:
        project.add_market(market.terms, generate(market), build.SOURCE)
    with project.transaction():
        for strategy, market, interval in build.STRATEGIES:
            project.save_strategy(strategy, market if market != "CRB" else "ASL", interval)
        project.set_value("demo strategies", True)
    assert project.settings.training == Span(settings_.training_first, project.settings.training.last)
    project.close()
    return folder


@pytest.fixture
def demo(demo_master: Path, tmp_path: Path) -> Path:
    """A fresh copy of the small demo project; history files are linked, the database is copied."""
    import shutil

    target = tmp_path / "demo"
    (target / "history").mkdir(parents=True)
    for file in (demo_master / "history").iterdir():
        os.link(file, target / "history" / file.name)
    shutil.copy(demo_master / "project.sqlite", target / "project.sqlite")
    return target
