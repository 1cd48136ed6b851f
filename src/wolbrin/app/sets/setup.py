"""What is varied: numbers and ranges, where, what is looked for, and how sets are chosen. Every editor of it in the window
shows what was entered in the other ones."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QComboBox, QLabel, QLineEdit, QScrollArea, QSpinBox, QWidget

from wolbrin.app.parts import button, column, label, row
from wolbrin.app.picker import Picker
from wolbrin.app.session import Session
from wolbrin.app.sets.lines import ConstraintLine, LinkLine
from wolbrin.app.sets.numbers import Numbers
from wolbrin.app.terms import FloorLines, Lines, combo
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.catalogue import BY_KEY, MEASURES, SUMMARY
from wolbrin.core.measures.wording import number, time_words
from wolbrin.core.rules.axes import Axis
from wolbrin.core.rules.mirror import SIDES
from wolbrin.core.rules.numbers import tunables
from wolbrin.core.search.basket import RULES
from wolbrin.core.search.objective import Objective
from wolbrin.core.work.standing_floors import floors_of_sets
from wolbrin.core.work.sweep_estimate import LARGEST_SWEEP, Estimate, count_of, estimate
from wolbrin.core.work.sweep_request import SweepRequest

METHODS = [("every set", "every"), ("a sample", "sample"), ("an evolution", "evolve")]
BESIDE = 430  # pixels of the numbers, where the form beside them has little room
WAIT = 350  # milliseconds of rest after a change before the time is estimated


def field(text: str, *parts: QWidget) -> object:
    """A titled line of the form."""
    title = label(text, "muted")
    title.setFixedWidth(86)
    return row(title, *parts, None)


class Setup(QWidget):
    """asked: a sweep is to be run; moved: something else stands here. alone: a sweep of its own, with places, a name and what
    starts it; else the part that says what is fitted."""

    asked = Signal(object)
    moved = Signal()

    def __init__(self, session: Session, alone: bool = True) -> None:
        super().__init__()
        self.session, self._alone = session, alone
        self.numbers = Numbers(session)
        self.count_words: QLabel = label("", "heading")
        self.problem: QLabel = label("", "error", wrap=True)
        self.go = button("Run sweep", self.run, main=True, tip="Ctrl+Return")
        self.markets = Picker("markets", lambda: [m.code for m in session.markets], none="the present one")
        self.intervals = Picker("intervals", lambda: [interval_words(i) for i in session.intervals()], none="the present one")
        self.sides = Picker("sides", lambda: list(SIDES), none="as in the rules")
        keys = [*SUMMARY, *(m.key for m in MEASURES if m.key not in SUMMARY)]
        self.objective = combo([(BY_KEY[k].title, k) for k in keys], "looked for", 190)
        self.objective.setCurrentIndex(keys.index("return_drawdown"))
        self.second = combo([("nothing else", ""), *((BY_KEY[k].title, k) for k in keys)], "looked for at the same time", 190)
        self.blend = QLineEdit()
        self.blend.setPlaceholderText("or a blend: 0.6 * return over drawdown + 0.4 * t of daily results")
        self.blend.setAccessibleName("blend")
        self.floors = FloorLines("Floors")
        self.constraints = Lines("Constraints", lambda i: ConstraintLine(self._titles()))
        self.links = Lines("Links", lambda i: LinkLine(self._titles()))
        self.method = combo(METHODS, "which sets", 110)
        self.count = QSpinBox()
        self.count.setRange(0, LARGEST_SWEEP)
        self.count.setSpecialValueText("as many as usual")
        self.count.setGroupSeparatorShown(True)
        self.count.setAccessibleName("sets of a sample or evolution")
        self.seed = QSpinBox()
        self.seed.setRange(0, 2**31 - 1)
        self.seed.setValue(1)
        self.seed.setPrefix("seed ")
        self.seed.setAccessibleName("seed")
        self.keep = QSpinBox()
        self.keep.setRange(0, LARGEST_SWEEP)
        self.keep.setSpecialValueText("all")
        self.keep.setAccessibleName("best sets listed")
        self.basket = combo([(r, r) for r in RULES], "one set for all markets by", 130)
        self.name = QLineEdit()
        self.name.setMaxLength(80)
        self.name.setPlaceholderText("a name to find it again")
        self.name.setAccessibleName("name of the sweep")
        self.name.setMinimumWidth(300)
        self._basket_row = QWidget()
        self._basket_row.setLayout(field("one for all", self.basket))  # type: ignore[arg-type]
        where, listed = QWidget(), QWidget()
        where.setLayout(column(label("Where", "heading"), row(self.markets, None), row(self.intervals, None),
                               row(self.sides, None), self._basket_row, 4, spacing=6))
        listed.setLayout(column(field("list the best", self.keep), field("name", self.name), spacing=6))
        second = QWidget()
        second.setLayout(field("and by", self.second))  # type: ignore[arg-type]
        for part in () if alone else (where, listed, second, self.go, self.count_words):
            part.hide()
        form = QWidget()
        form.setLayout(column(
            where, label("Looked for", "heading"), field("best by", self.objective),
            second, self.blend, self.floors, 4, label("Which sets", "heading"),
            field("simulate", self.method, self.count, self.seed), self.constraints, self.links, listed, None, spacing=6,
            margins=(0, 0, 8, 0)))
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(form)
        left = QWidget()
        left.setLayout(column(label("Numbers to vary", "heading"),
                              label("The same ticks as beside the numbers on Rules.", "small"), self.numbers))
        right = QWidget()
        right.setLayout(column(area))
        whole = row(left, right, spacing=24 if alone else 12)
        whole.setStretch(0, 1)
        whole.setStretch(1, 1)
        if not alone:
            left.setMinimumWidth(BESIDE)
        self.setLayout(column(whole, self.problem, row(self.count_words, None, self.go), margins=(0, 0, 8, 0)))
        self._soon = QTimer(self, singleShot=True, interval=WAIT)
        self._soon.timeout.connect(self._estimate)
        for signal in (self.numbers.changed, self.markets.changed, self.intervals.changed, self.sides.changed,
                       self.objective.currentIndexChanged, self.second.currentIndexChanged, self.blend.textChanged,
                       self.floors.changed, self.constraints.changed, self.links.changed, self.method.currentIndexChanged,
                       self.count.valueChanged, self.seed.valueChanged, session.brief_changed):
            signal.connect(lambda *_: self.look())
        session.markets_changed.connect(self.markets.tell)
        self.floors.show_floors(floors_of_sets(session.project, (), own=session.own))
        self.look()

    def _titles(self) -> dict[str, str]:
        return {t.key: t.title for t in tunables(self.session.strategy)}

    def places(self) -> tuple[Axis, ...]:
        """Markets, intervals and sides, where several are chosen."""
        s, found = self.session, []
        if not self._alone:
            return ()
        if self.markets.chosen() not in ([], [s.market]):
            found.append(Axis.markets(self.markets.chosen()))
        codes = [i for i in s.intervals() if interval_words(i) in self.intervals.ticked]
        if codes not in ([], [s.interval]):
            found.append(Axis.intervals(codes))
        if self.sides.chosen():
            found.append(Axis.sides(self.sides.chosen()))
        return tuple(found)

    def request(self) -> SweepRequest:
        """What is asked. Raises UserError where it is nothing."""
        s = self.session
        axes = {a.key: a for a in self.numbers.axes()}
        titles = self._titles()
        for line in self.links.lines:
            assert isinstance(line, LinkLine)
            key, moves = line.link()
            if key not in axes:
                raise UserError(f'"{titles.get(key, key)}" is not varied, so nothing can move with it', "link", "Tick it.")
            axes[key] = replace(axes[key], links=(*axes[key].links, moves))
        blend = self.blend.text().strip()
        second = self.second.currentData()
        objective = Objective.parse([blend] if blend else [self.objective.currentData()])
        constraints = tuple(c for line in self.constraints.lines if isinstance(line, ConstraintLine)
                            and (c := line.constraint()).left in titles)
        made = SweepRequest(s.strategy, s.market, s.interval, (*axes.values(), *self.places()), s.own, constraints,
                            self.method.currentData(), self.count.value() if self.method.currentData() != "every" else 0,
                            self.seed.value(), objective.model_copy(update={"second": second}),
                            self.floors.floors(),
                            self.keep.value(), 0, self.name.text().strip(), self.basket.currentData())
        _ = made.space
        return made

    def look(self) -> None:
        """Say how many sets that is, and soon how long they take."""
        self._soon.stop()
        every = self.method.currentData() == "every"
        self.count.setVisible(not every)
        self.seed.setVisible(not every)
        self._basket_row.setVisible(len(self.places()) > 0)
        try:
            made = self.request()
            size = made.space.size
            self.count_words.setText(f"{number(size)} combinations" if every else
                                     f"{number(min(size, count_of(made)))} of {number(size)} combinations")
            self.problem.setText("")
            self.go.setEnabled(True)
            if self.isVisible():
                self.session.laid.sets = (id(self), made)
                if self._alone:
                    self._soon.start()
        except WolbrinError as err:
            self.count_words.setText("")
            self.problem.setText(err.sentence() if self._alone else "")
            self.go.setEnabled(False)
        self.moved.emit()

    def showEvent(self, event: object) -> None:
        asked = self.session.laid.sets
        if asked is not None and asked[0] != id(self):
            self.show_request(asked[1])
        if self._alone:
            self._soon.start()
        super().showEvent(event)  # type: ignore[arg-type]

    def _estimate(self) -> None:
        try:
            made = self.request()
        except WolbrinError:
            return
        project, words = self.session.project, self.count_words.text()

        def refused(why: WolbrinError) -> None:
            if self.count_words.text() == words:
                self.problem.setText(why.sentence())

        def done(found: Estimate) -> None:
            if self.count_words.text() == words:
                left = f", {number(found.sets)} to simulate" if f"{number(found.sets)} " not in f"{words} " else ""
                self.count_words.setText(f"{words}{left}, about {time_words(found.seconds)}")

        self.session.compute("Estimate", lambda: estimate(project, made), done, "sweep estimate", refused)

    def run(self) -> None:
        """Ask for the sweep that stands here; parameters keep their ranges."""
        made = self.session.attempt(self.request)
        if made is not None:
            ranged = self.numbers.with_ranges(self.session.strategy)
            self.session.edit(ranged, "ranges of parameters")
            self.asked.emit(replace(made, strategy=self.session.strategy))

    def show_request(self, request: SweepRequest) -> None:
        """Stand as a sweep did, as far as its numbers are there."""
        self.numbers.show_axes(request.axes)
        boxes: list[tuple[QComboBox, str]] = [(self.method, request.method), (self.second, request.objective.second),
                                              (self.basket, request.basket)]
        if not request.objective.blended:
            boxes.append((self.objective, request.objective.terms[0].key))
        else:
            self.blend.setText(" + ".join(f"{t.weight:g} * {t.key}" for t in request.objective.terms))
        for box, key in boxes:
            box.setCurrentIndex(max(0, box.findData(key)))
        self.seed.setValue(request.seed)
        if request.method != "every":
            self.count.setValue(request.count)
        self.constraints.clear()
        self.links.clear()
        known = self._titles()
        for constraint in request.constraints:
            if constraint.left in known and (not constraint.right or constraint.right in known):
                made = self.constraints.add()
                assert isinstance(made, ConstraintLine)
                made.show_constraint(constraint)
        for axis in request.axes:
            for one in axis.links:
                if axis.key in known and one.key in known:
                    moves = self.links.add()
                    assert isinstance(moves, LinkLine)
                    moves.show_link(axis.key, one)
        self.floors.show_floors(request.floors)
