"""Limits of structure: sides, rows, orders, and exits that compete."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QLineEdit, QSpinBox, QWidget

from wolbrin.app.parts import column, label, row, spin
from wolbrin.app.session import Session
from wolbrin.app.terms import Line, Lines, combo
from wolbrin.core.faults import validated
from wolbrin.core.rules.model import Filters, Sizing, Strategy
from wolbrin.core.search.limits import (
    KEEP_WORDS,
    MOST_EXIT_ROWS,
    MOST_ROWS,
    SIDES,
    SIDES_WORDS,
    Exits,
    Joins,
    Ladder,
    Limits,
    Orders,
    Reach,
    Unit,
)

UNIT_WORDS: dict[Unit, str] = {"atr": "ATR", "ticks": "ticks", "money": "money", "percent": "% of price", "stop": "stops"}
USUAL: dict[Unit, tuple[float, float, float]] = {
    "atr": (1, 4, 0.5), "ticks": (20, 100, 10), "money": (100, 500, 50), "percent": (0.2, 1.0, 0.1), "stop": (1, 4, 0.5)}
TITLE = 84


def whole(value: int, low: int, high: int, name: str, width: int = 52) -> QSpinBox:
    """A box for a small whole number."""
    made = QSpinBox()
    made.setRange(low, high)
    made.setValue(value)
    made.setAccessibleName(name)
    made.setFixedWidth(width)
    return made


def titled(text: str, *parts: QWidget) -> QWidget:
    """A titled line of the form."""
    made, title = QWidget(), label(text, "muted")
    title.setFixedWidth(TITLE)
    made.setLayout(row(title, *parts, None, spacing=5))
    return made


class ReachLine(Line):
    """A kind of distance, from, to, step and, of ATR, the lengths."""

    def __init__(self, what: str, number: int, units: tuple[Unit, ...]) -> None:
        super().__init__()
        name = f"{what} {number + 1}"
        self.unit = combo([(UNIT_WORDS[u], u) for u in units], f"{name} unit", 70)
        self.unit.setCurrentIndex(min(number, len(units) - 1))
        self.low, self.high, self.step = (spin(1.0, 0.0, 1e9, 2, 0.5) for _ in range(3))
        for box, word in ((self.low, "from"), (self.high, "to"), (self.step, "step")):
            box.setAccessibleName(f"{name} {word}")
            box.setButtonSymbols(box.ButtonSymbols.NoButtons)
            box.setFixedWidth(44)
        self.lengths = QLineEdit("20")
        self.lengths.setAccessibleName(f"{name} ATR lengths")
        self.lengths.setToolTip("Lengths of the ATR, by commas: 10, 20")
        self.lengths.setFixedWidth(40)
        self.of = label("of", "muted")
        self.unit.currentIndexChanged.connect(lambda *_: self._usual())
        self.set_up(what, self.unit, self.low, label("to", "muted"), self.high, label("by", "muted"), self.step, self.of,
                    self.lengths)
        self._usual()  # what has no parent yet would be a window of its own

    def _usual(self) -> None:
        unit: Unit = self.unit.currentData()
        for box, value in zip((self.low, self.high, self.step), USUAL[unit]):
            box.setValue(value)
        self.lengths.setVisible(unit == "atr")
        self.of.setVisible(unit == "atr")

    def reach(self) -> Reach:
        """Raises UserError."""
        lengths = [n.strip() for n in self.lengths.text().split(",") if n.strip()]
        where = self.low.accessibleName().removesuffix(" from")
        ladder = validated(Ladder, {"low": self.low.value(), "high": self.high.value(), "step": self.step.value()}, where)
        return validated(Reach, {"unit": self.unit.currentData(), "amount": ladder,
                                 "lengths": lengths if self.unit.currentData() == "atr" else [20]}, where)

    def show_reach(self, reach: Reach) -> None:
        self.unit.setCurrentIndex(self.unit.findData(reach.unit))
        for box, value in zip((self.low, self.high, self.step), (reach.amount.low, reach.amount.high, reach.amount.step)):
            box.setValue(value)
        self.lengths.setText(", ".join(str(n) for n in reach.lengths))


class ExitLines(QWidget):
    """One kind of exit: distances that compete, and the share of candidates without."""

    changed = Signal()

    def __init__(self, title: str, one: str, units: tuple[Unit, ...], usual: Exits) -> None:
        super().__init__()
        self.lines = Lines(title, lambda i: ReachLine(one, i, units), one=f"a {one}")
        self.none = whole(0, 0, 100, f"percent without a {one}", 58)
        self.none.setSuffix("%")
        self.none.setToolTip(f"Of so many candidates in 100 no {one} is drawn.")
        self._without = QWidget()
        self._without.setLayout(row(label(f"without a {one}", "muted"), self.none, None, spacing=5))
        self.setLayout(column(self.lines, self._without, spacing=3))
        self.show_exits(usual)
        self.lines.changed.connect(self._moved)
        self.none.valueChanged.connect(lambda *_: self.changed.emit())
        self._moved()

    def _moved(self) -> None:
        self._without.setVisible(bool(self.lines.lines))
        self.changed.emit()

    def exits(self) -> Exits:
        """Raises UserError."""
        reaches = tuple(line.reach() for line in self.lines.lines if isinstance(line, ReachLine))
        return Exits(reaches=reaches, none=self.none.value() / 100.0 if reaches else 1.0)

    def show_exits(self, exits: Exits) -> None:
        self.lines.clear()
        for reach in exits.reaches:
            line = self.lines.add()
            assert isinstance(line, ReachLine)
            line.show_reach(reach)
        self.none.setValue(round(100 * exits.none) if exits.reaches else 30)


class Structure(QWidget):
    """changed: other limits."""

    changed = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        usual = Limits()
        self.of: Strategy | None = None  # a candidate around which a search is laid
        self.keep = combo([(words, key) for key, words in KEEP_WORDS.items()], "what is kept of a strategy", 190)
        self.kept_words = label("", "small", wrap=True)
        self.sides = {s: QCheckBox(SIDES_WORDS[s]) for s in SIDES}
        for side, box in self.sides.items():
            box.setAccessibleName(f"sides: {SIDES_WORDS[side]}")
            box.setChecked(side in usual.sides)
        self.least, self.most = whole(1, 1, MOST_ROWS, "least rows of an entry"), whole(3, 1, MOST_ROWS,
                                                                                      "most rows of an entry")
        self.least_exit, self.most_exit = whole(0, 0, MOST_EXIT_ROWS, "least rows of an exit"), whole(
            1, 0, MOST_EXIT_ROWS, "most rows of an exit")
        self.joins: dict[Joins, QCheckBox] = {}
        for key, words in (("all", "all"), ("any", "any"), ("at least", "two or more of")):
            self.joins[key] = QCheckBox(words)  # type: ignore[index]
            self.joins[key].setAccessibleName(f"rows joined by {words}")  # type: ignore[index]
        self.orders = {kind: QCheckBox(kind) for kind in ("market", "stop", "limit")}
        for kind, box in self.orders.items():
            box.setAccessibleName(f"{kind} entries")
        self.offset = ReachLine("entry offset", 0, ("ticks", "atr"))
        self.offset.show_reach(usual.orders.offset)
        self.rest_low, self.rest_high = whole(1, 1, 200, "entry rests at least, bars"), whole(4, 1, 200,
                                                                                           "entry rests at most, bars")
        self._resting = QWidget()
        self._resting.setLayout(column(titled("off the bar", self.offset),
                                       titled("for bars", self.rest_low, label("to", "muted"), self.rest_high), spacing=3))
        self.stop = ExitLines("Stops that compete", "stop", ("atr", "ticks", "money", "percent"), usual.stop)
        every: tuple[Unit, ...] = ("stop", "atr", "ticks", "money", "percent")
        self.target = ExitLines("Targets that compete", "target", every, usual.target)
        self.trail = ExitLines("Trailing stops", "trailing stop", ("atr", "ticks", "money", "percent", "stop"), usual.trail)
        self.even = ExitLines("Break even after a profit of", "break even", every, usual.break_even)
        self.time_low, self.time_high, self.time_step = (whole(v, 1, 10_000, n, 58) for v, n in (
            (4, "time exit from, bars"), (40, "time exit to, bars"), (4, "time exit step")))
        self.no_time = whole(75, 0, 100, "percent without a time exit", 58)
        self.no_time.setSuffix("%")
        self.flat = QCheckBox("flat by session end")
        self.flat.setAccessibleName("flat by session end")
        self.flat.setChecked(True)
        self.sized = combo([("contracts", "fixed"), ("% of equity at risk", "risk")], "size", 128)
        self.amount = spin(0.0, 0.0, 1e6, 2, 0.5)
        self.amount.setSpecialValueText("usual")
        self.amount.setAccessibleName("size of a trade")
        self.amount.setFixedWidth(66)
        self.filters = QCheckBox("filters of the current strategy")
        self.filters.setAccessibleName("filters of the current strategy")
        self.filters.setToolTip("Times of day, weekdays, most entries a day and the like, as they stand on Rules.")
        self._entries = QWidget()
        self._entries.setLayout(column(
            titled("rows", self.least, label("to", "muted"), self.most), titled("joined by", *self.joins.values()),
            titled("entered by", *self.orders.values()), self._resting, spacing=4))
        self._exits = QWidget()
        self._exits.setLayout(column(
            titled("exit rows", self.least_exit, label("to", "muted"), self.most_exit), self.stop, self.target, self.trail,
            self.even, titled("time exit", self.time_low, label("to", "muted"), self.time_high, label("by", "muted"),
                              self.time_step), titled("without", self.no_time), spacing=5))
        self.sides_row = titled("sides", *self.sides.values())
        self.setLayout(column(label("Structure", "heading"), titled("of a strategy", self.keep), self.kept_words,
                              self.sides_row, self._entries, 4, label("Exits", "heading"), self._exits, self.flat,
                              titled("size", self.amount, self.sized), self.filters, None,
                              spacing=5, margins=(0, 0, 8, 0)))
        self.amount.valueChanged.connect(lambda *_: self.changed.emit())
        self.sized.currentIndexChanged.connect(lambda *_: self.changed.emit())
        for box in (*self.joins.values(), *self.orders.values(), *self.sides.values(), self.flat, self.filters):
            box.toggled.connect(lambda *_: self._moved())
        for number in (self.least, self.most, self.least_exit, self.most_exit, self.rest_low, self.rest_high, self.time_low,
                       self.time_high, self.time_step, self.no_time):
            number.valueChanged.connect(lambda *_: self.changed.emit())
        self.keep.currentIndexChanged.connect(lambda *_: self._moved())
        for part in (self.stop, self.target, self.trail, self.even, self.offset):
            part.changed.connect(lambda *_: self.changed.emit())
        self.joins["all"].setChecked(True)
        self.orders["market"].setChecked(True)
        self._moved()

    @property
    def strategy(self) -> Strategy:
        """Whose parts may be kept."""
        return self.of or self.session.strategy

    def around(self, strategy: Strategy, keep: str) -> None:
        """Keep parts of a candidate."""
        self.of = strategy
        self.keep.setCurrentIndex(self.keep.findData(keep))
        self._moved()

    def _moved(self) -> None:
        keep = self.keep.currentData()
        if not keep:
            self.of = None
        self.kept_words.setVisible(bool(keep))
        self.kept_words.setText(f"Of \u201c{self.strategy.name}\u201d, its sides and size too.")
        self.sides_row.setVisible(not keep)
        self._entries.setVisible(keep != "entry")
        self._exits.setVisible(keep in ("", "entry"))
        for part in (self.flat, self.filters, self.amount, self.sized):
            part.setVisible(not keep)
        self._resting.setVisible(self.orders["stop"].isChecked() or self.orders["limit"].isChecked())
        self.changed.emit()

    def limits(self, pool: int, give_up: int) -> Limits:
        """What stands here. Raises UserError."""
        keep = self.keep.currentData()
        time = {"low": self.time_low.value(), "high": self.time_high.value(), "step": self.time_step.value()}
        no_time = self.no_time.value() / 100.0
        amount, risk = self.amount.value(), self.sized.currentData() == "risk"
        sizing = Sizing(kind="risk", amount=amount or 1.0) if risk else Sizing()
        return validated(Limits, {
            "sides": tuple(s for s, box in self.sides.items() if box.isChecked()), "least_rows": self.least.value(),
            "most_rows": self.most.value(),
            "least_exit_rows": self.least_exit.value(), "most_exit_rows": self.most_exit.value(),
            "joins": tuple(k for k, box in self.joins.items() if box.isChecked()),
            "orders": validated(Orders, {
                "kinds": tuple(k for k, box in self.orders.items() if box.isChecked()), "offset": self.offset.reach(),
                "bars": validated(Ladder, {"low": self.rest_low.value(), "high": self.rest_high.value(), "step": 1},
                                  "entry rests")}, "entered by"),
            "stop": self.stop.exits(), "target": self.target.exits(), "trail": self.trail.exits(),
            "break_even": self.even.exits(), "time_exit": validated(Ladder, time, "time exit") if no_time < 1 else None,
            "no_time_exit": no_time, "flat_by_session_end": self.flat.isChecked(), "pool": pool, "give_up_after": give_up,
            "quantity": None if risk else amount or None, "sizing": sizing,
            "filters": self.session.strategy.filters if self.filters.isChecked() else Filters(), "keep": keep,
            "strategy": self.strategy if keep else None}, "limits")

    def show_limits(self, limits: Limits) -> None:
        """Stand as a search did."""
        self.of = limits.strategy
        self.keep.setCurrentIndex(self.keep.findData(limits.keep))
        for side, one in self.sides.items():
            one.setChecked(side in limits.sides)
        for box, value in ((self.least, limits.least_rows), (self.most, limits.most_rows),
                           (self.least_exit, limits.least_exit_rows), (self.most_exit, limits.most_exit_rows),
                           (self.rest_low, int(limits.orders.bars.low)), (self.rest_high, int(limits.orders.bars.high)),
                           (self.no_time, round(100 * limits.no_time_exit))):
            box.setValue(value)
        for key, one in self.joins.items():
            one.setChecked(key in limits.joins)
        for kind, one in self.orders.items():
            one.setChecked(kind in limits.orders.kinds)
        self.offset.show_reach(limits.orders.offset)
        for part, exits in ((self.stop, limits.stop), (self.target, limits.target), (self.trail, limits.trail),
                            (self.even, limits.break_even)):
            part.show_exits(exits)
        if limits.time_exit is not None:
            for box, number in zip((self.time_low, self.time_high, self.time_step),
                                   (limits.time_exit.low, limits.time_exit.high, limits.time_exit.step)):
                box.setValue(int(number))
        self.flat.setChecked(limits.flat_by_session_end)
        risk = limits.sizing.kind == "risk"
        self.sized.setCurrentIndex(1 if risk else 0)
        self.amount.setValue(limits.sizing.amount if risk else limits.quantity or 0.0)
        self.filters.setChecked(limits.filters != Filters())


