"""What was found out about files, with reasons: questions first, with what each answer would mean, then everything else."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QScrollArea, QVBoxLayout, QWidget

from wolbrin.app.parts import clear, column, label, row
from wolbrin.app.places.markets.first_terms import FirstTerms
from wolbrin.app.places.markets.page import combo
from wolbrin.app.session import Session
from wolbrin.core.market.findings import Finding
from wolbrin.core.work.looking import Judged


class FoundList(QWidget):
    """`answered(option, value)` tells that a question was decided."""

    answered = Signal(str, str)

    def __init__(self) -> None:
        super().__init__()
        self._box = QVBoxLayout(self)
        self._box.setContentsMargins(0, 0, 0, 0)
        self._box.setSpacing(3)
        self.boxes: dict[str, QComboBox] = {}

    def show_findings(self, findings: Sequence[Finding], notes: Sequence[str]) -> None:
        clear(self._box)
        self.boxes = {}
        for f in (x for x in findings if x.ask):
            self._box.addWidget(label(f"{f.what}?" if f.value == "?" else f"{f.what}: {f.value}?", "question", wrap=True))
            self._box.addWidget(label(f.why, "small", wrap=True))
            if f.answers:
                options = [(f"{a.value}: {a.means}" if a.means else a.value, a.value) for a in f.answers]
                box = combo(options, f"Answer: {f.what}")
                box.setMinimumContentsLength(20)
                box.setPlaceholderText("choose \u2026")
                box.setCurrentIndex(-1)
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


class FoundPanel(QScrollArea):
    """Beside the rows: questions first, the terms of a new market, then all that was found."""

    answered = Signal(str, str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.questions, self.findings = FoundList(), FoundList()
        for one in (self.questions, self.findings):
            one.answered.connect(self.answered)
        self.terms = FirstTerms(session)
        inside = QWidget()
        inside.setLayout(column(self.questions, self.terms, label("What was found", "heading"), self.findings, None,
                                spacing=6, margins=(10, 0, 10, 0)))
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFrameShape(QScrollArea.Shape.NoFrame)
        self.setWidget(inside)

    def show_judged(self, judged: Judged, new: bool) -> None:
        """new: the market is not there yet, so its terms are shown too."""
        self.questions.show_findings(judged.questions, ())
        self.findings.show_findings([f for f in judged.findings if not f.ask], judged.imported.notes)
        if new:
            known = all(f.option != "--point-value" for f in judged.questions)
            self.terms.show_terms(judged.terms, judged.clock.week, known)
            self.terms.load_exchanges()
        self.verticalScrollBar().setValue(0)

    def unanswered(self, every: Sequence[Judged]) -> str:
        """The first question that stands and has several answers, in a sentence, with the cursor put to it; empty where
        there is none."""
        for j in every:
            for f in j.questions:
                if not f.answers:
                    continue
                box = self.questions.boxes.get(f.option)
                if box is not None:
                    box.setFocus()
                return f"{j.code}: {f.what} is not decided by the file. Answer the question beside the rows first."
        return ""

    def clear(self) -> None:
        self.terms.touched.clear()
        self.questions.show_findings((), ())
        self.findings.show_findings((), ())
