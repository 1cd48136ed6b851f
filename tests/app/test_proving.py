"""Proving in the window: a line that is walked, looked at gate by gate, composed and measured."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QToolButton
from pytestqt.qtbot import QtBot

from wolbrin.app.places.portfolio.view import PortfolioPlace
from wolbrin.app.places.proving.view import ProvingPlace
from wolbrin.app.shell.gate_picture import GatePicture
from wolbrin.app.shell.gate_tables import GateTables
from wolbrin.app.shell.window import MainWindow
from wolbrin.core.engine.run import backtest
from wolbrin.core.proving.line import Line, Step
from wolbrin.core.rules.model import Distance
from wolbrin.core.search.candidate import candidate_of
from wolbrin.core.work.lines import gates_of, line_of, saved_lines, use_line
from wolbrin.core.work.rates import Rates, RatesRequest

Settle = Callable[[], None]


@pytest.fixture
def place(window: MainWindow, settle: Settle) -> ProvingPlace:
    """Three ticked variants of a strategy of the demo, and the place that judges them."""
    s = window.session
    history = s.project.prepared("NPW", 15)
    for amount in (1.5, 2.0, 2.5):
        what = s.strategy.model_copy(update={"stop": Distance(unit="atr", amount=amount)})
        run = backtest(history, what, s.project.settings.brief(history.bars.terms), detail=False)
        s.dossiers.keep(candidate_of(run, f"stop {amount:g}", "rules", 3))
    s.select([k.id for k in s.dossiers.shelf()])
    window.go("proving")
    settle()
    made = window.places["proving"]
    assert isinstance(made, ProvingPlace)
    made.state.start()
    settle()
    return made


def test_a_line_is_walked_looked_at_and_composed(qtbot: QtBot, window: MainWindow, settle: Settle,
                                                 place: ProvingPlace) -> None:
    s = window.session
    line = place.state.line
    assert line is not None
    assert len(line.bands) == len(gates_of(s.project))
    assert all(r.evidence for r in line.records)
    place.funnel.setFocus()
    before = place.funnel.chosen
    for _ in line.bands:
        qtbot.keyClick(place.funnel, Qt.Key.Key_Left)
    assert place.funnel.chosen == line.bands[0].key == "dates"
    qtbot.keyClick(place.funnel, Qt.Key.Key_Right)
    assert place.page.gate is not None
    assert place.page.gate.key == line.bands[1].key
    assert before in {b.key for b in line.bands}
    assert window.minimumSizeHint().height() <= 800, "many settings do not make the window taller"

    place.choose_gate("evidence")
    place.page.chart.dragged.emit(100_000.0)
    settle()
    assert line_of(s.project).gates()[1].settings["least_trades"] == 100_000
    assert place.state.line is not None
    assert place.state.line.bands[1].passed == 0, "what was judged by another threshold is not judged yet"
    place.state.start()
    settle()
    assert {r.stands for r in place.state.line.records} == {"not enough"}
    assert place.state.line.bands[1].unsure == 3
    s.undo.undo()
    settle()
    assert line_of(s.project).gates()[1].settings["least_trades"] == 50

    place.choose_gate("evidence")
    place.page.on.click()
    settle()
    assert [g.key for g in gates_of(s.project)][:2] == ["dates", "luck"]
    place.choose_gate("blocks")
    place.page.earlier.click()
    settle()
    assert [g.key for g in gates_of(s.project)][:3] == ["dates", "blocks", "luck"]
    place.state.save_as("mine")
    settle()
    assert place.lines.currentText() == "mine"
    place.state.choose_line("usual")
    settle()
    assert [g.key for g in gates_of(s.project)][:2] == ["dates", "evidence"]
    assert list(saved_lines(s.project)) == ["usual", "mine"]
    place.state.save_as("usual")
    assert line_of(s.project).name == "usual"


def test_a_candidate_has_every_gates_sentence_and_picture(window: MainWindow, settle: Settle, place: ProvingPlace) -> None:
    assert place.state.line is not None
    place.table.choose(0)
    settle()
    told = place.state.line.records[0].evidence
    pictures = [w.accessibleName().partition(":")[0] for w in window.drawer.findChildren(GatePicture)]
    assert len(pictures) == sum(bool(g.picture) for g in gates_of(window.session.project) if g.key in told) or pictures
    rates = Rates(RatesRequest(market="NPW", interval=15), line_of(window.session.project), (), 1)
    window.session.project.set_value("rates of the line NPW 15", rates.as_json())
    place.state.look()
    settle()
    assert "finds of luck" in place.rates.text()
    place.state.switch("neighbors", False)
    settle()
    assert "has changed" in place.rates.text()


def test_what_a_gate_saw_opens_in_full(qtbot: QtBot, window: MainWindow, settle: Settle, place: ProvingPlace) -> None:
    """Each table of a verdict with its picture and its rows, from the drawer."""
    s = window.session
    use_line(s.project, Line(name="mc", steps=(Step(gate="monte_carlo"), Step(gate="blocks"))))
    place.state.start()
    settle()
    place.table.grid.setFocus()
    place.table.choose(0)
    first = s.subject
    qtbot.keyClick(place.table.grid, Qt.Key.Key_Down)
    settle()
    assert s.subject != first, "keys walk through the candidates"
    assert place.state.line is not None
    told = place.state.line.records[1]
    assert told.words
    assert told.words.startswith(("Falls at", "Ready"))
    opener = next(b for b in window.drawer.findChildren(QToolButton) if b.text() == "in full")
    opener.click()
    settle()
    made = window.findChild(GateTables)
    assert made is not None
    assert made.which.currentData() == "fan"
    assert made.table is not None
    assert made.table.model.rowCount() == len(s.dossiers.table(told.evidence["monte_carlo"].id, "fan")["trade"])
    for at in range(made.which.count()):
        made.which.setCurrentIndex(at)
        made.show_table(made.which.currentData())
        assert made.axes.text().startswith(("Across", "Up"))
        assert made.table.model.rowCount() > 0
    made.close()


def test_the_holdout_is_kept_for_a_portfolio_and_opened_there(window: MainWindow, settle: Settle,
                                                              place: ProvingPlace) -> None:
    s = window.session
    easy = {"least_return_drawdown": -1e9, "largest_risk": 1.0, "paths": 100}
    use_line(s.project, Line(name="easy", steps=(Step(gate="monte_carlo", settings=easy),)))
    place.state.start()
    settle()
    assert place.state.line is not None
    assert place.state.line.waiting == 3
    assert "a single one, must reach a t of daily results of 1.96" in place.note.text()
    place.spent.setCurrentIndex(1)
    place.spent.activated.emit(1)
    settle()
    assert "as a whole" in place.note.text()
    place.state.open_holdout()
    settle()
    assert "kept for a portfolio" in window.strip.message.text()
    assert s.project.openings() == 0
    window.go("portfolio")
    settle()
    portfolio = window.places["portfolio"]
    assert isinstance(portfolio, PortfolioPlace)
    portfolio.name.setText("three")
    portfolio.open.click()
    settle()
    portfolio.open.click()  # asked once more
    settle()
    assert s.project.openings() == 3
    assert {o.batch for o in s.project.book.all()} == {1}
    assert "three " in portfolio.words.text()
    assert " in the holdout: " in portfolio.words.text()
    window.go("proving")
    settle()
    s.undo.undo()
    settle()
    assert place.spent.currentData() == "candidates"
