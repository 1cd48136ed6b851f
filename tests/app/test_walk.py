"""Walk-forward in the window: what is varied is entered once; folds on the ruler; a walk, its dated strategy, a grid."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from pytestqt.qtbot import QtBot

from tests.build import WAIT
from wolbrin.app.places.proving.view import ProvingPlace
from wolbrin.app.places.proving.walk_kept import KeptWalks
from wolbrin.app.places.proving.walk_page import WalkPage
from wolbrin.app.places.sweep.view import SweepPlace
from wolbrin.app.shell.doors import open_door
from wolbrin.app.shell.window import MainWindow
from wolbrin.app.terms import FloorLine

Settle = Callable[[], None]


def page_of(window: MainWindow) -> WalkPage:
    window.go("proving")
    place = window.places["proving"]
    assert isinstance(place, ProvingPlace)
    place.show_page("walk")
    return place.walk


def over(qtbot: QtBot, page: WalkPage, settle: Settle) -> None:
    qtbot.waitUntil(lambda: not page.state.running, timeout=WAIT)
    qtbot.waitUntil(lambda: page.state.walked is not None or bool(page.state.fault), timeout=WAIT)
    settle()


def test_a_newcomer_walks_keeps_the_dated_numbers_and_trades_them(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    s = window.session
    window.go("sweep")
    sweep = window.places["sweep"]
    assert isinstance(sweep, SweepPlace)
    settle()
    for title, span in {"stop ATR multiple": (1.5, 3.5, 1), "target stop": (2, 4, 1)}.items():
        line = next(li for li in sweep.lines if li.tunable.title == title)
        for box, value in zip(line.boxes, span):
            box.setValue(value)
        line.on.click()
    sweep.setup.objective.setCurrentIndex(sweep.setup.objective.findData("t_daily"))
    floor = sweep.setup.floors.lines[0]  # trades, which stands by default
    assert isinstance(floor, FloorLine)
    floor.value.setValue(20)
    # The same editor stands under Proving, with what was entered.
    page = page_of(window)
    page.show_page("ask")
    settle()
    assert page.setup.sets.request().axes == sweep.setup.request().axes
    assert page.setup.sets.request().objective.terms[0].key == "t_daily"
    assert [f.value for f in page.setup.sets.request().floors] == [20.0]
    laid = "8 tests from 01 Jul 2018 on; 9 fits of 9 sets"
    qtbot.waitUntil(lambda: page.setup.words.text().startswith(laid), timeout=WAIT)
    assert len(s.laid.folds) == 8
    # Wrong input stands in a sentence, and nothing starts.
    for text, word in (("soon", "is no length"), ("99y", "no fold fits"), ("", "no length is given")):
        page.setup.training.setText(text)
        qtbot.waitUntil(lambda w=word: w in page.setup.problem.text(), timeout=WAIT)
        assert not page.setup.go.isEnabled()
    page.setup.training.setText("24m")
    qtbot.waitUntil(page.setup.go.isEnabled, timeout=WAIT)
    page.start()
    over(qtbot, page, settle)
    walked = page.state.walked
    assert walked is not None
    assert page.sentence.text().startswith(f"Earned {walked.figures['net']:,.0f} in eight tests, fitted to earn ")
    assert page.now.text().startswith("In force from 1 Jul 2022: ")
    assert page.now.text().endswith("; next fit due 1 Jan 2023.")
    assert page.table.model.rowCount() == 8
    page.show_picture(1)
    assert page.drift.which.count() == 2
    page.table.choose(2)
    qtbot.waitUntil(lambda: any(c.label == "training" for c in page.equity.chart.curves), timeout=WAIT)
    for at in range(3):
        page.show_picture(at)
        assert not page.grab().isNull()
    # Kept, it is traded by the backtest with the numbers of each day; an edit of its rules takes them off by a door.
    page.state.keep_dated()
    settle()
    assert s.strategy.schedule is not None
    assert s.run is not None
    assert s.run.fingerprint == walked.run.fingerprint
    s.edit(s.strategy.model_copy(update={"quantity": 2.0}), "size")
    settle()
    assert "fitted for other rules" in s.run_error
    assert s.run_door is not None
    open_door(window, s.run_door.at)
    settle()
    assert s.strategy.schedule is None
    assert not s.run_error


def test_a_grid_is_colored_picked_stopped_and_gone_on_with(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    page = page_of(window)
    page.show_page("ask")
    settle()
    line = next(li for li in page.setup.sets.numbers.lines if li.tunable.title == "stop ATR multiple")
    line.on.click()
    settle()
    page.setup.training.setText("12m, 24m")
    page.setup.test.setText("3m,6m,12m")
    page.setup.shuffles.setValue(2)
    qtbot.waitUntil(lambda: page.setup.words.text().startswith("6 of 6 pairs fit"), timeout=WAIT)
    page.start()
    assert page.state.job is not None
    page.state.job.stop()
    qtbot.waitUntil(lambda: not page.state.running, timeout=WAIT)
    settle()
    if page.state.unfinished:
        assert page.more.isVisible()
        page.more.click()
    over(qtbot, page, settle)
    qtbot.waitUntil(lambda: page.state.result is not None and len(page.state.result.luck) == 2, timeout=WAIT)
    settle()
    assert page.pictures.currentIndex() == 2
    grid = page.state.grid
    assert grid is not None
    assert grid.value.shape == (2, 3)
    assert "On 2 shuffled histories" in page.lengths.words.text()
    page.lengths.chart.pick(1, 0)
    qtbot.waitUntil(lambda: page.state.walked is not None and page.state.walked.cell == 3, timeout=WAIT)
    assert page.figures.text().startswith("Fitted on 24 months before it, tested on 3 months.")
    page.lengths.figure.setCurrentIndex(page.lengths.figure.findData("efficiency"))
    assert page.state.grid is not None
    assert page.state.grid.key == "efficiency"
    assert page.state.grid.value[1, 0] == pytest.approx(page.state.walked.figures["efficiency"])  # type: ignore[union-attr]
    kept = KeptWalks(page, page.state)
    kept.table.choose(0)
    kept.name.setText("lengths of Tern")
    kept.rename()
    kept.open()
    over(qtbot, page, settle)
    page.state.keep_on_shelf()
    settle()
    assert window.session.shelf.count() == 1
