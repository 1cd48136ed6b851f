"""How the files were read, in words above their first rows; each part leads to the setting that changes it."""

from __future__ import annotations

from html import escape

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QLabel

from wolbrin.core.work.looking import Judged
from wolbrin.core.work.told_files import read_parts


class ReadLine(QLabel):
    """`wanted(door)` tells which part was chosen."""

    wanted = Signal(str)

    def __init__(self) -> None:
        super().__init__()
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
        self.setVisible(judged is not None)
        if judged is not None:
            parts = ", ".join(f'<a href="{p.door}">{escape(p.words)}</a>' for p in read_parts(judged))
            self.setText(f"Read as {parts}.")
