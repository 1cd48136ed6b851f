"""From a file to a first result by clicks, in an empty project; what an empty project shows; doors from messages."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QComboBox, QFileDialog, QLabel, QPushButton
from pytestqt.qtbot import QtBot

from tests.app.conftest import come_to_rest, shown
from tests.corpus.forms import FORMS, write
from tests.corpus.more import CASES
from tests.corpus.truth import truth
from wolbrin.app.parts import Empty
from wolbrin.app.places.registry import PLACES
from wolbrin.app.shell.window import MainWindow
from wolbrin.core.errors import Door, UserError
from wolbrin.core.jobs import Engine
from wolbrin.core.store.project import Project

TEN = ["float noise", "joined compact, semicolons, no header", "two volumes, one empty", "dd.mm.yyyy semicolons comma",
       "New York, minutes, close stamps", "currency pair in UTC", "night session in UTC", "several files by year", "parquet",
       "lunch break"]


@pytest.fixture
def bare(qtbot: QtBot, engine: Engine, tmp_path: Path) -> Iterator[MainWindow]:
    """A window over an empty project."""
    yield from shown(Project.create(tmp_path / "own"), engine)


@pytest.fixture
def rest(qtbot: QtBot, bare: MainWindow) -> Callable[[], None]:
    return lambda: come_to_rest(qtbot, bare.session)


class Clicks:
    """Clicks as a person makes them, counted."""

    def __init__(self, qtbot: QtBot) -> None:
        self.qtbot, self.count = qtbot, 0

    def on(self, button: QPushButton) -> None:
        assert button.isVisible()
        assert button.isEnabled()
        self.qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
        self.count += 1

    def choose(self, box: QComboBox, value: str) -> None:
        """Open a list and take one of its lines: two clicks. A zone that is not offered is typed."""
        at = box.findData(value)
        assert at >= 0
        box.setCurrentIndex(at)
        box.activated.emit(at)
        self.count += 2


@pytest.mark.parametrize("name", TEN)
def test_ten_forms_by_clicks(bare: MainWindow, rest: Callable[[], None], qtbot: QtBot, tmp_path: Path,
                             monkeypatch: pytest.MonkeyPatch, name: str) -> None:
    """From choosing a file to an equity curve with costs: at most eight clicks, two for each question, nothing typed."""
    form, known = FORMS[name], truth(FORMS[name].market)
    paths = write(form, known, tmp_path)
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_: ([str(p) for p in paths], ""))
    clicks, page = Clicks(qtbot), None
    place = bare.places["markets"]
    page = place.pages["import"]
    rest()
    clicks.on(page.choose)
    clicks.count += 2  # a file and Open in the dialog
    rest()
    asks = form.asks | ({} if known.terms.kind == "currency pair" else {"--point-value": "10"})
    assert {q.option for q in page.look.judged[0].questions} == set(asks)
    assert page.read_line.isVisible()
    if asks:
        page.take()
        assert "Answer the question" in page.fault.text(), "nothing is taken in while a question stands"
    for option, value in asks.items():
        answer = known.terms.time_zone if value == "market" else value
        clicks.choose(page.questions.boxes[option], answer)
        rest()
    shown = page.look.judged[0].bars
    np.testing.assert_array_equal(shown.time, known.raw.time)
    assert page.terms.fields["tick_size"].text() == f"{known.terms.tick_size:.10f}".rstrip("0").rstrip(".")
    assert "= " in page.terms.worth.text()
    clicks.on(page.take_button)
    rest()
    assert clicks.count <= 8
    s = bare.session
    assert (bare.place, s.market) == ("backtest", known.terms.code)
    assert s.run is not None
    assert len(s.run.net)
    assert len(s.run.trades_i)
    assert "(assumed)" in bare.brief.costs.text()
    assert s.settings.training_first < s.settings.holdout_first < s.settings.last
    assert s.strategy.flat_by_session_end == known.terms.scheduled


DELIVERIES = ["parquet, pandas index", "JSON by column", "workbook, second sheet", "folder of folders",
              "32nds with a third digit",
              "bid and ask closes", "spread in pips", "daily among half hours", "contract months", "GMT+0000"]


@pytest.mark.parametrize("name", DELIVERIES)
def test_ten_deliveries_by_clicks(bare: MainWindow, rest: Callable[[], None], qtbot: QtBot, tmp_path: Path,
                                  monkeypatch: pytest.MonkeyPatch, name: str) -> None:
    """Whole deliveries, read in words that lead to what changes them, taken in, and a first result on the screen."""
    case = CASES[name](tmp_path)
    page = bare.places["markets"].pages["import"]
    rest()
    clicks = Clicks(qtbot)
    if case.paths[0].is_dir():
        monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(case.paths[0]))
        page.choose_folder()
    else:
        monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_: ([str(p) for p in case.paths], ""))
        clicks.on(page.choose)
    rest()
    assert page.read_line.isVisible()
    page.read_line.linkActivated.emit("zone")
    assert bare.focusWidget() is page.form.zone
    if case.known.terms.kind == "future":
        clicks.choose(page.questions.boxes["--point-value"], "10")
        rest()
    assert not page.questions.boxes, "nothing is asked that the file answers"
    clicks.on(page.take_button)
    rest()
    s = bare.session
    code = "PW" if case.rolls else case.known.terms.code
    assert (bare.place, s.market) == ("backtest", code)
    assert s.run is not None
    assert len(s.run.trades_i)
    sources = {x.name: x.interval for x in s.project.sources.of(code)}
    assert dict(case.asides).items() <= sources.items()
    if case.rolls:
        assert s.project.market(code).source == "continuous"
    elif case.spread is not None:
        assert s.entry.terms.spread_ticks == case.spread


def test_an_empty_project_says_what_to_do_everywhere(bare: MainWindow, rest: Callable[[], None], qtbot: QtBot) -> None:
    rest()
    for place in PLACES:
        bare.go(place.key)
        rest()
        empty = bare.stack.currentWidget() if place.key != "markets" else bare.places["markets"].pages["import"].invite
        assert isinstance(empty, Empty), place.key
        assert empty.isVisible()
        shown = [w.text() for w in bare.findChildren(QLabel) if w.isVisible()]
        assert not any("string" in t.lower() or ", ," in t for t in shown), place.key
    assert bare.brief.nothing.isVisible()
    assert not bare.brief.costs.isVisible()
    bare.go("sweep")
    qtbot.mouseClick(bare.nothing.findChild(QPushButton), Qt.MouseButton.LeftButton)
    rest()
    assert bare.place == "markets"
    assert bare.focusWidget() is bare.places["markets"].pages["import"].choose
    bare.ruler.grab()
    qtbot.keyClick(bare.ruler, Qt.Key.Key_Left)
    qtbot.mouseClick(bare.ruler, Qt.MouseButton.LeftButton, pos=QPoint(400, 20))


def test_messages_lead_to_what_mends_them(bare: MainWindow, rest: Callable[[], None], qtbot: QtBot, tmp_path: Path) -> None:
    """A market without sessions and a strategy that needs them: the button puts the cursor into the sessions."""
    page = bare.places["markets"].pages["import"]
    page.open(write(FORMS["iso, UTC told"], truth("PWR"), tmp_path))
    rest()
    page.questions.answered.emit("--point-value", "10")
    rest()
    page.terms.leave_out()
    page.take()
    rest()
    s = bare.session
    assert not s.strategy.flat_by_session_end, "flat by session end only where there are sessions"
    s.edit(s.strategy.model_copy(update={"flat_by_session_end": True}), "session flatness")
    rest()
    assert s.run_door == Door("Give PWR its sessions", "sessions")
    button = next(b for b in bare.places["backtest"].findChildren(QPushButton) if b.text() == "Give PWR its sessions")
    qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    rest()
    terms = bare.places["markets"].pages["terms"]
    assert bare.place == "markets"
    assert bare.focusWidget() is terms.sessions
    terms.take_week()
    terms.save()
    rest()
    assert s.project.market("PWR").terms.sessions == truth("PWR").terms.sessions
    bare.go("backtest")
    rest()
    assert s.run is not None
    s.attempt(lambda: (_ for _ in ()).throw(UserError("too long", "", "", Door("Change the span", "span"))))
    assert bare.strip.door.isVisible()
    bare.strip.door.click()
    assert bare.brief.findChildren(QComboBox) is not None


def test_a_later_market_keeps_the_border_and_says_what_lacks(bare: MainWindow, rest: Callable[[], None],
                                                            tmp_path: Path) -> None:
    page = bare.places["markets"].pages["import"]
    page.open(write(FORMS["New York in UTC"], truth("GRN"), tmp_path))
    rest()
    page.questions.answered.emit("--point-value", "10")
    rest()
    page.take()
    rest()
    border = bare.session.settings.holdout_first
    page.open(write(FORMS["night session in UTC"], truth("NGT"), tmp_path))
    rest()
    page.terms.fields["point_value"].setText("10")
    page.terms.fields["point_value"].textEdited.emit("10")
    rest()
    page.take()
    rest()
    assert bare.session.settings.holdout_first == border
    assert "NGT ends on" in bare.strip.message.text()
    assert [m.code for m in bare.session.markets] == ["GRN", "NGT"]
    assert bare.places["markets"].page.key == "terms"


def test_an_answered_question_is_not_asked_again(bare: MainWindow, rest: Callable[[], None], tmp_path: Path) -> None:
    """Dates of one day that may be read two ways."""
    path = tmp_path / "PWR.csv"
    path.write_text("time,open,high,low,close\n" + "".join(
        f"03/04/2019 {9 + i // 4:02d}:{i % 4 * 15:02d},{100 + i % 7},{108 + i % 7},99,{101 + i % 5}\n" for i in range(32)))
    page = bare.places["markets"].pages["import"]
    page.open([path])
    rest()
    asked = next(q for q in page.look.judged[0].questions if q.option == "--date-order")
    page.questions.answered.emit("--date-order", asked.answers[1].value)
    rest()
    assert "--date-order" not in {q.option for q in page.look.judged[0].questions}
    assert page.look.judged[0].layout.time_format == asked.answers[1].value


def test_sessions_are_dragged_in_the_week(bare: MainWindow, rest: Callable[[], None], qtbot: QtBot, tmp_path: Path) -> None:
    """By mouse and by keys; the words follow."""
    bare.resize(1280, 800)
    page = bare.places["markets"].pages["import"]
    page.open(write(FORMS["iso, UTC told"], truth("PWR"), tmp_path))
    rest()
    week = page.terms.week
    begin = QPoint(round(week.x_of(17 * 60)), 10)
    qtbot.mousePress(week, Qt.MouseButton.LeftButton, pos=begin)
    qtbot.mouseMove(week, QPoint(round(week.x_of(19 * 60)), 10))
    qtbot.mouseRelease(week, Qt.MouseButton.LeftButton, pos=QPoint(round(week.x_of(19 * 60)), 10))
    assert page.terms.sessions.toPlainText().startswith("Mon-Fri 09:00-19:0")
    week.setFocus()
    qtbot.keyClick(week, Qt.Key.Key_Up)
    qtbot.keyClick(week, Qt.Key.Key_Left)
    assert page.terms.sessions.toPlainText().startswith("Mon-Fri 08:55-19:0")
    week.grab()
    page.terms.as_found()
    assert page.terms.sessions.toPlainText() == "Mon-Fri 09:00-17:00"
    tick = page.terms.fields["tick_size"]
    tick.clear()
    qtbot.keyClicks(tick, "a lot")
    assert "is not a number" in page.fault.text()
    tick.clear()
    qtbot.keyClicks(tick, "0.5")
    page.code.setText("OWN")
    qtbot.wait(400)
    rest()
    assert tick.text() == "0.5", "what was typed stays when the files are judged again"
    assert (page.look.judged[0].code, page.look.judged[0].terms.tick_size) == ("OWN", 0.5)
