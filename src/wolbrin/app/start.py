"""Starting the window: fonts, theme, first-start work with progress, then the project."""

from __future__ import annotations

import logging
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from types import TracebackType
from typing import Any

from PySide6.QtCore import QEventLoop, Qt, QTimer
from PySide6.QtWidgets import QApplication, QProgressBar, QVBoxLayout, QWidget

from wolbrin.app.memory import Memory
from wolbrin.app.parts import button, label, row, save_picture
from wolbrin.app.session import Session
from wolbrin.app.shell.window import MainWindow
from wolbrin.app.theme.theme import Theme, load_fonts
from wolbrin.core.errors import EnvironmentTrouble, WolbrinError
from wolbrin.core.jobs import Chunk, Engine, Job, State
from wolbrin.core.store.aside import Aside
from wolbrin.core.store.check import restore_copy
from wolbrin.core.store.copies import copies_of
from wolbrin.core.store.project import DATABASE, Project
from wolbrin.core.store.recovering import is_damage, recover
from wolbrin.core.unforeseen import begin_log, sentence_of
from wolbrin.core.work.readying import Readying

Report = Callable[[str, int, int], None]
Build = Callable[[Report], None]
log = logging.getLogger("wolbrin")


class Welcome(QWidget):
    """A small sheet: progress of the first start, or what to open when there is nothing yet."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("frame")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setWindowTitle("Wolbrin")
        self.setFixedSize(520, 190)
        self.title = label("Wolbrin", "title")
        self.words = label("", "muted", wrap=True)
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.box = QVBoxLayout(self)
        self.box.setContentsMargins(32, 26, 32, 26)
        self.box.addWidget(self.title)
        self.box.addWidget(self.words)
        self.box.addStretch(1)
        self.box.addWidget(self.bar)

    def report(self, what: str, done: int, total: int) -> None:
        self.words.setText(what)
        self.bar.setRange(0, max(1, total))
        self.bar.setValue(done)


def application() -> QApplication:
    """The one QApplication, with fonts loaded."""
    app = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(app, QApplication)
    app.setApplicationName("wolbrin")
    app.setStyle("Fusion")
    load_fonts()
    # Worker threads hand the interpreter over often, so that the interface thread never waits long for it.
    sys.setswitchinterval(0.0002)
    return app


def prepare(engine: Engine, theme: Theme, builds: list[Build], title: str) -> bool:
    """Do first-start work (compiling kernels, making demo data) in the background behind a sheet with progress.

    Returns False when it failed or the sheet was closed; the sentence has then been shown.
    """
    sheet = Welcome()
    sheet.title.setText(title)
    state: dict[str, Any] = {"what": "Starting", "done": 0, "total": 1}

    def work(build: Build) -> None:
        build(lambda what, done, total: state.update(what=what, done=done, total=total))

    job = Job(title, "steps", [Chunk(b) for b in builds], work, lambda _: None, width=1)
    engine.start(job, "threads")
    loop = QEventLoop()
    timer = QTimer(sheet, interval=60)
    shown_after = time.monotonic() + 0.4  # quick work shows no sheet at all

    def look() -> None:
        sheet.report(state["what"], state["done"], state["total"])
        if job.state.over:
            loop.quit()
        elif not sheet.isVisible() and time.monotonic() > shown_after:
            sheet.show()

    timer.timeout.connect(look)
    timer.start()
    loop.exec()
    timer.stop()
    sheet.close()
    if job.state is State.FAILED:
        tell(job.error)
    return job.state is State.DONE


def tell(error: BaseException | None, way: tuple[str, Callable[[], None]] | None = None) -> None:
    """Say why the program cannot go on, on a sheet and on standard error. way: what can be done about it, as a button."""
    text = sentence_of(error) if error is not None else "Something went wrong."
    print(text, file=sys.stderr)
    sheet = Welcome()
    sheet.bar.hide()
    sheet.words.setText(text)
    if way is not None:
        def take() -> None:
            sheet.close()
            way[1]()
        sheet.box.addLayout(row(button(way[0], take), None, button("Close", sheet.close, main=True)))
    else:
        sheet.box.addLayout(row(None, button("Close", sheet.close, main=True)))
    sheet.show()
    loop = QEventLoop()
    poll = QTimer(sheet, interval=50)
    poll.timeout.connect(lambda: None if sheet.isVisible() else loop.quit())
    poll.start()
    if QApplication.platformName() != "offscreen":
        loop.exec()
    sheet.close()


def catch_all(session: Session) -> None:
    """Anything not expected is logged and told once; the program goes on."""
    def hook(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        session.note(sentence_of(error), "error")

    def in_thread(told: threading.ExceptHookArgs) -> None:
        if told.exc_value is not None:
            note = session.on_ui(session.note)
            note(sentence_of(told.exc_value), "error")

    sys.excepthook = hook
    threading.excepthook = in_thread


def window_on(folder: Path, engine: Engine, theme: Theme) -> MainWindow:
    """The window on a project, not shown yet. Where it comes upon damaged pages, once on what can be read of them.

    Raises:
        WolbrinError: there is none, or nothing of it can be read.
    """
    aside = Aside()
    for again in (False, True):
        project = Project(folder)
        project.aside.found = aside.found | project.aside.found
        try:
            session = Session(project, engine, theme)
            if session.settings.theme != theme.tokens.name:
                theme.use(session.settings.theme)
            return MainWindow(session)
        except EnvironmentTrouble as err:
            project.close()
            if again or err.__context__ is None or not is_damage(err.__context__):
                raise
            recover(folder / DATABASE, aside)
    raise AssertionError("unreachable")


def window_or_sheet(folder: Path, engine: Engine, theme: Theme) -> MainWindow | None:
    """The window on a project; where there can be none the reason was shown, and None comes back: no start ends with an
    empty screen. A sound copy of the database is put back where the user says so."""
    asked = False

    def put_back() -> None:
        nonlocal asked
        try:
            restore_copy(folder)
            asked = True
        except WolbrinError as err:
            tell(err)

    for _ in range(2):
        try:
            return window_on(folder, engine, theme)
        except Exception as err:
            damaged = isinstance(err, EnvironmentTrouble) and "damaged" in err.what and bool(copies_of(folder))
            tell(err, ("Put the newest copy back", put_back) if damaged and not asked else None)
            if not asked:
                break
    return None


def open_window(folder: Path, builds: list[Build], picture: Path | None = None, place: str | None = None,
                on_ready: Callable[[MainWindow], None] | None = None, ready: Readying | None = None) -> int:
    """Open a project in the window and run until it is closed. Returns the exit code.

    picture: save a PNG of the window once it is usable, then quit. on_ready: called with the window once it is. ready: what
    compiles kernels beside it, None where all are there.
    """
    begin_log()
    app = application()
    theme = Theme()
    theme.apply()
    engine = Engine()
    try:
        if builds and not prepare(engine, theme, builds, "Wolbrin"):
            return 1
        window = window_or_sheet(folder, engine, theme)
        if window is None:
            return 1
        session = window.session
        catch_all(session)
        if ready is not None:
            window.follow(ready)
        if place:
            window.go(place)
        window.show()
        memory = Memory(window, lambda: window.session.busy)
        if on_ready is not None:
            QTimer.singleShot(0, lambda: on_ready(window))
        if picture is not None:
            def shoot() -> None:
                if session.busy or not window.isVisible():
                    QTimer.singleShot(100, shoot)
                    return
                try:
                    save_picture(window, picture)
                    title = window.windowTitle().replace("[*]", "")  # where Qt puts its mark of what is not saved
                    print(f"Window opened: {title}, {window.width()} x {window.height()}.")
                except WolbrinError as err:
                    print(err.sentence(), file=sys.stderr)
                    app.exit(1)
                window.close()
            QTimer.singleShot(900, shoot)
        code = app.exec()
        memory.end()
        session.project.close()
        return code
    finally:
        engine.close()
