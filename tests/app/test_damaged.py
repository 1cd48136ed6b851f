"""A window over a project with one wrong character in it, one that is gone, one on a disk that cannot be written."""

from __future__ import annotations

import os
import shutil
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest
from PySide6.QtWidgets import QLabel
from pytestqt.qtbot import QtBot

from tests.app.conftest import come_to_rest, put_away
from tests.app.test_unsaved import full, named
from tests.build import WAIT
from tests.core.full_project import make_full
from wolbrin.app.session import Session
from wolbrin.app.shell.aside_sheet import AsideSheet
from wolbrin.app.shell.window import MainWindow
from wolbrin.app.theme.theme import Theme
from wolbrin.core import kept_kernels
from wolbrin.core.jobs import Engine
from wolbrin.core.store.database import DATABASE
from wolbrin.core.store.project import Project

PLACES = ("markets", "rules", "backtest", "study", "sweep", "discover", "shelf", "proving", "overlap", "portfolio",
          "rehearsal")


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    with pytest.MonkeyPatch.context() as own:
        own.setenv("XDG_STATE_HOME", str(tmp_path_factory.mktemp("state")))
        return make_full(tmp_path_factory.mktemp("full") / "p")


@pytest.fixture
def folder(made: Path, tmp_path: Path) -> Path:
    return Path(shutil.copytree(made, tmp_path / "p"))


def walked(folder: Path, engine: Engine, qtbot: QtBot) -> tuple[MainWindow, list[str]]:
    """A window that was in all its places, and what it said."""
    window = MainWindow(Session(Project(folder), engine, Theme()))
    told: list[str] = []
    window.session.noted.connect(lambda text, kind, door: told.append(text))
    window.show()
    for key in PLACES:
        window.go(key)
        qtbot.wait(20)
    come_to_rest(qtbot, window.session)
    return window, told


@pytest.mark.parametrize("harm", [
    "UPDATE searches SET seen = '2o24-07-31'", "UPDATE searches SET tried = 'l2', request = '[5]', cursor = '{'",
    "UPDATE borders SET old = '2024-02-30'", "UPDATE openings SET batch = 'l'", "UPDATE sources SET interval = '1S'",
    "UPDATE markets SET first = '2o24-01-08T08:00', minutes = 'x', silhouette = 'y'",
    "UPDATE plans SET number = -1, body = '{'",
    "UPDATE candidates SET interval = 0.5, m_net = 'much', created = 'late', tried = x'01'",
    "UPDATE bodies SET spark = 'line', summary = '[]', body = CAST(x'ff7b' AS TEXT) WHERE candidate = 1",
    "UPDATE settings SET value = '[[1]]' WHERE key LIKE 'value:%'", "UPDATE evidence SET verdict = 'fslls', inputs = '5'",
    "UPDATE strategies SET interval = 'I5', created = '', parent = 'x', version = 'v'"])
def test_a_wrong_character_anywhere_stops_no_window(folder: Path, engine: Engine, qtbot: QtBot, harm: str) -> None:
    with closing(sqlite3.connect(folder / DATABASE)) as db:
        db.execute(harm)
        db.commit()
    window, told = walked(folder, engine, qtbot)
    project = window.session.project
    assert project.aside.found
    assert not [t for t in told if "nobody foresaw" in t], told
    window.show_aside()
    sheet = next(w for w in window.children() if isinstance(w, AsideSheet))
    texts = [w.text().lower() for w in sheet.findChildren(QLabel)]
    assert all(what.lower() in texts for what in project.aside.found)
    sheet.close()
    put_away(window)
    project.close()
    with closing(Project(folder)) as project:
        assert not project.aside.found, "it is told once, and stands on the sheet afterwards"
        assert project.left_before() or project.opened_at == project.rows("SELECT max(created) at FROM left_aside")[0]["at"]


def test_a_database_that_is_gone_is_not_saved(window: MainWindow, settle: Callable[[], None], demo: Path,
                                              tmp_path: Path) -> None:
    settle()
    s, told = window.session, []
    s.noted.connect(lambda text, kind, door: told.append(text))
    (demo / DATABASE).rename(tmp_path / "aside.sqlite")
    named(s, "While it was gone")
    assert "Not saved, and kept in this window" in told[-1]
    assert "gone from its place" in told[-1]
    assert window.isWindowModified()
    assert [p.name for p in s.unsaved.put_elsewhere(tmp_path)] == ["While it was gone.json"]
    (tmp_path / "aside.sqlite").rename(demo / DATABASE)
    assert s.unsaved.try_again()
    assert any(e.strategy.name == "While it was gone" for e in s.project.strategies())


def test_a_project_that_is_only_read_says_so_and_keeps_edits_in_the_window(folder: Path, engine: Engine, qtbot: QtBot,
                                                                           monkeypatch: pytest.MonkeyPatch,
                                                                           tmp_path: Path) -> None:
    real = os.access
    monkeypatch.setattr(os, "access", lambda path, mode, **more: False if mode == os.W_OK and str(path).startswith(
        str(folder)) else real(path, mode, **more))
    before = (folder / DATABASE).read_bytes()
    window, told = walked(folder, engine, qtbot)
    assert "(read only)" in window.windowTitle()
    assert not [t for t in told if "nobody foresaw" in t], told
    named(window.session, "Only here")
    assert "open to be read only" in window.session.unsaved.asking()[0].error.sentence()
    assert [p.name for p in window.session.unsaved.put_elsewhere(tmp_path)] == ["Only here.json"]
    project = window.session.project
    put_away(window)
    project.close()
    assert (folder / DATABASE).read_bytes() == before


def test_edits_wait_on_a_full_disk_while_a_command_writes(window: MainWindow, settle: Callable[[], None], demo: Path,
                                                          qtbot: QtBot) -> None:
    settle()
    s = window.session
    full(window, True)
    s.edit(s.strategy.model_copy(update={"name": "Waits", "notes": "word " * 3000}), "write")
    assert s.unsaved.asking()
    subprocess.run([sys.executable, "-m", "wolbrin", "strategy", "add", "--template", "Channel breakout", "--name",
                    "By command", "-p", str(demo)], capture_output=True, check=True)
    full(window, False)
    qtbot.waitUntil(lambda: not s.unsaved.asking(), timeout=WAIT)
    names = [e.strategy.name for e in s.project.strategies()]
    assert {"Waits", "By command"} <= set(names)


def test_a_damaged_kernel_is_said(window: MainWindow, settle: Callable[[], None], qtbot: QtBot) -> None:
    settle()
    told: list[str] = []
    window.session.noted.connect(lambda text, kind, door: told.append(text))
    kept_kernels.said("A compiled kernel was damaged on disk: it is thrown away and compiled again.")
    qtbot.waitUntil(lambda: any("compiled again" in t for t in told), timeout=WAIT)
