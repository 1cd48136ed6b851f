"""Rules and studies through the real window: strategies built by clicks, typed as formulas, and their ledgers the core's."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, Qt, QUrl
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QAbstractSpinBox, QCheckBox, QComboBox, QLineEdit, QSpinBox, QToolButton
from pytestqt.qtbot import QtBot

from tests.build import WAIT
from wolbrin.app.places.rules.operand import OperandPopup
from wolbrin.app.places.rules.rows import ConditionEditor, NodePopup
from wolbrin.app.places.rules.signals import look
from wolbrin.app.shell.window import MainWindow
from wolbrin.core.engine.ledger import ledger
from wolbrin.core.engine.run import backtest
from wolbrin.core.indicators.catalogue import BY_KEY
from wolbrin.core.rules.decide import LONG_IN
from wolbrin.core.rules.evaluate import truth
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Condition, Row, Strategy
from wolbrin.core.rules.named import formula_of
from wolbrin.core.rules.script import parse_strategy, strategy_text
from wolbrin.core.rules.words import describe
from wolbrin.core.study.forward import study
from wolbrin.core.study.trial import FIGURES

Settle = Callable[[], None]


class Hand:
    """What a person does on Rules: find an operand by its name, set its numbers, choose comparisons and units."""

    def __init__(self, qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
        self.qtbot, self.window, self.settle = qtbot, window, settle
        window.go("rules")
        settle()
        self.place: Any = window.places["rules"]
        self.rows = self.place.rows
        self.place.new()
        settle()

    def link(self, editor: ConditionEditor, path: str, side: str) -> QToolButton:
        return self.shown(editor, QToolButton, lambda b: f"row {path} {side}" in b.accessibleName())

    def shown(self, editor: Any, kind: Any, fits: Callable[[Any], bool]) -> Any:
        """The widget of that kind that fits, once it is shown."""
        found: list[Any] = []

        def there() -> bool:
            found[:] = [b for b in editor.findChildren(kind) if fits(b) and b.isVisibleTo(editor)]
            return bool(found)

        self.qtbot.waitUntil(there, timeout=WAIT)
        return found[0]

    def operand(self, editor: ConditionEditor, path: str, side: str, find: str, **settings: float | str) -> None:
        """Click an operand, type what it shall be, press Return, set its numbers."""
        self.qtbot.mouseClick(self.link(editor, path, side), Qt.MouseButton.LeftButton)
        popup = [p for p in editor.findChildren(OperandPopup) if p.isVisible()][-1]
        popup.search.setText(find)
        found = next(i for i in range(popup.names.count()) if popup.names.item(i).text().startswith(f"{find}  "))
        popup.names.setCurrentRow(found)
        self.qtbot.keyClick(popup.search, Qt.Key.Key_Return)
        for name, value in settings.items():
            box = next(b for b in popup.findChildren(QComboBox if isinstance(value, str) else QAbstractSpinBox)
                       if b.accessibleName() == name)
            box.setCurrentText(value) if isinstance(value, str) else box.setValue(value)
        popup.close()

    def row(self, editor: ConditionEditor, path: str, left: tuple, compare: str, right: tuple | None) -> None:
        if "." not in path:
            editor.add_row()
        self.operand(editor, path, "left", left[0], **dict(left[1:]))
        box = self.shown(editor, QComboBox, lambda b: b.accessibleName().endswith(f"row {path} comparison"))
        if box.currentText() != compare:
            box.setCurrentText(compare)
            self.qtbot.wait(15)
        if right:
            self.operand(editor, path, "right", right[0], **dict(right[1:]))

    def in_time(self, editor: ConditionEditor, path: str, when: str, bars: int) -> None:
        button = self.shown(editor, QToolButton, lambda b: f"row {path}: in time" in b.toolTip())
        self.qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
        popup = [p for p in editor.findChildren(NodePopup) if p.isVisible()][-1]
        next(b for b in popup.when.findChildren(QToolButton) if b.text() == when).click()
        next(b for b in popup.findChildren(QSpinBox) if b.accessibleName().endswith(" bars")).setValue(bars)
        popup.close()

    def distance(self, editor: Any, unit: str, amount: float) -> None:
        editor.unit.setCurrentText(unit)
        editor.amount.setValue(amount)

def supertrend(h: Hand) -> str:
    h.row(h.rows.long_entry, "1", ("close",), "above", ("SMA", ("length", 200)))
    h.row(h.rows.long_entry, "2", ("close",), "crosses above", ("Supertrend line",))
    h.row(h.rows.long_exit, "1", ("close",), "crosses below", ("SMA", ("length", 25)))
    h.distance(h.rows.stop, "\u00d7 ATR", 1.0)
    h.rows.stop.length.setValue(14)
    h.distance(h.rows.target, "\u00d7 ATR", 5.0)
    usual = ", ".join(f"{v:g}" for v in BY_KEY["supertrend"].defaults().values())
    return (f"long_entry = close > sma(200) and crosses_above(close, supertrend({usual}).line)\n"
            "long_exit = crosses_below(close, sma(25))\nstop = 1 * atr(14)\ntarget = 5 * atr(14)\n")


def pullback(h: Hand) -> str:
    h.row(h.rows.long_entry, "1", ("EMA", ("length", 20)), "above", ("EMA", ("length", 80)))
    h.in_time(h.rows.long_entry, "1", "held for", 6)
    h.row(h.rows.long_entry, "2", ("low",), "below", ("Band lower",))
    h.distance(h.rows.stop, "\u00d7 ATR", 1.1)
    h.rows.stop.length.setValue(14)
    h.distance(h.rows.target, "\u00d7 stop", 1.5)
    h.rows.opposite.setCurrentText("ignore")
    return ("long_entry = held(ema(20) > ema(80), 6) and low < bands(20, 2).lower\n"
            "stop = 1.1 * atr(14)\ntarget = 1.5 * stop\n"
            "on_opposite = 'ignore'\n")


def oscillator(h: Hand) -> str:
    h.window.session.set_market("NOKSEK")
    h.settle()
    h.row(h.rows.long_entry, "1", ("CCI", ("length", 50)), "crosses above", ("a number", ("value", 65.0)))
    h.distance(h.rows.stop, "ticks", 55)
    assert h.rows.stop.pips.text().startswith("55 pips")
    h.distance(h.rows.follow.trail, "ticks", 55)
    h.distance(h.rows.target, "ticks", 155)
    h.rows.sizing.kind.setCurrentText("% of equity")
    h.rows.sizing.amount.setValue(200)
    return ("long_entry = crosses_above(cci(50), 65)\nstop = ticks(55)\ntarget = ticks(155)\ntrail = trail(ticks(55))\n"
            "size = percent_of_equity(200)\n")


def hourly(h: Hand) -> str:
    h.window.session.set_market("NOKSEK")
    h.window.session.set_interval(5)
    h.settle()
    h.row(h.rows.long_entry, "1", ("close",), "crosses above", ("EMA", ("length", 20)))
    h.row(h.rows.long_entry, "2", ("close",), "above", ("SMA", ("length", 12), ("read from bars of", "60 min")))
    h.distance(h.rows.target, "\u00d7 stop", 2.0)
    return ("long_entry = crosses_above(close, ema(20)) and close > series(sma(12), interval=60)\nstop = 2 * atr(20)\n"
            "target = 2 * stop\n")


@pytest.mark.parametrize("build", [supertrend, pullback, oscillator, hourly])
def test_rules_of_practice_by_clicks_and_by_formula(qtbot: QtBot, window: MainWindow, settle: Settle, build: Any) -> None:
    s = window.session
    hand = Hand(qtbot, window, settle)
    began = time.monotonic()
    text = build(hand)
    assert time.monotonic() - began < 60
    settle()
    clicked = s.strategy
    typed = parse_strategy(f"name = {clicked.name!r}\n{text}")
    assert strategy_text(clicked) == strategy_text(typed.model_copy(update={"notes": clicked.notes}))
    assert strategy_hash(clicked) == strategy_hash(typed)
    assert strategy_hash(parse_strategy(strategy_text(clicked))) == strategy_hash(clicked)
    history = s.project.prepared(s.market, s.interval)
    run = backtest(history, typed, s.settings.brief(history.bars.terms))
    assert len(run) > 20
    window.go("backtest")
    settle()
    assert s.run.fingerprint == run.fingerprint
    np.testing.assert_array_equal(ledger(s.run)["net"], ledger(run)["net"])
    assert set(run.trades_i[:, 0]) == {1, -1}, "the short side trades mirrored"
    # Typed into the page, the formula gives the very same strategy.
    window.go("rules")
    hand.place.new()
    settle()
    hand.place.show_page("formula")
    hand.place.formula.edit.setPlainText(f"name = {clicked.name!r}\n{text}")
    hand.place.formula.apply()
    settle()
    assert strategy_hash(s.strategy) == strategy_hash(clicked)
    assert hand.place.words.text() == describe(s.strategy)


def test_groups_switches_names_and_sweeps(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    s = window.session
    h = Hand(qtbot, window, settle)
    editor = h.rows.long_entry
    editor.add_group()
    settle()
    joined = next(b for b in editor.findChildren(QComboBox) if b.accessibleName() == "long entry group 1 joined by")
    joined.setCurrentText("at least")
    settle()
    next(b for b in editor.findChildren(QSpinBox) if b.accessibleName().endswith("at least")).setValue(2)
    settle()
    group = s.strategy.long.entry.rows[0]
    assert isinstance(group, Condition)
    assert (group.match, group.least, len(group.rows)) == ("at least", 2, 2)
    h.operand(editor, "1.2", "left", "RSI", length=9)
    group = s.strategy.long.entry.rows[0]
    assert group.rows[1].left.settings["length"] == 9  # type: ignore[union-attr]
    box = next(b for b in editor.findChildren(QComboBox) if b.accessibleName().endswith("row 1.1 comparison"))
    box.setCurrentText("between")
    settle()
    assert "between Band lower" in describe(s.strategy)
    # The tick on the number itself makes it a parameter that a sweep varies.
    h.rows.stop.tick.click()
    settle()
    assert [p.name for p in s.strategy.parameters] == ["stop_distance"]
    assert formula_of(s.strategy.stop.amount) == "stop_distance"
    h.rows.stop.amount.setValue(3.0)
    settle()
    assert (s.strategy.parameters[0].value, s.strategy.stop.amount) == (3.0, 3.0)
    name = next(e for e in h.rows.parameters.findChildren(QLineEdit) if e.accessibleName() == "parameter stop_distance name")
    name.selectAll()
    qtbot.keyClicks(name, "width")
    qtbot.keyClick(name, Qt.Key.Key_Return)
    settle()
    assert formula_of(s.strategy.stop.amount) == "width"
    h.rows.parameters.add()
    settle()
    value = next(e for e in h.rows.parameters.findChildren(QLineEdit) if e.accessibleName() == "parameter number_1 value")
    value.selectAll()
    qtbot.keyClicks(value, "2 * width")
    qtbot.keyClick(value, Qt.Key.Key_Return)
    settle()
    assert s.strategy.parameters[1].value == 6.0
    assert "used nowhere" in h.place.remarks.text()
    value = next(e for e in h.rows.parameters.findChildren(QLineEdit) if e.accessibleName() == "parameter width value")
    value.selectAll()
    qtbot.keyClicks(value, "nonsense +")
    qtbot.keyClick(value, Qt.Key.Key_Return)
    assert "cannot be set" in window.strip.message.text()
    settle()
    assert s.strategy.parameters[0].value == 3.0
    window.go("sweep")
    settle()
    assert [x.tunable.title for x in window.places["sweep"].lines if x.on.isChecked()] == ["width"]
    while s.undo.canUndo():
        s.undo.undo()
    assert s.strategy.name == "Tern breakout"


def test_the_formula_page_completes_helps_and_tells_faults(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    s = window.session
    window.go("rules")
    settle()
    place = window.places["rules"]
    place.show_page("formula")
    page, before = place.formula, s.strategy
    assert parse_strategy(page.edit.toPlainText()) == before
    page.edit.setPlainText("long_entry = clos > open")
    page.apply()
    assert "Line 1, character 14" in page.fault.text()
    assert 'did you mean "close"' in page.fault.text()
    marks = page.edit.extraSelections()
    assert marks[0].cursor.selectedText() == "clos"
    assert s.strategy == before, "a fault changes nothing"
    page.edit.setPlainText("")
    page.edit.setFocus()
    qtbot.keyClicks(page.edit, "long_entry = close > don")
    assert page.edit.found.popup().isVisible()
    qtbot.keyClick(page.edit, Qt.Key.Key_Tab)
    assert page.edit.toPlainText().endswith("donchian")
    qtbot.keyClicks(page.edit, "(20")
    assert page.help.text().startswith("donchian(length=20)")
    qtbot.keyClicks(page.edit, ").up")
    qtbot.keyClick(page.edit, Qt.Key.Key_Tab)
    qtbot.keyClick(page.edit, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    settle()
    assert page.edit.toPlainText() == "long_entry = close > donchian(20).upper"
    assert describe(s.strategy).startswith("Buy at the next open when close is above Donchian upper(20)")
    s.undo.undo()
    settle()
    assert s.strategy == before
    assert parse_strategy(page.edit.toPlainText()) == before, "the text follows"


def test_the_chart_shows_what_each_row_says(window: MainWindow, settle: Settle) -> None:
    s = window.session
    s.add_strategy(parse_strategy("name = 'Seen'\nlong_entry = close > sma(50) and rsi(14) < 40 and not (weekday() == 5)\n"
                                  "long_exit = bars_held > 5\nstop = 2 * atr(14)\n"))
    window.go("rules")
    settle()
    view = window.places["rules"].signals
    history = s.project.prepared(s.market, s.interval)
    seen = look(history, s.strategy, s.settings, 1)
    names = [n for n, _, _ in view.strips.item.rows]
    assert names[:2] == ["long entry", "close is above SMA(50)"]
    stop = history.bars.range_of(s.settings.training)[1]
    for (_, flags, _), node in zip(view.strips.item.rows[1:], s.strategy.long.entry.rows):
        np.testing.assert_array_equal(flags[:stop], truth(history.columns, node)[:stop])
        assert not flags[stop:].any(), "nothing of the holdout is shown"
    assert list(view.panes[0].shown_pane.lines) == ["RSI(14)"]
    fired = seen.decisions.signals[:stop] & 3 == LONG_IN
    assert f"{int(fired.sum()):,} long" in view.count.text()
    assert view.years.text().startswith("Signals a year: 2016:")
    at = view.chart.plotItem.vb.viewRange()[0]
    view.jump(-1)
    assert view.chart.plotItem.vb.viewRange()[0] != at
    window.places["rules"].rows.long_mode.findChildren(QToolButton)[1].click()
    window.places["rules"].rows.short_mode.findChildren(QToolButton)[2].click()
    settle()
    assert "no entry" in window.places["rules"].remarks.text()


def test_variants_make_a_family_and_differ_in_words(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    s = window.session
    window.go("rules")
    settle()
    place, first = window.places["rules"], s.strategy_id
    place.variant()
    place.rows.stop.amount.setValue(4.5)
    place.show_page("family")
    assert [place.family.members.item(i).text().strip() for i in range(2)][1].startswith("\u2514 Tern breakout 2")
    assert place.family.other.currentData() == first
    assert "stop: 4.5 ATR" in place.family.words.text()
    place.family.members.itemActivated.emit(place.family.members.item(0))
    assert s.strategy_id == first
    place.show_page("notes")
    place.notes.setPlainText("from the morning of the barley auction")
    place.keep_notes()
    assert s.project.strategy(first).strategy.notes.startswith("from the morning")
    menu_names = len(s.project.strategies())
    s.undo.undo()
    s.undo.undo()
    s.undo.undo()
    assert len(s.project.strategies()) == menu_names - 1, "a variant is undone like everything"


def test_files_are_dropped_dragged_and_pasted(window: MainWindow, settle: Settle, tmp_path: Path) -> None:
    s, place = window.session, window.places["rules"]
    mime = place.carried()
    file = Path(mime.urls()[0].toLocalFile())
    assert Strategy.model_validate_json(file.read_text()) == s.strategy
    count = len(s.project.strategies())
    place.take(mime)
    assert len(s.project.strategies()) == count + 1
    for text, words in (("long_entry = close > open\nname = 'Typed'", "Pasted as Typed"), ("{broken", "not valid JSON"),
                        (json.dumps({"format": "wolbrin.strategy", "version": 8}), "version 8"), ("rubbish", "assignment"),
                        ("", "no strategy")):
        QGuiApplication.clipboard().setText(text)
        place.paste()
        assert words in window.strip.message.text()
    bad = tmp_path / "deep.json"
    bad.write_text('{"long":' * 900 + "1" + "}" * 900)
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(bad))])
    place.take(data)
    assert "deep.json" in window.strip.message.text()
    assert len(s.project.strategies()) == count + 2


def test_the_library_adds_keeps_and_goes_through_files(window: MainWindow, settle: Settle, tmp_path: Path) -> None:
    s = window.session
    s.add_strategy(Strategy(name="Empty"))
    window.go("rules")
    place = window.places["rules"]
    place.show_page("library")
    page = place.library
    page.words.setText("leaves oversold")
    page.add()
    assert isinstance(s.strategy.long.entry.rows[0], Row)
    page.part.setCurrentText("short entry")
    page.add()
    assert s.strategy.short.mode == "own"
    assert "RSI(14) crosses below 70" in describe(s.strategy)
    page.part.setCurrentText("long entry")
    page.keep_as("My reversal", ("mine",))
    page.words.setText("my reversal")
    assert page.table.model.rowCount() == 1
    page.write(tmp_path / "c.json")
    page.remove_own()
    assert page.own() == ()
    page.load(tmp_path / "c.json")
    assert [c.name for c in page.own()] == ["My reversal"]
    (tmp_path / "c.json").write_text('{"conditions": [{"name": "x", "formula": "clos > 1"}]}')
    page.load(tmp_path / "c.json")
    assert "close" in window.strip.message.text()


def test_an_own_indicator_is_confirmed_and_used_by_clicks(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    s = window.session
    h = Hand(qtbot, window, settle)
    h.place.show_page("own")
    page = h.place.own
    page.begin()
    assert "steps_1" in page.text.toPlainText()
    assert h.place.context.own == {}
    page.confirm_file()
    settle()
    assert "gave the same values" in page.words.text()
    h.place.show_page("rows")
    h.row(h.rows.long_entry, "1", ("steps_1", ("length", 6.0)), "crosses above", ("a number", ("value", 2.0)))
    settle()
    assert len(s.run) > 20
    assert "steps_1(6) crosses above 2" in describe(s.strategy)
    file = s.project.own.files()[0]
    file.write_text(file.read_text().replace("out[length:] =", "out[:-1] = close[1:]; out[length:] ="))
    page.refresh()
    page.confirm_file()
    settle()
    assert "confirmed" in page.words.text() or "looks ahead" in page.words.text()


def test_studies_of_several_conditions_on_screen(window: MainWindow, settle: Settle) -> None:
    s = window.session
    window.go("study")
    page = window.places["study"].study
    page.more.set(["RSI leaves oversold", "Gap up"])
    page.side.set(0)
    page.unit.set("ATR")
    page.start()
    settle()
    assert page.list.model.rowCount() == 6
    history = s.project.prepared(s.market, s.interval)
    direct = study(history, page.more.picked()[0][1], 1, s.settings.training, horizon=24, unit="ATR",
                   name=page.more.picked()[0][0])
    shown = page.list.model.record(1)
    np.testing.assert_array_equal(shown.mean, direct.mean)
    page.list.choose(1)
    assert page.title.text().startswith(f"{direct.name}, long on NPW")
    assert f"Best bar {direct.best}, the best of 24" in page.warning.text()
    for what in ("excursions", "hour", "weekday", "year", "volatility"):
        page.beside.set(what)
        page.show_lower()
        if what != "excursions":
            total = sum(page.lines.model.record(i).spread.count for i in range(page.lines.model.rowCount()))
            assert total == len(direct.at_bar(8))
    page.apart.setChecked(True)
    page.start()
    settle()
    assert "left out" in page.words.text()


def test_a_field_trial_fills_its_matrix_and_carries_cells_on(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    s = window.session
    window.go("study")
    place = window.places["study"]
    place.show_page("field")
    page = place.page("field")
    page.conditions.set(page.conditions.names()[:12])
    page.markets.set(["NPW", "ASL"])
    page.shuffles.setValue(1)
    place.start()
    settle()
    result = page.result
    assert result.figures.shape == (24, 2, len(FIGURES))
    assert page.table.model.rowCount() == 24
    assert "by luck alone one expects" in page.verdict.text()
    page.threshold.setValue(-5)
    page.least.setValue(1)
    assert page.verdict.text().startswith(f"{int(result.passed(-5, 1).sum())} of 48")
    page.table.sort_by(1)
    order = [result.figures[page.table.model.record(i), 0, 1] for i in range(24)]
    assert order == sorted(order, reverse=True)
    page.table.model.set_filter(2, "> 100")
    assert page.table.model.rowCount() == 0
    page.table.model.set_filter(2, "")
    page.keep_chosen()
    assert "No cell" in window.strip.message.text()
    row = page.table.model.record(0)
    page.table.grid.setCurrentIndex(page.table.model.index(0, 1))
    page.keep_chosen()
    settle()
    kept = s.dossiers.shelf()[-1].candidate
    assert (kept.market, kept.tried, kept.origin) == ("NPW", 24, "field trial")
    assert kept.summary["net"] == result.figures[row, 0, 0]
    page.open_chosen()
    settle()
    assert (window.place, s.strategy.name) == ("rules", result.request.rows[row].name)
    window.go("study")
    place.show_page("variants")
    trial = place.page("variants")
    trial.numbers.set(trial.numbers.names()[:2])
    trial.markets.set(["NPW"])
    trial.shuffles.setValue(0)
    trial.start()
    settle()
    assert len(trial.result.request.rows) == 9
    assert trial.verdict.text().startswith(f"{int(trial.result.passed(2, 30).sum())} of 9")
    trial.table.grid.setCurrentIndex(trial.table.model.index(3, 1))
    trial.open_chosen()
    assert s.project.strategy(s.strategy_id).parent is not None
    page.conditions.set([])
    page.start()
    assert "nothing to try" in window.strip.message.text()


def test_switching_a_row_off_and_on_by_its_box(window: MainWindow, settle: Settle) -> None:
    window.go("rules")
    settle()
    editor = window.places["rules"].rows.long_entry
    box = next(b for b in editor.findChildren(QCheckBox) if b.accessibleName() == "long entry row 1 on")
    box.click()
    settle()
    assert not window.session.strategy.long.entry.rows[0].on
    window.session.undo.undo()
    settle()
    assert window.session.strategy.long.entry.rows[0].on
