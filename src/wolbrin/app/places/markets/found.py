"""What was found out about files, with reasons: questions first, with what each answer would mean, then everything else."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from wolbrin.app.parts import clear, label, row
from wolbrin.app.places.markets.page import combo
from wolbrin.core.market.findings import Finding


class FoundList(QWidget):
    """`answered(option, value)` tells that a question was decided."""

    answered = Signal(str, str)

    def __init__(self) -> None:
        super().__init__()
        self._box = QVBoxLayout(self)
        self._box.setContentsMargins(0, 0, 0, 0)
        self._box.setSpacing(3)
        self.boxes: dict[str, object] = {}

    def show_findings(self, findings: Sequence[Finding], notes: Sequence[str]) -> None:
        clear(self._box)
        self.boxes = {}
        for f in (x for x in findings if x.ask):
            self._box.addWidget(label(f"{f.what}: {f.value}?", "caution", wrap=True))
            self._box.addWidget(label(f.why, "small", wrap=True))
            if f.answers:
                options = [(f"{a.value}: {a.means}" if a.means else a.value, a.value) for a in f.answers]
                box = combo(options, f"Answer: {f.what}")
                box.setMinimumContentsLength(20)
                box.activated.connect(lambda i, f=f: self.answered.emit(f.option, f.answers[i].value))
                self.boxes[f.option] = box
                self._box.addWidget(box)
            self._box.addSpacing(4)
        for f in (x for x in findings if not x.ask):
            line = label(f"{f.what}: {f.value}" + ("" if f.sure else " (not sure)"), wrap=True)
            line.setToolTip(f.why)
            self._box.addWidget(line)
            self._box.addWidget(label(f.why, "small", wrap=True))
        for note in notes:
            self._box.addWidget(label(note[0].upper() + note[1:] + ".", "small", wrap=True))
        self._box.addLayout(row(None))
        self._box.addStretch(1)
