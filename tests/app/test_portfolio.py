"""Overlap and Portfolio in the window: from the Shelf to a saved portfolio, its report and its holdout."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QFileDialog
from pytestqt.qtbot import QtBot

from tests.build import cross
from wolbrin.app.places.overlap.view import OverlapPlace
from wolbrin.app.places.portfolio.view import PAGES, PortfolioPlace
from wolbrin.app.session import Session
from wolbrin.app.shell.window import MainWindow
from wolbrin.core.engine.run import backtest
from wolbrin.core.proving.line import Line, Step
from wolbrin.core.rules.model import Distance
from wolbrin.core.search.candidate import candidate_of
from wolbrin.core.work.lines import use_line

Settle = Callable[[], None]
EASY = Line(name="easy", steps=(Step(gate="monte_carlo", settings={
    "least_return_drawdown": -1e9, "largest_risk": 1.0, "paths": 100}),))


def kept(session: Session, count: int = 5) -> list[int]:
    """Candidates on two markets."""
    found = []
    for i in range(count):
        market = ("NPW", "BBY")[i % 2]
        history = session.project.prepared(market, 60)
        what = cross(name=f"C{i}", stop=Distance(unit="atr", amount=1.5 + i))
        run = backtest(history, what, session.settings.brief(history.bars.terms))
        found.append(session.dossiers.keep(candidate_of(run, what.name, "rules", 5)))
    session.shelf_changed.emit()
    return [i for i in found if i is not None]


@pytest.fixture
def place(window: MainWindow, settle: Settle) -> PortfolioPlace:
    s = window.session
    s.select(kept(s)[:4])
    window.go("portfolio")
    settle()
    made = window.places["portfolio"]
    assert isinstance(made, PortfolioPlace)
    return made


def test_overlap_compares_cuts_and_picks(window: MainWindow, settle: Settle, qtbot: QtBot) -> None:
    s = window.session
    s.select(kept(s))
    window.go("overlap")
    settle()
    overlap = window.places["overlap"]
    assert isinstance(overlap, OverlapPlace)
    state, matrix = overlap.state, overlap.matrix
    assert overlap.title.text().startswith("5 candidates")
    assert state.pair is not None, "the most alike are looked at first"
    assert "worst days" in overlap.pair.words.text()
    by = {b.text(): b for b in overlap.by.group.buttons()}
    qtbot.mouseClick(by["week"], Qt.MouseButton.LeftButton)
    settle()
    assert state.how.by == "week"
    assert "by week" in overlap.words.text()
    kinds = {b.text(): b for b in overlap.rank.group.buttons()}
    qtbot.mouseClick(kinds["ranks"], Qt.MouseButton.LeftButton)
    settle()
    assert overlap.words.text().startswith("Rank correlation of P/L by week")
    where = QPoint(round(matrix.cut_line()), matrix.height() // 2)
    qtbot.mousePress(matrix, Qt.MouseButton.LeftButton, pos=where)
    qtbot.mouseMove(matrix, where - QPoint(60, 0))
    matrix.cut_to(0.95)
    qtbot.mouseRelease(matrix, Qt.MouseButton.LeftButton, pos=where)
    assert state.cut_at == 0.95
    assert state.overlap is not None
    np.testing.assert_array_equal(state.clusters, state.overlap.clusters(0.95))
    qtbot.keyClick(matrix, Qt.Key.Key_Down)
    qtbot.keyClick(matrix, Qt.Key.Key_Right)
    settle()
    assert matrix.chosen == (1, 1)
    qtbot.keyClick(matrix, Qt.Key.Key_Right)
    assert "p " in matrix.words_of(1, 2)
    assert (state.pair.a, state.pair.b) == (int(matrix.order[1]), int(matrix.order[2]))
    overlap.limit.setValue(0.2)
    ways = {b.text(): b for b in overlap.way.group.buttons()}
    qtbot.mouseClick(ways["largest"], Qt.MouseButton.LeftButton)
    settle()
    assert "proven" in overlap.distinct_words.text()
    assert s.project.get_value("distinct", []) == sorted(state.distinct)
    prices = {b.text(): b for b in overlap.what.group.buttons()}
    qtbot.mouseClick(prices["markets' prices"], Qt.MouseButton.LeftButton)
    settle()
    assert matrix.names == ["NPW", "BBY"] or matrix.names == ["BBY", "NPW"]
    qtbot.mouseClick(prices["results"], Qt.MouseButton.LeftButton)
    overlap.apart.setChecked(True)
    assert matrix.apart
    assert not matrix.grab().isNull()


def test_from_the_shelf_to_a_saved_portfolio_and_its_report(window: MainWindow, place: PortfolioPlace, settle: Settle,
                                                            qtbot: QtBot,
                                                            tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    s, state = window.session, place.state
    assert place.title.text().startswith("4 members: net")
    before = state.told
    assert before is not None
    place.settings.capital.setValue(80_000)
    settle()
    assert state.capital == 80_000
    place.settings.weights.setCurrentIndex(place.settings.weights.findData("erc"))
    place.settings.weights.activated.emit(0)
    settle()
    assert state.plan.weights == "erc"
    place.settings.all_trade.click()
    settle()
    assert state.told is not None
    assert (state.told.played.rounding.whole > 0).all()
    for page in PAGES:
        place.show_page(page)
        settle()
        assert not place.grab().isNull()
    place.show_page("less, more")
    place.changes.go.click()
    settle()
    assert [r.kind for r in place.changes.table.model.records] == ["as it is"] + 4 * ["without"]
    place.show_page("weights")
    place.weights.go.click()
    settle()
    assert place.weights.table.model.rowCount() == 6
    assert state.table is not None
    assert place.weights.words.text() == state.table.why
    place.weights.table.choose(0)
    place.weights.use.click()
    settle()
    assert state.plan.weights == "equal"
    place.name.setText("Mine")
    place.save()
    settle()
    saved = state.saved_ones()[-1]
    assert (saved.name, len(saved.plan.on), saved.plan.capital) == ("Mine", 4, 80_000)
    window.count()
    assert window.rail.items["portfolio"].count == "1 saved"
    for ending in ("html", "xlsx", "json"):
        path = tmp_path / f"mine.{ending}"
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, path=path, **k: (str(path), ""))
        (place.saved.export if ending == "json" else place.saved.report)()
        settle()
        assert path.stat().st_size > 1000
    s.select(s.selection[:2])
    settle()
    assert place.title.text().startswith("2 members")
    place.show_page("saved")
    place.saved.table.choose(0)
    place.saved.open()
    settle()
    assert len(s.selection) == 4
    assert state.plan.name == "Mine"
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(tmp_path / "mine.json"), ""))
    place.saved.read()
    settle()
    assert "0 of its 4 strategies new" in window.strip.message.text()
    place.saved.table.choose(0)
    place.saved.forget()
    assert state.saved_ones() == []


def test_members_are_changed_one_by_one(place: PortfolioPlace, settle: Settle, window: MainWindow) -> None:
    state, members = place.state, place.members
    whole = state.told
    assert whole is not None
    members.table.choose(1)
    members.share.setValue(50)
    settle()
    assert state.plan.weights == "own"
    assert state.plan.shares[1] == pytest.approx(0.5 / 1.25)
    members.contracts.setValue(3)
    settle()
    assert state.told is not None
    assert state.told.played.rounding.whole[1] == 3
    members.loss.setText("2%")
    members.loss.editingFinished.emit()
    settle()
    assert state.plan.members[1].limit is not None
    members.loss.setText("a lot")
    members.loss.editingFinished.emit()
    assert "is no loss" in window.strip.message.text()
    assert members.loss.text() == "2%"
    members.own.setChecked(True)
    members.costs["per_contract"].setValue(50)
    settle()
    assert state.told.records[1].costs.per_contract == 50
    members.on.setChecked(False)
    settle()
    assert place.title.text().startswith("3 members")
    draft = window.session.project.get_value("portfolio draft", {})
    assert [m["on"] for m in draft["members"]] == [True, False, True, True], "it is still there after kill -9"
    place.settings.loss.setText("500")
    place.settings.loss.editingFinished.emit()
    place.settings.most["market"].setValue(30)
    settle()
    place.settings.weights.setCurrentIndex(place.settings.weights.findData("variance"))
    place.settings.weights.activated.emit(0)
    settle()
    assert "at most 30% in one market cannot be kept" in window.strip.message.text()
    assert state.plan.weights == "own"
    for at in (0, 2, 3):
        state.change_member(at, share=0.0)
    settle()
    assert "no member has a share above zero" in place.cautions.text()
    assert [r.share for r in members.table.model.records if r.member.on] == [0.0] * 3
    for at in (0, 2, 3):
        state.change_member(at, on=False)
    settle()
    assert place.title.text() == "This portfolio cannot be traded"
    assert "at least one strategy" in place.cautions.text()


def test_portfolios_are_found_and_the_holdout_is_opened_once(window: MainWindow, place: PortfolioPlace,
                                                             settle: Settle) -> None:
    s, state = window.session, place.state
    use_line(s.project, EASY)
    window.go("proving")
    settle()
    window.places["proving"].state.start()
    settle()
    window.go("portfolio")
    place.show_page("find")
    place.finding.k.setValue(2)
    place.finding.controls.setValue(3)
    place.finding.go.click()
    settle()
    settle()
    found = state.found
    assert found is not None
    assert place.finding.words.text().startswith("6 combinations tried")
    place.finding.table.choose(0)
    place.finding.take()
    settle()
    assert sorted(s.selection) == sorted(found.members(0))
    assert state.plan.tried == 6
    place.name.setText("pair")
    place.open.click()
    settle()
    assert "press again" in window.strip.message.text()
    assert s.project.openings() == 0
    place.open.click()
    settle()
    assert "pair " in place.words.text()
    assert " in the holdout: " in place.words.text()
    assert s.project.openings() == 2
    place.open.click()
    settle()
    assert "is not ready" in window.strip.message.text()
    s.select(s.shelf.ticked()[:1])
    settle()
    assert "Chosen on seen data" in place.cautions.text()
    assert np.isfinite(found.p)
