"""Sweep in the window: four numbers in 2,025 sets, every picture, zoom, apply; filters, pins, kept sweeps."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtWidgets import QApplication, QCheckBox, QFileDialog
from pytestqt.qtbot import QtBot

from tests.build import WAIT
from wolbrin.app.places.sweep.kept import KeptSweeps
from wolbrin.app.places.sweep.pictures.equity import Equity
from wolbrin.app.places.sweep.pictures.maps import MapOfTwo
from wolbrin.app.places.sweep.pictures.parallel import Parallel
from wolbrin.app.places.sweep.pictures.profile import Profile
from wolbrin.app.places.sweep.pictures.surface import Surface
from wolbrin.app.places.sweep.pictures.tradeoff import TradeOff
from wolbrin.app.places.sweep.view import SweepPlace
from wolbrin.app.sets.lines import ConstraintLine
from wolbrin.app.shell.window import MainWindow
from wolbrin.app.tables.matrix import MatrixModel
from wolbrin.app.tables.model import Column
from wolbrin.app.terms import FloorLine
from wolbrin.app.theme.theme import Theme
from wolbrin.core.figures.searches import SWEEPS

Settle = Callable[[], None]
FOUR = {"Opening range minutes, long entry row 1": (30, 110, 10), "stop ATR multiple": (1, 5, 0.5),
        "stop ATR length": (10, 30, 5), "target stop": (2, 6, 1)}


def tick(place: SweepPlace, title: str, span: tuple[float, float, float]) -> None:
    """Set a number's range and tick it by hand."""
    line = next(li for li in place.lines if li.tunable.title == title)
    for box, value in zip(line.boxes, span):
        box.setValue(value)
    line.on.click()


def still(place: SweepPlace) -> None:
    """No shuffles here: they are tested without a window."""
    if place.state.luck_running is not None:
        place.state.luck_running.stop()


def test_four_numbers_in_2025_sets_pictures_zoom_and_apply(qtbot: QtBot, window: MainWindow, settle: Settle,
                                                           tmp_path: Path) -> None:
    s = window.session
    window.go("sweep")
    place = window.places["sweep"]
    assert isinstance(place, SweepPlace)
    settle()
    for title, span in FOUR.items():
        tick(place, title, span)
    assert place.count_words.text().startswith("2,025 combinations")
    assert [p.sweep for p in s.strategy.parameters] == [True] * 4
    window.go("rules")
    settle()
    ticks = [b for b in window.places["rules"].findChildren(QCheckBox) if b.accessibleName().startswith("sweep ")
             and b.isVisible()]
    assert sum(b.isChecked() for b in ticks) >= 2, "the same ticks on Rules"
    window.go("sweep")
    place.setup.run()
    qtbot.waitUntil(lambda: not place.state.running, timeout=WAIT)
    qtbot.waitUntil(lambda: place.state.luck_running is not None, timeout=WAIT)
    still(place)
    settle()
    reading, result = place.state.reading, place.result
    assert reading is not None
    assert len(reading) == result.table.model.rowCount() == 2025
    qtbot.waitUntil(lambda: place.state.statistics is not None, timeout=WAIT)  # the shuffles may keep the machine busy
    assert "2,025 sets tried here, 2,025 alternatives on NPW altogether." in result.evidence.tried.text()
    assert "center of the best plateau" in result.evidence.reason.text()
    assert place.state.values == reading.values(reading.center)
    for picture in result.pictures:
        seen = place.state.seen
        assert seen is not None
        if picture.offered(seen):
            result.show_picture(picture.key)
            settle()
            assert not picture.grab().isNull()
    four = result.by_key["four"].chart  # type: ignore[attr-defined]
    assert len(four.cells.boxes) == 2025
    assert np.isfinite(four.cells.values).all()
    four.pick(7)
    assert place.state.values == reading.values(place.state.seen.chosen)  # type: ignore[union-attr]
    surface = result.by_key["surface"]
    assert isinstance(surface, Surface)
    assert surface.canvas is not None
    years = result.by_key["years"].chart  # type: ignore[attr-defined]
    assert len(years.cells.x_outer) == 7
    # Filters, pins and units are of table and pictures alike.
    columns = [c.title for c in result.table.model.columns]
    result.table.set_filter(columns.index("maximum drawdown, EUR"), "at most \u22123,000")
    settle()
    drawdown = reading.columns["max_drawdown"]
    assert result.table.model.rowCount() == int((drawdown <= 3000).sum())
    assert set(place.state.seen.rows.tolist()) == set(np.flatnonzero(drawdown <= 3000).tolist())  # type: ignore[union-attr]
    worst = int(np.argmax(drawdown))
    place.state.choose(worst)
    result.pin()
    settle()
    assert result.table.model.record(0)[0] == 1.0
    result.table.set_filter(columns.index("maximum drawdown, EUR"), "")
    result.unit.setCurrentIndex(result.unit.findText("ticks"))
    settle()
    assert "net profit, ticks" in [c.title for c in result.table.model.columns]
    # A region is dragged out and swept more finely; the coarse sets stay.
    result.show_picture("map")
    chart = result.by_key["map"].chart  # type: ignore[attr-defined]
    first, last = chart.box(0).center().toPoint(), chart.box(len(chart.cells.boxes) // 2).center()
    qtbot.mousePress(chart, Qt.MouseButton.LeftButton, pos=first - QPoint(6, -6))
    qtbot.mouseMove(chart, QPointF(last).toPoint())
    chart.region = None if chart.region is None else chart.region
    qtbot.mouseRelease(chart, Qt.MouseButton.LeftButton, pos=last.toPoint())
    chart.marked.emit(0.0, 0.3, 0.0, 0.3)
    two = result.by_key["map"]
    assert isinstance(two, MapOfTwo)
    assert two.zoom.isEnabled()
    place.zoom()
    qtbot.waitUntil(lambda: place.state.running, timeout=WAIT)
    qtbot.waitUntil(lambda: not place.state.running, timeout=WAIT)
    still(place)
    settle()
    finer = place.state.reading
    assert finer is not None
    assert len(finer) > 2025
    assert (finer.at < 0).any()
    place.apply_chosen()
    settle()
    assert [p.value for p in s.strategy.parameters] == [place.state.values[i] for i in (0, 1, 2, 3)]  # type: ignore[index]
    s.undo.undo()
    listed = KeptSweeps(result, place.state)
    assert listed.table.model.rowCount() == 2
    listed.table.grid.selectAll()
    listed.compare()
    settle()
    assert "sets in common" in listed.words.text()
    listed.close()


def test_what_is_asked_reaches_the_request_and_wrong_input_is_a_sentence(qtbot: QtBot, window: MainWindow,
                                                                       settle: Settle) -> None:
    window.go("sweep")
    place = window.places["sweep"]
    assert isinstance(place, SweepPlace)
    settle()
    assert "Tick at least one number" in place.problem.text()
    tick(place, "stop ATR multiple", (1, 3, 1))
    tick(place, "target stop", (1, 3, 1))
    form = place.setup
    floor, constraint = form.floors.add(), form.constraints.add()
    assert isinstance(floor, FloorLine)
    assert isinstance(constraint, ConstraintLine)
    constraint.left.setCurrentIndex(constraint.left.findText("stop_atr_multiple"))
    constraint.compare.setCurrentText("<")
    constraint.right.setCurrentIndex(constraint.right.findText("target_stop"))
    form.markets.set(["NPW", "ASL"])
    form.sides.set(["both", "long"])
    form.method.setCurrentIndex(1)
    form.count.setValue(10)
    form.blend.setText("0.5 * net profit + 0.5 * t_daily")
    made = form.request()
    assert made.space.size == 2 * 2 * 9
    assert [a.kind for a in made.axes] == ["market", "sides", "number", "number"]
    assert (made.method, made.count, made.floors[0].key) == ("sample", 10, "trades")
    assert made.space.allowed(np.arange(9)).sum() == 3
    form.blend.setText("0.5 * beauty")
    assert 'no measure "beauty"' in place.problem.text()
    assert not form.go.isEnabled()
    form.blend.setText("")
    settle()
    qtbot.waitUntil(lambda: "about" in place.count_words.text(), timeout=WAIT)
    place.start()
    settle()
    assert place.state.reading is not None
    assert place.result.market.isVisible()
    assert [p.key for p in place.result.pictures if p.offered(place.state.seen)].count("places") == 1  # type: ignore[arg-type]
    assert "markets" in place.result.evidence.best.text()


def test_many_sets_are_filtered_and_sorted_at_once(qapp: QApplication) -> None:
    """200,000 rows lie in one array; nothing is made for a row that is not looked at."""
    values = np.random.default_rng(1).normal(size=(200_000, 3))
    columns = [Column(t, lambda r, i=i: float(r[i]), None, "right", number=lambda v: f"{v:g}", figure=SWEEPS["sweep.axis"])
               for i, t in enumerate(("pin", "a", "b"))]
    model = MatrixModel(columns, Theme(), lambda line: line)
    model.sort_column, model.sort_down = 1, True
    how = model.arrangement()
    model.set_values(values, how.of(values), how)
    model.set_filter(2, "0.5 to 1")
    inside = values[(values[:, 2] >= 0.5) & (values[:, 2] <= 1)]
    assert model.rowCount() == len(inside)
    assert model.record(0)[1] == inside[:, 1].max()
    worst = int(values[:, 1].argmin())
    values[:, 0] = 0.0
    values[worst, 0] = 1.0
    pinned = replace(model.arrangement(), pins=0).of(values)
    assert pinned[0] == worst, "what is pinned stands first and passes every filter"
    assert len(pinned) in (len(inside), len(inside) + 1)


def test_every_picture_chooses_filters_copies_and_saves(qtbot: QtBot, window: MainWindow, settle: Settle, tmp_path: Path,
                                                        monkeypatch: pytest.MonkeyPatch) -> None:
    """One selection: what is chosen on a picture is chosen in the table, what is filtered is filtered everywhere."""
    window.go("sweep")
    place = window.places["sweep"]
    assert isinstance(place, SweepPlace)
    settle()
    tick(place, "stop ATR multiple", (1, 3, 0.5))
    tick(place, "target stop", (2, 4, 1))
    place.start()
    qtbot.waitUntil(lambda: not place.state.running, timeout=WAIT)
    still(place)
    settle()
    result, state = place.result, place.state
    reading = state.reading
    assert reading is not None

    def chosen() -> tuple[float, ...]:
        line, values = result.table.current(), state.values
        assert values is not None
        assert tuple(line[1:3].tolist()) == values, "table and pictures look at the same set"
        return values

    two = result.by_key["map"].chart  # type: ignore[attr-defined]
    two.pick(0)
    assert chosen() == (1.0, 2.0)
    qtbot.keyClick(two, Qt.Key.Key_Right)
    qtbot.keyClick(two, Qt.Key.Key_Up)
    assert chosen() == (1.5, 3.0)
    qtbot.mouseClick(two, Qt.MouseButton.LeftButton, pos=two.box(len(two.cells.boxes) - 1).center().toPoint())
    assert chosen() == (3.0, 4.0)
    result.show_picture("profile")
    settle()
    profile = result.by_key["profile"]
    assert isinstance(profile, Profile)
    along = profile.along.currentIndex()
    profile.curve.clicked_at.emit(0.2, 0.0)
    assert chosen()[along] == reading.request.axes[along].values[0]
    qtbot.keyClick(profile, Qt.Key.Key_Right)
    assert chosen()[along] == reading.request.axes[along].values[1]
    result.show_picture("tradeoff")
    settle()
    trade = result.by_key["tradeoff"]
    assert isinstance(trade, TradeOff)
    best = int(np.argmax(reading.columns["return_drawdown"]))
    trade.plot.clicked_at.emit(float(reading.columns["max_drawdown"][best]), float(reading.columns["return_drawdown"][best]))
    assert chosen() == reading.values(best)
    assert "no other beats in both" in trade.words.text()
    result.show_picture("parallel")
    settle()
    parallel = result.by_key["parallel"]
    assert isinstance(parallel, Parallel)
    assert len(parallel.threads.places) == len(reading)
    parallel.threads.picked.emit(3)
    chosen()
    parallel.threads.brushed.emit(0, 0.45, 1.0)  # the stop from 2 on
    settle()
    assert result.table.model.rowCount() == 9
    assert len(parallel.threads.places) == 9, "filtered everywhere"
    result.table.set_filter(1, "")
    settle()
    assert result.table.model.rowCount() == 15
    result.show_picture("equity")
    result.table.grid.selectRow(0)
    result.pin()
    result.table.grid.selectRow(5)
    settle()
    equity = result.by_key["equity"]
    assert isinstance(equity, Equity)
    assert len(equity.grid.items) == 2
    equity.grid.picked.emit(equity.grid.items[1].row)
    chosen()
    result.measure.setCurrentIndex(result.measure.findData("trades"))
    result.show_picture("map")
    settle()
    np.testing.assert_array_equal(np.sort(two.cells.values), np.sort(reading.columns["trades"]))
    result.copy_picture()
    assert not QApplication.clipboard().pixmap().isNull()
    for name, act in (("shown.png", result.save_picture), ("sets.csv", result.export), ("set.json", result.save_set)):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, name=name, **k: (str(tmp_path / name), "CSV (*.csv)"))
        act()
        settle()
        assert (tmp_path / name).stat().st_size > 100, name
    assert len((tmp_path / "sets.csv").read_text().splitlines()) == 16
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(tmp_path / "set.json"), ""))
    result.load_set()
    assert [p.value for p in window.session.strategy.parameters] == list(state.values or ())
    place.keep_chosen()
    settle()
    assert window.session.shelf.count() == 1
    window.session.theme.use("dusk")
    settle()
    assert not result.grab().isNull()
    window.session.theme.use("paper")
