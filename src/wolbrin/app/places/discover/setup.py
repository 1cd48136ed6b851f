"""What is asked of Discover: ingredients, structure, floors, where, how, and until when."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QLineEdit, QScrollArea, QSpinBox, QWidget

from wolbrin.app.ingredients import Ingredients
from wolbrin.app.parts import button, column, label, row
from wolbrin.app.picker import Picker
from wolbrin.app.places.discover.structure import Structure, titled, whole
from wolbrin.app.session import Session
from wolbrin.app.terms import FloorLines, combo
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.sums import COMPILED
from wolbrin.core.measures.wording import number
from wolbrin.core.scan.families import SCANNED
from wolbrin.core.scan.informed import COUNT
from wolbrin.core.search.floors import DAYS_A_YEAR, STANDING, usual_floors
from wolbrin.core.search.objective import Floor, Objective
from wolbrin.core.work.controls import told_before
from wolbrin.core.work.discover_estimate import cost_words
from wolbrin.core.work.discover_request import (
    MOST_ROWS,
    USUAL_CONTROLS,
    USUAL_COUNT,
    USUAL_METHOD,
    DiscoverRequest,
    sources_of,
    usual_limits,
)
from wolbrin.core.work.readable import own_conditions, own_operands

METHODS = [("by what a scan shows", "informed"), ("drawn at random", "random"), ("an evolution", "evolve")]
EXITS = ("stop", "target", "time_exit", "no_time_exit")  # of the limits, that are usual in their own way with each method


def _large(value: int, name: str, special: str = "", width: int = 92, step: int = 1000) -> QSpinBox:
    made = whole(value, 0 if special else 1, 100_000_000, name, width)
    made.setGroupSeparatorShown(True)
    made.setAlignment(Qt.AlignmentFlag.AlignRight)
    made.setSingleStep(step)
    if special:
        made.setSpecialValueText(special)
    return made


class Setup(QWidget):
    """asked: a search is to be run."""

    asked = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.ingredients = Ingredients(SCANNED)
        self.structure = Structure(session)
        self.markets = Picker("markets", lambda: [m.code for m in session.markets], none="the present one")
        self.intervals = Picker("intervals", lambda: [interval_words(i) for i in session.intervals()], none="the present one")
        self.hold = QCheckBox("keep only what passes on all of them")
        self.hold.setAccessibleName("hold on all markets")
        self.floors = FloorLines("Floors, asked in this order", parts=True, one="a floor")
        self.method = combo(METHODS, "method", 196)
        self.objective = combo([(BY_KEY[k].title, k) for k in COMPILED if k != "sharpe_daily"], "looked for", 170)
        self.objective.setCurrentIndex(self.objective.findData("t_daily"))
        self.blend = QLineEdit()
        self.blend.setPlaceholderText("or a blend: 0.6 * t_daily + 0.4 * return_drawdown")
        self.blend.setAccessibleName("blend")
        self.method.setToolTip("By what a scan shows: it looks at every row first, and builds from those that moved price, "
                               "with exits that fit; then evolution from there. Its controls do the very same.")
        self.rows = _large(COUNT, "rows that are looked at first", width=78, step=500)
        self.rows.setRange(10, MOST_ROWS)
        self.count = _large(USUAL_COUNT[USUAL_METHOD], "candidates to try")
        self.kept = _large(0, "or until kept", "no matter", step=50)
        self.minutes = _large(0, "or for minutes", "no matter", step=1)
        self.controls = whole(USUAL_CONTROLS[USUAL_METHOD], 0, 100, "shuffled histories beside it", 58)
        self.controls.setToolTip("The same search on so many shuffled histories says how many luck would keep. "
                                 "More of them make the interval narrower, and take as long again each.")
        self.drift = QCheckBox("keep the market's drift")
        self.drift.setAccessibleName("controls keep the drift")
        self.drift.setToolTip("Else every bar is turned over at random, so that no direction is left.")
        self.alike = whole(95, 10, 100, "near-twins from a correlation of, percent", 64)
        self.alike.setSuffix("%")
        self.pool = _large(usual_limits(USUAL_METHOD).pool, "conditions to build from at first", width=78, step=500)
        self.pool.setRange(10, 200_000)
        self.give_up = _large(0, "give up the losing after trades", "never", width=78, step=100)
        self.seed = whole(1, 0, 2_000_000_000, "seed", 92)
        self.problem = label("", "error", wrap=True)
        self.words = label("", "heading")
        self.before = label("", "small", wrap=True)  # what so many controls can tell
        self.go = button("Discover", self.run, main=True, tip="Ctrl+Return")
        right = QWidget()
        right.setLayout(column(
            label("Where", "heading"), row(self.markets, None), row(self.intervals, None), self.hold, 4,
            label("Kept is what passes", "heading"), self.floors, 4, label("How, and until when", "heading"),
            titled("candidates", self.method), titled("looked at first", self.rows),
            titled("best by", self.objective), self.blend,
            titled("tried", self.count), titled("until kept", self.kept), titled("minutes", self.minutes),
            titled("controls", self.controls, self.drift), titled("near-twins", self.alike),
            titled("conditions", self.pool), titled("give up losers", self.give_up), titled("seed", self.seed), None,
            spacing=5, margins=(0, 0, 8, 0)))
        line = row(self.ingredients, self._scrolled(self.structure), self._scrolled(right), spacing=14)
        for at, share in ((0, 31), (1, 34), (2, 35)):
            line.setStretch(at, share)
        said = row(self.words, 16, self.before, 8, self.go)
        said.setStretch(2, 1)
        self.setLayout(column(line, self.problem, said, margins=(0, 0, 8, 0), spacing=6))
        for signal in (self.ingredients.changed, self.structure.changed, self.markets.changed, self.intervals.changed,
                       self.hold.toggled, self.floors.changed, self.method.currentIndexChanged, self.blend.textChanged,
                       self.rows.valueChanged, self.count.valueChanged,
                       self.controls.valueChanged, self.objective.currentIndexChanged):
            signal.connect(lambda *_: self.look())
        self.method.currentIndexChanged.connect(lambda *_: self._other_method())
        self._method = USUAL_METHOD
        self.structure.show_limits(usual_limits(USUAL_METHOD))
        session.brief_changed.connect(self._brief_moved)
        session.markets_changed.connect(self.markets.tell)
        self._known: object = None
        self._asked: DiscoverRequest | None = None
        self._filled = False
        self._brief_moved()

    @staticmethod
    def _scrolled(widget: QWidget) -> QScrollArea:
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(widget)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        return area

    def _brief_moved(self) -> None:
        """Another interval has other longer ones; another span other usual floors, unless they were changed."""
        s = self.session
        key = s.interval, tuple(m.code for m in s.markets)
        if key != self._known:
            self._known = key
            others = tuple(m.code for m in s.markets if m.code != s.market)
            request = DiscoverRequest(((s.market, s.interval),), others=others, own=own_operands(Path(s.project.folder)),
                                      conditions=own_conditions(s.project))
            self.ingredients.fill(sources_of(request, s.interval))
        if not self._filled:
            self._filled = True
            training = s.settings.training
            first, last = training.first or s.entry.first, training.last or s.entry.last
            self.show_floors(usual_floors(max(0.1, (last - first).days / DAYS_A_YEAR)))
        self.look()

    def _other_method(self) -> None:
        """Take what is usual of another method where what stands is what was usual of the one before."""
        before, now = self._method, self.method.currentData()
        self._method = now
        self.rows.setEnabled(now == "informed")
        old, new = usual_limits(before), usual_limits(now)
        for box, was, is_now in ((self.count, USUAL_COUNT[before], USUAL_COUNT[now]), (self.pool, old.pool, new.pool),
                                 (self.controls, USUAL_CONTROLS[before], USUAL_CONTROLS[now])):
            if box.value() == was:
                box.setValue(is_now)
        try:
            stands = self.structure.limits(self.pool.value(), self.give_up.value())
        except WolbrinError:
            return
        if all(getattr(stands, name) == getattr(old, name) for name in EXITS):
            self.structure.show_limits(stands.model_copy(update={name: getattr(new, name) for name in EXITS}))

    def show_floors(self, floors: tuple[Floor, ...]) -> None:
        self.floors.show_floors(floors)

    def places(self) -> tuple[tuple[str, int], ...]:
        s = self.session
        markets = self.markets.chosen() or [s.market]
        intervals = [i for i in s.intervals() if interval_words(i) in self.intervals.ticked] or [s.interval]
        return tuple((m, i) for m in markets for i in intervals)

    def request(self) -> DiscoverRequest:
        """What stands here. Raises UserError where it is nothing."""
        blend = self.blend.text().strip()
        places = self.places()
        made = DiscoverRequest(
            places, self.structure.limits(self.pool.value(), self.give_up.value()),
            () if self.method.currentData() == "informed" and self.ingredients.usual else self.ingredients.chosen(),
            self.floors.floors(),
            Objective.parse([blend] if blend else [self.objective.currentData()]), self.method.currentData(),
            self.count.value(), self.kept.value(), 60.0 * self.minutes.value(), self.hold.isChecked() and len(places) > 1,
            self.controls.value(), self.drift.isChecked(), self.alike.value() / 100.0, self.seed.value(),
            rows=self.rows.value())
        if made.floors:  # a line that was removed is a floor that was taken out
            asked = {"trades" if f.key == "trades_per_year" else f.key for f in made.floors}
            made = replace(made, without=tuple(key for key in STANDING if key not in asked))
        made.check()
        if not made.ingredients and not self.ingredients.usual:
            raise UserError("no ingredient is ticked", "ingredients", "Tick at least one family.")
        return made

    def look(self) -> None:
        """Say what is asked, or what is wrong with it."""
        self.hold.setEnabled(len(self.places()) > 1)
        try:
            made = self.request()
        except WolbrinError as err:
            self.words.setText("")
            self.before.setText("")
            self.problem.setText(err.sentence())
            self.go.setEnabled(False)
            return
        self.problem.setText("")
        self.go.setEnabled(True)
        where = ", ".join(f"{m} {interval_words(i)}" for m, i in made.places[:3])
        more = f" and {len(made.places) - 3} more" if len(made.places) > 3 else ""
        beside = f", beside {made.controls} shuffled histor{'y' if made.controls == 1 else 'ies'}" if made.controls else ""
        self.words.setText(f"{number(made.count)} candidates on {where}{more}{beside}")
        told = f"{told_before(self.session.project, made)}."
        self.before.setText(told)
        self._asked = made
        project = self.session.project

        def work() -> str:
            with suppress(WolbrinError):  # what is wrong is said when it is asked for
                return cost_words(project, made)
            return ""

        def done(words: str) -> None:
            if words and self._asked is made:
                self.before.setText(f"{told} {words}.")

        self.session.compute("What the search costs", work, done, "what the search costs")

    def run(self) -> None:
        """Ask for the search that stands here."""
        made = self.session.attempt(self.request)
        if made is not None:
            self.asked.emit(made)

    def seek(self) -> None:
        """Search the present market by what a scan shows, as is usual, over the whole choice: then nothing was chosen after a
        scan was seen."""
        self.markets.ticked, self.intervals.ticked = set(), set()
        self.markets.tell()
        self.intervals.tell()
        self.method.setCurrentIndex(self.method.findData("informed"))
        self.ingredients.tick_usual()
        self.rows.setValue(COUNT)
        self.run()

    def show_request(self, request: DiscoverRequest) -> None:
        """Stand as a search did."""
        s = self.session
        self._method = request.method
        if request.ingredients or request.method != "informed":
            self.ingredients.model.show(request.ingredients)
        self.structure.show_limits(request.limits)
        several = request.places != ((s.market, s.interval),)
        self.markets.ticked = {m for m, _ in request.places} if several else set()
        self.intervals.ticked = {interval_words(i) for _, i in request.places} if several else set()
        self.markets.tell()
        self.intervals.tell()
        self.hold.setChecked(request.hold)
        self.show_floors(request.floors)
        self.method.setCurrentIndex(self.method.findData(request.method))
        if not request.objective.blended:
            self.objective.setCurrentIndex(max(0, self.objective.findData(request.objective.terms[0].key)))
        for box, value in ((self.rows, request.rows), (self.count, request.count), (self.kept, request.until_kept),
                           (self.minutes, int(request.seconds // 60)), (self.controls, request.controls),
                           (self.alike, round(100 * request.alike)), (self.pool, request.limits.pool),
                           (self.give_up, request.limits.give_up_after), (self.seed, request.seed)):
            box.setValue(value)
        self.drift.setChecked(request.drift)

