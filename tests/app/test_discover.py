"""Discover and the Shelf in the window: limits, a live run, floors moved, a search around a find, comparison, files."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest
from PySide6.QtCore import QMimeData, QPoint, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QApplication, QFileDialog
from pytestqt.qtbot import QtBot

from tests.app.test_places import put_on_shelf
from tests.build import WAIT
from wolbrin.app.places.discover.view import DiscoverPlace
from wolbrin.app.places.shelf.asking import LinePopup, NotePopup
from wolbrin.app.places.shelf.view import ShelfPlace
from wolbrin.app.shell.window import MainWindow
from wolbrin.core.search.objective import Floor

Settle = Callable[[], None]
FLOORS = (Floor(key="trades", value=100), Floor(key="profit_factor", value=1.3), Floor(key="positive_years", value=10))


def ready(window: MainWindow, count: int = 512, method: str = "random") -> DiscoverPlace:
    window.go("discover")
    place = window.places["discover"]
    assert isinstance(place, DiscoverPlace)
    setup = place.setup
    setup.method.setCurrentIndex(setup.method.findData(method))
    setup.count.setValue(count)
    setup.controls.setValue(1)
    setup.pool.setValue(200)
    setup.show_floors(FLOORS)
    return place


def test_limits_are_ticked_found_weighted_and_told(window: MainWindow, settle: Settle) -> None:
    place = ready(window)
    settle()
    setup, model = place.setup, place.setup.ingredients.model
    whole = setup.ingredients.words.text()
    setup.ingredients.words_to_find.setText("Candlesticks")
    shown = setup.ingredients.tree.model()
    assert shown.rowCount() == 1, "a family is found by its name"
    setup.ingredients.words_to_find.setText("RSI")
    assert {shown.index(r, 0).data() for r in range(shown.rowCount())} >= {"Oscillators"}
    setup.ingredients.words_to_find.clear()
    for top in model.tops:
        model.tick(top, top.key == "weekday")
    assert "20 different rows" in setup.ingredients.words.text() != whole
    assert [c.key for c in setup.request().ingredients] == ["weekday"]
    weekday = next(t for t in model.tops if t.key == "weekday")
    at = model.index(model.tops.index(weekday), 1)
    assert model.setData(at, 6.0)
    assert not model.setData(at, -1.0)
    assert setup.request().ingredients[0].weight == pytest.approx(2.0)
    model.tick(weekday.children[0], False)
    assert len(setup.request().ingredients) == 2
    for top in model.tops:
        model.tick(top, False)
    assert not setup.go.isEnabled()
    assert "no ingredient is ticked" in setup.problem.text()
    model.show(())
    structure = setup.structure
    structure.least.setValue(4)
    assert "at least 4 rows and at most 3" in setup.problem.text()
    structure.least.setValue(1)
    for box in structure.sides.values():
        box.setChecked(False)
    assert setup.problem.text()
    structure.sides["own"].setChecked(True)
    structure.stop.lines.add()
    structure.orders["stop"].setChecked(True)
    structure.joins["any"].setChecked(True)
    asked = setup.request()
    assert asked.limits.stop.text == "atr:1..4/0.5|ticks:20..100/10"
    assert (asked.limits.sides, asked.limits.joins, asked.limits.orders.kinds) == (("own",), ("all", "any"),
                                                                                ("market", "stop"))
    setup.markets.set(["NPW", "BBY"])
    setup.hold.setChecked(True)
    assert setup.request().places == (("NPW", 15), ("BBY", 15)) and setup.request().hold  # noqa: PT018
    again = setup.request()
    setup.show_request(again)
    assert setup.request() == again, "a search's request stands as it was asked"


def test_what_is_usual_follows_the_way_of_searching(window: MainWindow, settle: Settle) -> None:
    window.go("discover")
    settle()
    setup = window.places["discover"].setup
    first = setup.request()
    assert (first.method, first.count, first.limits.pool, first.ingredients) == ("informed", 2_304, 480, ())
    settle()
    assert "later it counts as up to" in setup.before.text(), "what it costs is worked out beside the window"
    setup.method.setCurrentIndex(setup.method.findData("random"))
    then = setup.request()
    assert (then.count, then.limits.pool, then.limits.stop.text) == (20_000, 1_200, "atr:1..4/0.5")
    assert (first.controls, then.controls) == (4, 3)
    assert then.ingredients, "what is drawn at random is drawn from what is ticked"
    setup.count.setValue(7_000)
    setup.method.setCurrentIndex(setup.method.findData("informed"))
    assert setup.request() == replace(first, count=7_000), "what was changed stays"
    setup.show_request(then)
    assert setup.request() == then


def test_three_keys_lead_from_a_scan_to_a_verdict(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    place = ready(window, 768, "informed")
    place.setup.rows.setValue(400)
    window.go("study")
    settle()
    scan = window.places["study"].scan
    scan.discover()
    assert window.session.market  # without a scan it says so and stays
    assert window.place == "study"
    scan.rows.setValue(300)
    scan.start()
    qtbot.waitUntil(lambda: scan.state.result is not None and scan.state.result.answered, timeout=WAIT)
    settle()
    scan.discover()  # G
    assert window.place == "discover"
    state, page = place.state, place.result
    qtbot.waitUntil(lambda: state.running, timeout=WAIT)
    assert page.where.text()
    assert not page.rejections.isVisibleTo(page) or state.result.tried  # no noughts before anything was tried
    qtbot.waitUntil(lambda: not state.running and state.families is not None, timeout=WAIT)
    settle()
    result = state.result
    assert result is not None
    assert result.request.whole, "the whole choice: nothing was chosen after the scan"
    assert f"of {result.scans[0].rows:,} rows" in page.seen.text().replace("Of", "of")
    if not result.kept:
        page.prove()
        assert window.place == "discover"
        return
    assert state.families is not None
    page.table.choose(0)
    settle()
    assert page.said.text()
    page.prove()  # R
    assert window.place == "proving"
    proving = window.places["proving"]
    qtbot.waitUntil(lambda: not proving.state.running and proving.state.line is not None and any(
        r.evidence for r in proving.state.line.records), timeout=WAIT)
    settle()
    leads = sorted(f.leads for f in state.families.families)
    assert sorted(r.line.id for r in proving.state.line.records) == leads
    proving.variants.setChecked(True)  # V
    settle()
    assert sorted(s for s in window.session.shelf.ticked()) == sorted(i for f in state.families.families for i in f.members)
    assert proving.state.line.variants == result.kept - len(leads)


def test_a_live_run_floors_moved_and_a_search_around_a_find(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    s = window.session
    place = ready(window)
    place.start()
    qtbot.waitUntil(lambda: place.result.tried.text() not in ("", "0"), timeout=WAIT)
    settle()
    page, state = place.result, place.state
    result = state.result
    assert result is not None
    assert page.tried.text() == "512"
    assert "by luck" in page.luck.text()
    kept = result.kept
    assert state.families is not None
    assert page.table.model.rowCount() == len(state.families.families), "what represents each family"
    assert f"{kept} finds, {len(state.families.families)} famil" in page.title.text()
    page.all.setChecked(True)
    settle()
    assert kept == page.table.model.rowCount() > 2
    assert page.best_name.text()
    assert page.steps.text().startswith("After ")
    assert not page.rejections.apply.isEnabled()
    page.rejections.boxes[1].setValue(1.2)
    assert page.rejections.apply.isEnabled()
    page.rejections.apply.click()
    qtbot.waitUntil(lambda: state.result is not result and state.result is not None, timeout=WAIT)
    settle()
    assert state.result is not None
    assert state.result.kept > kept, "what came near is asked again"
    assert state.result.floors[1].value == 1.2
    assert s.project.rows("SELECT sum(tried) n FROM searches")[0]["n"] == 512, "nothing more was tried"
    page.table.sort_by(4)
    settle()
    page.table.choose(0)
    name = page.table.current().name
    page.around("entry")
    settle()
    assert window.place == "discover"
    assert place.setup.structure.keep.currentData() == "entry"
    assert name in place.setup.structure.kept_words.text()
    place.setup.count.setValue(256)
    place.start()
    settle()
    found = s.shelf.bodies([line.id for line in s.shelf.lines(state.finds.found.ids)])
    entries = {k.candidate.strategy.long.entry.model_dump_json() + k.candidate.strategy.short.entry.model_dump_json()
               for k in found}
    assert len(entries) <= 1, "its entry is kept"
    place.show_page("result")
    window.go("discover")
    page.table.choose(0)
    if page.table.current() is not None:
        page.sweep()
        settle()
        assert window.place == "sweep"
        window.go("discover")
        next(a for a in window.actions_all if a.id == "go.back").act()
        assert window.place == "sweep"


def test_the_shelf_finds_groups_compares_and_takes_files(qtbot: QtBot, window: MainWindow, settle: Settle, tmp_path: Path,
                                                         monkeypatch: pytest.MonkeyPatch) -> None:
    settle()
    s = window.session
    ids = put_on_shelf(s, 4)
    window.go("shelf")
    settle()
    place = window.places["shelf"]
    assert isinstance(place, ShelfPlace)
    place.words.setText("stop 2.25 ATR")
    settle()
    shown = place.rows.rowCount()
    assert shown == 1, "only rules that hold all of these words"
    place.words.clear()
    settle()
    assert "Buy at the next open" in place.rows.data(place.rows.index(0, 2), Qt.ItemDataRole.ToolTipRole)
    place.table.grid.selectAll()
    place.star()
    place.table.choose(0)
    place.tag()
    popup = QApplication.activePopupWidget()
    assert isinstance(popup, LinePopup)
    popup.edit.setText("late friday")
    popup.take()
    place.note()
    note = QApplication.activePopupWidget()
    assert isinstance(note, NotePopup)
    note.edit.setPlainText("Only in winter.")
    note.take()
    settle()
    first = s.shelf.lines([place.rows.shown[0]])[0]
    assert (first.tags, first.marks.star, first.marks.notes) == ("late friday", True, "Only in winter.")
    place.table.set_filter(next(i for i, c in enumerate(place.rows.columns) if c.key == "tags"), "friday")
    settle()
    assert place.rows.rowCount() == 1
    place.state.save_view("Fridays")
    place.state.show_view("")
    settle()
    assert place.rows.rowCount() == 4
    place.state.show_view("Fridays")
    settle()
    assert place.rows.rowCount() == 1
    place.view.setCurrentText("Fridays")
    place.remove_view()
    settle()
    assert not place.state.views()
    place.state.group_by("cluster")
    settle()
    settle()
    assert place.groups.isVisible()
    assert sum(int(place.groups.item(i).text().split("  ")[1]) for i in range(place.groups.count())) == 4
    place.groups.itemClicked.emit(place.groups.item(0))
    settle()
    assert 1 <= place.rows.rowCount() <= 4
    place.state.group_by("")
    settle()
    place.table.grid.selectAll()
    place.compare()
    settle()
    assert place.stack.currentIndex() == 2
    made = place.beside.made
    assert made is not None
    assert len(made.kept) == 4
    assert made.correlation.shape == (4, 4)
    assert any(any(d) for d in made.differs), "what differs is told"
    assert len(place.beside.chart.curves) == 4
    place.show_list()
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(tmp_path / "out"))
    place.export()
    settle()
    files = sorted((tmp_path / "out").glob("*.json"))
    assert len(files) == 4
    place.table.grid.selectAll()
    place.remove()
    settle()
    assert s.shelf.count() == 0
    (tmp_path / "out/broken.json").write_text("{")
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(tmp_path / "out"))])
    place.dropEvent(QDropEvent(QPoint(5, 5), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                               Qt.KeyboardModifier.NoModifier))
    settle()
    settle()
    assert s.shelf.count() == 4, "a folder that is dropped is read, tested, and put on the Shelf"
    back = {k.candidate.name: k for k in s.shelf.bodies()}
    assert {k.tags for k in back.values()} == {"late friday", ""}
    assert "could not be read" in window.strip.message.text()
    assert set(ids)
