"""Own indicators: read the file, confirm exactly this text, have it checked, use it."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QPlainTextEdit, QWidget

from wolbrin.app.parts import button, column, label, row, set_role
from wolbrin.app.session import Session
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.errors import WolbrinError
from wolbrin.core.indicators.own import OwnFile, read_own
from wolbrin.core.indicators.own_read import read_bytes
from wolbrin.core.indicators.own_run import shut_off
from wolbrin.core.written import write_whole

BEGIN = '''"""An indicator of my own."""

import numpy as np


def steps(close, *, length=10):
    """How many of the last closes were higher than the one before, less how many were lower.

    Turns: centered
    """
    sign = np.sign(np.diff(close, prepend=close[:1]))
    total = np.cumsum(sign)
    out = np.full(len(close), np.nan)
    out[length:] = total[length:] - total[:-length]
    return out
'''

ABOUT = ("A Python file in the project with one function over arrays (docs/own-indicators.md). It runs only after you have "
         "read and confirmed exactly this text, in a process of its own with limits on time and memory, and is checked for "
         "looking ahead before it can be used.")
SHUT = "It reaches no file, no network and no other process."
OPEN = ("This machine's kernel does not shut it off from your files and the network: confirm only what you would run "
        "yourself.")


@dataclass(frozen=True)
class Line:
    """One file: what was read of it, or why not."""

    path: Path
    file: OwnFile | None
    state: str


class OwnPage(QWidget):
    """The project's indicator files. changed() is called when one may be used that could not be before."""

    def __init__(self, session: Session, changed: Callable[[], None]) -> None:
        super().__init__()
        self._session, self._changed = session, changed
        self.table = Table([Column("file", lambda x: x.path.name, width=120),
                            Column("indicator", lambda x: x.file.name if x.file else "", width=110),
                            Column("state", lambda x: x.state, width=150)], session.theme, "Own indicators", stretch=2)
        self.table.setFixedHeight(120)
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setProperty("role", "mono")
        self.text.setAccessibleName("text of the file")
        self.words = label("", "small", wrap=True)
        self.confirm = button("Confirm this file and check it", self.confirm_file, main=True)
        self.table.chosen.connect(self._show)
        about = label(ABOUT, "small", wrap=True)
        session.compute("Own indicators", shut_off, lambda shut: about.setText(f"{ABOUT} {SHUT if shut else OPEN}"))
        acts = row(button("Add a file \u2026", self.add_file), button("Begin a new one", self.begin),
                   button("Read again", self.refresh), None, spacing=5)
        self.setLayout(column(about, self.table, acts, self.text, self.words, row(self.confirm, None),
                              spacing=5))
        self.refresh()

    def refresh(self) -> None:
        """Read the files again; nothing is run."""
        own = self._session.project.own
        lines = []
        for path in own.files():
            try:
                file = read_own(path)
                lines.append(Line(path, file, "confirmed" if own.is_confirmed(file.digest) else "to be confirmed"))
            except WolbrinError as err:
                lines.append(Line(path, None, err.sentence()))  # its text is shown all the same
        self.table.set_records(lines)
        self.confirm.setEnabled(bool(lines))
        self.text.setPlainText("")
        self._say(f"Files stand in {own.folder}." if lines else f"No file yet. They stand in {own.folder}.")
        if lines:
            self.table.choose(0)
            self._show(lines[0])

    def _say(self, text: str, role: str = "small") -> None:
        set_role(self.words, role)
        self.words.setText(text)

    def _show(self, line: Line | None) -> None:
        if line is None:
            return
        if line.file is None:
            self._say(line.state, "error")
            self.confirm.setEnabled(False)
            with suppress(WolbrinError):
                self.text.setPlainText(read_bytes(line.path).decode("utf-8", "replace"))
            return
        self.text.setPlainText(line.file.source)
        settings = ", ".join(f"{k}={v:g}" for k, v in line.file.settings.items()) or "no settings"
        dates = line.file.dates
        held = f" It holds a date ({'; '.join(dates[:3])}): what knows dates cannot stand." if dates else ""
        self._say(f"{line.file.name} reads {', '.join(line.file.inputs)}; {settings}; {line.state}.{held}")
        self.confirm.setEnabled(line.state != "confirmed")

    def begin(self) -> None:
        """Write a small example to change."""
        folder = self._session.project.own.folder
        path = next(p for i in range(1, 999) if not (p := folder / f"own-{i}.py").exists())
        text = BEGIN.replace("def steps", f"def steps_{path.stem[4:]}")

        def act() -> None:
            write_whole(path, lambda partial: partial.write_text(text, encoding="utf-8"), "file")
            self.refresh()
            self._session.note(f"{path} is ready to be changed in an editor of yours.")

        self._session.attempt(act)

    def add_file(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Add an indicator file", "", "Python files (*.py)")
        if name:
            self.take(Path(name))

    def take(self, path: Path) -> None:
        """Copy a file into the project; it is not run."""
        folder = self._session.project.own.folder
        if (folder / path.name).exists():
            self._session.note(f"{path.name} is there already; rename the file.", "error")
            return
        def act() -> None:
            data = read_bytes(path)
            write_whole(folder / path.name, lambda partial: partial.write_bytes(data), "file")
            self.refresh()

        self._session.attempt(act)

    def confirm_file(self) -> None:
        """Check the text that is shown, and let it be used."""
        line = self.table.current()
        if line is None or line.file is None:
            return
        s = self._session
        project, market, interval = s.project, s.market, s.interval
        self.confirm.setEnabled(False)
        self._say(f"Checking {line.file.name} \u2026")

        def refused(why: WolbrinError) -> None:
            self._say(why.sentence(), "error")
            self.confirm.setEnabled(True)

        def done(result: int) -> None:
            self.refresh()
            self._say(f"{line.file.name} is confirmed: {result} histories cut short gave the same values.", "gain")
            self._changed()

        s.compute(f"Check {line.file.name}", lambda: project.own.confirm(line.file, project.prepared(market, interval).bars),
                  done, refused=refused)
