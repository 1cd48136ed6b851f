"""The Backtest place and the options of Rules, driven as a practitioner would: every number against the core's."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QDoubleSpinBox, QLineEdit, QPushButton, QToolButton
from pytestqt.qtbot import QtBot

from tests.build import WAIT
from wolbrin.app.parts import Popup
from wolbrin.app.places.backtest.view import PAGES
from wolbrin.app.places.rules.operand import OperandPopup
from wolbrin.app.shell.window import MainWindow
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.ledger import ledger, order_log
from wolbrin.core.engine.run import Run, backtest
from wolbrin.core.measures.breakdown import groups, side_facts
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.cautions import cautions
from wolbrin.core.measures.costs import waterfall
from wolbrin.core.measures.excursion import open_profit
from wolbrin.core.measures.wording import worded
from wolbrin.core.rules.model import Distance, Strategy, Trail
from wolbrin.core.rules.words import describe

Settle = Callable[[], None]


@pytest.fixture
def place(window: MainWindow, settle: Settle) -> Any:
    window.go("backtest")
    settle()
    return window.places["backtest"]


def core_run(window: MainWindow) -> Run:
    s = window.session
    history = s.project.prepared(s.market, s.interval)
    return backtest(history, s.strategy, s.settings.brief(history.bars.terms))


def test_any_trade_is_explained_on_the_screen(window: MainWindow, place: Any, settle: Settle) -> None:
    run = core_run(window)
    for index in (0, 7, len(run) - 1):
        place.ledger.choose(index)
        settle()
        t = run.trades_i[index]
        panel = place.trade
        assert f"Trade {index + 1} of {len(run)}" in panel.title.text()
        assert panel.readings
        assert all(r.held for r in panel.readings if r.condition == "entry")
        assert "market entry placed" in panel.story.text()
        assert run.bars.terms.format_price(float(run.bars.to_price(int(t[k.T_ENTRY])))) in panel.story.text()
        shown = panel.open_profit.curves[0].y
        np.testing.assert_array_equal(shown[1:], open_profit(run, index).close)
    place.trade.asked.group.button(1).click()
    assert place.trade.views.currentIndex() == 1


def test_every_page_shows_the_cores_numbers(window: MainWindow, place: Any, settle: Settle) -> None:
    run = core_run(window)
    place.look("orders")
    assert place.orders.table.model.rowCount() == len(order_log(run)["event"])
    place.orders.table.choose(int(np.argmax(order_log(run)["trade"] == 5)))
    assert "Trade 5 of" in place.trade.title.text()
    place.look("measures")
    row = next(m for m in place.measures.table.model.records if m["title"] == "profit factor")
    want = [measure(f, ("profit_factor",))["profit_factor"] for f in (side_facts(run, 1), side_facts(run, -1))]
    assert row["texts"][1:] == [worded("profit_factor", v) for v in want]
    place.measures.unit.group.button(2).click()
    net = next(m for m in place.measures.table.model.records if m["title"] == "net profit")
    assert net["values"][0] == pytest.approx(100 * run.profits.sum() / run.brief.capital)
    place.look("breakdown")
    for way in ("weekday", "hour", "exit reason"):
        next(b for b in place.breakdown.way.group.buttons() if b.text() == way).click()
        assert repr(place.breakdown.table.model.records) == repr(groups(run, way))
    place.look("drawdowns")
    assert place.drawdowns.table.model.record(0).depth == pytest.approx(measure_of(run, "max_drawdown"))
    place.look("excursions")
    assert "best stop" in place.excursions.words.text()
    place.excursions.trade_wanted.emit(3)
    assert place.which.value == "ledger"
    assert f"Trade 4 of {len(run)}" in place.trade.title.text()
    place.look("costs")
    assert dict(place.costs.falls.steps)["net"] == pytest.approx(waterfall(run).net)
    place.look("look closer")
    assert place.warned.text() == (f"{len(cautions(run))} to look at" if cautions(run) else "")
    place.cautions.compare()
    settle()
    assert "without finer bars" in place.cautions.fine.text()


def measure_of(run: Run, key: str) -> float:
    from wolbrin.core.measures.facts import Facts

    return measure(Facts.of(run), (key,))[key]


def test_the_holdout_is_opened_on_purpose_and_counted(window: MainWindow, place: Any, settle: Settle) -> None:
    before = window.session.project.openings()
    place.look("measures")
    place.measures.split.group.button(1).click()
    row = next(m for m in place.measures.table.model.records if m["title"] == "trades")
    assert row["texts"][1:] == ["sealed", "sealed"]
    place.measures.open.click()
    settle()
    row = next(m for m in place.measures.table.model.records if m["title"] == "trades")
    training, holdout, whole = row["values"]
    assert abs(whole - training - holdout) <= 1
    assert holdout > 0
    assert window.session.project.openings() == before + 1


def test_kept_runs_are_reopened_compared_and_retested(window: MainWindow, place: Any, settle: Settle) -> None:
    s = window.session
    first = core_run(window)
    place.keep_run()
    s.edit(s.strategy.model_copy(update={"time_exit": 8}), "time exit")
    settle()
    place.keep_run()
    place.look("kept runs")
    page = place.runs
    assert page.table.model.rowCount() == 2
    page.table.grid.selectAll()
    page.compare_marked()
    settle()
    assert [name for name, _ in page.compared] == ["run 2", "run 1"]
    net = next(m for m in page.figures.model.records if m["key"] == "net")
    assert net["values"][1] == pytest.approx(first.profits.sum())
    assert page.trades.model.rowCount() > 0
    page.table.choose(1)
    page.rename()
    popup = page.findChild(Popup)
    popup.findChild(QLineEdit).setText("the first one")
    next(b for b in popup.findChildren(QPushButton) if b.text() == "Set").click()
    assert page.table.model.record(1).name == "the first one"
    page.reopen()
    settle()
    assert place.run.fingerprint == first.fingerprint
    assert "same bits" in place.banner.text()
    assert place.ledger.model.rowCount() == len(first)
    place.show_current()
    settle()
    assert place.run is s.run
    page.retest()
    settle()
    assert "no bars beyond" in window.strip.message.text()
    page.table.grid.clearSelection()


def test_exports_are_written_in_the_background(qtbot: QtBot, window: MainWindow, place: Any, settle: Settle,
                                               tmp_path: Path) -> None:
    run = core_run(window)
    for what, name in (("ledger", "l.csv"), ("orders", "o.parquet"), ("measures", "m.json"), ("html", "r.html"),
                       ("pdf", "r.pdf")):
        place.export(what, tmp_path / name)
        settle()
        qtbot.waitUntil(lambda name=name: f"Written to {tmp_path / name}" in window.strip.message.text(),  # type: ignore[misc]
                        timeout=WAIT)
        assert (tmp_path / name).stat().st_size > 100
    np.testing.assert_allclose(pd.read_csv(tmp_path / "l.csv").net, ledger(run)["net"])
    place.export("ledger", tmp_path / "no" / "l.csv")
    settle()
    assert "cannot be written" in window.strip.message.text()


def test_every_option_of_rules_reaches_the_strategy(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    s = window.session
    window.go("rules")
    settle()
    place = window.places["rules"]
    place.rows.long_order.kind.setCurrentIndex(1)
    place.rows.long_order.bars.setValue(3)
    place.rows.long_order.level.offset.setValue(2.0)
    order = s.strategy.long.order
    assert (order.kind, order.bars, order.level.offset) == ("stop", 3, 2.0)
    assert place.rows.short_order.kind.currentIndex() == 1, "mirrored"
    assert not place.rows.short_order.isEnabled()
    place.rows.follow.trail.unit.setCurrentText("ticks")
    place.rows.follow.trail.amount.setValue(30)
    place.rows.follow.start.unit.setCurrentText("\u00d7 stop")
    place.rows.follow.step.setValue(5)
    place.rows.follow.even.unit.setCurrentText("% of entry")
    place.rows.follow.plus.setValue(1)
    trail, even = s.strategy.trail, s.strategy.break_even
    assert (trail.distance.unit, trail.distance.amount, trail.step_ticks, trail.start_after.unit) == ("ticks", 30, 5, "stop")
    assert (even.after.unit, even.plus_ticks) == ("percent", 1)
    place.rows.stop.unit.setCurrentText("at a level")
    assert s.strategy.stop.level is not None
    place.rows.filters.windows.setText("09:30-12:00, 22:00-02:00")
    place.rows.filters.windows.editingFinished.emit()
    place.rows.filters.days["Fri"].setChecked(False)
    place.rows.filters.most.setValue(2)
    place.rows.filters.last.setValue(30)
    place.rows.filters.times.setValue(3.0)
    f = s.strategy.filters
    assert (len(f.windows), "Fri" in f.weekdays) == (2, False)
    assert (f.most_entries, f.last_minutes, f.oversized.multiple) == (2, 30, 3.0)
    place.rows.filters.windows.setText("half past nine")
    place.rows.filters.windows.editingFinished.emit()
    assert "not a window" in window.strip.message.text()
    assert s.strategy.filters == f
    place.rows.sizing.kind.setCurrentIndex(1)
    place.rows.sizing.amount.setValue(0.5)
    assert (s.strategy.sizing.kind, s.strategy.sizing.amount) == ("risk", 0.5)
    words = describe(s.strategy)
    for part in ("stop order", "trail 30 ticks", "break even", "22:00", "at risk"):
        assert part in words
    settle()
    assert core_run(window).fingerprint == s.run.fingerprint
    while s.undo.canUndo():
        s.undo.undo()
    assert s.strategy.long.order.kind == "market"


def test_the_brief_line_sets_size_and_fine_fills(qtbot: QtBot, window: MainWindow, place: Any, settle: Settle) -> None:
    s = window.session
    window.brief.trade_size.click()
    popup = window.findChild(Popup)
    assert popup is not None
    popup.findChild(QComboBox).setCurrentIndex(2)
    popup.findChild(QDoubleSpinBox).setValue(100.0)
    next(b for b in popup.findChildren(QPushButton) if b.text() == "Set").click()
    settle()
    assert s.strategy.sizing.kind == "percent"
    assert "100% of equity" in window.brief.trade_size.text()
    s.change_settings(fine_fills=True)
    settle()
    assert window.brief.fine.text() == "fine fills"
    assert s.run.fine is not None
    assert s.run.fingerprint == core_run(window).fingerprint


def test_impossible_orders_are_sentences(window: MainWindow, place: Any, settle: Settle) -> None:
    s = window.session
    s.edit(s.strategy.model_copy(update={"sizing": Strategy.model_fields["sizing"].annotation(kind="notional", amount=0.01)}),
           "size")
    settle()
    assert "entries were skipped" in place.empty.findChildren(type(place.total))[0].text()
    s.undo.undo()
    s.edit(s.strategy.model_copy(update={"trail": Trail(distance=Distance(unit="ticks", amount=20)), "stop": None,
                                         "target": None}), "trail only")
    settle()
    assert {"trail"} <= {t.reason for t in place.ledger.model.records}
    assert not [c for c in window.findChildren(QCheckBox) if not c.accessibleName() and not c.text()]


def test_pages_by_keyboard(qtbot: QtBot, window: MainWindow, place: Any, settle: Settle) -> None:
    for i, name in enumerate(PAGES, 1):
        qtbot.keyClick(window, getattr(Qt.Key, f"Key_{i}"), Qt.KeyboardModifier.ControlModifier)
        assert place.which.value == name


def test_an_operand_reads_a_longer_interval_and_another_market(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    s = window.session
    window.go("rules")
    settle()
    place = window.places["rules"]
    left = next(b for b in place.rows.long_entry.findChildren(QToolButton) if "row 1 left" in b.accessibleName())
    qtbot.mouseClick(left, Qt.MouseButton.LeftButton)
    popup = place.rows.long_entry.findChild(OperandPopup)
    where = next(c for c in popup.findChildren(QComboBox) if c.accessibleName() == "read from bars of")
    where.setCurrentText("60 min")
    assert s.strategy.long.entry.rows[0].left.interval == 60
    market = next(e for e in popup.findChildren(QLineEdit) if e.accessibleName() == "of market")
    market.setText("BBY")
    market.editingFinished.emit()
    assert s.strategy.long.entry.rows[0].left.market == "BBY"
    popup.close()
    settle()
    assert "BBY 60 min close" in place.words.text()
    assert core_run(window).fingerprint == s.run.fingerprint
    row = s.strategy.long.entry.rows[0]
    gone = row.model_copy(update={"left": row.left.model_copy(update={"market": "NONE"})})
    side = s.strategy.long.model_copy(update={"entry": s.strategy.long.entry.model_copy(update={"rows": (gone,)})})
    s.edit(s.strategy.model_copy(update={"long": side}), "market")
    settle()
    assert s.run is None
    assert "NONE" in s.run_error


@pytest.mark.parametrize("width", [1280, 1400, 2200])
def test_the_brief_shortens_itself_and_never_widens_the_window(window: MainWindow, settle: Settle, width: int) -> None:
    """With the longest words it can hold, the sentence fits the window it stands in, every part whole."""
    s = window.session
    window.resize(width, 800)
    s.set_market("NOKSEK")
    s.edit(s.strategy.model_copy(update={"name": "A strategy with a name of twenty-six letters and more"}), "name")
    s.edit(s.strategy.model_copy(update={"quantity": 12.0}), "size")
    s.change_settings(capital=1_250_000.0, most_bars=40_000)
    settle()
    assert window.width() == width
    parts = (window.brief.strategy, window.brief.market, window.brief.interval, window.brief.span, window.brief.costs,
             window.brief.capital, window.brief.fill, window.brief.flat, window.brief.trade_size, window.brief.fine)
    for left, right in pairwise(parts):
        assert left.geometry().right() <= right.geometry().left()
    if width > 1300:
        assert window.brief.fine.geometry().right() <= window.brief.width()
        assert all(p.width() >= p.sizeHint().width() - 1 for p in parts)
    assert window.brief.flat.accessibleName().startswith("Session flatness: flat")


def test_a_fast_rehearsal_leaves_the_window_live(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    """However fast bars are played, waiting a tenth of a second takes about that long, and nothing queues up."""
    window.go("rehearsal")
    settle()
    place = window.places["rehearsal"]
    place.speed.setValue(place.speed.maximum())
    state = place.state
    state.start()
    qtbot.waitUntil(lambda: state.latest is not None and state.latest.shown > 200, timeout=WAIT)
    state.stop()
    settle()
    shown = state.latest.shown
    qtbot.wait(200)
    assert state.latest.shown == shown, "nothing is drawn after the stop"
    assert "Stopped after" in place.verdict.text() or "bars played" in place.verdict.text()
