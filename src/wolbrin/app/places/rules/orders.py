"""Editors of everything a strategy says beside its conditions: entry orders, distances, moving stops, filters, size."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QDoubleSpinBox, QLineEdit, QSpinBox, QWidget

from wolbrin.app.parts import column, label, row
from wolbrin.app.places.rules.naming import Tick
from wolbrin.app.places.rules.operand import Context, operand_link
from wolbrin.core.faults import words_of
from wolbrin.core.market.terms import WEEKDAYS
from wolbrin.core.rules.model import (
    BreakEven,
    Distance,
    EntryOrder,
    Filters,
    Level,
    Oversized,
    Sizing,
    Strategy,
    Trail,
    Window,
)

UNITS: list[tuple[str, str | None]] = [("none", None), ("\u00d7 ATR", "atr"), ("ticks", "ticks"),
                                       ("money a contract", "money"), ("% of entry", "percent")]
LEVEL = ("at a level", "level")
TIMES_STOP = ("\u00d7 stop", "stop")
STOP_UNITS = [*UNITS, LEVEL]
TARGET_UNITS = [*UNITS, TIMES_STOP, LEVEL]
FOLLOW_UNITS = [*UNITS, TIMES_STOP]
TITLE_WIDTH = 96
ATR_BESIDE = 14
# What a distance begins with when its unit is chosen.
BEGIN = {"atr": 2.0, "ticks": 20.0, "money": 100.0, "percent": 0.5, "stop": 1.0, "level": 1.0}


def _dress(box: Any, name: str, told: Callable[[], None], none: str, width: int) -> None:
    """What all number boxes share; `none` is what the lowest value reads as."""
    box.setSpecialValueText(none)
    box.setAlignment(Qt.AlignmentFlag.AlignRight)
    box.setFixedWidth(width)
    box.setAccessibleName(name)
    box.setKeyboardTracking(False)
    box.valueChanged.connect(lambda *_: told())


def whole(name: str, low: int, high: int, told: Callable[[], None], none: str = "", width: int = 112,
          suffix: str = "") -> QSpinBox:
    """A box for a whole number."""
    box = QSpinBox()
    box.setRange(low, high)
    box.setSuffix(suffix)
    _dress(box, name, told, none, width)
    return box


def decimal(name: str, low: float, high: float, told: Callable[[], None], none: str = "", width: int = 90,
            step: float = 0.25, digits: int = 2) -> QDoubleSpinBox:
    """A box for a decimal number."""
    box = QDoubleSpinBox()
    box.setDecimals(digits)
    box.setRange(low, high)
    box.setSingleStep(step)
    _dress(box, name, told, none, width)
    return box


def choice(name: str, texts: list[str], told: Callable[[], None], width: int | None = None) -> QComboBox:
    box = QComboBox()
    box.addItems(texts)
    box.setAccessibleName(name)
    if width:
        box.setFixedWidth(width)
    box.currentIndexChanged.connect(lambda *_: told())
    return box


def titled(text: str, *parts: Any) -> Any:
    title = label(text, "muted")
    title.setFixedWidth(TITLE_WIDTH)
    return row(title, *parts, None)


class Quiet(QWidget):
    """An editor that tells changes of the user's only, not those made while it shows a value."""

    def __init__(self, changed: Callable[[Any], None]) -> None:
        super().__init__()
        self._changed = changed
        self._quiet = False

    def tell(self) -> None:
        if not self._quiet:
            self._changed(self.value())

    def value(self) -> Any:
        raise NotImplementedError


class LevelEditor(Quiet):
    """An operand, plus so many ticks or ATR."""

    def __init__(self, name: str, changed: Callable[[Level], None], context: Context) -> None:
        super().__init__(changed)
        self._level = Level()
        self._name, self._context = name, context
        self.link = operand_link(self._level.operand, f"{name} level", self._operand, self, context)
        self.offset = decimal(f"{name} level offset", -1e6, 1e6, self.tell, width=78, step=1.0)
        self.unit = choice(f"{name} level offset unit", ["ticks", "\u00d7 ATR"], self.tell)
        self._row = row(self.link, label("+", "muted"), self.offset, self.unit, None)
        self.setLayout(self._row)

    def _operand(self, operand: Any) -> None:
        self._level = self._level.model_copy(update={"operand": operand})
        self.tell()

    def show_level(self, level: Level) -> None:
        self._quiet = True
        if level.operand != self._level.operand:
            fresh = operand_link(level.operand, f"{self._name} level", self._operand, self, self._context)
            self._row.replaceWidget(self.link, fresh)
            self.link.deleteLater()
            self.link = fresh
        self._level = level
        self.offset.setValue(level.offset)
        self.unit.setCurrentIndex(0 if level.unit == "ticks" else 1)
        self._quiet = False

    def value(self) -> Level:
        return self._level.model_copy(update={"offset": self.offset.value(),
                                              "unit": "ticks" if self.unit.currentIndex() == 0 else "atr"})


class DistanceEditor(Quiet):
    """A distance: unit and amount, for ATR its length, or a level in place of both."""

    def __init__(self, name: str, units: list[tuple[str, str | None]], changed: Callable[[Distance | None], None],
                 context: Context) -> None:
        super().__init__(changed)
        self._units = units
        self._kept = Distance()
        self._shown: str | None = None
        self.amount = decimal(f"{name} amount", 0.01, 1e9, lambda: None)
        self.tick = Tick(self.amount, f"{name} distance", context.naming, self.tell)
        self.unit = choice(f"{name} unit", [text for text, _ in units], self._unit_chosen, 120)
        self.length = whole(f"{name} ATR length", 1, 5000, lambda: None, width=74)
        self.length.setPrefix("of ")
        self.length_tick = Tick(self.length, f"{name} ATR length", context.naming, self.tell)
        self.level = LevelEditor(name, lambda _: self.tell(), context)
        self.pips = label("", "small")
        self._context = context
        for box in (self.amount, self.length):
            box.valueChanged.connect(lambda *_: self.say_beside())
        self.setLayout(column(titled(name, self.unit, self.amount, self.tick, self.length, self.length_tick),
                              row(TITLE_WIDTH + 6, self.pips, None),
                              row(TITLE_WIDTH + 6, self.level), spacing=2))

    def _chosen(self) -> str | None:
        return self._units[self.unit.currentIndex()][1]

    def _unit_chosen(self) -> None:
        if not self._quiet:
            unit = self._chosen()
            if unit is not None and unit != self._shown:
                self._quiet = True
                self.tick.show_value(BEGIN[unit])
                self._quiet = False
            self.show_distance(self.value())
            self.tell()

    def show_distance(self, distance: Distance | None) -> None:
        self._quiet = True
        unit = distance.unit if distance else None
        self._shown = unit
        self.unit.setCurrentIndex([u for _, u in self._units].index(unit))
        if distance:
            self._kept = distance
            self.tick.show_value(distance.amount)
            self.length_tick.show_value(distance.length)
            if distance.level:
                self.level.show_level(distance.level)
        for part in (self.amount, self.tick):
            part.setVisible(unit not in (None, "level"))
        self.length.setVisible(unit == "atr")
        self.length_tick.setVisible(unit == "atr")
        self.say_beside()
        self.level.setVisible(unit == "level")
        self._quiet = False

    def say_beside(self) -> None:
        """A distance in volatility beside its fixed size and the other way round; on a currency pair, ticks in pips."""
        unit, amount = self._chosen(), self.amount.value()
        atr = self._context.atr_ticks(self.length.value() if unit == "atr" else ATR_BESIDE)
        pip = self._context.pip_ticks()
        said = []
        if unit == "ticks" and pip:
            said.append(f"{amount / pip:g} pips")
        if unit == "ticks" and atr > 0:
            said.append(f"\u2248 {amount / atr:.1f} ATR")
        if unit == "atr" and atr > 0:
            said.append(f"\u2248 {amount * atr:.0f} ticks")
        self.pips.setText(", ".join(said))
        self.pips.setVisible(bool(said))
        self.pips.setToolTip("At the median ATR of the training span" if atr > 0 else "")

    def value(self) -> Distance | None:
        unit = self._chosen()
        if unit is None:
            return None
        own = self._kept.short_level if unit == "level" else None
        length = self.length_tick.value() if unit == "atr" else Distance.model_fields["length"].default
        return Distance(unit=unit, amount=self.tick.value(), length=length,
                        level=self.level.value() if unit == "level" else None, short_level=own)


class OrderEditor(Quiet):
    """How a side enters: at market, or by a resting order."""

    KINDS = ("market", "stop", "limit")

    def __init__(self, name: str, changed: Callable[[EntryOrder], None], context: Context) -> None:
        super().__init__(changed)
        self.kind = choice(f"{name} order", ["at market", "by a stop order", "by a limit order"], self._kind_chosen, 130)
        self.bars = whole(f"{name} order rests for bars", 1, 100_000, self.tell, width=96, suffix=" bars")
        self.touch = whole(f"{name} touch ticks", 0, 100_000, self.tell, "touch is enough", 128, " ticks through")
        self.level = LevelEditor(f"{name} order", lambda _: self.tell(), context)
        self.rest = QWidget()
        self.rest.setLayout(row(label("at", "muted"), self.level, None))
        self.setLayout(column(row(label("enter", "muted"), self.kind, self.bars, self.touch, None), self.rest, spacing=2))

    def _kind_chosen(self) -> None:
        if not self._quiet:
            self.show_order(self.value())
            self.tell()

    def show_order(self, order: EntryOrder, enabled: bool = True) -> None:
        self._quiet = True
        self.kind.setCurrentIndex(self.KINDS.index(order.kind))
        self.bars.setValue(order.bars)
        self.touch.setValue(order.touch_ticks)
        if order.level:
            self.level.show_level(order.level)
        self.rest.setVisible(order.kind != "market")
        self.bars.setVisible(order.kind != "market")
        self.touch.setVisible(order.kind == "limit")
        self.setEnabled(enabled)
        self._quiet = False

    def value(self) -> EntryOrder:
        kind = self.KINDS[self.kind.currentIndex()]
        if kind == "market":
            return EntryOrder()
        return EntryOrder(kind=kind, level=self.level.value(), bars=self.bars.value(),
                          touch_ticks=self.touch.value() if kind == "limit" else 0)


class FollowEditor(Quiet):
    """Trail and break even: stops that move."""

    def __init__(self, changed: Callable[[dict[str, Any]], None], context: Context) -> None:
        super().__init__(changed)
        told = lambda _: self._told()  # noqa: E731
        self.trail = DistanceEditor("trail", FOLLOW_UNITS, told, context)
        self.start = DistanceEditor("starts after", FOLLOW_UNITS, told, context)
        self.step = whole("trail step", 0, 1_000_000, self._told, "every tick", 112, " ticks")
        self.even = DistanceEditor("break even", FOLLOW_UNITS, told, context)
        self.plus = whole("break even plus", -1_000_000, 1_000_000, self._told, width=112, suffix=" ticks")
        self.steps = QWidget()
        self.steps.setLayout(titled("in steps of", self.step))
        self.extra = QWidget()
        self.extra.setLayout(titled("to entry plus", self.plus))
        self.setLayout(column(self.trail, self.start, self.steps, self.even, self.extra, spacing=4))

    def _told(self) -> None:
        if not self._quiet:
            self.tell()

    def show_strategy(self, s: Strategy) -> None:
        self._quiet = True
        self.trail.show_distance(s.trail.distance if s.trail else None)
        self.start.show_distance(s.trail.start_after if s.trail else None)
        self.step.setValue(s.trail.step_ticks if s.trail else 0)
        self.even.show_distance(s.break_even.after if s.break_even else None)
        self.plus.setValue(s.break_even.plus_ticks if s.break_even else 0)
        for part in (self.start, self.steps):
            part.setVisible(s.trail is not None)
        self.extra.setVisible(s.break_even is not None)
        self._quiet = False

    def value(self) -> dict[str, Any]:
        trail, even = self.trail.value(), self.even.value()
        return {"trail": Trail(distance=trail, step_ticks=self.step.value(),
                               start_after=self.start.value()).model_dump() if trail else None,
                "break_even": BreakEven(after=even, plus_ticks=self.plus.value()).model_dump() if even else None}


class FilterEditor(Quiet):
    """When no entry is made."""

    def __init__(self, changed: Callable[[Filters], None], refused: Callable[[str], None]) -> None:
        super().__init__(changed)
        self._refused = refused
        self._shown = Filters()
        self.windows = QLineEdit()
        self.windows.setPlaceholderText("any time; e.g. 09:30-12:00, 22:00-02:00")
        self.windows.setMinimumWidth(250)
        self.windows.setAccessibleName("entry windows, exchange time")
        self.windows.editingFinished.connect(self.tell)
        self.days = {d: QCheckBox(d) for d in WEEKDAYS}
        for name, box in self.days.items():
            box.setAccessibleName(f"entries on {name}")
            box.toggled.connect(lambda *_: self.tell())
        self.most = whole("most entries a trading date", 0, 100_000, self.tell, "no limit", 112, " a date")
        self.last = whole("no entry in the last minutes of a session", 0, 1440, self.tell, "until the end", 112, " min")
        self.times = decimal("oversized bar", 0.0, 1000.0, self.tell, "any size", 112, 0.5)
        self.times.setSuffix(" ATR")
        self.length = whole("oversized bar ATR length", 1, 5000, self.tell, width=74)
        self.length.setPrefix("of ")
        self.setLayout(column(titled("between", self.windows), titled("weekdays", *list(self.days.values())[:4]),
                              row(TITLE_WIDTH + 6, *list(self.days.values())[4:], None), titled("entries", self.most),
                              titled("not in last", self.last), titled("bar up to", self.times, self.length), spacing=4))

    def show_filters(self, filters: Filters) -> None:
        self._quiet = True
        self._shown = filters
        self.windows.setText(", ".join(f"{w.first}-{w.last}" for w in filters.windows))
        for name, box in self.days.items():
            box.setChecked(not filters.weekdays or name in filters.weekdays)
        self.most.setValue(filters.most_entries or 0)
        self.last.setValue(filters.last_minutes or 0)
        self.times.setValue(filters.oversized.multiple if filters.oversized else 0.0)
        self.length.setValue(filters.oversized.length if filters.oversized else 14)
        self.length.setVisible(filters.oversized is not None)
        self._quiet = False

    def tell(self) -> None:
        if self._quiet:
            return
        try:
            made = self.value()
        except ValueError as err:
            self._refused(words_of(err))
            self.show_filters(self._shown)
            return
        if made != self._shown:
            self._changed(made)

    def value(self) -> Filters:
        windows = []
        for part in self.windows.text().replace("\u2013", "-").split(","):
            if part.strip():
                first, dash, last = part.strip().partition("-")
                if not dash:
                    raise ValueError(f'"{part.strip()}" is not a window like 09:30-12:00')
                windows.append(Window(first=first.strip(), last=last.strip()))
        days = tuple(d for d, box in self.days.items() if box.isChecked())
        if not days:
            raise ValueError("at least one weekday must stay")
        return Filters(windows=tuple(windows), weekdays=() if len(days) == len(WEEKDAYS) else days,
                       most_entries=self.most.value() or None, last_minutes=self.last.value() or None,
                       oversized=Oversized(multiple=self.times.value(), length=self.length.value())
                       if self.times.value() else None)


class SizeEditor(Quiet):
    """How much is traded."""

    KINDS = ("fixed", "risk", "percent", "notional")

    def __init__(self, changed: Callable[[dict[str, Any]], None], context: Context) -> None:
        super().__init__(changed)
        self.kind = choice("sizing", ["fixed quantity", "% of equity at risk", "% of equity", "fixed notional"], self.tell,
                           160)
        self.amount = decimal("quantity", 0.0001, 1e12, lambda: None, width=112, step=1.0)
        self.tick = Tick(self.amount, "size", context.naming, self.tell)
        self.setLayout(titled("size", self.kind, self.amount, self.tick))

    def show_strategy(self, s: Strategy) -> None:
        self._quiet = True
        self.kind.setCurrentIndex(self.KINDS.index(s.sizing.kind))
        self.tick.show_value(s.quantity if s.sizing.kind == "fixed" else s.sizing.amount)
        self._quiet = False

    def value(self) -> dict[str, Any]:
        kind = self.KINDS[self.kind.currentIndex()]
        if kind == "fixed":
            amount = self.tick.value()
            return {"sizing": Sizing().model_dump(), "quantity": amount if self.tick.formula else min(amount, 1e9)}
        return {"sizing": Sizing(kind=kind, amount=self.tick.value()).model_dump()}

