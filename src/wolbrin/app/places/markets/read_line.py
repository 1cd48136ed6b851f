"""How the files were read, in words above their first rows; each part leads to the setting that changes it."""

from __future__ import annotations

from html import escape

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QLabel

from wolbrin.app.theme.theme import Theme
from wolbrin.core.work.looking import Judged
from wolbrin.core.work.told_files import read_parts


class ReadLine(QLabel):
    """`wanted(door)` tells which part was chosen."""

    wanted = Signal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._judged: Judged | None = None
        theme.changed.connect(lambda: self.show_judged(self._judged))  # a text keeps the color it was set with
        self.setWordWrap(True)
        self.setTextFormat(Qt.TextFormat.RichText)
        self.setTextInteractionFlags(Qt.TextInteractionFlag.LinksAccessibleByMouse
                                     | Qt.TextInteractionFlag.LinksAccessibleByKeyboard)
        self.setToolTip("Choose a part to change it")
        self.setAccessibleName("How the files were read")
        self.linkActivated.connect(self.wanted)
        self.hide()

    def show_judged(self, judged: Judged | None) -> None:
        """Say how the files of a market were read; nothing where None."""
        self._judged = judged
        self.setVisible(judged is not None)
        if judged is not None:
            color = self._theme.color("accent").name()
            parts = ", ".join(f'<a href="{p.door}" style="color:{color}">{escape(p.words)}</a>' for p in read_parts(judged))
            self.setText(f"Read as {parts}.")
