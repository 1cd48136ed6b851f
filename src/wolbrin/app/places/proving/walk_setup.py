"""What is asked of a walk: lengths and how folds are laid; what each fold fits stands in the same editor as on Sweep."""

from __future__ import annotations

from typing import cast

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QLabel, QLineEdit, QSpinBox, QWidget

from wolbrin.app.parts import button, column, hairline, label, row
from wolbrin.app.session import Session
from wolbrin.app.sets.setup import Setup
from wolbrin.app.terms import combo
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.measures.wording import number
from wolbrin.core.search.folds import Fold, Length
from wolbrin.core.search.walked import Choice
from wolbrin.core.work.walk_request import WalkRequest
from wolbrin.core.work.walking import MOST_SHUFFLES, WalkEstimate, estimate_walk, laid

ROLLING, END = "rolling", "end"
WAIT = 350  # milliseconds of rest after a change before folds are laid
HINT = ("Days, months, years or trades: 90d, 24m, 2y, 40t. Several, such as 12m, 24m, 36m, walk a grid of every pair; pairs "
        "that train on the same days share their fits.")


def lengths_in(edit: QLineEdit, where: str) -> tuple[Length, ...]:
    """The lengths that are written. Raises UserError."""
    found = tuple(dict.fromkeys(Length.parse(part, where) for part in edit.text().split(",") if part.strip()))
    if not found:
        raise UserError("no length is given", where, "Write for example 24m.")
    return found


def _line(text: str, name: str, wide: int, hint: str = "") -> QLineEdit:
    made = QLineEdit(text)
    made.setAccessibleName(name)
    made.setPlaceholderText(hint)
    made.setFixedWidth(wide)
    return made


class WalkSetup(QWidget):
    """asked: a walk is to be made, with so many shuffled histories."""

    asked = Signal(object, int)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.training = _line("24m", "training lengths", 180)
        self.test = _line("6m", "test lengths", 140)
        self.gap = _line("", "gap between training and test", 60, "none")
        self.anchored = combo([("rolling", ROLLING), ("anchored", "anchored")], "training begins", 88)
        self.anchored.setToolTip("Rolling: training has its length. Anchored: it always begins with the history.")
        self.backward = combo([("from the end", END), ("from the beginning", "beginning")], "folds are laid", 132)
        self.backward.setToolTip("From the end: the last test is whole. From the beginning: it ends with the training view.")
        self.choice = combo([("a plateau's center", "center"), ("the best set", "best")], "each fit takes", 136)
        self.shuffles = QSpinBox()
        self.shuffles.setRange(0, MOST_SHUFFLES)
        self.shuffles.setSpecialValueText("none")
        self.shuffles.setAccessibleName("shuffled histories")
        self.shuffles.setToolTip("Walk as many shuffled histories in the same way: what luck alone brings")
        self.sets = Setup(session, alone=False)
        self.words: QLabel = label("", "heading")
        self.problem: QLabel = label("", "error", wrap=True)
        self.go = button("Walk", self.run, main=True, tip="Ctrl+Return")
        hint = label(HINT, "small", wrap=True)
        self.setLayout(column(
            row(label("Train on", "muted"), self.training, label("test on the next", "muted"), self.test,
                label("gap", "muted"), self.gap, None),
            row(label("Training", "muted"), self.anchored, label("folds laid", "muted"), self.backward,
                label("each fit takes", "muted"), self.choice, label("shuffled", "muted"), self.shuffles, None),
            hint, hairline(), self.sets, self.problem, row(self.words, None, self.go), margins=(0, 0, 8, 0), spacing=6))
        self._soon = QTimer(self, singleShot=True, interval=WAIT)
        self._soon.timeout.connect(self._lay)
        for signal in (self.training.textChanged, self.test.textChanged, self.gap.textChanged,
                       self.anchored.currentIndexChanged, self.backward.currentIndexChanged,
                       self.choice.currentIndexChanged, self.sets.moved):
            signal.connect(lambda *_: self.look())

    def request(self) -> WalkRequest:
        """What is asked. Raises UserError where it is nothing."""
        gap = Length.parse(self.gap.text(), "gap") if self.gap.text().strip() else None
        return WalkRequest(self.sets.request(), lengths_in(self.training, "training"), lengths_in(self.test, "test"), gap,
                           self.anchored.currentData() != ROLLING, self.backward.currentData() == END,
                           cast(Choice, self.choice.currentData()))

    def look(self) -> None:
        """Say soon which folds that makes."""
        if self.isVisible():
            self._soon.start()

    def showEvent(self, event: object) -> None:
        self._soon.start()
        super().showEvent(event)  # type: ignore[arg-type]

    def _lay(self) -> None:
        """Lay the folds on the ruler, and say how many fits they take."""
        s = self.session
        try:
            made = self.request()
        except WolbrinError as err:
            self._say("", err.sentence())
            return

        def refused(why: WolbrinError) -> None:
            if self.isVisible():
                self._say("", why.sentence())

        def done(found: tuple[WalkRequest, WalkEstimate]) -> None:
            if not self.isVisible():
                return
            request, cost = found
            layouts = [o for o in request.layouts if not o.fault]
            folds = layouts[0].folds
            if len(request.cells) == 1:
                one = f"{number(len(folds))} test{'s' if len(folds) != 1 else ''} from {folds[0].test_first:%d %b %Y} on; "
            else:
                one = f"{number(len(layouts))} of {number(len(request.cells))} pairs fit; "
            self._say(one + cost.words(), "", folds)

        s.compute("Lay the folds", lambda: (laid(s.project, made), estimate_walk(s.project, made)), done, "walk estimate",
                  refused)

    def _say(self, words: str, problem: str, folds: tuple[Fold, ...] = ()) -> None:
        self.words.setText(words)
        self.problem.setText(problem)
        self.go.setEnabled(not problem)
        self.session.laid.show_folds(folds)

    def run(self) -> None:
        """Ask for the walk that stands here; parameters keep their ranges."""
        made = self.session.attempt(self.request)
        if made is not None:
            self.session.edit(self.sets.numbers.with_ranges(self.session.strategy), "ranges of parameters")
            made = self.session.attempt(self.request)
            self.asked.emit(made, self.shuffles.value())

    def show_request(self, request: WalkRequest) -> None:
        """Stand as a walk did, as far as its numbers are there."""
        self.training.setText(", ".join(x.short for x in request.trainings))
        self.test.setText(", ".join(x.short for x in request.tests))
        for one in (self.training, self.test):
            one.setCursorPosition(0)
        self.gap.setText(request.gap.short if request.gap is not None else "")
        for box, value in ((self.anchored, "anchored" if request.anchored else ROLLING),
                           (self.backward, END if request.backward else "beginning"),
                           (self.choice, request.choice)):
            box.setCurrentIndex(max(0, box.findData(value)))
        self.sets.show_request(request.sweep)
