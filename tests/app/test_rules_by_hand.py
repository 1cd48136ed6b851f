"""Smaller things a person does on Rules: chains and arithmetic by clicks, rows moved and grouped, charts in both themes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QListWidgetItem, QPushButton, QSpinBox, QToolButton
from pytestqt.qtbot import QtBot

from tests.build import WAIT
from wolbrin.app.charts.lines import Histogram
from wolbrin.app.charts.strips import StripsChart
from wolbrin.app.picker import TickPopup
from wolbrin.app.places.rules.operand import OperandPopup
from wolbrin.app.places.rules.rows import NodePopup
from wolbrin.app.shell.window import MainWindow
from wolbrin.app.theme.theme import Theme
from wolbrin.core.rules.formula import parse_operand
from wolbrin.core.rules.model import CombinedOperand, Condition, IndicatorOperand, Row
from wolbrin.core.rules.printing import condition_text, operand_text
from wolbrin.core.rules.script import parse_strategy

Settle = Callable[[], None]
START = ("name = 'Hand'\nlong_entry = close > open and rises(close) and falls(volume())\nlong_exit = close < ema(9)\n"
         "stop = 2 * atr(14)\n")


def begin(window: MainWindow, settle: Settle) -> Any:
    window.session.add_strategy(parse_strategy(START))
    window.go("rules")
    settle()
    return window.places["rules"]


def opened(parent: Any, kind: Any) -> Any:
    return [p for p in parent.findChildren(kind) if p.isVisible()][-1]


def press_link(qtbot: QtBot, parent: Any, name: str) -> None:
    def shown() -> list[QToolButton]:
        return [b for b in parent.findChildren(QToolButton) if name in b.accessibleName() and b.isVisibleTo(parent)]

    qtbot.waitUntil(lambda: bool(shown()), timeout=WAIT)
    qtbot.mouseClick(shown()[0], Qt.MouseButton.LeftButton)


def test_a_chain_and_arithmetic_are_chosen_by_clicks(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    s, place = window.session, begin(window, settle)
    editor = place.rows.long_entry
    press_link(qtbot, editor, "row 1 left")
    popup = opened(editor, OperandPopup)
    popup.search.setText("SMA")
    qtbot.keyClick(popup.search, Qt.Key.Key_Return)
    of = next(c for c in popup.findChildren(QComboBox) if c.accessibleName() == "of")
    of.setCurrentIndex(of.count() - 1)
    qtbot.wait(30)
    press_link(qtbot, popup, "the series it reads")
    inner = opened(popup, OperandPopup)
    inner.search.setText("CCI")
    qtbot.keyClick(inner.search, Qt.Key.Key_Return)
    next(b for b in inner.findChildren(QSpinBox) if b.accessibleName() == "length").setValue(33)
    inner.close()
    assert operand_text(s.strategy.long.entry.rows[0].left) == "sma(cci(33), 20)"  # type: ignore[union-attr]
    popup.search.setText("two values")
    qtbot.keyClick(popup.search, Qt.Key.Key_Return)
    made = s.strategy.long.entry.rows[0].left  # type: ignore[union-attr]
    assert isinstance(made, CombinedOperand)
    assert isinstance(made.left, IndicatorOperand), "what stood there becomes the first value"
    next(c for c in popup.findChildren(QComboBox) if c.accessibleName() == "arithmetic").setCurrentText("divided by")
    assert operand_text(s.strategy.long.entry.rows[0].left) == "sma(cci(33), 20) / atr()"  # type: ignore[union-attr]
    popup.formula.setText("close - emma(5)")
    popup.formula.setModified(True)
    popup.formula.editingFinished.emit()
    assert 'did you mean "ema"' in popup.about.text()
    popup.formula.setText("2 * momentum(5)")
    popup.formula.setModified(True)
    popup.formula.editingFinished.emit()
    popup.close()
    settle()
    assert s.strategy.long.entry.rows[0].left == parse_operand("2 * momentum(5)")  # type: ignore[union-attr]
    assert "2 × Momentum(5)" in place.words.text()


def test_rows_move_repeat_group_and_look_back(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    s, place = window.session, begin(window, settle)
    editor = place.rows.long_entry

    def on(path: tuple[int, ...], text: str) -> str:
        popup = NodePopup(editor, path)
        popup.show()
        next(b for b in popup.findChildren(QPushButton) if b.text() == text).click()
        settle()
        return condition_text(s.strategy.long.entry)

    assert on((2,), "Up") == "close > open and falls(volume()) and rises(close)"
    assert on((0,), "Up") == "close > open and falls(volume()) and rises(close)", "the first row stays"
    assert on((0,), "Repeat").startswith("close > open and close > open and")
    press_link(qtbot, editor, "Remove long entry row 1")
    settle()
    assert on((1,), "Group") == "close > open and any_of(falls(volume())) and rises(close)"
    popup = NodePopup(editor, (1,))
    next(b for b in popup.when.findChildren(QToolButton) if b.text() == "within").click()
    bars = next(b for b in popup.findChildren(QSpinBox) if b.accessibleName() == "long entry group bars")
    bars.setValue(4)
    ago = next(b for b in popup.findChildren(QSpinBox) if b.accessibleName() == "long entry group bars ago")
    ago.setValue(1)
    settle()
    group = s.strategy.long.entry.rows[1]
    assert isinstance(group, Condition)
    assert (group.when, group.for_bars, group.back) == ("within", 4, 1)
    assert "within 4 bars, 1 bar ago" in place.words.text()
    popup.close()
    assert on((1,), "Ungroup") == "close > open and falls(volume()) and rises(close)"
    press_link(qtbot, editor, "Add a row to long entry")
    settle()
    assert isinstance(s.strategy.long.entry.rows[3], Row)
    while s.undo.canUndo():
        s.undo.undo()
    assert s.strategy.name == "Tern breakout"


def test_comparisons_get_sides_that_they_can_compare_with(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    s, place = window.session, begin(window, settle)
    editor = place.rows.long_entry
    for compare, want in (("inside", "inside_band(close, bands())"), ("ranks above", "ranks_above(close, 80, 100)"),
                          ("makes a new low", "new_low(close, 100)"), ("between", "bands().lower <= close <= bands().upper"),
                          ("equals", "close == bands().lower"), ("falls", "falls(close)")):
        box = next(b for b in editor.findChildren(QComboBox) if b.accessibleName() == "long entry row 1 comparison"
                   and b.isVisibleTo(editor))
        box.setCurrentText(compare)
        qtbot.wait(20)
        settle()
        assert condition_text(s.strategy.long.entry).split(" and rises")[0] == want


def test_distances_are_said_in_each_others_unit(window: MainWindow, settle: Settle) -> None:
    s, place = window.session, begin(window, settle)
    history = s.project.prepared(s.market, s.interval)
    first, stop = history.bars.range_of(s.settings.training)
    atr = float(np.nanmedian(history.columns.atr_ticks(14)[first:stop]))
    assert place.rows.stop.pips.text() == f"\u2248 {2 * atr:.0f} ticks"
    place.rows.target.unit.setCurrentText("ticks")
    place.rows.target.amount.setValue(120)
    assert place.rows.target.pips.text() == f"\u2248 {120 / atr:.1f} ATR"


def test_lists_with_ticks_find_by_words_and_tags(window: MainWindow, settle: Settle) -> None:
    window.go("study")
    picker = window.places["study"].study.more
    popup = picker.popup()
    assert isinstance(popup, TickPopup)
    popup.words.setText("rsi")
    shown = [popup.list.item(i).text() for i in range(popup.list.count())]
    assert 3 < len(shown) < 60
    popup.all_of(True)
    assert set(shown) <= picker.ticked
    popup.words.setText("")
    popup.tag.setCurrentText("imbalance")
    item: QListWidgetItem = popup.list.item(0)
    name = item.text()
    item.setCheckState(Qt.CheckState.Checked)
    assert name in picker.ticked
    popup.all_of(False)
    assert name not in picker.ticked
    picker.tell()
    assert picker.link.text().startswith(f"{len(shown)} of") or len(shown) == len(picker.chosen())
    popup.close()


def test_strips_and_bells_are_drawn_in_both_themes(qtbot: QtBot) -> None:
    theme = Theme()
    strips = StripsChart(theme, "Strips")
    qtbot.addWidget(strips)
    strips.resize(600, 60)
    flags = np.zeros(5000, np.uint8)
    flags[100:200] = 1
    strips.show_rows([("whole", flags, True), ("row", 1 - flags, False)], 5000)
    bells = Histogram(theme, "Moves")
    qtbot.addWidget(bells)
    bells.resize(400, 200)
    bells.show_values(np.random.default_rng(1).normal(0.2, 1.0, 500), [(0.2, "mean", "accent")], normal=True)
    colors = set()
    for name in ("paper", "dusk"):
        theme.use(name)
        for chart in (strips, bells):
            chart.show()
            image = chart.grab().toImage()
            colors.add(image.pixelColor(5, image.height() - 3).name())
            found = {image.pixelColor(x, y).name() for x in range(0, image.width(), 3) for y in range(0, image.height(), 3)}
            assert len(found) > 3
    theme.use("paper")
    assert len(colors) >= 2
    strips.show_rows([], 5000)
    assert strips.isHidden()
