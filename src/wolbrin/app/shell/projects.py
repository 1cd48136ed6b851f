"""Projects from the window: a new one or another one, each in a window of its own."""

from __future__ import annotations

import sys
from pathlib import Path

from PySide6.QtCore import QProcess
from PySide6.QtWidgets import QFileDialog, QWidget

from wolbrin.app.session import Session
from wolbrin.core.store.project import DATABASE, Project


def open_elsewhere(folder: Path) -> bool:
    """Open a project in another window, a program of its own."""
    return bool(QProcess.startDetached(sys.executable, ["-m", "wolbrin", "--open", str(folder)])[0])


def new_project(session: Session, parent: QWidget) -> None:
    """Ask for an empty folder, start a project there and open it."""
    name = QFileDialog.getExistingDirectory(parent, "Folder of the new project")
    if name:
        make_project(session, Path(name))


def make_project(session: Session, folder: Path) -> None:
    made = session.attempt(lambda: Project.create(folder))
    if made is not None:
        made.close()
        _tell(session, folder)


def open_project(session: Session, parent: QWidget) -> None:
    """Ask for a project's folder and open it."""
    name = QFileDialog.getExistingDirectory(parent, "Folder of the project")
    if not name:
        return
    folder = Path(name)
    if not (folder / DATABASE).is_file():
        session.note(f"{folder} holds no project; choose a folder with {DATABASE}, or start a new project.", "error")
        return
    _tell(session, folder)


def _tell(session: Session, folder: Path) -> None:
    if open_elsewhere(folder):
        session.note(f"{folder.name} opens in a window of its own.")
    else:
        session.note(f"{folder} could not be opened; start `wolbrin {folder}` by hand.", "error")
