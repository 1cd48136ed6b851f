"""Rules: the strategy as sentences on the left, where it fires on the right."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QLineEdit,
    QScrollArea,
    QSpinBox,
    QSplitter,
    QWidget,
)

from wolbrin.app.charts.price import Mark, PriceChart
from wolbrin.app.parts import Choice, button, column, hairline, label, link, row
from wolbrin.app.places.place import Place
from wolbrin.app.places.rules.orders import (
    STOP_UNITS,
    TARGET_UNITS,
    DistanceEditor,
    FilterEditor,
    FollowEditor,
    OrderEditor,
    SizeEditor,
)
from wolbrin.app.places.rules.rows import ConditionEditor
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.core.indicators.catalogue import BY_KEY
from wolbrin.core.measures.wording import number
from wolbrin.core.rules.decide import LONG_IN, SHORT_IN, Decisions, decide
from wolbrin.core.rules.evaluate import operand_column
from wolbrin.core.rules.mirror import effective_short
from wolbrin.core.rules.model import Condition, Distance, EntryOrder, IndicatorOperand, Side, Strategy, load_strategy
from wolbrin.core.rules.words import describe, operand_words

LINE_TOKENS = ("accent", "gain", "caution", "loss", "muted")


class RulesPlace(Place):
    key = "rules"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        self.name = QLineEdit()
        self.name.setAccessibleName("Strategy name")
        self.name.setMaxLength(80)
        self.name.editingFinished.connect(self._rename)
        self.words = label("", wrap=True)
        self.long_entry = ConditionEditor("long entry", lambda c, t: self._side("long", "entry", c, t))
        self.long_exit = ConditionEditor("long exit", lambda c, t: self._side("long", "exit", c, t))
        self.short_entry = ConditionEditor("short entry", lambda c, t: self._side("short", "entry", c, t))
        self.short_exit = ConditionEditor("short exit", lambda c, t: self._side("short", "exit", c, t))
        self.long_mode = Choice([("trade it", "own"), ("off", "off")], "own", "Long side")
        self.long_mode.chosen.connect(lambda m: self._mode("long", m))
        self.short_mode = Choice([("mirrored", "mirrored"), ("own", "own"), ("off", "off")], "mirrored", "Short side")
        self.short_mode.chosen.connect(lambda m: self._mode("short", m))
        self.long_order = OrderEditor("long entry", lambda o: self._order("long", o))
        self.short_order = OrderEditor("short entry", lambda o: self._order("short", o))
        self.follow = FollowEditor(lambda changes: self._edit(changes, "moving stops"))
        self.filters = FilterEditor(lambda f: self._edit({"filters": f.model_dump()}, "entry filters"),
                                    lambda words: s.note(f"That cannot be set: {words}.", "error"))
        self.stop = DistanceEditor("stop", STOP_UNITS, lambda d: self._set("stop", d, "stop"))
        self.target = DistanceEditor("target", TARGET_UNITS, lambda d: self._set("target", d, "target"))
        self.time_exit = QSpinBox()
        self.time_exit.setRange(0, 100_000)
        self.time_exit.setSpecialValueText("no time exit")
        self.time_exit.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.time_exit.setFixedWidth(112)
        self.time_exit.setSuffix(" bars")
        self.time_exit.setAccessibleName("time exit")
        self.time_exit.valueChanged.connect(lambda v: self._set("time_exit", v or None, "time exit"))
        self.size = SizeEditor(lambda changes: self._edit(changes, "size"))
        self.opposite = QComboBox()
        self.opposite.addItems(["reverse", "close", "ignore"])
        self.opposite.setAccessibleName("on an opposite signal")
        self.opposite.currentTextChanged.connect(lambda v: self._set("on_opposite", v, "on opposite"))
        self.fill = QComboBox()
        self.fill.addItems(["next open", "this close"])
        self.fill.setAccessibleName("fill timing")
        self.fill.currentTextChanged.connect(lambda v: self._set("fill", v, "fill timing"))
        self.flat = QComboBox()
        self.flat.addItems(["flat by session end", "held overnight"])
        self.flat.setAccessibleName("session flatness")
        self.flat.currentIndexChanged.connect(lambda i: self._set("flat_by_session_end", i == 0, "session flatness"))
        editor = QWidget()
        small = [label(t, "muted") for t in ("opposite signal", "fills at", "overnight", "time exit")]
        for one in small:
            one.setFixedWidth(96)
        editor.setLayout(column(
            self.name, self.words, hairline(),
            row(label("Long", "heading"), 6, self.long_mode), self.long_entry, self.long_order, self.long_exit, hairline(),
            row(label("Short", "heading"), 6, self.short_mode), self.short_entry, self.short_order, self.short_exit,
            hairline(),
            label("Protection", "heading"), self.stop, self.target, self.follow,
            row(small[3], self.time_exit, None), hairline(), label("Entry filters", "heading"), self.filters, hairline(),
            label("Execution", "heading"), self.size, row(small[0], self.opposite, None),
            row(small[1], self.fill, None), row(small[2], self.flat, None), None, spacing=6, margins=(0, 4, 10, 4)))
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setWidget(editor)
        area.setMinimumWidth(390)
        bar = row(button("New", self.new), button("Duplicate", self.duplicate), button("Delete", s.delete_strategy),
                  button("Open \u2026", self.open_file, tip="Open a strategy file"),
                  button("Save \u2026", self.save_file, tip="Save the strategy as a file"), None, spacing=5)
        left = QWidget()
        left.setLayout(column(bar, area, margins=(20, 8, 0, 4)))
        self.chart = PriceChart(s.theme, "Signals on the price chart")
        self.count = label("", "heading")
        self.legend = label("", "small", wrap=True)
        right = QWidget()
        right.setLayout(column(
            row(self.count, None, link("\u2039 previous", lambda: self.jump(-1), tip="Jump to the previous signal"),
                link("next \u203a", lambda: self.jump(1), tip="Jump to the next signal")),
            self.legend, self.chart, margins=(12, 8, 4, 4), spacing=4))
        split = QSplitter(Qt.Orientation.Horizontal)
        split.addWidget(left)
        split.addWidget(right)
        split.setSizes([440, 560])
        split.setStretchFactor(1, 1)
        for box in (self.opposite, self.fill, self.flat):
            box.setFixedWidth(160)
        self.setLayout(column(split))
        self._signals = np.zeros(0, np.int64)
        self._loading = False
        self._chart_key: object = None
        self._request = 0
        s.strategy_changed.connect(self.refresh)
        s.brief_changed.connect(self._redraw)
        self.refresh()

    def actions_offered(self) -> list[Action]:
        s = self.session
        return [Action("rules.new", "New strategy", self.new, "Ctrl+N", "rules"),
                Action("rules.duplicate", "Duplicate the strategy", self.duplicate, "Ctrl+Shift+N", "rules"),
                Action("rules.delete", "Delete the strategy", s.delete_strategy, "", "rules"),
                Action("rules.open", "Open a strategy file", self.open_file, "Ctrl+O", "rules"),
                Action("rules.save", "Save the strategy as a file", self.save_file, "Ctrl+S", "rules"),
                Action("rules.next", "Jump to the next signal", lambda: self.jump(1), "Ctrl+Right", "rules"),
                Action("rules.previous", "Jump to the previous signal", lambda: self.jump(-1), "Ctrl+Left", "rules")]

    def activate(self) -> None:
        self._redraw()

    # Editing

    def _edit(self, changes: dict[str, Any], text: str) -> None:
        if self._loading:
            return
        try:
            after = Strategy.model_validate(self.session.strategy.model_dump() | changes)
        except ValueError as err:
            words = str(err).split("Value error, ")[-1].split("[")[0].strip()
            self.session.note(f"That cannot be set: {words}.", "error")
            self.refresh()
            return
        self.session.edit(after, text)

    def _set(self, field: str, value: Any, text: str) -> None:
        self._edit({field: value.model_dump() if isinstance(value, Distance) else value}, text)

    def _side(self, side: str, part: str, condition: Condition, text: str) -> None:
        now: Side = getattr(self.session.strategy, side)
        self._edit({side: now.model_dump() | {part: condition.model_dump()}}, text)

    def _order(self, side: str, order: EntryOrder) -> None:
        now: Side = getattr(self.session.strategy, side)
        self._edit({side: now.model_dump() | {"order": order.model_dump()}}, f"{side} entry order")

    def _mode(self, side: str, mode: str) -> None:
        s = self.session.strategy
        now: Side = getattr(s, side)
        change: dict[str, Any] = now.model_dump() | {"mode": mode}
        if side == "short" and mode == "own" and not now.entry.rows and not now.exit.rows:
            # Own begins as a copy of the mirrored side, ready to be edited.
            mirrored = effective_short(s)
            change |= {"entry": mirrored.entry.model_dump(), "exit": mirrored.exit.model_dump(),
                       "order": mirrored.order.model_dump()}
        self._edit({side: change}, f"{side} side")

    def _rename(self) -> None:
        name = self.name.text().strip()
        if name and name != self.session.strategy.name:
            self._edit({"name": name}, "name")

    def new(self) -> None:
        """Start an empty strategy."""
        self.session.add_strategy(Strategy(stop=Distance(unit="atr", amount=2.0, length=20)))
        self.name.setFocus()
        self.name.selectAll()

    def duplicate(self) -> None:
        self.session.add_strategy(self.session.strategy)

    def open_file(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Open a strategy file", "", "Strategy files (*.json)")
        if name:
            self.load(Path(name))

    def load(self, path: Path) -> None:
        """Add a strategy from a file; a bad file is one sentence in the work strip."""
        strategy = self.session.attempt(lambda: load_strategy(path))
        if strategy is not None:
            self.session.add_strategy(strategy)
            self.session.note(f"{path.name} added as {self.session.strategy.name}.")

    def save_file(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Save the strategy as a file", f"{self.session.strategy.name}.json",
                                              "Strategy files (*.json)")
        if name:
            Path(name).write_text(self.session.strategy.model_dump_json(indent=2) + "\n", encoding="utf-8")
            self.session.note(f"Saved to {name}.")

    # Showing

    def refresh(self) -> None:
        strategy = self.session.strategy
        self._loading = True
        if self.name.text() != strategy.name:
            self.name.setText(strategy.name)
        self.words.setText(describe(strategy))
        self.long_mode.set(strategy.long.mode)
        self.short_mode.set(strategy.short.mode)
        on = strategy.long.mode != "off"
        for editor, condition, shown in ((self.long_entry, strategy.long.entry, on),
                                         (self.long_exit, strategy.long.exit, on)):
            editor.setVisible(shown)
            if shown and (editor.condition != condition or not editor.layout().count()):
                editor.show_condition(condition)
        own = strategy.short.mode == "own"
        side = effective_short(strategy)
        for editor, condition in ((self.short_entry, side.entry), (self.short_exit, side.exit)):
            editor.setVisible(strategy.short.mode != "off")
            editor.show_condition(condition, own)
        self.stop.show_distance(strategy.stop)
        self.target.show_distance(strategy.target)
        self.time_exit.setValue(strategy.time_exit or 0)
        self.size.show_strategy(strategy)
        self.follow.show_strategy(strategy)
        self.filters.show_filters(strategy.filters)
        self.long_order.show_order(strategy.long.order)
        self.long_order.setVisible(on)
        self.short_order.show_order(side.order, own)
        self.short_order.setVisible(strategy.short.mode != "off")
        self.opposite.setCurrentText(strategy.on_opposite)
        self.fill.setCurrentText(strategy.fill)
        self.flat.setCurrentIndex(0 if strategy.flat_by_session_end else 1)
        self._loading = False
        self._redraw()

    def _redraw(self) -> None:
        s = self.session
        if not self.isVisible() or not s.market:
            return
        self._request += 1
        request, strategy, market, interval = self._request, s.strategy, s.market, s.interval
        project, settings = s.project, s.settings

        def work() -> Any:
            history = project.prepared(market, interval)
            used: dict[str, Any] = {}
            for condition in (strategy.long.entry, strategy.long.exit):
                for one in condition.active:
                    for operand in (one.left, one.right):
                        if isinstance(operand, IndicatorOperand) and BY_KEY[operand.indicator].on_price:
                            used[operand_words(operand)] = operand_column(history.columns, operand)
            return history, decide(history.columns, strategy), used

        def done(result: Any) -> None:
            if request == self._request:
                self._show(*result, settings)

        s.compute("Signals", work, done)

    def _show(self, history: Any, decisions: Decisions, used: dict[str, Any], settings: Any) -> None:
        bars = history.bars
        first, stop = bars.range_of(settings.training)
        sealed = bars.range_of(settings.holdout)[0]
        key = (bars.terms.code, bars.interval, sealed)
        if key != self._chart_key:
            self.chart.show_bars(bars, sealed)
            self._chart_key = key
        first = max(first, decisions.warm)
        wanted = decisions.signals[first:stop]
        longs = np.flatnonzero((wanted & 3) == LONG_IN) + first
        shorts = np.flatnonzero((wanted & 3) == SHORT_IN) + first
        marks = [Mark(int(i), float(bars.low[i]), 1) for i in longs]
        marks += [Mark(int(i), float(bars.high[i]), -1) for i in shorts]
        self._signals = np.sort(np.concatenate([longs, shorts]))
        tokens = {name: (values, LINE_TOKENS[i % len(LINE_TOKENS)]) for i, (name, values) in enumerate(used.items())}
        self.chart.set_lines(tokens)
        self.chart.set_marks(marks)
        conflicts = int(np.count_nonzero((wanted & 3) == 3))
        years = max(1, (bars.trading_date[stop - 1] - bars.trading_date[first]) / 365.25) if stop > first else 1
        self.count.setText(f"{number(len(longs))} long and {number(len(shorts))} short signals, "
                           f"{number(len(self._signals) / years)} a year")
        words = [", ".join(used) or "no line on the price scale"]
        if conflicts:
            words.append(f"{number(conflicts)} bars say both sides: nothing is entered there")
        self.legend.setText("; ".join(words) + ". Signals are shown on the training span only.")

    def jump(self, step: int) -> None:
        """Move the chart to the next or previous signal."""
        if not len(self._signals):
            return
        (left, right), _ = self.chart.plotItem.vb.viewRange()
        middle = (left + right) / 2
        found = self._signals[self._signals > middle + 1] if step > 0 else self._signals[self._signals < middle - 1]
        if len(found):
            self.chart.look_at(int(found[0] if step > 0 else found[-1]))
