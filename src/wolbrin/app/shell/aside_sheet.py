"""What of the project was left aside, each with what is wrong with it."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QScrollArea, QVBoxLayout, QWidget

from wolbrin.app.parts import button, label, row
from wolbrin.core.store.aside import Aside


class AsideSheet(QDialog):
    """Lists it; nothing can be done here but to read."""

    def __init__(self, aside: Aside, folder: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Left aside")
        self.resize(620, 380)
        inside = QWidget()
        lines = QVBoxLayout(inside)
        for what, wrong in aside.found.items():
            lines.addWidget(label(what[:1].upper() + what[1:], "heading"))
            lines.addWidget(label(f"{wrong[:1].upper()}{wrong[1:]}.", "small", wrap=True))
        lines.addStretch(1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(inside)
        box = QVBoxLayout(self)
        box.setContentsMargins(24, 20, 24, 18)
        box.addWidget(label("Left aside, since it cannot be read", "title"))
        box.addWidget(label(f"All else works. `wolbrin check {folder}` looks at the whole project; with --restore it puts "
                            "the newest copy of the database back.", "", wrap=True))
        box.addWidget(area, 1)
        box.addLayout(row(None, button("Close", self.close, main=True)))
