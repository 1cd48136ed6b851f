"""The strategy as rows: conditions, protection, filters, execution and parameters, each editable in place."""

from __future__ import annotations

from typing import Any, Protocol

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QScrollArea, QSpinBox, QWidget

from wolbrin.app.parts import Choice, column, hairline, label, row
from wolbrin.app.places.rules.naming import Tick
from wolbrin.app.places.rules.operand import Context
from wolbrin.app.places.rules.orders import (
    STOP_UNITS,
    TARGET_UNITS,
    DistanceEditor,
    FilterEditor,
    FollowEditor,
    OrderEditor,
    SizeEditor,
    choice,
    titled,
)
from wolbrin.app.places.rules.parameters import ParameterTable
from wolbrin.app.places.rules.rows import ConditionEditor
from wolbrin.app.session import Session
from wolbrin.core.rules.mirror import effective_short
from wolbrin.core.rules.model import Condition, EntryOrder, Filters, Parameter, Strategy

OPPOSITE = ("reverse", "close", "ignore")
FILLS = ("next open", "this close")


class Editing(Protocol):
    """What the page needs of its place: the session, what operands may name, and ways to change the strategy, undoably."""

    session: Session
    context: Context

    def edit(self, changes: dict[str, Any], text: str) -> None: ...

    def set_side(self, side: str, changes: dict[str, Any], text: str) -> None: ...

    def set_field(self, field: str, value: Any, text: str) -> None: ...

    def set_parameters(self, parameters: tuple[Parameter, ...], renamed: dict[str, str], text: str) -> None: ...


class RowsPage(QScrollArea):
    """All editors in reading order; changes go to the place."""

    def __init__(self, place: Editing) -> None:
        super().__init__()
        self._place = place
        context = place.context

        def condition(side: str, part: str) -> ConditionEditor:
            return ConditionEditor(f"{side} {part}", lambda c, t: self._condition(side, part, c, t), context)

        self.long_entry, self.long_exit = condition("long", "entry"), condition("long", "exit")
        self.short_entry, self.short_exit = condition("short", "entry"), condition("short", "exit")
        self.long_mode = Choice([("trade it", "own"), ("off", "off")], "own", "Long side")
        self.long_mode.chosen.connect(lambda m: place.set_side("long", {"mode": m}, "long side"))
        self.short_mode = Choice([("mirrored", "mirrored"), ("own", "own"), ("off", "off")], "mirrored", "Short side")
        self.short_mode.chosen.connect(lambda m: place.set_side("short", {"mode": m}, "short side"))
        self.long_order = OrderEditor("long entry", lambda o: self._order("long", o), context)
        self.short_order = OrderEditor("short entry", lambda o: self._order("short", o), context)
        self.stop = DistanceEditor("stop", STOP_UNITS, lambda d: place.set_field("stop", d, "stop"), context)
        self.target = DistanceEditor("target", TARGET_UNITS, lambda d: place.set_field("target", d, "target"), context)
        self.follow = FollowEditor(lambda changes: place.edit(changes, "moving stops"), context)
        self.filters = FilterEditor(self._filters, lambda words: place.session.note(f"That cannot be set: {words}.", "error"))
        self.time_exit = QSpinBox()
        self.time_exit.setRange(0, 100_000)
        self.time_exit.setSpecialValueText("no time exit")
        self.time_exit.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.time_exit.setFixedWidth(112)
        self.time_exit.setSuffix(" bars")
        self.time_exit.setKeyboardTracking(False)
        self.time_exit.setAccessibleName("time exit")
        self.time_tick = Tick(self.time_exit, "time exit", context.naming, self._time)
        self.sizing = SizeEditor(lambda changes: place.edit(changes, "size"), context)
        self.opposite = choice("on an opposite signal", list(OPPOSITE), lambda: place.set_field(
            "on_opposite", self.opposite.currentText(), "on opposite"), 160)
        self.fill = choice("fill timing", list(FILLS), lambda: place.set_field(
            "fill", self.fill.currentText(), "fill timing"), 160)
        self.flat = choice("session flatness", ["flat by session end", "held overnight"], lambda: place.set_field(
            "flat_by_session_end", self.flat.currentIndex() == 0, "session flatness"), 160)
        self.parameters = ParameterTable(place.set_parameters,
                                         lambda words: place.session.note(f"That cannot be set: {words}.", "error"))
        page = QWidget()
        page.setLayout(column(
            row(label("Long", "heading"), 6, self.long_mode), self.long_entry, self.long_order, self.long_exit, hairline(),
            row(label("Short", "heading"), 6, self.short_mode), self.short_entry, self.short_order, self.short_exit,
            hairline(), row(label("Protection", "heading"), 6, label("tick a number to sweep it", "small"), None),
            self.stop, self.target, self.follow, titled("time exit", self.time_exit, self.time_tick), hairline(),
            self.parameters, hairline(), label("Entry filters", "heading"), self.filters, hairline(),
            label("Execution", "heading"), self.sizing, titled("opposite signal", self.opposite),
            titled("fills at", self.fill), titled("overnight", self.flat), None, spacing=6, margins=(0, 4, 10, 4)))
        self.setWidgetResizable(True)
        self.setWidget(page)

    def _condition(self, side: str, part: str, condition: Condition, text: str) -> None:
        self._place.set_side(side, {part: condition.model_dump()}, text)

    def _order(self, side: str, order: EntryOrder) -> None:
        self._place.set_side(side, {"order": order.model_dump()}, f"{side} entry order")

    def _filters(self, filters: Filters) -> None:
        self._place.edit({"filters": filters.model_dump()}, "entry filters")

    def _time(self) -> None:
        value: Any = self.time_tick.value()
        self._place.set_field("time_exit", value or None, "time exit")

    def say_beside(self) -> None:
        """Say again what fixed and volatility distances are in each other."""
        for editor in (self.stop, self.target, self.follow.trail, self.follow.start, self.follow.even):
            editor.say_beside()

    def show_strategy(self, strategy: Strategy) -> None:
        """Show every part of a strategy. Editors of conditions that say the same already stay as they are."""
        self.long_mode.set(strategy.long.mode)
        self.short_mode.set(strategy.short.mode)
        on = strategy.long.mode != "off"
        for editor, condition in ((self.long_entry, strategy.long.entry), (self.long_exit, strategy.long.exit)):
            editor.setVisible(on)
            if on and (editor.condition != condition or editor.bare):
                editor.show_condition(condition)
        own = strategy.short.mode == "own"
        side = effective_short(strategy)
        for editor, condition in ((self.short_entry, side.entry), (self.short_exit, side.exit)):
            editor.setVisible(strategy.short.mode != "off")
            if not own or editor.condition != condition or not editor.editable or editor.bare:
                editor.show_condition(condition, own)
        self.stop.show_distance(strategy.stop)
        self.target.show_distance(strategy.target)
        self.time_tick.show_value(strategy.time_exit or 0)
        self.sizing.show_strategy(strategy)
        self.follow.show_strategy(strategy)
        self.filters.show_filters(strategy.filters)
        self.long_order.show_order(strategy.long.order)
        self.long_order.setVisible(on)
        self.short_order.show_order(side.order, own)
        self.short_order.setVisible(strategy.short.mode != "off")
        self.parameters.show_strategy(strategy)
        self.opposite.setCurrentText(strategy.on_opposite)
        self.fill.setCurrentText(strategy.fill)
        self.flat.setCurrentIndex(0 if strategy.flat_by_session_end else 1)
