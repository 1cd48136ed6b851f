"""The whole slice through the real window: from demo history to a proved portfolio, with keys and clicks."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QCheckBox, QComboBox, QDoubleSpinBox, QLineEdit, QListWidget, QPushButton, QSpinBox, QToolButton
from pytestqt.qtbot import QtBot

from tests.build import SHORT, WAIT
from wolbrin.app.places.rules.operand import OperandPopup
from wolbrin.app.shell.border import BorderPopup
from wolbrin.app.shell.palette import HelpSheet, Palette
from wolbrin.app.shell.window import MainWindow
from wolbrin.core.engine.ledger import ledger
from wolbrin.core.engine.run import backtest
from wolbrin.core.jobs import State
from wolbrin.core.market.bars import Span
from wolbrin.core.portfolio.combine import correlation, daily_matrix
from wolbrin.core.rules.model import Condition, Row, Strategy
from wolbrin.core.rules.words import describe
from wolbrin.core.search.objective import Floor
from wolbrin.core.store.holdout import t_for
from wolbrin.core.work.combining import training_run
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.lines import use_line

Settle = Callable[[], None]


def press(qtbot: QtBot, window: MainWindow, keys: str) -> None:
    """Press a shortcut the way the window's actions hear it."""
    bound = next(a for a in window.actions() if a.shortcut().toString() == keys)
    bound.trigger()
    qtbot.wait(10)


def push(qtbot: QtBot, parent: object, text: str) -> None:
    found = next(b for b in parent.findChildren(QPushButton) if b.text().startswith(text) and b.isVisible())  # type: ignore[attr-defined]
    qtbot.mouseClick(found, Qt.MouseButton.LeftButton)


def test_every_place_opens_by_its_key_and_shows_itself(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    for item in window.rail.items.values():
        press(qtbot, window, f"Alt+{item.place.shortcut}")
        settle()
        assert window.place == item.place.key
        assert window.stack.currentWidget() is window.places[item.place.key]
        assert item.isChecked()
        assert item.count
        image = window.grab().toImage()
        assert image.width() == window.width()
    assert window.width() == 1280, "the frame fits its working size with every place"
    assert window.rail.items["markets"].count == "4 markets"


def test_the_first_place_fills_itself_as_soon_as_it_is_seen(window: MainWindow, settle: Settle) -> None:
    settle()
    place = window.places["markets"]
    assert window.place == "markets"
    assert place.chart.bars is not None
    assert place.table.current().market == window.session.market
    assert place.pages["quality"].report.rows == len(window.session.project.base("NPW"))


def test_markets_chart_zooms_over_everything(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    window.go("markets")
    settle()
    place = window.places["markets"]
    place.table.choose([m.code for m in window.session.markets].index("NOKSEK"))
    settle()
    assert window.session.market == "NOKSEK"
    assert len(place.chart.bars) > 200_000
    place.chart.look_all()
    qtbot.wait(30)
    (left, right), (low, high) = place.chart.plotItem.vb.viewRange()
    assert left <= 0
    assert right >= len(place.chart.bars) - 1
    assert low < place.chart.bars.low.min()
    assert high > place.chart.bars.high.max()
    place.chart.look(1000, 1100)
    assert "NOKSEK" in window.brief.market.text()


def test_rules_are_edited_in_place_and_undone(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    s = window.session
    window.go("rules")
    settle()
    place = window.places["rules"]
    first = s.strategy
    push(qtbot, place, "New")
    settle()
    assert s.strategy.long.entry == Condition()
    place.rows.long_entry.add_row()
    settle()
    left = next(b for b in place.rows.long_entry.findChildren(QToolButton) if "row 1 left" in b.accessibleName())
    qtbot.mouseClick(left, Qt.MouseButton.LeftButton)
    popup = place.rows.long_entry.findChild(OperandPopup)
    assert popup is not None
    qtbot.keyClicks(popup.search, "rsi")
    qtbot.keyClick(popup.search, Qt.Key.Key_Return)
    length = popup.findChildren(QSpinBox)[0]
    length.setValue(9)
    popup.close()
    qtbot.wait(30)
    row: Row = s.strategy.long.entry.rows[0]
    assert (row.left.indicator, row.left.settings["length"]) == ("rsi", 9)
    compare = place.rows.long_entry.findChild(QComboBox)
    compare.setCurrentText("falls")
    settle()
    assert s.strategy.long.entry.rows[0].compare == "falls"
    assert "RSI(9) falls" in place.words.text() == describe(s.strategy)
    box = next(c for c in place.rows.long_entry.findChildren(QCheckBox))
    box.click()
    assert not s.strategy.long.entry.rows[0].on
    box.click()
    place.rows.target.unit.setCurrentText("\u00d7 stop")
    place.rows.target.amount.setValue(1.5)
    assert (s.strategy.target.unit, s.strategy.target.amount) == ("stop", 1.5)
    place.rows.stop.unit.setCurrentIndex(2)
    place.rows.stop.amount.setValue(25)
    assert (s.strategy.stop.unit, s.strategy.stop.amount) == ("ticks", 25.0)
    place.rows.short_mode.findChildren(QToolButton)[1].click()
    assert s.strategy.short.mode == "own"
    assert s.strategy.short.entry.rows[0].compare == "rises"
    settle()
    assert "short signals" in place.signals.count.text()
    assert len(place.signals.signals) > 100
    before = place.chart.plotItem.vb.viewRange()[0]
    place.jump(-1)
    assert place.chart.plotItem.vb.viewRange()[0] != before
    edited = s.strategy
    while s.undo.canUndo():
        press(qtbot, window, "Ctrl+Z")
    assert s.strategy == first, "the new strategy itself is undone, too"
    while s.undo.canRedo():
        press(qtbot, window, "Ctrl+Shift+Z")
    assert s.strategy == edited
    assert s.project.strategy(s.strategy_id).strategy == edited, "autosaved"


def test_a_target_of_stops_without_a_stop_is_a_sentence(window: MainWindow, settle: Settle) -> None:
    window.go("rules")
    settle()
    window.places["rules"].rows.stop.unit.setCurrentIndex(0)
    assert "needs a stop" in window.strip.message.text()
    assert window.session.strategy.stop is not None


def test_strategy_files_go_out_and_come_in(window: MainWindow, settle: Settle, tmp_path: Path) -> None:
    s = window.session
    path = tmp_path / "tern.json"
    path.write_text(s.strategy.model_dump_json())
    count = len(s.project.strategies())
    window.places["rules"].load(path)
    settle()
    assert len(s.project.strategies()) == count + 1
    assert s.strategy.name == "Tern breakout 2"
    path.write_text(json.dumps({"format": "wolbrin.strategy", "quantity": "many"}))
    window.places["rules"].load(path)
    assert 'field "quantity"' in window.strip.message.text()
    assert len(s.project.strategies()) == count + 1
    s.delete_strategy()
    settle()
    assert len(s.project.strategies()) == count
    s.undo.undo()
    assert s.strategy.name == "Tern breakout 2"


def test_backtest_shows_what_the_core_computes(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    s = window.session
    window.go("backtest")
    settle()
    place = window.places["backtest"]
    history = s.project.prepared(s.market, s.interval)
    run = backtest(history, s.strategy, s.settings.brief(history.bars.terms))
    assert s.run.fingerprint == run.fingerprint
    assert place.ledger.model.rowCount() == len(run)
    place.ledger.choose(5)
    assert place.chart.trade_shown.entry[0] == run.trades_i[5, 2]
    assert f"Trade 6 of {len(run)}" in place.trade.title.text()
    place.ledger.model.set_filter(6, "stop")
    stops = int((ledger(run)["exit_reason"] == "stop").sum())
    assert place.shown.text().startswith(f"{stops:,} of")
    place.ledger.model.set_filter(6, "")
    place.ledger.model.set_filter(9, "> 0")
    assert place.ledger.model.rowCount() == int((run.profits > 0).sum())
    place.ledger.model.set_filter(9, "")
    place.ledger.sort_by(9)
    nets = [place.ledger.model.record(i).net for i in range(place.ledger.model.rowCount())]
    assert nets == sorted(nets, reverse=True)
    place.ledger.choose(0)
    place.ledger.copy()
    assert QGuiApplication.clipboard().text().count("\t") > 8
    press(qtbot, window, "Ctrl+R")
    assert "Run 1 kept" in window.strip.message.text()
    s.change_settings(capital=80_000.0)
    settle()
    assert s.run.brief.capital == 80_000
    assert "80,000 EUR" in window.brief.capital.text()
    assert window.drawer.isVisible()
    press(qtbot, window, "F4")
    assert not window.drawer.isVisible()


def test_brief_editors_change_the_question(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    s = window.session
    qtbot.mouseClick(window.brief.interval, Qt.MouseButton.LeftButton)
    names = window.brief.findChild(QListWidget)
    names.setCurrentRow([names.item(i).text() for i in range(names.count())].index("30 min"))
    names.itemActivated.emit(names.currentItem())
    settle()
    assert s.interval == 30
    assert s.run.bars.interval == 30
    qtbot.mouseClick(window.brief.costs, Qt.MouseButton.LeftButton)
    fields = {w.accessibleName(): w for w in window.brief.findChildren(QDoubleSpinBox)}
    fields["slippage, ticks"].setValue(3)
    push(qtbot, window.brief, "Set")
    settle()
    assert s.run.brief.costs.slippage_ticks == 3
    assert "3 ticks" in window.brief.costs.text()
    window.ruler.setFocus()
    qtbot.keyClick(window.ruler, Qt.Key.Key_Left)
    settle()
    assert str(s.settings.holdout_first) == "2022-06-01"
    assert s.project.openings() == 0
    qtbot.keyClick(window.ruler, Qt.Key.Key_Right)
    assert str(s.settings.holdout_first) == "2022-07-01", "before any work the border is free"
    s.dossiers.keep_run(s.run, "work")
    qtbot.keyClick(window.ruler, Qt.Key.Key_Right)
    popup = window.findChild(BorderPopup)
    assert str(s.settings.holdout_first) == "2022-07-01"
    assert not popup.go.isEnabled(), "it waits for a reason"
    popup.close()
    assert s.project.openings() == 0
    qtbot.keyClick(window.ruler, Qt.Key.Key_Right)
    popup = next(p for p in window.findChildren(BorderPopup) if p.isVisible())
    popup.why.setText("more training")
    qtbot.mouseClick(popup.go, Qt.MouseButton.LeftButton)
    assert str(s.settings.holdout_first) == "2022-08-01"
    assert s.project.openings() == 1
    assert "spent" in window.strip.message.text()
    assert "seen since" in window.ruler.words
    x = round(window.ruler.x_of(s.settings.training_first))
    qtbot.mousePress(window.ruler, Qt.MouseButton.LeftButton, pos=QPoint(x, 20))
    qtbot.mouseMove(window.ruler, QPoint(x + 100, 20))
    qtbot.mouseRelease(window.ruler, Qt.MouseButton.LeftButton, pos=QPoint(x + 100, 20))
    assert s.settings.training_first.year >= 2016
    assert s.change_settings(training_first="2023-01-01") is False
    assert "must begin before" in window.strip.message.text()


def test_from_study_and_sweep_to_a_proved_portfolio(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    s = window.session
    window.go("study")
    place = window.places["study"]
    press(qtbot, window, "Ctrl+2")
    press(qtbot, window, "Ctrl+Return")
    settle()
    assert place.study.shown_study.firings > 500
    assert "firings" in place.study.title.text()
    place.study.at.setValue(3)
    assert "moves, mean" in place.study.spread_words.text()

    window.go("sweep")
    place = window.places["sweep"]
    for title in ("stop ATR multiple", "target stop"):
        next(line for line in place.lines if line.tunable.title == title).on.click()
    assert [p.name for p in s.strategy.parameters if p.sweep] == ["stop_atr_multiple", "target_stop"], "the ticks of Rules"
    for name in ("stop_atr_multiple", "target_stop"):
        boxes = next(line.boxes for line in place.lines if line.tunable.title == name)
        for box, v in zip(boxes, (2.0, 3.0, 0.5)):
            box.setValue(v)
    assert place.count_words.text() == "9 combinations"
    boxes[2].setValue(0)
    assert "step must be above zero" in place.problem.text()
    boxes[2].setValue(0.5)
    press(qtbot, window, "Ctrl+Return")
    settle()
    assert place.table.model.rowCount() == 9
    chart = place.result.by_key["map"].chart
    assert np.isfinite(chart.cells.values).all()
    chart.pick(chart.cells.names.index("3 \u00b7 2"))
    chosen = place.state.reading.columns["net"][place.state.seen.chosen]
    assert place.state.values == (3.0, 2.0)
    assert place.table.current()[1:3].tolist() == [3.0, 2.0]
    place.apply_chosen()
    settle()
    assert (s.strategy.stop.amount, s.strategy.target.amount) == (3.0, 2.0)
    assert s.run.profits.sum() == pytest.approx(chosen)
    place.keep_chosen()
    settle()
    assert len(s.dossiers.shelf()) == 1

    window.go("discover")
    place = window.places["discover"]
    place.setup.method.setCurrentIndex(place.setup.method.findData("random"))
    place.setup.count.setValue(256)
    place.setup.controls.setValue(1)
    place.setup.pool.setValue(300)
    place.setup.show_floors((Floor(key="trades", value=200), Floor(key="profit_factor", value=1.15)))
    press(qtbot, window, "Ctrl+Return")
    settle()
    assert place.result.tried.text() == "256"
    place.result.all.setChecked(True)  # variants too
    settle()
    found = place.table.model.rowCount()
    assert found >= 3
    assert int(place.result.kept.text()) == found
    assert "by luck" in place.result.luck.text()

    window.go("shelf")
    settle()
    shelf = window.places["shelf"]
    assert shelf.table.model.rowCount() == found + 1
    press(qtbot, window, "Ctrl+Shift+T")
    assert len(s.selection) == found + 1
    shelf.table.choose(1)
    assert s.subject is not None
    shelf.remove()
    assert len(s.dossiers.shelf()) == found
    press(qtbot, window, "Ctrl+Z")
    assert len(s.dossiers.shelf()) == found + 1

    use_line(s.project, SHORT)
    window.go("proving")
    settle()
    proving = window.places["proving"]
    press(qtbot, window, "Ctrl+Return")
    settle()
    waiting = [r for r in proving.state.line.records if r.stands == "ready"]
    assert waiting
    assert s.project.openings() == 0
    assert f"must reach a t of daily results of {t_for(1, 1):.2f}" in proving.note.text()
    assert window.minimumSizeHint().width() <= 1280, "a long sentence does not widen the window"
    press(qtbot, window, "Ctrl+H")
    settle()
    assert s.project.openings() == 0, "a plan opens nothing"
    plan = proving.state.plan
    assert plan is not None
    assert sum(len(f.members) for f in plan.families) == len(waiting)
    assert proving.beside.currentWidget() is proving.opening
    every = [b for b in proving.opening.group.buttons() if "together first" in b.text()]
    assert bool(every) == (len(plan.families) > 1)
    for one in every[:1]:
        one.click()
    opened = plan.opened(plan.choice(proving.state.choice))
    for _ in range(2 if plan.choice(proving.state.choice).chance < 0.2 else 1):  # what hardly has a chance is asked twice
        press(qtbot, window, "Ctrl+H")
        settle()
    assert s.project.openings() == sum(len(f.members) for f in opened), "those that are opened together are judged together"
    standing = [r for r in proving.state.line.records if r.stands == "stands"]
    assert standing
    assert all(r.evidence["holdout"].reason for r in standing)
    proving.table.choose(0)
    settle()
    assert f"opened for {s.project.openings()} candidate" in proving.note.text()

    window.go("overlap")
    settle()
    overlap = window.places["overlap"]
    kept = s.shelf.bodies([line.id for line in overlap.state.lines])
    want = correlation(daily_matrix([training_run(Footing.of(s.project), k) for k in kept])[1])
    np.testing.assert_allclose(overlap.state.overlap.matrix, want, atol=1e-12)
    overlap.state.tick_distinct()
    assert set(s.selection) == overlap.state.distinct

    s.select([r.line.id for r in standing][:3])
    window.go("portfolio")
    settle()
    portfolio = window.places["portfolio"]
    net = sum(training_run(Footing.of(s.project), k).profits.sum() for k in s.selected())
    assert portfolio.state.told.figures["net"] == pytest.approx(net), "there is capital for all of them"
    portfolio.name.setText("First three")
    press(qtbot, window, "Ctrl+Return")
    settle()
    saved = portfolio.state.saved_ones()[0]
    assert (saved.name, [m.candidate for m in saved.plan.on]) == ("First three", [k.id for k in s.selected()])
    window.count()
    assert window.rail.items["portfolio"].count == "1 saved"
    assert window.rail.items["proving"].count == f"{len(standing)} proved"


def test_rehearsal_plays_equals_the_batch_and_counts(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    s = window.session
    s.change_settings(last="2022-07-20")
    settle()
    window.go("rehearsal")
    place = window.places["rehearsal"]
    place.speed.setValue(9)
    press(qtbot, window, "Ctrl+Return")
    qtbot.waitUntil(lambda: place.state.latest is not None, timeout=WAIT)
    place.state.toggle_pause()
    assert place.state.job.state is State.PAUSED
    place.state.toggle_pause()
    qtbot.waitUntil(lambda: "played" in place.verdict.text(), timeout=WAIT)
    settle()
    assert "equal the batch simulator's to the last bit" in place.verdict.text()
    assert s.project.openings() == 1
    assert place.figures["position"].text() in ("flat", "long", "short")


def test_long_work_can_be_paused_and_stopped_while_the_window_lives(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    window.go("discover")
    place = window.places["discover"]
    place.setup.count.setValue(1_000_000)
    place.setup.pool.setValue(200)
    push(qtbot, place.setup, "Discover")
    qtbot.waitUntil(lambda: place.result.tried.text() != "0", timeout=WAIT)
    assert window.strip.bar.isVisible()
    qtbot.mouseClick(window.strip.pause, Qt.MouseButton.LeftButton)
    assert place.state.job.state is State.PAUSED
    window.go("backtest")
    qtbot.waitUntil(lambda: window.session.run is not None, timeout=WAIT)
    qtbot.mouseClick(window.strip.pause, Qt.MouseButton.LeftButton)
    qtbot.mouseClick(window.strip.stop, Qt.MouseButton.LeftButton)
    settle()
    assert place.state.job.state is State.STOPPED
    assert "stopped" in window.strip.message.text()
    assert window.session.dossiers.counts()["discovered"] > 0


def test_actions_serve_menu_palette_and_help(qtbot: QtBot, window: MainWindow) -> None:
    ids = [a.id for a in window.actions_all]
    assert len(ids) == len(set(ids))
    for place in {a.place for a in window.actions_all}:
        keys = [a.shortcut for a in window.actions_all if a.place in ("", place) and a.shortcut]
        assert len(keys) == len(set(keys)), f"two actions share a key in {place}"
    window.open_palette()
    palette = window.findChild(Palette)
    qtbot.keyClicks(palette.search, "go to sweep")
    palette.run()
    assert window.place == "sweep"
    menu = window.menu()
    assert {"Go", "Rules", "Backtest"} <= {a.text() for a in menu.actions()}
    menu.close()
    window.open_help()
    assert window.findChild(HelpSheet) is not None
    window.toggle_theme()
    assert window.session.theme.tokens.name == "dusk"
    assert window.session.project.settings.theme == "dusk"
    window.toggle_theme()


def test_every_control_has_a_name(window: MainWindow, settle: Settle) -> None:
    settle()
    for key, place in window.places.items():
        for kind in (QPushButton, QToolButton, QLineEdit, QComboBox, QSpinBox, QDoubleSpinBox):
            for widget in place.findChildren(kind):
                inner = widget.objectName().startswith("qt_") or isinstance(
                    widget.parent(), QSpinBox | QDoubleSpinBox | QComboBox)
                assert inner or widget.accessibleName() or widget.text(), f"{key}: a {kind.__name__} without a name"


def test_a_failing_job_is_told_in_the_strip(window: MainWindow, settle: Settle) -> None:
    s = window.session
    path = s.project.history_path(s.project.market("BBY"))
    path.unlink()
    s.set_market("BBY")
    settle()
    assert "missing" in window.strip.message.text() or "missing" in s.run_error
    s.set_market("NPW")
    settle()
    assert s.run is not None


def test_the_last_state_comes_back(window: MainWindow, settle: Settle, demo: Path) -> None:
    window.go("backtest")
    window.session.add_strategy(Strategy(name="Mine"))
    settle()
    assert window.session.project.get_value("place") == "backtest"
    from wolbrin.core.store.project import Project

    again = Project(demo)
    assert again.strategy(again.get_value("strategy")).strategy.name == "Mine"
    assert again.settings.training == Span(again.settings.training_first, again.settings.training.last)
    again.close()
