"""A window over a fresh demo project, driven offscreen."""

from __future__ import annotations

import gc
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QCoreApplication, QEvent
from PySide6.QtTest import QTest
from pytestqt.qtbot import QtBot

from wolbrin.app.session import Session
from wolbrin.app.shell.window import MainWindow
from wolbrin.app.soon import Soon
from wolbrin.app.start import application
from wolbrin.app.theme.theme import Theme
from wolbrin.core.jobs import Engine
from wolbrin.core.store.project import Project


@pytest.fixture(scope="session")
def qapp_cls():
    """pytest-qt makes the application through ours, so that fonts and style are the real ones."""
    return lambda *_: application()


@pytest.fixture(scope="session")
def engine() -> Iterator[Engine]:
    made = Engine(2)
    yield made
    made.close()


def put_away(window: MainWindow) -> None:
    """Close a window and delete it now: Qt would keep it until the loop returns, and polish all of it again with the next."""
    window.close()
    window.session.stop_all()
    QTest.qWait(50)
    window.deleteLater()
    QCoreApplication.sendPostedEvents(window, QEvent.Type.DeferredDelete)
    del window
    gc.collect()  # places and their session hold each other, and with them whole histories


def shown(project: Project, engine: Engine) -> Iterator[MainWindow]:
    """A window over a project, put away afterwards."""
    theme = Theme()
    theme.apply()
    made = MainWindow(Session(project, engine, theme))
    made.show()
    yield made
    put_away(made)
    project.close()


@pytest.fixture
def window(qtbot: QtBot, demo: Path, engine: Engine) -> Iterator[MainWindow]:
    yield from shown(Project(demo), engine)


def come_to_rest(qtbot: QtBot, session: Session) -> None:
    """Wait until nothing computes any more; as long as a test may take, since a machine may be busy with other things."""
    deadline, calm = time.monotonic() + 200, 0
    while calm < 4:
        qtbot.wait(30)
        waits = any(soon.waiting for soon in session.findChildren(Soon))
        calm = 0 if session.busy or waits else calm + 1
        assert time.monotonic() < deadline, "the window does not come to rest"


@pytest.fixture
def settle(qtbot: QtBot, window: MainWindow) -> Callable[[], None]:
    return lambda: come_to_rest(qtbot, window.session)
