"""What of the project was left aside, now and before, each with what is wrong with it."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QScrollArea, QVBoxLayout, QWidget

from wolbrin.app.parts import button, label, row
from wolbrin.core.store.project import Project

EARLIER = 200  # lines of what was left aside before


class AsideSheet(QDialog):
    """Lists it; nothing can be done here but to read."""

    def __init__(self, project: Project, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Left aside")
        self.resize(640, 420)
        inside = QWidget()
        lines = QVBoxLayout(inside)

        def tell(what: str, wrong: str) -> None:
            lines.addWidget(label(what[:1].upper() + what[1:], "heading", wrap=True))
            lines.addWidget(label(f"{wrong[:1].upper()}{wrong[1:]}.", "small", wrap=True))

        for what, wrong in project.aside.found.items():
            tell(what, wrong)
        earlier = project.left_before()
        if earlier:
            lines.addSpacing(8)
            lines.addWidget(label("Before this opening", "muted"))
        for at, what, wrong in earlier[:EARLIER]:
            tell(what, f"{at[:10]}: {wrong}")
        if not project.aside.found and not earlier:
            lines.addWidget(label("Nothing is left aside.", "muted"))
        lines.addStretch(1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(inside)
        box = QVBoxLayout(self)
        box.setContentsMargins(24, 20, 24, 18)
        box.addWidget(label("Left aside, since it cannot be read", "title"))
        box.addWidget(label(f"All else works, and every row is kept as it was found. `wolbrin check {project.folder}` looks "
                            "at the whole project and, with --json, lists those rows; with --restore it puts the newest copy "
                            "of the database back.", "", wrap=True))
        box.addWidget(area, 1)
        box.addLayout(row(None, button("Close", self.close, main=True)))
